//! Publishes what proves control, once in a run.

use super::work::Work;
use crate::StepError;
use eskort_core::journey::ProofTask;
use eskort_prove::Listener;

/// What is published in this run.
#[derive(Default)]
pub(crate) struct Publication {
    /// Whether this run has made sure that everything is published.
    published: bool,
    /// Open while the authority validates.
    pub(crate) listeners: Vec<Listener>,
}

impl Publication {
    pub(super) async fn publish(&mut self, work: &Work<'_>, tasks: &[ProofTask]) -> Result<(), StepError> {
        // Listeners of before must let go of their ports first.
        self.listeners.clear();
        self.listeners = work.proving().publish(tasks).await?;
        self.published = true;
        Ok(())
    }

    /// What an earlier run published is gone with it: its debts were paid, its listener closed.
    pub(super) async fn ensure(&mut self, work: &Work<'_>, tasks: &[ProofTask]) -> Result<(), StepError> {
        if self.published { Ok(()) } else { self.publish(work, tasks).await }
    }
}
