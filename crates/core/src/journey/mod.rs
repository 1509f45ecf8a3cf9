//! The journey: one attempt to obtain a certificate, from the key to the stored chain.
//!
//! Putting it on servers is no part of it: see [`crate::deployment`].
//!
//! [`Stage`] is saved whole after each step. [`Stage::next`] says the one thing to do, [`Stage::apply`] takes in what came
//! of it; both are pure and total. Every action may be run twice: whoever carries it out looks first at how things are.

mod acme;
mod csr;
mod est;
mod pause;
mod step;

pub use acme::Acme;
pub use csr::HandedOver;
pub use est::Enrolling;
pub use pause::UsualWait;
pub use step::{Action, Milestone, Next, OrderRef, Outcome, Poll, ProofTask, WaitsFor};

use crate::manual::{AskedProof, OrderNotes};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use step::After;

/// The version of the saved form of [`Stage`]. Readers take any older one, and refuse a newer one.
pub const STAGE_VERSION: u32 = 4;

/// Where a journey stands. Every variant holds all that a restart needs to go on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "stage", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Stage {
    /// Nothing done yet.
    Opened,
    /// Key and CSR are stored.
    Prepared,
    /// The authority, or a person on the way to it, has the order or the CSR.
    Acquiring(Acquisition),
    /// The chain is received, matched to the key and stored. The end.
    Issued,
}

/// How a certificate is got, and how far that is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "from", rename_all = "kebab-case")]
pub enum Acquisition {
    /// By an order over ACME.
    Acme(Acme),
    /// By a CSR that a person carries.
    Csr(HandedOver),
    /// By a CSR over EST.
    Est(Enrolling),
}

impl From<Acme> for Stage {
    fn from(acme: Acme) -> Self {
        Stage::Acquiring(Acquisition::Acme(acme))
    }
}

impl From<HandedOver> for Stage {
    fn from(handed_over: HandedOver) -> Self {
        Stage::Acquiring(Acquisition::Csr(handed_over))
    }
}

impl From<Enrolling> for Stage {
    fn from(enrolling: Enrolling) -> Self {
        Stage::Acquiring(Acquisition::Est(enrolling))
    }
}

/// What a person may have to do before a journey goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HumanTask {
    /// To place what proves control.
    PlaceProof,
    /// To bring the authority's answer to a CSR.
    BringAnswer,
}

impl HumanTask {
    /// Returns its word in the ledger.
    pub fn word(self) -> &'static str {
        match self {
            HumanTask::PlaceProof => "visibility",
            HumanTask::BringAnswer => "answer",
        }
    }
}

/// An outcome that does not belong to the stage it came to: a bug in Eskort.
#[derive(Debug, thiserror::Error)]
#[error("the outcome {outcome:?} does not belong to the stage {stage:?}")]
pub struct Unexpected {
    /// Where the journey stood.
    pub stage: Stage,
    /// What came.
    pub outcome: Outcome,
}

impl Acquisition {
    fn next(&self, now: Timestamp) -> Next {
        match self {
            Acquisition::Acme(acme) => acme.next(now),
            Acquisition::Csr(handed_over) => handed_over.next(),
            Acquisition::Est(enrolling) => enrolling.next(now),
        }
    }

    fn apply(&self, outcome: &Outcome) -> Option<Stage> {
        match self {
            Acquisition::Acme(acme) => acme.apply(outcome).map(After::stage),
            Acquisition::Csr(handed_over) => handed_over.apply(outcome).map(After::stage),
            Acquisition::Est(enrolling) => enrolling.apply(outcome).map(After::stage),
        }
    }

    fn milestone(&self) -> Milestone {
        match self {
            Acquisition::Acme(acme) => acme.milestone(),
            Acquisition::Csr(handed_over) => handed_over.milestone(),
            Acquisition::Est(_) => Milestone::Ordered,
        }
    }

    /// Returns the kind of authority, in the inventory's word.
    fn authority_kind(&self) -> &'static str {
        match self {
            Acquisition::Acme(_) => "acme",
            Acquisition::Csr(_) => "csr",
            Acquisition::Est(_) => "est",
        }
    }
}

impl<T: Into<Stage>> After<T> {
    fn stage(self) -> Stage {
        match self {
            After::At(at) => at.into(),
            After::Issued => Stage::Issued,
        }
    }
}

impl Stage {
    /// Reads a saved stage of any version up to [`STAGE_VERSION`].
    ///
    /// # Errors
    /// When it is none.
    pub fn from_saved(version: u32, text: &str) -> Result<Stage, serde_json::Error> {
        if version >= 3 {
            return serde_json::from_str(text);
        }
        // Until version 2 the ways to get a certificate were not told apart.
        let mut saved: serde_json::Value = serde_json::from_str(text)?;
        let from = match saved["stage"].as_str().unwrap_or_default() {
            "opened" | "prepared" | "issued" => return serde_json::from_value(saved),
            "handed-over" => "csr",
            "enrolling" => "est",
            _ => "acme",
        };
        if let Some(fields) = saved.as_object_mut() {
            let before = fields.insert("stage".to_owned(), "acquiring".into());
            fields.insert("from".to_owned(), from.into());
            fields.extend(before.filter(|_| from == "acme").map(|at| ("at".to_owned(), at)));
        }
        serde_json::from_value(saved)
    }

    /// Returns the next thing to do, or until when to wait.
    pub fn next(&self, now: Timestamp) -> Next {
        match self {
            Stage::Opened => Next::Act(Action::Prepare),
            Stage::Prepared => Next::Act(Action::PlaceOrder),
            Stage::Acquiring(acquisition) => acquisition.next(now),
            Stage::Issued => Next::Done,
        }
    }

    /// Takes in what came of the action that [`Stage::next`] named.
    ///
    /// # Errors
    /// [`Unexpected`] when the outcome does not belong to this stage.
    pub fn apply(self, outcome: Outcome) -> Result<Stage, Box<Unexpected>> {
        let after = match (&self, &outcome) {
            (Stage::Opened, Outcome::Prepared) => Some(Stage::Prepared),
            (Stage::Prepared, Outcome::Ordered(order)) => Some(Acme::Ordered { order: order.clone() }.into()),
            (Stage::Prepared, Outcome::HandedOver) => Some(HandedOver::default().into()),
            (Stage::Prepared, Outcome::NotYet { .. } | Outcome::Stored) => {
                Enrolling::default().apply(&outcome).map(After::stage)
            }
            (Stage::Acquiring(acquisition), outcome) => acquisition.apply(outcome),
            _ => None,
        };
        after.ok_or_else(|| Box::new(Unexpected { stage: self, outcome }))
    }

    /// Returns the last of the six stages that is passed; `None` before the first.
    pub fn milestone(&self) -> Option<Milestone> {
        match self {
            Stage::Opened => None,
            Stage::Prepared => Some(Milestone::Prepared),
            Stage::Acquiring(acquisition) => Some(acquisition.milestone()),
            Stage::Issued => Some(Milestone::Issued),
        }
    }

    /// Returns the kind of authority that a journey in this stage talks to; `None` where that shows in none or any.
    pub fn authority_kind(&self) -> Option<&'static str> {
        match self {
            Stage::Acquiring(acquisition) => Some(acquisition.authority_kind()),
            _ => None,
        }
    }

    /// Returns the order over ACME; `None` when there is none in this stage.
    pub fn acme(&self) -> Option<&Acme> {
        match self {
            Stage::Acquiring(Acquisition::Acme(acme)) => Some(acme),
            _ => None,
        }
    }

    /// Returns what is known of an order whose CSR a person carried away; `None` when no answer is waited for.
    pub fn handed_over(&self) -> Option<&OrderNotes> {
        match self {
            Stage::Acquiring(Acquisition::Csr(HandedOver { notes })) => Some(notes),
            _ => None,
        }
    }

    /// Returns what is published, and was not seen from here yet; `None` in all other stages.
    pub fn to_self_check(&self) -> Option<&[ProofTask]> {
        match self.acme()? {
            Acme::Published { tasks, .. } => Some(tasks),
            _ => None,
        }
    }

    /// Returns what a person may have to do before the journey goes on.
    pub fn human_task(&self) -> Option<HumanTask> {
        match self {
            stage if stage.handed_over().is_some() => Some(HumanTask::BringAnswer),
            stage if stage.to_self_check().is_some() => Some(HumanTask::PlaceProof),
            _ => None,
        }
    }

    /// Returns what is or will be published in this stage; empty in the stages that publish nothing.
    pub fn tasks(&self) -> &[ProofTask] {
        self.acme().map_or(&[], Acme::tasks)
    }

    /// Returns how often the authority was asked for the order in this stage.
    pub fn polls(&self) -> u32 {
        match self {
            Stage::Acquiring(Acquisition::Acme(acme)) => acme.polls(),
            Stage::Acquiring(Acquisition::Est(enrolling)) => enrolling.poll.asked,
            _ => 0,
        }
    }

    /// Returns whether anything published must still be there in this stage.
    pub fn needs_publication(&self) -> bool {
        match self.handed_over() {
            Some(notes) => notes.asked.as_ref().is_some_and(AskedProof::is_published),
            None => !self.tasks().is_empty(),
        }
    }
}

#[cfg(test)]
mod tests;
