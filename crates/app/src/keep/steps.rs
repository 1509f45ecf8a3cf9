//! Drives a journey: lets the actions act, writes down what came of it and the new stage in one.
//!
//! The saved stage is the intent too: what is done next is a function of it. A run that takes a journey up cannot know
//! whether its first action was begun before, and so treats it as begun.

#[cfg(test)]
mod tests;

use crate::StepError;
use eskort_core::event::Event;
use eskort_core::journey::{Action, Milestone, Next, Outcome, WaitsFor};
use eskort_core::manual::ManualStep;
use eskort_core::record::RecordToPlace;
use eskort_host::crash_point;
use eskort_store::{JourneyRow, Store};
use jiff::Timestamp;

/// Carries out actions: the real world's actions, or a test's.
#[expect(async_fn_in_trait, reason = "journeys are driven on one task; nobody needs the futures to be Send")]
pub trait Actions {
    /// Writes down what the ledger has to know before an action. Returns whether anything was to be written.
    ///
    /// # Errors
    /// When the action cannot be done.
    async fn write_before(&mut self, action: &Action) -> Result<bool, StepError>;

    /// Does an action. `again` says that an earlier run may have begun it: look first how things are.
    ///
    /// # Errors
    /// When it cannot be done; nothing is saved then, and the next run begins it again.
    async fn act(&mut self, action: &Action, polls: u32, again: bool) -> Result<Acted, StepError>;

    /// Returns how many requests to the authority were made since this was last asked.
    fn take_requests(&self) -> u32;
}

/// What an action ends with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Acted {
    /// Something came of it.
    Came(Outcome),
    /// It cannot be done before somebody has done something; the stage stays as it is.
    Awaits(Awaited),
}

impl From<Outcome> for Acted {
    fn from(outcome: Outcome) -> Self {
        Acted::Came(outcome)
    }
}

/// What a journey waits for beyond the run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Awaited {
    /// That a person places records.
    Records(Vec<RecordToPlace>),
    /// That a person carries a CSR to its authority, and brings the answer.
    Answer(Box<ManualStep>),
    /// That somebody at the authority approves, until then at least.
    Approval(Timestamp),
}

/// What came of one step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Something was done; the milestone is set when one of the six was passed by it.
    Did(Option<Milestone>),
    /// Nothing to do before this instant.
    Wait(Timestamp, WaitsFor),
    /// Nothing to do before somebody has done something.
    Awaits(Awaited),
    /// The journey is at its end.
    Done,
}

/// A journey on its way.
pub struct Driver<'a> {
    store: &'a Store,
    certificate: &'a str,
    journey: JourneyRow,
    /// Whether the next action may have been begun by an earlier run.
    again: bool,
    /// Whether the machine's sudden end could take back what was saved last.
    unflushed: bool,
}

impl<'a> Driver<'a> {
    /// Takes up a journey where it stands: one just started, or one that an earlier run left.
    pub fn new(store: &'a Store, certificate: &'a str, journey: JourneyRow) -> Self {
        Driver { store, certificate, journey, again: true, unflushed: false }
    }

    /// Returns the journey.
    pub fn journey(&self) -> &JourneyRow {
        &self.journey
    }

    /// Does the one next thing.
    ///
    /// # Errors
    /// What the actions or the ledger say.
    pub async fn step(&mut self, actions: &mut impl Actions, now: Timestamp) -> Result<Step, StepError> {
        let action = match self.journey.stage.next(now) {
            Next::Done => return Ok(Step::Done),
            Next::Wait { until, waits_for } => return Ok(Step::Wait(until, waits_for)),
            Next::Act(action) => action,
        };
        self.unflushed |= actions.write_before(&action).await?;
        // Nothing but what can be repeated lies between what the disk knows and what is done next.
        if self.unflushed && !action.can_be_repeated() {
            self.flush().await?;
        }
        let slug = action.slug();
        let outcome = match actions.act(&action, self.journey.stage.polls(), self.again).await? {
            Acted::Came(outcome) => outcome,
            Acted::Awaits(awaited) => {
                self.flush().await?;
                return Ok(Step::Awaits(awaited));
            }
        };
        crash_point(&format!("acted-{slug}"));
        let before = self.journey.stage.milestone();
        let stage = self.journey.stage.clone().apply(outcome)?;
        let passed = stage.milestone().filter(|m| Some(*m) != before);
        let generation = self.journey.generation;
        let event = passed.map(|stage| Event::Passed { stage, generation, requests: actions.take_requests() });
        self.store.save_stage(self.certificate, self.journey.id, &stage, event.as_ref(), now).await?;
        self.unflushed = true;
        // What follows brings it to the disk before it does anything.
        if stage.next(now) == Next::Done && !action.can_be_repeated() {
            self.flush().await?;
        }
        self.journey.stage = stage;
        self.again = false;
        crash_point(&format!("saved-{slug}"));
        Ok(Step::Did(passed))
    }

    async fn flush(&mut self) -> Result<(), StepError> {
        self.store.flush().await?;
        self.unflushed = false;
        Ok(())
    }
}
