//! When to ask an authority again.

use super::Conversation;
use crate::AuthorityError;
use eskort_acme::{Response, retry_after};
use eskort_core::journey::{UsualWait, WaitsFor};
use jiff::{SignedDuration, Timestamp};
use std::sync::{MutexGuard, PoisonError};
use std::time::Duration;

/// How long an authority usually needs to validate and to issue, as far as this run has learned it.
#[derive(Clone, Copy, Default)]
pub(super) struct Usual {
    validation: UsualWait,
    issuance: UsualWait,
}

impl Usual {
    fn of(&mut self, awaited: WaitsFor) -> &mut UsualWait {
        match awaited {
            WaitsFor::Validation => &mut self.validation,
            WaitsFor::Issuance | WaitsFor::Approval => &mut self.issuance,
        }
    }
}

impl Conversation {
    fn usual(&self) -> MutexGuard<'_, Usual> {
        self.shared.usual.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes in that something has come: for how long it was not there, as far as it was asked for in vain.
    pub fn has_come(&self, awaited: WaitsFor, in_vain: Option<SignedDuration>) {
        self.usual().of(awaited).learn(in_vain);
    }

    /// Returns when to ask for something, having asked for it so many times in vain; `response` is the last answer.
    pub fn ask_again(&self, response: &Response, awaited: WaitsFor, in_vain: u32) -> Timestamp {
        let now = self.shared.clock.now();
        let hint = response.retry_after.as_deref().and_then(|v| retry_after(v, now));
        // A nonce is as good as a die, and the run has one at hand.
        let jitter = self.nonces().last().map_or(0.5, |n| f64::from(n.bytes().fold(0_u8, u8::wrapping_add)) / 255.0);
        now + self.usual().of(awaited).pause(in_vain, hint, jitter)
    }

    /// Returns when the authority may be asked again after it said that it was asked too often, if that is within the run's time.
    pub fn asks_to_wait(&self, error: &AuthorityError) -> Option<Timestamp> {
        let problem = error.problem().filter(|problem| problem.status == 429)?;
        let now = self.shared.clock.now();
        let wait = retry_after(problem.retry_after.as_deref()?, now)?;
        (Duration::try_from(wait).ok()? <= self.shared.timeout).then(|| now + wait)
    }
}
