//! The inventory, `eskort.toml`: what should be.

mod authority;
mod host;
mod notify;
mod proof;

pub use authority::{
    AcmeAuthority, Authority, AuthorityKind, CsrAuthority, EstAuthority, ExternalAccount, Limit, Limits,
};
pub use host::{FtpHost, FtpTls, Host, HostKind, SshHost};
pub use notify::{LogKind, MailNotify, MailTls, Notify, NotifyKind, Webhook};
pub use proof::{
    DnsLook, DnsProof, Proof, RecipeSource, RecordWriter, SecretSource, TsigKey, USUAL_SPREAD, USUAL_TTL, WebApi,
};

use crate::https::HttpsWishes;
use crate::keeping::Keeping;
use crate::names::Identifier;
use crate::pki::{CsrSpecification, KeyKind};
use crate::recipe::UploadRecipe;
use crate::renewal::Timing;
use crate::software::Software;
use jiff::SignedDuration;
use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::time::Duration;

/// Everything that should be. Paths are as written; the reader of the file makes them absolute.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inventory {
    /// Mail address that authorities may write to.
    pub contact: Option<String>,
    /// Where the program keeps what it keeps.
    pub state: Option<PathBuf>,
    /// For how long old generations are kept.
    pub keeping: Keeping,
    /// Authorities by name.
    pub authorities: BTreeMap<String, Authority>,
    /// Other machines, by name.
    pub hosts: BTreeMap<String, Host>,
    /// Ways to prove control, by name.
    pub proofs: BTreeMap<String, Proof>,
    /// Servers by name.
    pub servers: BTreeMap<String, Server>,
    /// Certificates by name.
    pub certificates: BTreeMap<String, CertificateEntry>,
    /// Whom news is sent to, by name.
    pub notify: BTreeMap<String, Notify>,
}

impl Inventory {
    /// Returns the proof that shows control of a certificate's name, and its name.
    pub fn proof_of<'a>(&'a self, entry: &'a CertificateEntry, name: &Identifier) -> Option<(&'a str, &'a Proof)> {
        let word = entry.proof_of(name)?;
        Some((word, self.proofs.get(word)?))
    }

    /// Returns whether a person has to place something to show control of any name of a certificate.
    pub fn awaits_person(&self, entry: &CertificateEntry) -> bool {
        entry.names.iter().filter_map(|name| self.proof_of(entry, name)).any(|(_, proof)| proof.awaits_person())
    }

    /// Returns what is said of when a certificate is renewed.
    pub fn timing_of(&self, certificate: &str) -> Timing {
        let Some(entry) = self.certificates.get(certificate) else { return Timing::default() };
        let authority = self.authorities.get(&entry.authority);
        let lead = entry.renew_before.or(authority.and_then(|authority| authority.renew_before));
        // What a person carries is done for several at once.
        let spreads = authority.is_some_and(|authority| authority.csr().is_none());
        Timing { lead: lead.unwrap_or_default(), seed: spreads.then(|| certificate.to_owned()) }
    }

    /// Makes every path absolute: what is relative lies in the inventory's own folder.
    pub fn resolve_paths(&mut self, folder: &Path) {
        let place = |path: &mut PathBuf| *path = folder.join(&*path);
        self.state.iter_mut().for_each(place);
        self.authorities.values_mut().flat_map(Authority::paths_mut).for_each(place);
        self.hosts.values_mut().flat_map(Host::paths_mut).for_each(place);
        self.proofs.values_mut().flat_map(Proof::paths_mut).for_each(place);
        self.notify.values_mut().flat_map(Notify::paths_mut).for_each(place);
        let keys = self.certificates.values_mut().flat_map(|c| [&mut c.key_file, &mut c.key_password_file]);
        keys.flatten().for_each(place);
        for server in self.servers.values_mut() {
            match &mut server.kind {
                ServerKind::Keystore(Keystore { password, .. }) => password.path_mut().into_iter().for_each(place),
                ServerKind::Parcel(Parcel { folder, password, .. }) => {
                    place(folder);
                    password.path_mut().into_iter().for_each(place);
                }
                ServerKind::WebApi(UploadApi { api, password, .. }) => {
                    let password = password.as_mut().and_then(SecretSource::path_mut);
                    api.paths_mut().chain(password).for_each(place);
                }
                ServerKind::Configured(_) | ServerKind::Files { .. } | ServerKind::Program { .. } => {}
            }
        }
        for server in self.servers.values_mut().filter(|server| server.host.is_none()) {
            match &mut server.kind {
                ServerKind::Configured(configured) => {
                    place(&mut configured.config);
                    configured.certificates.iter_mut().for_each(place);
                }
                ServerKind::Files { copies, .. } => copies.iter_mut().for_each(|c| place(&mut c.to)),
                ServerKind::Keystore(keystore) => {
                    place(&mut keystore.to);
                }
                ServerKind::Parcel(_) | ServerKind::WebApi(_) | ServerKind::Program { .. } => {}
            }
        }
    }
}

/// An address to connect to instead of what a name resolves to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CheckAddress {
    /// The IP address.
    pub ip: IpAddr,
    /// The port; `None` for the usual one.
    pub port: Option<u16>,
}

impl CheckAddress {
    /// Returns the socket address, with `usual` where no port was given.
    pub fn socket(&self, usual: u16) -> SocketAddr {
        SocketAddr::new(self.ip, self.port.unwrap_or(usual))
    }
}

impl FromStr for CheckAddress {
    type Err = std::net::AddrParseError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        if let Ok(socket) = text.parse::<SocketAddr>() {
            return Ok(CheckAddress { ip: socket.ip(), port: Some(socket.port()) });
        }
        Ok(CheckAddress { ip: text.parse()?, port: None })
    }
}

impl fmt::Display for CheckAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.port {
            Some(port) => write!(f, "{}", SocketAddr::new(self.ip, port)),
            None => write!(f, "{}", self.ip),
        }
    }
}

/// How the programs of a section are run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProgramRules {
    /// Variables of the environment that they get beside the few that all programs get.
    pub environment: Vec<String>,
    /// The user they run as; `None` for the one that runs Eskort.
    pub user: Option<String>,
    /// How long one may take.
    pub timeout: Duration,
}

impl Default for ProgramRules {
    fn default() -> Self {
        ProgramRules { environment: Vec::new(), user: None, timeout: Duration::from_secs(120) }
    }
}

/// Software that serves a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Server {
    /// What kind, and what that kind needs.
    pub kind: ServerKind,
    /// The machine it runs on; `None` for this one.
    pub host: Option<String>,
    /// Whether it is left out where it fails, while the others of several machines go on.
    pub partial: bool,
    /// Where the look at the live endpoint connects to; `None` for what the names resolve to.
    pub check_address: Option<CheckAddress>,
    /// How long a reload may take until the new certificate is served.
    pub reload_timeout: Duration,
    /// How its programs are run.
    pub rules: ProgramRules,
}

/// The kinds of server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServerKind {
    /// One whose configuration is read and changed.
    Configured(Configured),
    /// Files put where a program wants them, and a command.
    Files {
        /// What goes where.
        copies: Vec<FileCopy>,
        /// The command to run after a change; empty for none.
        run: Vec<String>,
    },
    /// A PKCS#12 container put where an application server wants it, and a command.
    Keystore(Keystore),
    /// A machine that nobody reaches from here: a person carries a parcel to it.
    Parcel(Parcel),
    /// An HTTP API that certificates are uploaded to.
    WebApi(UploadApi),
    /// A program that is told what to serve, and does the rest.
    Program {
        /// The program and its arguments.
        command: Vec<String>,
    },
}

/// What a person carries to a machine: PKCS#12, PEM parts and intermediates, with the steps in writing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Parcel {
    /// The folder in which each certificate has one.
    pub folder: PathBuf,
    /// Where the container's password is.
    pub password: SecretSource,
    /// What the certificate is called in a store; `None` for its name here.
    pub friendly_name: Option<String>,
    /// Whether the container is encrypted as programs from before 2019 or so read it.
    pub old_encryption: bool,
    /// The owner's user name; `None` leaves it.
    pub owner: Option<String>,
    /// The group's name, which may read it; `None` leaves it.
    pub group: Option<String>,
}

/// An HTTP API that certificates are uploaded to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UploadApi {
    /// The API, and how it is talked to.
    pub api: WebApi<UploadRecipe>,
    /// The password of PKCS#12 containers; `None` for a new one with each upload.
    pub password: Option<SecretSource>,
    /// Whether those containers are encrypted as programs from before 2019 or so read them.
    pub old_encryption: bool,
}

/// A PKCS#12 container (RFC 7292) with key and chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keystore {
    /// The file.
    pub to: PathBuf,
    /// Where its password is.
    pub password: SecretSource,
    /// The owner's user name; `None` leaves it.
    pub owner: Option<String>,
    /// The group's name; `None` leaves it.
    pub group: Option<String>,
    /// The permission bits.
    pub mode: u32,
    /// The command to run after a change; empty for none.
    pub run: Vec<String>,
}

/// A server whose configuration is read and changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Configured {
    /// Which program it is.
    pub software: Software,
    /// The main configuration file.
    pub config: PathBuf,
    /// The folder in which certificates and keys are put for it; `None` for the usual one.
    pub certificates: Option<PathBuf>,
    /// The user to whom they belong there; `None` for the one that runs Eskort.
    pub owner: Option<String>,
    /// Their group, which may read them.
    pub group: Option<String>,
    /// The port for TLS listeners that are added.
    pub tls_port: u16,
    /// The command that tests the configuration; `None` for the program's own.
    pub test: Option<Vec<String>>,
    /// The command that makes it read the configuration again; `None` for the program's own.
    pub reload: Option<Vec<String>>,
    /// Whether certificates may be put into it while it runs, where it has a socket for that.
    pub runtime_socket: bool,
}

/// One file to put in place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileCopy {
    /// What goes there.
    pub part: Part,
    /// Where.
    pub to: PathBuf,
    /// The owner's user name; `None` leaves it.
    pub owner: Option<String>,
    /// The group's name; `None` leaves it.
    pub group: Option<String>,
    /// The permission bits.
    pub mode: u32,
}

/// A part of a generation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Part {
    /// Leaf and intermediates.
    Bundle,
    /// The leaf alone.
    Certificate,
    /// The intermediates alone.
    Intermediates,
    /// The private key.
    Key,
    /// Key, leaf and intermediates in one file.
    Combined,
    /// Leaf, intermediates and key in the manifest of a TLS secret.
    Manifest,
}

impl Part {
    /// All parts.
    pub const ALL: [Part; 6] =
        [Part::Bundle, Part::Certificate, Part::Intermediates, Part::Key, Part::Combined, Part::Manifest];

    /// Returns the inventory's word.
    pub fn word(self) -> &'static str {
        match self {
            Part::Bundle => "bundle",
            Part::Certificate => "certificate",
            Part::Intermediates => "intermediates",
            Part::Key => "key",
            Part::Combined => "combined",
            Part::Manifest => "manifest",
        }
    }

    /// Returns the file's name in a generation's folder.
    pub fn file_name(self) -> &'static str {
        match self {
            Part::Bundle => "bundle.pem",
            Part::Certificate => "certificate.pem",
            Part::Intermediates => "intermediates.pem",
            Part::Key => "key.pem",
            Part::Combined => "combined.pem",
            Part::Manifest => "manifest.yaml",
        }
    }

    /// Returns the permission bits it gets unless the inventory says otherwise.
    pub fn usual_mode(self) -> u32 {
        if self.is_secret() { 0o600 } else { 0o644 }
    }

    /// Whether the private key is in it.
    pub fn is_secret(self) -> bool {
        matches!(self, Part::Key | Part::Combined | Part::Manifest)
    }
}

/// A certificate that should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateEntry {
    /// The names on it.
    pub names: Vec<Identifier>,
    /// The authority's name.
    pub authority: String,
    /// The authorities that are asked when that one fails for long, in this order.
    pub other_authorities: Vec<String>,
    /// The name of the proof for all names that have none of their own; `None` where nothing is proved by Eskort.
    pub proof: Option<String>,
    /// The names of the proofs for single names.
    pub proof_for: BTreeMap<Identifier, String>,
    /// The kind of key.
    pub key: KeyKind,
    /// What its CSR asks for beside names and key.
    pub csr: CsrSpecification,
    /// The kind of certificate, of those that its authority offers (draft-ietf-acme-profiles); `None` leaves it to the authority.
    pub profile: Option<String>,
    /// How long before its end its renewal has to begin at the latest; `None` leaves that to its authority.
    pub renew_before: Option<SignedDuration>,
    /// Whether renewals use the same key again.
    pub keep_key: bool,
    /// A key that exists already, and is only read.
    pub key_file: Option<PathBuf>,
    /// The password that opens it.
    pub key_password_file: Option<PathBuf>,
    /// Where it goes.
    pub install: Vec<Install>,
}

impl CertificateEntry {
    /// Returns its authorities, the one that is asked first of all before the others.
    pub fn authorities(&self) -> impl Iterator<Item = &str> {
        std::iter::once(&self.authority).chain(&self.other_authorities).map(String::as_str)
    }

    /// Returns the name of the proof that shows control of one of its names.
    pub fn proof_of(&self, name: &Identifier) -> Option<&str> {
        self.proof_for.get(name).or(self.proof.as_ref()).map(String::as_str)
    }
}

/// One server that a certificate goes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Install {
    /// The server's name.
    pub server: String,
    /// What its site wants of https there.
    pub wishes: HttpsWishes,
    /// The proof whose records name the key that is served there (TLSA, RFC 6698); `None` for no such records.
    pub tlsa: Option<String>,
}
