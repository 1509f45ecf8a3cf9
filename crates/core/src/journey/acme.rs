//! An acquisition over ACME: an order's way to its certificate.

use super::step::{Action, After, Milestone, Next, OrderRef, Outcome, Poll, ProofTask, WaitsFor};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Where an order stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "at", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Acme {
    /// The authority has the order.
    Ordered {
        /// The order.
        order: OrderRef,
    },
    /// It is known what to publish for which name.
    Challenged {
        /// The order.
        order: OrderRef,
        /// What is to be published; names that the authority takes as proved already are not in it.
        tasks: Vec<ProofTask>,
    },
    /// All is published.
    Published {
        /// The order.
        order: OrderRef,
        /// What was published.
        tasks: Vec<ProofTask>,
    },
    /// All was seen from here, as the authority would.
    SelfChecked {
        /// The order.
        order: OrderRef,
        /// What was seen.
        tasks: Vec<ProofTask>,
    },
    /// The authority was told, and is looking.
    AwaitingProof {
        /// The order.
        order: OrderRef,
        /// What must stay published meanwhile.
        tasks: Vec<ProofTask>,
        /// How often the order was asked for, and when next.
        poll: Poll,
    },
    /// Control of every name is shown.
    Proved {
        /// The order.
        order: OrderRef,
    },
    /// The authority has the CSR and is issuing.
    AwaitingCertificate {
        /// The order.
        order: OrderRef,
        /// How often the order was asked for, and when next.
        poll: Poll,
    },
    /// The certificate can be fetched.
    Ready {
        /// Its address.
        certificate: String,
    },
}

impl Acme {
    pub(super) fn next(&self, now: Timestamp) -> Next {
        match self {
            Acme::Ordered { order } => Next::Act(Action::ChooseChallenges(order.clone())),
            Acme::Challenged { tasks, .. } => Next::Act(Action::Publish(tasks.clone())),
            Acme::Published { tasks, .. } => Next::Act(Action::SelfCheck(tasks.clone())),
            Acme::SelfChecked { order, tasks } => Next::Act(Action::Respond(order.clone(), tasks.clone())),
            Acme::AwaitingProof { order, tasks, poll } => {
                poll.next(now, WaitsFor::Validation, Action::AwaitProof(order.clone(), tasks.clone()))
            }
            Acme::Proved { order } => Next::Act(Action::Finalize(order.clone())),
            Acme::AwaitingCertificate { order, poll } => {
                poll.next(now, WaitsFor::Issuance, Action::AwaitCertificate(order.clone()))
            }
            Acme::Ready { certificate } => Next::Act(Action::Fetch(certificate.clone())),
        }
    }

    /// Returns where it stands after an outcome; `None` when the outcome does not belong here.
    pub(super) fn apply(&self, outcome: &Outcome) -> Option<After<Acme>> {
        use Outcome as O;
        Some(After::At(match (self.clone(), outcome.clone()) {
            // Nothing to publish: the authority remembers earlier proofs of every name.
            (Acme::Ordered { order }, O::Challenges(tasks)) if tasks.is_empty() => Acme::Proved { order },
            (Acme::Ordered { order }, O::Challenges(tasks)) => Acme::Challenged { order, tasks },
            (Acme::Challenged { order, tasks }, O::Published) => Acme::Published { order, tasks },
            (Acme::Published { order, tasks }, O::SelfChecked) => Acme::SelfChecked { order, tasks },
            (Acme::SelfChecked { order, tasks }, O::Responded { ask_again }) => {
                Acme::AwaitingProof { order, tasks, poll: Poll::default().again(ask_again) }
            }
            (Acme::AwaitingProof { order, tasks, poll }, O::NotYet { ask_again }) => {
                Acme::AwaitingProof { order, tasks, poll: poll.again(ask_again) }
            }
            (Acme::AwaitingProof { order, .. }, O::Proved) => Acme::Proved { order },
            // The order may turn out to be further along than the ledger knew.
            (
                Acme::AwaitingProof { .. } | Acme::Proved { .. } | Acme::AwaitingCertificate { .. },
                O::Ready(certificate),
            ) => Acme::Ready { certificate },
            (Acme::AwaitingProof { order, .. } | Acme::Proved { order }, O::Finalized { ask_again }) => {
                Acme::AwaitingCertificate { order, poll: Poll::default().again(ask_again) }
            }
            (Acme::AwaitingCertificate { order, poll }, O::NotYet { ask_again }) => {
                Acme::AwaitingCertificate { order, poll: poll.again(ask_again) }
            }
            (Acme::Ready { .. }, O::Stored) => return Some(After::Issued),
            _ => return None,
        }))
    }

    pub(super) fn milestone(&self) -> Milestone {
        match self {
            Acme::Ordered { .. }
            | Acme::Challenged { .. }
            | Acme::Published { .. }
            | Acme::SelfChecked { .. }
            | Acme::AwaitingProof { .. } => Milestone::Ordered,
            Acme::Proved { .. } | Acme::AwaitingCertificate { .. } | Acme::Ready { .. } => Milestone::Proved,
        }
    }

    /// Returns what is or will be published; empty where nothing is.
    pub(super) fn tasks(&self) -> &[ProofTask] {
        match self {
            Acme::Challenged { tasks, .. }
            | Acme::Published { tasks, .. }
            | Acme::SelfChecked { tasks, .. }
            | Acme::AwaitingProof { tasks, .. } => tasks,
            _ => &[],
        }
    }

    pub(super) fn polls(&self) -> u32 {
        match self {
            Acme::AwaitingProof { poll, .. } | Acme::AwaitingCertificate { poll, .. } => poll.asked,
            _ => 0,
        }
    }
}
