//! An acquisition by a CSR that a person carries to the authority.

use super::step::{Action, After, Milestone, Next, Outcome};
use crate::manual::OrderNotes;
use serde::{Deserialize, Serialize};

/// The CSR was handed to a person, who brings the answer.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HandedOver {
    /// What the person found out meanwhile.
    #[serde(default)]
    pub notes: OrderNotes,
}

impl HandedOver {
    pub(super) fn next(&self) -> Next {
        Next::Act(Action::TakeAnswer(self.notes.clone()))
    }

    /// Returns where it stands after an outcome; `None` when the outcome does not belong here.
    pub(super) fn apply(&self, outcome: &Outcome) -> Option<After<HandedOver>> {
        matches!(outcome, Outcome::Stored).then_some(After::Issued)
    }

    pub(super) fn milestone(&self) -> Milestone {
        if self.notes.is_ordered() { Milestone::Ordered } else { Milestone::Prepared }
    }
}
