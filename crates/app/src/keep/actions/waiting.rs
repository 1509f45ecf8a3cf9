//! The wait for something that an authority is at.

use eskort_core::journey::WaitsFor;
use eskort_talk::Conversation;
use jiff::SignedDuration;
use std::time::{Duration, Instant};

/// How long is waited, in this run.
#[derive(Default)]
pub(super) struct Waiting {
    /// Since when; unknown where an earlier run has begun to wait.
    since: Option<Instant>,
    /// For how long it was not there, as far as it was asked for in vain.
    in_vain: Option<Duration>,
}

impl Waiting {
    /// The authority begins now.
    pub(super) fn begin() -> Self {
        Waiting { since: Some(Instant::now()), in_vain: None }
    }

    /// Returns since when this run waits.
    pub(super) fn since(&mut self) -> Instant {
        *self.since.get_or_insert_with(Instant::now)
    }

    /// It was asked for in vain.
    pub(super) fn goes_on(&mut self) {
        self.in_vain = self.since.map(|since| since.elapsed());
    }

    /// It has come: other orders ask for it when it is usually there.
    pub(super) fn ends(&self, conversation: &Conversation, awaited: WaitsFor) {
        if self.since.is_some() {
            conversation.has_come(awaited, self.in_vain.and_then(|in_vain| SignedDuration::try_from(in_vain).ok()));
        }
    }
}
