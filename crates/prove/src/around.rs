//! What is around a proof.

use crate::SharedProofs;
use eskort_core::context::Context;
use eskort_host::{Machine, Machines};
use eskort_store::Store;

/// What is around a proof: the inventory, the ledger, and the machines of the run.
#[derive(Clone, Copy)]
pub struct ProofContext<'a> {
    /// The inventory, and what is around the use case.
    pub context: &'a Context,
    /// The ledger.
    pub store: &'a Store,
    /// The machines of the run.
    pub machines: &'a Machines,
    /// What the proofs of all certificates of the run share.
    pub shared: &'a SharedProofs,
}

impl<'a> ProofContext<'a> {
    /// Returns a machine of the inventory; `None` is this one.
    pub(crate) fn machine(&self, host: Option<&'a str>) -> Machine<'a> {
        self.machines.at(self.context, host)
    }
}
