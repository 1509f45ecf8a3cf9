//! An acquisition over EST: the authority has the CSR and takes its time (RFC 7030 section 4.2.3).

use super::step::{Action, After, Next, Outcome, Poll, WaitsFor};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The same is to be asked again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Enrolling {
    /// How often it was asked, and when next.
    pub poll: Poll,
}

impl Enrolling {
    pub(super) fn next(&self, now: Timestamp) -> Next {
        self.poll.next(now, WaitsFor::Approval, Action::AskAgain)
    }

    /// Returns where it stands after an outcome; `None` when the outcome does not belong here.
    pub(super) fn apply(&self, outcome: &Outcome) -> Option<After<Enrolling>> {
        match outcome {
            Outcome::NotYet { ask_again } => Some(After::At(Enrolling { poll: self.poll.again(*ask_again) })),
            Outcome::Stored => Some(After::Issued),
            _ => None,
        }
    }
}
