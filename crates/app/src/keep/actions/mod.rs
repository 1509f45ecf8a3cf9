//! Carries a journey's actions out in the real world: with the authority, and on the way to it.

mod acme;
mod by_hand;
mod est;
mod prepare;
mod publish;
mod waiting;
mod work;

pub(crate) use acme::{AcmeOrders, Conversations};
pub(crate) use publish::Publication;
pub(crate) use work::Work;

use super::steps::{Acted, Actions, Awaited};
use crate::StepError;
use eskort_core::inventory::AuthorityKind;
use eskort_core::journey::{Action, Outcome};
use eskort_core::pki::AssembledChain;
use eskort_core::progress::Progress;

/// The actions of one certificate's journey.
pub(crate) struct JourneyActions<'a> {
    pub(crate) work: Work<'a>,
    pub(crate) acme: AcmeOrders<'a>,
    pub(crate) publication: Publication,
    /// An answer that a person has brought.
    pub(crate) answer: Option<AssembledChain>,
}

impl Actions for JourneyActions<'_> {
    async fn write_before(&mut self, action: &Action) -> Result<bool, StepError> {
        if *action != Action::PlaceOrder {
            return Ok(false);
        }
        self.work.context.report(&Progress::Doing(action.words()));
        match self.acme.look_at_domains(&self.work).await {
            Ok(()) => self.work.count_order().await.map(|()| true),
            Err(error) => Err(self.looked_after(error).await),
        }
    }

    async fn act(&mut self, action: &Action, polls: u32, again: bool) -> Result<Acted, StepError> {
        self.work.context.report(&Progress::Doing(action.words()));
        match self.carry_out(action, polls, again).await {
            Err(error) => Err(self.looked_after(error).await),
            done => done,
        }
    }

    fn take_requests(&self) -> u32 {
        self.work.context.progress.take_requests()
    }
}

impl JourneyActions<'_> {
    /// Looks after the account where an error is about that. Returns what to say.
    async fn looked_after(&self, error: StepError) -> StepError {
        match error {
            StepError::Authority(error) => match self.acme.look_after_account(&self.work, error).await {
                Ok(error) => error.into(),
                Err(error) => error,
            },
            other => other,
        }
    }

    async fn carry_out(&mut self, action: &Action, polls: u32, again: bool) -> Result<Acted, StepError> {
        let JourneyActions { work, acme, publication, .. } = self;
        let outcome = match action {
            Action::Prepare => prepare::prepare(work, acme).await,
            Action::PlaceOrder => {
                let placed = match &work.context.inventory.authorities[&work.specification.authority].kind {
                    AuthorityKind::Acme(_) => acme.place_order(work).await,
                    AuthorityKind::Csr(_) => by_hand::hand_over(work),
                    AuthorityKind::Est(_) => est::enroll(work, 0).await,
                };
                // What no answer came to may have been taken all the same.
                if let Err(StepError::Authority(error)) = &placed
                    && error.problem().is_some()
                {
                    work.store.not_spent(work.certificate, work.generation).await?;
                }
                placed
            }
            Action::TakeAnswer(notes) => return by_hand::take_answer(work, self.answer.take(), notes).await,
            Action::AskAgain => est::enroll(work, polls).await,
            Action::ChooseChallenges(order) => acme.choose_challenges(work, order).await,
            Action::Publish(tasks) => {
                publication.publish(work, tasks).await?;
                Ok(Outcome::Published)
            }
            Action::SelfCheck(tasks) => {
                publication.ensure(work, tasks).await?;
                let to_place = work.proving().self_check(tasks).await?;
                if !to_place.is_empty() {
                    return Ok(Acted::Awaits(Awaited::Records(to_place)));
                }
                Ok(Outcome::SelfChecked)
            }
            Action::Respond(order, tasks) => {
                publication.ensure(work, tasks).await?;
                acme.respond(work, order, tasks).await
            }
            Action::AwaitProof(order, tasks) => {
                publication.ensure(work, tasks).await?;
                acme.await_proof(work, order, polls).await
            }
            Action::Finalize(order) => acme.finalize(work, order, again).await,
            Action::AwaitCertificate(order) => acme.await_certificate(work, order, polls).await,
            Action::Fetch(url) => acme.fetch(work, url).await,
        };
        outcome.map(Acted::Came)
    }
}
