//! The ledger and the generations on disk: everything that outlives a run.
//!
//! The ledger (`ledger.sqlite`) holds journeys, generations, debts, accounts, failures and events, and no secret. Keys and
//! chains lie beside it as files. What concerns the ledger is async, what concerns the files is not.

mod accounts;
mod budgets;
#[cfg(test)]
#[path = "contract/tests.rs"]
mod contract;
mod debts;
mod durable;
mod events;
mod failures;
mod folders;
mod gathered;
mod gathering;
mod generations;
mod holds;
mod installs;
mod journeys;
mod leases;
mod ledger;
mod lock;
mod looks;
mod news;
mod overview;
mod ramps;
mod renewals;
mod rows;
mod runs;
mod schema;
mod settled;
mod tlsa;
mod undo;
mod worker;

pub use accounts::AccountRow;
pub use budgets::{Counting, Needs};
pub use debts::DebtRow;
pub use events::EventRow;
pub use failures::Failure;
pub use folders::GenerationFolder;
pub use gathering::Gathering;
pub use generations::GenerationRow;
pub use installs::{GoneBack, InstallRow, InstallState};
pub use journeys::JourneyRow;
pub use ledger::Store;
pub use lock::RunLock;
pub use looks::LookRow;
pub use news::UndeliveredRow;
pub use overview::{FailedOverview, OpenOverview, Overview};
pub use renewals::AskedRenewal;
pub use runs::RunRow;
pub use settled::Settled;
pub use tlsa::TlsaRow;
pub use undo::{PutBack, Undo};

use std::path::PathBuf;

/// A file of the state folder, or one that is kept for undoing a change, is no larger than this.
pub(crate) const LARGEST: u64 = 64 << 20;

/// What can go wrong with what is kept.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum StoreError {
    /// A file or folder.
    #[error("cannot {job} {}: {source}", path.display())]
    Io {
        /// What was being done.
        job: &'static str,
        /// With what.
        path: PathBuf,
        /// Why not.
        source: std::io::Error,
    },
    /// The ledger.
    #[error("the ledger {}: {source}", path.display())]
    Ledger {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// Writes of several that were to be committed together could not be.
    #[error("the ledger {} could not be written ({why}); nothing more is written in this run", path.display())]
    Lost {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        why: String,
    },
    /// A ledger of a newer program.
    #[error("the ledger {} was written by a newer Eskort (version {found}; this one reads up to {known})", path.display())]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its version.
        found: i64,
        /// Ours.
        known: i64,
    },
    /// Another run works on a certificate's journey.
    #[error("another run works on the certificate `{certificate}` just now ({holder})")]
    Leased {
        /// The certificate.
        certificate: String,
        /// Who it is, in words.
        holder: String,
    },
    /// A name that is not UTF-8.
    #[error("the path {} is not UTF-8, which the ledger needs", path.display())]
    Path {
        /// The path.
        path: PathBuf,
    },
    /// A row that cannot be read.
    #[error("the ledger has a {what} that cannot be read: {source}")]
    Row {
        /// What kind of row.
        what: &'static str,
        /// Why.
        source: serde_json::Error,
    },
    /// Another run holds the lock.
    #[error("another run is at work{}", .since.as_ref().map(|s| format!(": {s}")).unwrap_or_default())]
    Busy {
        /// Who, since when and with what command.
        since: Option<String>,
    },
}

pub(crate) fn io(job: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(std::io::Error) -> StoreError {
    let path = path.into();
    move |source| StoreError::Io { job, path, source }
}
