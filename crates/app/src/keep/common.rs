//! What the turns of one run share.

use super::actions::Conversations;
use super::entry::Insistence;
use super::gate::Gate;
use crate::stop::Stop;
use eskort_core::context::Context;
use eskort_core::pki::AssembledChain;
use eskort_host::Machines;
use eskort_install::Facts as ServerFacts;
use eskort_prove::{ProofContext, SharedProofs, Turns};
use eskort_store::Store;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::OnceCell;

/// What the turns of one run share.
pub(super) struct Common {
    pub(super) context: Context,
    pub(super) store: Arc<Store>,
    /// The conversations with authorities.
    pub(super) conversations: Conversations,
    /// How many orders may be under way at each authority.
    pub(super) gates: BTreeMap<String, Gate>,
    /// Turns at the names of orders: an authority may have one open order for the same names.
    pub(super) same_names: Turns,
    /// Authorities that were found to be out of reach in this run, with what came back.
    out_of_reach: Mutex<BTreeMap<String, String>>,
    /// Whether somebody asks the program to stop.
    pub(super) stop: Stop,
    /// Answers that a person has brought, by certificate.
    answers: Mutex<BTreeMap<String, AssembledChain>>,
    /// The machines of the run.
    pub(super) machines: Machines,
    /// What was read of servers.
    pub(super) servers: ServerFacts,
    /// What the proofs of all certificates share.
    pub(super) shared: SharedProofs,
    /// The system's resolver, once it was needed; `None` in it when none answers.
    pub(super) resolver: OnceCell<Option<SocketAddr>>,
    /// What somebody insists on.
    pub(super) insistence: Insistence,
}

impl Common {
    pub(super) fn new(context: &Context, store: Arc<Store>, machines: Machines, insistence: Insistence) -> Self {
        let gate = |(name, authority): (&String, &_)| (name.clone(), Gate::of(authority));
        Common {
            context: context.clone(),
            store,
            conversations: Conversations::default(),
            gates: context.inventory.authorities.iter().map(gate).collect(),
            same_names: Turns::default(),
            out_of_reach: Mutex::default(),
            stop: Stop::listen(),
            answers: Mutex::default(),
            servers: ServerFacts::about(&machines),
            machines,
            shared: SharedProofs::default(),
            resolver: OnceCell::new(),
            insistence,
        }
    }

    /// Takes in an answer that a person has brought for a certificate.
    pub(super) fn bring(&self, certificate: &str, answer: AssembledChain) {
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).insert(certificate.to_owned(), answer);
    }

    /// Returns the answer that a person has brought for a certificate.
    pub(super) fn take_answer(&self, certificate: &str) -> Option<AssembledChain> {
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).remove(certificate)
    }

    /// Returns the authorities that were found to be out of reach in this run, with what came back.
    pub(super) fn out_of_reach(&self) -> MutexGuard<'_, BTreeMap<String, String>> {
        self.out_of_reach.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns what is around the proofs of the run.
    pub(super) fn around(&self) -> ProofContext<'_> {
        ProofContext { context: &self.context, store: &self.store, machines: &self.machines, shared: &self.shared }
    }
}
