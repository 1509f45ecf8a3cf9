//! What goes wrong when a certificate is put on a server.

use eskort_host::MachineError;
use eskort_siteconf::{LoadError, PlanError};
use eskort_store::StoreError;
use eskort_talk::ApiError;
use std::io;
use std::path::PathBuf;
use std::time::Duration;

/// Why a certificate could not be put on a server.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum InstallError {
    /// The configuration cannot be read.
    #[error("cannot read the configuration of server `{server}`: {source}")]
    Load {
        /// The server.
        server: String,
        /// Why.
        source: LoadError,
    },
    /// The configuration cannot be changed.
    #[error("cannot change the configuration of server `{server}`: {source}")]
    Plan {
        /// The server.
        server: String,
        /// Why.
        source: Box<PlanError>,
    },
    /// A file cannot be written.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The server that it is for; empty for none.
        server: String,
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A user or group of the inventory.
    #[error("server `{server}`: no {what} `{name}` exists on its machine")]
    NoSuchOwner {
        /// The server.
        server: String,
        /// `user` or `group`.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// The server's own test refused the configuration.
    #[error("server `{server}` refuses the changed configuration: {source}")]
    Test {
        /// The server.
        server: String,
        /// What it said.
        source: MachineError,
    },
    /// It refuses the configuration even without the change.
    #[error("server `{server}` refuses its configuration as it was before any change: {source}")]
    BrokenBefore {
        /// The server.
        server: String,
        /// What it said.
        source: MachineError,
    },
    /// A map, in whose compiled form keys come to lie, that others may read.
    #[error("others may read {}, and so what is made of it, with keys in it", path.display())]
    OpenMap {
        /// The server.
        server: String,
        /// The text of the map.
        path: PathBuf,
    },
    /// It could not be reloaded.
    #[error("server `{server}` could not be reloaded: {source}")]
    Reload {
        /// The server.
        server: String,
        /// What it said.
        source: MachineError,
    },
    /// It refuses what is put into it while it runs.
    #[error("server `{server}` refuses {} while it runs: {said}", file.display())]
    Runtime {
        /// The server.
        server: String,
        /// The file with the certificate.
        file: PathBuf,
        /// What it said.
        said: String,
    },
    /// The API that it is uploaded to.
    #[error("server `{server}`: {source}")]
    Upload {
        /// The server.
        server: String,
        /// What went wrong there.
        source: ApiError,
    },
    /// It goes on serving something else.
    #[error("server `{server}` does not serve the new certificate after {}: {seen}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    NotServed {
        /// The server.
        server: String,
        /// What was seen instead.
        seen: String,
        /// Whether anybody took the connection.
        is_there: bool,
        /// How long was looked.
        after: Duration,
    },
    /// Putting things back failed too.
    #[error("{first}; and putting things back failed: {then}")]
    Undo {
        /// What failed first.
        first: Box<InstallError>,
        /// What failed then.
        then: String,
    },
    /// A container with key and chain cannot be made.
    #[error("the keystore of server `{server}` cannot be made: {why}")]
    Keystore {
        /// The server.
        server: String,
        /// Why.
        why: String,
    },
    /// What was to be put back has been changed by somebody else.
    #[error("{what}")]
    Theirs {
        /// Which files, and how they differ.
        what: String,
    },
    /// Files cannot be put back.
    #[error("not everything could be put back: {what}")]
    Restore {
        /// Why.
        what: String,
    },
    /// The machine that a server runs on.
    #[error("server `{server}`: {source}")]
    Machine {
        /// The server.
        server: String,
        /// What went wrong there.
        source: MachineError,
    },
    /// The state folder.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl InstallError {
    /// Returns the server that something went wrong on, where it is one.
    pub fn server(&self) -> Option<&str> {
        match self {
            InstallError::Load { server, .. }
            | InstallError::Plan { server, .. }
            | InstallError::Write { server, .. }
            | InstallError::Test { server, .. }
            | InstallError::BrokenBefore { server, .. }
            | InstallError::Reload { server, .. }
            | InstallError::Runtime { server, .. }
            | InstallError::OpenMap { server, .. }
            | InstallError::NoSuchOwner { server, .. }
            | InstallError::Upload { server, .. }
            | InstallError::NotServed { server, .. }
            | InstallError::Keystore { server, .. }
            | InstallError::Machine { server, .. } => {
                Some(server).filter(|server| !server.is_empty()).map(String::as_str)
            }
            InstallError::Undo { .. }
            | InstallError::Theirs { .. }
            | InstallError::Restore { .. }
            | InstallError::Store(_) => None,
        }
    }

    /// Tells what went wrong on a server's machine; a file that cannot be written is told as such.
    pub(crate) fn on(server: &str) -> impl Fn(MachineError) -> InstallError + use<'_> {
        move |error| match error {
            MachineError::Io { job: "write" | "make", path, source } => {
                InstallError::Write { server: server.to_owned(), path, source }
            }
            source => InstallError::Machine { server: server.to_owned(), source },
        }
    }
}
