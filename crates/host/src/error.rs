//! What goes wrong on other machines.

use std::path::PathBuf;
use std::time::Duration;

/// Why something could not be done on another machine.
#[derive(Clone, Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum HostError {
    /// No connection.
    #[error("cannot reach host `{host}` at {address}: {what}")]
    Unreachable {
        /// Its name in the inventory.
        host: String,
        /// Its address.
        address: String,
        /// What happened.
        what: String,
    },
    /// It is not known, or shows another key or certificate than it should.
    #[error("host `{host}` at {address} cannot prove that it is the right machine: {what}")]
    Untrusted {
        /// Its name in the inventory.
        host: String,
        /// Its address.
        address: String,
        /// What was said.
        what: String,
    },
    /// The user, the key or the password is not taken.
    #[error("host `{host}` at {address} refused the login: {what}")]
    Login {
        /// Its name in the inventory.
        host: String,
        /// Its address.
        address: String,
        /// What it said.
        what: String,
    },
    /// A file or folder.
    #[error("cannot {job} {} on host `{host}`: {what}", path.display())]
    File {
        /// The host.
        host: String,
        /// What was tried.
        job: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// What it said.
        what: String,
    },
    /// A command.
    #[error("`{command}` on host `{host}` ended with {status}{}", if said.is_empty() { String::new() } else { format!(": {said}") })]
    Command {
        /// The host.
        host: String,
        /// The command line.
        command: String,
        /// Its exit code, unless a signal ended it.
        code: Option<i32>,
        /// Its exit status, in words.
        status: String,
        /// The last of what it said, tamed.
        said: String,
    },
    /// Something that only goes over SSH.
    #[error("host `{host}` is reached over FTP, which runs no commands")]
    NoCommands {
        /// The host.
        host: String,
    },
    /// An earlier step took too long.
    #[error("host `{host}` did not answer an earlier step in time")]
    GivenUp {
        /// The host.
        host: String,
    },
    /// It took too long.
    #[error("host `{host}` took longer than {} to {job}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    TimedOut {
        /// The host.
        host: String,
        /// What was tried.
        job: &'static str,
        /// How long was waited.
        after: Duration,
    },
}

/// A file that is read is no larger than this.
pub(crate) const LARGEST: usize = 64 * 1024;

/// Tames what a machine said.
pub(crate) fn tame(text: &str) -> String {
    eskort_core::words::printable(text.trim().trim_end_matches('.'), 300)
}
