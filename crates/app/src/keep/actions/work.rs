//! What the work on one certificate's journey is about.

use crate::StepError;
use eskort_core::context::Context;
use eskort_core::decision::Specification;
use eskort_core::inventory::{CertificateEntry, DnsProof, Part, Proof, RecordWriter};
use eskort_core::pki::{PkiError, PrivateKey, make_csr};
use eskort_host::Machines;
use eskort_prove::{ProofContext, Proving, SharedProofs};
use eskort_store::{Counting, Needs, Store};
use std::net::SocketAddr;
use std::sync::OnceLock;
use tokio::sync::OnceCell;

/// One certificate's journey, and what is around it.
pub(crate) struct Work<'a> {
    pub(crate) context: &'a Context,
    pub(crate) store: &'a Store,
    /// The machines of the run.
    pub(crate) machines: &'a Machines,
    /// What the proofs of all certificates of the run share.
    pub(crate) shared: &'a SharedProofs,
    pub(crate) certificate: &'a str,
    pub(crate) entry: &'a CertificateEntry,
    pub(crate) specification: Specification,
    pub(crate) generation: u32,
    /// The system's resolver, once it was needed.
    pub(crate) resolver: &'a OnceCell<Option<SocketAddr>>,
    /// Whether somebody asked for this very certificate.
    pub(crate) insist: bool,
    /// Whether somebody insists on an order for which a budget has no room.
    pub(crate) beyond_budget: bool,
    /// The key of the generation, once it was stored or read.
    pub(crate) key: OnceLock<PrivateKey>,
    /// The CSR (RFC 2986) as DER, once it was made with that key.
    pub(crate) csr: OnceLock<Vec<u8>>,
}

impl Work<'_> {
    /// Whether a person placed records for this journey alone.
    pub(crate) fn has_records_by_hand(&self) -> bool {
        let by_hand = |proof: &Proof| matches!(proof, Proof::Dns(DnsProof { writer: RecordWriter::Person, .. }));
        let proofs =
            self.specification.names.iter().filter_map(|name| self.context.inventory.proof_of(self.entry, name));
        proofs.into_iter().any(|(_, proof)| by_hand(proof))
    }

    /// Counts the order that is about to be placed.
    ///
    /// # Errors
    /// [`StepError::NoRoom`] when a budget has no room for it.
    pub(super) async fn count_order(&self) -> Result<(), StepError> {
        let name = &self.specification.authority;
        let authority = &self.context.inventory.authorities[name];
        let order = Counting {
            needs: Needs {
                authority: authority.counted_as(name),
                limits: &authority.limits,
                names: &self.specification.names,
            },
            certificate: self.certificate,
            generation: self.generation,
        };
        match self.store.spend(&order, self.beyond_budget, self.context.now()).await? {
            Some((budget, until)) => Err(StepError::NoRoom { until, budget: Box::new(budget) }),
            None => Ok(()),
        }
    }

    pub(super) fn talks_acme(&self) -> bool {
        self.context.inventory.authorities[&self.specification.authority].acme().is_some()
    }

    pub(super) fn key_error(&self, source: PkiError) -> StepError {
        let folder = self.store.generation_folder(self.certificate, self.generation);
        StepError::Key { path: folder.part(Part::Key), source }
    }

    /// Returns the key of the generation.
    pub(super) fn key(&self) -> Result<&PrivateKey, StepError> {
        if let Some(key) = self.key.get() {
            return Ok(key);
        }
        let folder = self.store.generation_folder(self.certificate, self.generation);
        let missing = || StepError::Key {
            path: folder.part(Part::Key),
            source: PkiError::Key { reason: "the file is gone".into() },
        };
        let pem = folder.key()?.ok_or_else(missing)?;
        let key = PrivateKey::from_pem(&pem).map_err(|source| self.key_error(source))?;
        Ok(self.key.get_or_init(|| key))
    }

    /// Returns the CSR that is made with the key.
    pub(super) fn csr(&self) -> Result<&[u8], StepError> {
        if let Some(csr) = self.csr.get() {
            return Ok(csr);
        }
        let made = make_csr(self.key()?, &self.specification.names, &self.entry.csr);
        let csr = made.map_err(|source| self.key_error(source))?;
        Ok(self.csr.get_or_init(|| csr))
    }

    /// Returns what is around its proofs.
    pub(crate) fn around(&self) -> ProofContext<'_> {
        ProofContext { context: self.context, store: self.store, machines: self.machines, shared: self.shared }
    }

    pub(super) fn proving(&self) -> Proving<'_> {
        Proving { around: self.around(), certificate: self.certificate, entry: self.entry }
    }
}

/// Does what waits for the disk on a thread of its own: other journeys go on meanwhile.
pub(super) async fn beside<T: Send + 'static>(job: impl FnOnce() -> T + Send + 'static) -> T {
    tokio::task::spawn_blocking(job).await.expect("writing files does not panic")
}
