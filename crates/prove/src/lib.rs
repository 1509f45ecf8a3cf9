//! Proves control of names: files on a site, listeners of our own, records in a zone; and removes them again.

mod around;
mod cleanup;
mod error;
mod fetch;
mod file;
mod folder;
mod listener;
mod place;
mod proving;
mod records;
mod shared;
mod site;
mod tls;

pub use around::ProofContext;
pub use cleanup::{pay_debts, pay_debts_of};
pub use error::ProofError;
pub use file::SiteFile;
pub use listener::Listener;
pub use place::{SitePlace, addresses, look};
pub use proving::Proving;
pub use records::{look_at_records, publish_records, see_records};
pub use shared::{SharedProofs, Turn, Turns};
