//! Generations that lie on disk while the ledger that knew them is lost.

use eskort_core::decision::{Specification, Stored};
use eskort_core::event::Event;
use eskort_core::pki::{Chain, PrivateKey};
use eskort_core::renewal::Validity;
use eskort_store::{Store, StoreError};
use jiff::Timestamp;

/// A generation on disk that the ledger does not know.
pub(crate) struct Lost {
    number: u32,
    specification: Specification,
    chain: Chain,
}

/// Finds the generation that `current` leads to, when it is for what is wanted. Whose authority it is from cannot be known: the
/// inventory's is taken.
pub(crate) fn find(store: &Store, certificate: &str, specification: &Specification) -> Option<Lost> {
    let number = store.current_generation(certificate)?;
    let folder = store.generation_folder(certificate, number);
    let chain = Chain::from_pem(&folder.bundle().ok()??).ok()?;
    let key = PrivateKey::from_pem(&folder.key().ok()??).ok()?;
    chain.check_answers(&key, &specification.names).ok()?;
    if chain.leaf().names.len() != specification.names.len() {
        return None;
    }
    let found =
        Specification { key: key.kind().word().to_owned(), reached: None, request: None, ..specification.clone() };
    Some(Lost { number, specification: found, chain })
}

impl Lost {
    /// Returns what a decision needs to know of it.
    pub(crate) fn stored(&self) -> Stored {
        let leaf = self.chain.leaf();
        let validity = Validity { not_before: leaf.not_before, not_after: leaf.not_after };
        Stored { generation: self.number, specification: self.specification.clone(), validity, revoked: false }
    }

    /// Writes it into the ledger again.
    pub(crate) async fn take_in(&self, store: &Store, certificate: &str, now: Timestamp) -> Result<u32, StoreError> {
        let found = Event::Found { generation: self.number };
        store.record_generation(certificate, self.number, &self.specification, &self.chain, Some(&found), now).await?;
        Ok(self.number)
    }
}
