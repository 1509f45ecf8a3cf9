//! What a server should do for a certificate, how its files change for that, and why that may not be possible.

use crate::site::Place;
use crate::splice::EditsOverlap;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::https::HttpsWishes;
use eskort_core::names::Identifier;
use eskort_core::words;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

/// What stands in a certificate's file now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Present {
    /// The names on the certificate.
    pub names: Vec<String>,
    /// Whether its key is of the same kind as that of the certificate to come.
    pub same_kind: bool,
}

/// What an nginx or an Apache should do for a certificate.
#[derive(Clone, Copy)]
pub struct TlsTarget<'a> {
    /// The certificate's names.
    pub names: &'a [Identifier],
    /// Where the chain is.
    pub bundle: &'a Path,
    /// Where the key is.
    pub key: &'a Path,
    /// The port for TLS listeners that are added.
    pub tls_port: u16,
    /// What the site wants of https.
    pub wishes: HttpsWishes,
    /// For how many seconds browsers are to come back over https alone, where that is wanted.
    pub hsts_age: u32,
    /// Whether the certificate names a responder whose answers can be stapled; `None` where it is not known yet.
    pub has_responder: Option<bool>,
    /// The server's version, where it is known.
    pub version: Option<[u32; 3]>,
    /// What stands in a certificate's file now, where a site has several; `None` for what cannot be read.
    pub present: &'a dyn Fn(&Path) -> Option<Present>,
}

impl<'a> TlsTarget<'a> {
    /// Makes a target that wants the certificate and nothing else.
    pub fn new(names: &'a [Identifier], bundle: &'a Path, key: &'a Path) -> Self {
        let wishes = HttpsWishes::default();
        TlsTarget {
            names,
            bundle,
            key,
            tls_port: 443,
            wishes,
            hsts_age: 0,
            has_responder: None,
            version: None,
            present: &|_| None,
        }
    }
}

/// A file before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileChange {
    /// The file.
    pub path: PathBuf,
    /// What it holds; `None` where it does not exist.
    pub old: Option<Vec<u8>>,
    /// What it will hold.
    pub new: Vec<u8>,
}

/// Where a name is served with TLS.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Endpoint {
    /// The name to ask for.
    pub name: String,
    /// The address listened on, when it is a single one.
    pub ip: Option<IpAddr>,
    /// The port; `None` where visitors come through something else: a Unix socket, or a balancer that speaks the PROXY protocol.
    pub port: Option<u16>,
}

/// What is to be done to a server's configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SitePlan {
    /// The files that change; empty when all is as wished.
    pub changes: Vec<FileChange>,
    /// Where the certificate is served afterwards.
    pub endpoints: Vec<Endpoint>,
    /// What else is worth knowing.
    pub findings: Vec<Finding>,
}

/// Says that the path of challenges (RFC 8555 section 8.3) is redirected with all others, where our own redirect would leave it alone.
pub(crate) fn sent_with_challenges(place: &Place) -> Finding {
    let text = format!(
        "{place} sends those to https too who ask for a challenge: an authority follows, and has to find it there"
    );
    Finding::new(Severity::Notice, Topic::Reach, text)
        .with_advice("`eskort rehearse` tries that; without that line, `redirect` writes one that leaves the path of challenges alone")
}

/// Says that there is nothing to staple (RFC 6066 section 8).
pub(crate) fn nothing_to_staple() -> Finding {
    let text = "`stapling` is left out: the certificate names no OCSP responder, so that there is nothing to staple";
    Finding::new(Severity::Notice, Topic::Revocation, text)
}

/// Says that nobody answers to the one of two names that is preferred.
pub(crate) fn not_sent_on(to: &str, from: &str) -> Finding {
    let text = format!("no site answers to {to}, so that visitors of {from} are not sent there");
    Finding::new(Severity::Notice, Topic::Names, text)
}

/// Why no plan can be made.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// No server block answers to any of the names.
    #[error("no server block of {} answers to {}", main.display(), words::list(names))]
    NoServerBlock {
        /// The main file.
        main: PathBuf,
        /// The names.
        names: Vec<String>,
    },
    /// No site with TLS answers to any of the names.
    #[error("nothing in {} speaks TLS for {}", main.display(), words::list(names))]
    NoTlsSite {
        /// The main file.
        main: PathBuf,
        /// The names.
        names: Vec<String>,
    },
    /// A site that speaks TLS and names no certificate.
    #[error("{place}: no certificate is named here")]
    NoCertificateLines {
        /// Where.
        place: Place,
    },
    /// A module of the server that is needed is off.
    #[error("the module `{module}` is not loaded, and {what} needs it")]
    ModuleOff {
        /// The main file.
        main: PathBuf,
        /// The module.
        module: &'static str,
        /// What needs it.
        what: &'static str,
    },
    /// A file that is named in a way that is not edited: by a macro or a default.
    #[error("{place}: {file} is named in a macro or a default, which is not edited")]
    NotEditable {
        /// Where.
        place: Place,
        /// The file.
        file: String,
    },
    /// A setting that is put together in a way that is not edited.
    #[error("{place}: `{name}` is put together of several parts, which is not edited")]
    NotEdited {
        /// Where.
        place: Place,
        /// The setting.
        name: String,
    },
    /// More than one certificate in a block.
    #[error("{place}: this site has {count} certificates of its own")]
    SeveralCertificates {
        /// Where.
        place: Place,
        /// How many.
        count: usize,
    },
    /// A block that has a certificate serves names that the new one lacks.
    #[error("{place}: with this certificate the site would lose TLS for {}", words::list(names))]
    WouldUncover {
        /// Where.
        place: Place,
        /// The names.
        names: Vec<String>,
        /// The certificate's names that it answers to.
        ours: Vec<String>,
    },
    /// The certificate's lines stand in a file that other blocks include too.
    #[error("{place}: these lines belong to other sites as well")]
    SharedLines {
        /// Where.
        place: Place,
    },
    /// Visitors would be sent from one name to another and back.
    #[error("{place}: visitors of {to} are sent to {from} here, and would be sent back")]
    WouldLoop {
        /// Where.
        place: Place,
        /// The name that visitors are to be sent from.
        from: String,
        /// The name that they are to be sent to.
        to: String,
    },
    /// All visitors of a block are sent to https on its own names: with a TLS listener there they would go in circles.
    #[error(
        "{place}: all visitors are sent to https here, and with a TLS listener in this block they would go in circles"
    )]
    SendsInCircles {
        /// Where.
        place: Place,
    },
    /// A TLS listener at a single address would take that address from sites that listen at all of them.
    #[error("{place}: a TLS listener at {socket} would take this address from {}", words::list(from))]
    WouldTakeAddress {
        /// Where.
        place: Place,
        /// The listener.
        socket: String,
        /// The names of the sites that answer there now.
        from: Vec<String>,
    },
    /// Another block speaks plain HTTP where a TLS listener is to be: all blocks at a socket speak TLS, or none does.
    #[error("{place}: {socket} is used without TLS by {by}")]
    PlainSocket {
        /// Where.
        place: Place,
        /// The listener.
        socket: String,
        /// The block that uses it.
        by: Box<Place>,
    },
    /// A block to which no TLS listener can be added.
    #[error("{place}: this server block listens at {} only", words::list(sockets))]
    NoAddress {
        /// Where.
        place: Place,
        /// Where it listens.
        sockets: Vec<String>,
    },
    /// A path that the server would take for something else.
    #[error("the server would take something in {} for a variable, or for several words", path.display())]
    Variable {
        /// The path.
        path: PathBuf,
    },
    /// A changed configuration that does not say what it should: a bug in Eskort.
    #[error("{}: with the change it would not say what was planned", path.display())]
    NotAsPlanned {
        /// The file.
        path: PathBuf,
    },
    /// Changes of one file that get in each other's way: a bug in Eskort.
    #[error("{}: {source}", path.display())]
    Overlap {
        /// The file.
        path: PathBuf,
        /// Where.
        source: EditsOverlap,
    },
}
