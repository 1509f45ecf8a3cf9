//! What goes wrong where control of a name is proved.

use eskort_core::manual::AskedError;
use eskort_core::pki::PkiError;
use eskort_core::words;
use eskort_dns::{AskError, Propagation, UpdateError};
use eskort_host::{CommandError, HostError, MachineError, SecretError};
use eskort_probe::NotVisible;
use eskort_store::StoreError;
use eskort_talk::ApiError;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

/// Why control of a name could not be proved.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum ProofError {
    /// A file or folder.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The path.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// The document root.
    #[error("the folder {} does not exist{}", path.display(), on_host(host.as_ref()))]
    NoFolder {
        /// The host it should be on; `None` for this machine.
        host: Option<String>,
        /// The folder.
        path: PathBuf,
    },
    /// A proof that puts no files anywhere.
    #[error("the inventory has no proof `{proof}` of kind http-folder")]
    NoSiteFolder {
        /// Its name.
        proof: String,
    },
    /// A proof that places no records.
    #[error("the inventory has no proof `{proof}` that places records")]
    PlacesNoRecords {
        /// Its name.
        proof: String,
    },
    /// What an authority cannot have asked for.
    #[error(transparent)]
    Asked(#[from] AskedError),
    /// Another file is in the way.
    #[error("{} exists already and contains something else", path.display())]
    Occupied {
        /// The file.
        path: PathBuf,
    },
    /// The key of a dynamic update.
    #[error("cannot use the key {key}: {why}")]
    Key {
        /// Its file or its name.
        key: String,
        /// Why not.
        why: String,
    },
    /// A question to a name server.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// A dynamic update.
    #[error(transparent)]
    Update(#[from] UpdateError),
    /// A certificate for a challenge.
    #[error("cannot make the certificate for the challenge: {0}")]
    Certificate(#[source] PkiError),
    /// The primary name server that a zone names.
    #[error("the zone {zone} names {primary} as its primary name server, which has no address")]
    NoPrimary {
        /// The zone.
        zone: String,
        /// The server.
        primary: String,
    },
    /// A secret.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// An HTTP API.
    #[error(transparent)]
    Api(#[from] ApiError),
    /// Another machine.
    #[error(transparent)]
    Host(#[from] HostError),
    /// A machine that is not in the inventory any more.
    #[error("the host `{host}` is not in the inventory any more")]
    NoHost {
        /// Its name.
        host: String,
    },
    /// A file that was put on a machine and is not there.
    #[error("{} is not on host `{host}`, where it was put", path.display())]
    NotOnHost {
        /// The host.
        host: String,
        /// The file.
        path: PathBuf,
    },
    /// A link in the place of a folder that challenge files go into.
    #[error("{} on host `{host}` is a symbolic link, and is not followed", path.display())]
    LinkOnHost {
        /// The host.
        host: String,
        /// The link.
        path: PathBuf,
    },
    /// The ledger.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A program that places records.
    #[error(transparent)]
    Program(#[from] CommandError),
    /// The proof that published something is not in the inventory any more.
    #[error("the proof `{proof}` is not in the inventory any more")]
    Gone {
        /// Its name.
        proof: String,
    },
    /// A listener.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// Why not.
        source: io::Error,
    },
    /// The proof cannot be seen from here.
    #[error("{name}: {seen}{}", also(others))]
    NotVisible {
        /// The first name whose proof is not visible.
        name: String,
        /// What was seen instead.
        seen: Box<NotVisible>,
        /// The other names whose proofs are not visible either.
        others: Vec<String>,
    },
    /// The proof's certificate is not what is shown at the name.
    #[error("{name}: {what}")]
    NotShown {
        /// The name.
        name: String,
        /// What was seen instead.
        what: String,
    },
    /// Not every name server that answers has the records.
    #[error("{} after {}", not_everywhere(found, *of), words::duration((*after).try_into().unwrap_or_default()))]
    NotEverywhere {
        /// What they say.
        found: Propagation,
        /// How many servers there are.
        of: usize,
        /// How long they were asked.
        after: Duration,
    },
}

impl From<MachineError> for ProofError {
    fn from(error: MachineError) -> Self {
        match error {
            MachineError::Io { path, source, .. } => ProofError::Write { path, source },
            MachineError::Program(error) => ProofError::Program(error),
            MachineError::Host(error) => ProofError::Host(*error),
            MachineError::Secret(error) => ProofError::Secret(error),
            MachineError::Unknown { host } => ProofError::NoHost { host },
        }
    }
}

fn on_host(host: Option<&String>) -> String {
    host.map(|host| format!(" on host `{host}`")).unwrap_or_default()
}

fn also(others: &[String]) -> String {
    if others.is_empty() { String::new() } else { format!("; nor for {}", words::list(others)) }
}

/// Says how many name servers do not have the records.
fn not_everywhere(found: &Propagation, of: usize) -> String {
    match found.lacking.len() {
        0 => format!("none of {of} name servers can be reached"),
        // Several addresses of one server may be behind.
        lacking => format!("{} of {of} name servers do not have the records", lacking.min(of)),
    }
}
