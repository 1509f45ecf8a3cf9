//! One certificate's turn in a run: decides, obtains, puts on servers, and says how it ended.

use super::actions::{AcmeOrders, JourneyActions, Publication, Work};
use super::common::Common;
use super::deploy::{Deployed, Deploying, NOWHERE};
use super::entry::{Ending, KeepEntry, Placed};
use super::gather::{gather, rooms_for, section_of, specification_of, still_fits};
use super::lost;
use super::ramp;
use super::steps::Driver;
use super::tlsa::{Readiness, Tlsa};
use super::travel::{Reached, steps};
use crate::StepError;
use crate::by_hand::validation::is_published_for_validation;
use eskort_core::budget::{names_key, waits_for};
use eskort_core::context::Context;
use eskort_core::decision::{
    AuthorityHold, Concerns, Decision, Facts, Obtaining, decide, hold_of_certificate, urgency,
};
use eskort_core::deployment::Deployment;
use eskort_core::event::{Event, GivenUp};
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::{Acme, Milestone, Stage};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::panic_point;
use eskort_install::{Placement, deployment};
use eskort_prove::{ProofContext, pay_debts_of};
use eskort_store::{Failure, JourneyRow, StoreError};
use eskort_talk::AuthorityError;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;
use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::task::Poll;
use std::time::Instant;

/// One certificate's turn.
pub(super) struct Turn {
    run: Arc<Common>,
    /// What is told is about this certificate.
    context: Context,
    /// The certificate's name in the inventory.
    pub(super) name: String,
    /// What was known when it was decided.
    facts: Option<Facts>,
    decision: Option<Decision>,
    /// What came of putting the newest generation on servers.
    placed: Option<(u32, Result<Ending, StepError>)>,
    /// What stands before the installation of the newest generation.
    waits: Option<Ending>,
    announced: AtomicBool,
}

/// What came of obtaining a generation.
pub(super) enum Obtained {
    /// This one is stored.
    Generation(u32),
    /// None, and the certificate's turn ends with that.
    Nothing(Ending),
}

impl Turn {
    pub(super) fn new(run: &Arc<Common>, name: &str) -> Self {
        Turn {
            run: Arc::clone(run),
            context: run.context.about(name),
            name: name.to_owned(),
            facts: None,
            decision: None,
            placed: None,
            waits: None,
            announced: AtomicBool::new(false),
        }
    }

    /// Returns what the inventory says of the certificate.
    pub(super) fn entry(&self) -> &CertificateEntry {
        &self.context.inventory.certificates[&self.name]
    }

    /// Returns the servers that the certificate is for.
    pub(super) fn servers(&self) -> BTreeSet<String> {
        self.entry().install.iter().map(|install| install.server.clone()).collect()
    }

    /// Returns what tells which of several goes first: when its visitors are left without a certificate.
    pub(super) fn urgency(&self, now: Timestamp) -> Timestamp {
        urgency(self.facts.as_ref().and_then(|facts| facts.newest.as_ref()), now)
    }

    /// Returns what tells its order from those of other certificates at its authority: the names, in any order.
    pub(super) fn order_key(&self) -> String {
        format!("{} {}", self.entry().authority, names_key(&self.entry().names))
    }

    /// Says that work on the certificate begins, once.
    pub(super) fn announce(&self) {
        if let Some(decision) = &self.decision
            && !self.announced.swap(true, Ordering::Relaxed)
        {
            let (name, decision) = (self.name.clone(), decision.clone());
            self.context.report(&Progress::Certificate { name, decision });
        }
    }

    /// Decides. Returns what is to be put on servers first.
    pub(super) async fn decide(&mut self) -> Result<Option<Deployment>, StepError> {
        let (facts, mut decision) = guarded(self.decide_now()).await?;
        if let Some(generation) = decision.place.as_ref().filter(|place| place.is_to_install()).map(|p| p.generation) {
            match self.before_install(generation).await {
                Ok(None) => {}
                Ok(Some(ending)) => (decision.place, self.waits) = (None, Some(ending)),
                // It stands in the way of no renewal.
                Err(error) => (decision.place, self.placed) = (None, Some((generation, Err(error)))),
            }
        }
        let place = decision.place.clone();
        (self.facts, self.decision) = (Some(facts), Some(decision));
        Ok(place)
    }

    async fn decide_now(&self) -> Result<(Facts, Decision), StepError> {
        let (context, store, now) = (&self.context, &*self.run.store, self.context.now());
        if store.newest(&self.name).await?.is_none()
            && let Some(found) = lost::find(store, &self.name, &specification_of(context, self.entry()))
        {
            let generation = found.take_in(store, &self.name, now).await?;
            let text = format!("generation {generation} was found in the state folder; the ledger did not know it");
            context.report(&Progress::Note(text));
        }
        ramp::climb(context, store, &self.name, self.entry(), &self.run.servers).await?;
        let mut facts = gather(context, store, &self.name, self.entry(), &self.run.servers).await?;
        facts.wanted = self.run.insistence.renew;
        let decision = self.decide_on(&facts);
        Ok((facts, decision))
    }

    fn decide_on(&self, facts: &Facts) -> Decision {
        let now = self.context.now();
        let mut facts = facts.clone();
        facts.may_lose_names = self.run.insistence.drop_names;
        facts.no_room.take_if(|_| self.run.insistence.beyond_budget);
        let Some(reason) = self.run.out_of_reach().get(&self.entry().authority).cloned() else {
            return decide(&facts, now, self.run.insistence.at_once);
        };
        // What would ask the authority is held; all else is done.
        let until = now + SignedDuration::from_secs(1);
        facts.authority_hold = Some(AuthorityHold { until, reason: reason.clone() });
        let mut decision = decide(&facts, now, false);
        if matches!(decision.obtain, Obtaining::Hold { authority: Some(_), .. }) {
            decision.obtain = Obtaining::OutOfReach { reason };
        }
        decision
    }

    /// Decides again when the turn has come to obtain something: others have been at work meanwhile, of this run and elsewhere.
    async fn decide_again(&mut self) -> Result<(), StepError> {
        let Some(facts) = self.facts.take() else { return Ok(()) };
        let store = &*self.run.store;
        let (newest, open) = (store.newest(&self.name).await?, store.open_journey(&self.name).await?);
        let same = newest.map(|newest| newest.number) == facts.newest.as_ref().map(|newest| newest.generation)
            && open.as_ref().map(|open| (open.generation, open.stage.milestone()))
                == facts.open.as_ref().map(|open| (open.generation, open.passed));
        let facts = if same {
            let section = || section_of(&self.context, &self.entry().authority);
            Facts {
                authority_hold: store.authority_hold(&self.entry().authority, section).await?,
                no_room: waits_for(rooms_for(&self.context, store, self.entry()).await?),
                ..facts
            }
        } else {
            gather(&self.context, store, &self.name, self.entry(), &self.run.servers).await?
        };
        self.decision = Some(self.decide_on(&facts));
        Ok(())
    }

    /// Takes in what came of putting the newest generation on servers.
    pub(super) fn placed(&mut self, placed: Result<Ending, StepError>) {
        let generation = self.decision.as_ref().and_then(|decision| Some(decision.place.as_ref()?.generation));
        self.placed = generation.map(|generation| (generation, placed));
    }

    fn tlsa(&self) -> Tlsa<'_> {
        Tlsa { around: self.around(), servers: &self.run.servers, name: &self.name, entry: self.entry() }
    }

    /// Looks what stands before the installation of a generation; `None` when nothing does.
    pub(super) async fn before_install(&self, generation: u32) -> Result<Option<Ending>, StepError> {
        Ok(match guarded(self.tlsa().before_install(generation)).await? {
            Readiness::Ready => None,
            Readiness::Waits(until) => Some(Ending::AwaitsTtl { until }),
            Readiness::Place(records) => Some(Ending::AwaitsPerson(records)),
        })
    }

    /// Whether its authority is to be asked.
    pub(super) fn obtains(&self) -> bool {
        let obtain = self.decision.as_ref().map(|decision| &decision.obtain);
        matches!(obtain, Some(Obtaining::Start { .. } | Obtaining::GoOn { .. }))
    }

    /// Begins the conversation with its authority, so that the account's key is made under the lock; what is wrong with that stops
    /// the journey later.
    pub(super) async fn open_conversation(&self) {
        if self.context.inventory.authorities[&self.entry().authority].acme().is_some() {
            let _ = self.run.conversations.with(&self.context, &self.run.store, &self.entry().authority).await;
        }
    }

    /// Ends the turn of a certificate whose authority is not asked.
    pub(super) async fn end_at_rest(mut self) -> KeepEntry {
        let mut obtained = match &self.decision {
            Some(decision) => guarded(self.obtain_decided(&decision.obtain)).await,
            None => Err(StepError::Interrupted),
        };
        let served = self.facts.as_ref().and_then(|facts| facts.deployment.as_ref()).filter(|served| served.is_done());
        if let (Ok(_), Some(served)) = (&obtained, served)
            && let Err(error) = guarded(self.tlsa().settle(served.generation)).await
        {
            obtained = Err(error);
        }
        let ending = match obtained {
            Ok(Obtained::Nothing(Ending::AtRest { validity })) => match self.placed.take() {
                Some((_, arrived)) => arrived,
                None if self.waits.is_some() => Ok(self.waits.take().unwrap_or(Ending::AtRest { validity })),
                // Thousands that are at rest are not all written about.
                None if self.facts.as_ref().is_some_and(|facts| facts.failures.is_none()) => {
                    Ok(Ending::AtRest { validity })
                }
                None => {
                    let cleared = self.run.store.clear_failures(&self.name).await;
                    cleared.map_err(Into::into).map(|()| Ending::AtRest { validity })
                }
            },
            Ok(Obtained::Nothing(ending)) => Ok(ending),
            Ok(Obtained::Generation(_)) => unreachable!("nothing was to be obtained"),
            Err(error) => Err(error),
        };
        match ending {
            Ok(ending) => self.ended(ending).await,
            Err(error) => self.failed(error).await,
        }
    }

    /// Obtains a generation: from the authority, or by what was decided instead.
    pub(super) async fn obtain(&mut self) -> Result<Obtained, StepError> {
        guarded(self.decide_again()).await?;
        self.announce();
        let Some(decision) = &self.decision else { return Err(StepError::Interrupted) };
        let obtained = guarded(self.obtain_decided(&decision.obtain)).await;
        self.run.store.release(&self.name).await?;
        match obtained {
            // Another run was quicker.
            Err(StepError::Store(StoreError::Leased { holder, .. })) => {
                Ok(Obtained::Nothing(Ending::UnderWay { holder }))
            }
            // Orders of other certificates have taken what was left.
            Err(StepError::NoRoom { until, budget }) => {
                let obtain = Obtaining::NoRoom { until, budget: *budget };
                if let Some(decision) = &mut self.decision {
                    decision.obtain = obtain;
                }
                Ok(Obtained::Nothing(Ending::NoRoom))
            }
            obtained => obtained,
        }
    }

    async fn obtain_decided(&self, decision: &Obtaining) -> Result<Obtained, StepError> {
        let (store, name, now) = (&self.run.store, self.name.as_str(), self.context.now());
        // Whatever was decided: what is another run's is left to that.
        if let Some(holder) = store.leased_by_another(name, now).await? {
            return Ok(Obtained::Nothing(Ending::UnderWay { holder }));
        }
        let specification = specification_of(&self.context, self.entry());
        let mut open = store.open_journey(name).await?;
        let goes_on = matches!(decision, Obtaining::GoOn { .. });
        let holds = matches!(
            decision,
            Obtaining::Hold { .. }
                | Obtaining::OutOfReach { .. }
                | Obtaining::NoRoom { .. }
                | Obtaining::LosesNames { .. }
        );
        if let Some(stale) = open.take_if(|open| !(goes_on || holds && still_fits(&self.context, self.entry(), open))) {
            let fits = still_fits(&self.context, self.entry(), &stale);
            let why = if fits { GivenUp::Due } else { GivenUp::InventoryChanged };
            self.give_up(&stale, why).await?;
        }
        // A journey that goes on may be looked at by the authority right now: its files stay.
        if !open.as_ref().is_some_and(|open| goes_on && open.stage.needs_publication()) {
            pay_debts_of(&self.around(), name).await?;
        }
        let journey = match decision {
            Obtaining::Rest { .. } => {
                return Ok(Obtained::Nothing(Ending::AtRest {
                    validity: store.newest(name).await?.map(|g| g.validity),
                }));
            }
            Obtaining::OutOfReach { reason } | Obtaining::Hold { authority: Some(reason), .. } => {
                return Ok(Obtained::Nothing(Ending::Held { reason: reason.clone() }));
            }
            Obtaining::NoRoom { .. } => return Ok(Obtained::Nothing(Ending::NoRoom)),
            Obtaining::LosesNames { .. } => return Ok(Obtained::Nothing(Ending::LosesNames)),
            Obtaining::Hold { .. } => {
                let reason = store.failures(name).await?.map(|(_, reason)| reason).unwrap_or_default();
                return Ok(Obtained::Nothing(Ending::Held { reason }));
            }
            Obtaining::Start { generation, .. } => {
                store.start_journey(name, *generation, &specification, Stage::Opened, now).await?
            }
            Obtaining::GoOn { .. } => {
                let journey = open.expect("the decision was made for an open journey");
                store.lease(name, journey.id, now).await?;
                journey
            }
        };
        panic_point(name);
        let generation = journey.generation;
        Ok(match self.travel(journey).await? {
            Reached::End => Obtained::Generation(generation),
            Reached::Awaits(awaited) => Obtained::Nothing(awaited.into()),
        })
    }

    /// Goes on with a journey to its end, or until it waits beyond this run.
    async fn travel(&self, journey: JourneyRow) -> Result<Reached, StepError> {
        let (run, store) = (&self.run, &*self.run.store);
        let mut actions = JourneyActions {
            work: Work {
                context: &self.context,
                store,
                machines: &run.machines,
                shared: &run.shared,
                certificate: &self.name,
                entry: self.entry(),
                specification: journey.specification.clone(),
                generation: journey.generation,
                resolver: &run.resolver,
                insist: run.insistence.at_once,
                beyond_budget: run.insistence.beyond_budget,
                key: OnceLock::new(),
                csr: OnceLock::new(),
            },
            acme: AcmeOrders::new(&run.conversations),
            publication: Publication::default(),
            answer: run.take_answer(&self.name),
        };
        let acme = self.context.inventory.authorities[&self.entry().authority].acme().is_some();
        // Once the authority has taken an order it can be reached, and lets nobody wait.
        let answered = |stage: &Stage| {
            let taken = stage.milestone().is_some_and(|milestone| milestone >= Milestone::Ordered)
                && run.conversations.has_reached(&self.entry().authority);
            if taken || !acme {
                run.gates[&self.entry().authority].widen();
            }
        };
        let reached = steps(&mut actions, Driver::new(store, &self.name, journey), &run.stop, answered).await?;
        if matches!(reached, Reached::End) {
            store.clear_failures(&self.name).await?;
            store.end_authority_hold(&self.entry().authority).await?;
        }
        Ok(reached)
    }

    /// Returns what servers lack of a generation.
    pub(super) async fn deployment(&self, generation: u32) -> Result<Deployment, StepError> {
        let placement = Placement::of(&self.name, self.entry(), &self.entry().names, generation);
        let lacks = async { Ok(deployment(&self.context, &self.run.store, &placement, &self.run.servers).await?) };
        guarded(lacks).await
    }

    /// Puts a stored generation where it is lacking. `installed_since` says when it was installed together with others, in this run.
    pub(super) async fn deploy(
        &self,
        deployment: &Deployment,
        installed_since: Option<Instant>,
    ) -> Result<Ending, StepError> {
        self.announce();
        let (run, store, generation) = (&self.run, &*self.run.store, deployment.generation);
        let deploying = Deploying {
            context: &self.context,
            store,
            stop: &run.stop,
            placement: Placement::of(&self.name, self.entry(), &self.entry().names, generation),
            servers: &run.servers,
            installed_since,
        };
        let Deployed { looked_at, unconfirmed, left_out, to_carry } = guarded(deploying.run(deployment)).await?;
        if left_out.is_empty() && to_carry.is_empty() {
            guarded(self.tlsa().after_install(generation)).await?;
        }
        let arrived = store.newest(&self.name).await?.filter(|g| g.number == generation);
        store.clear_failures(&self.name).await?;
        Ok(Ending::Arrived {
            generation,
            validity: arrived.map(|g| g.validity),
            looked_at,
            unconfirmed,
            left_out,
            to_carry,
        })
    }

    /// Says that a generation for no server is installed.
    pub(super) fn say_installed_nowhere(&self) {
        self.context.report(&Progress::Passed { milestone: Milestone::Installed, detail: NOWHERE.to_owned() });
    }

    /// Ends the turn.
    pub(super) async fn ended(self, ending: Ending) -> KeepEntry {
        let mut entry = KeepEntry::new(&self.name, self.decision, ending);
        // Once a newer generation has arrived, what became of the one before is of no interest.
        entry.placed = self
            .placed
            .filter(|_| !matches!(entry.ending, Ending::Arrived { .. }))
            .map(|(generation, done)| Placed { generation, error: done.err().map(Box::new) });
        if entry.awaits_person() {
            entry.waits_since = self.run.store.open_journey(&self.name).await.ok().flatten().map(|open| open.started);
        }
        self.context.report(&Progress::Ended(entry.ending.brief()));
        entry
    }

    /// Ends the turn with a failure.
    pub(super) async fn failed(self, error: StepError) -> KeepEntry {
        let (name, store) = (self.name.clone(), Arc::clone(&self.run.store));
        let name = name.as_str();
        if let StepError::Panic { .. } = error {
            // Nobody knows in what state it left them.
            self.run.conversations.end();
        }
        let open_before = store.open_journey(name).await.ok().flatten().map(|open| open.id);
        if let Err(trouble) = self.note_failure(&error).await {
            self.context.report(&Progress::Note(format!("the failure could not be written down: {trouble}")));
        }
        let open_now = store.open_journey(name).await.ok().flatten().map(|open| open.id);
        let given_up = open_before.is_some() && open_now.is_none();
        let owed = store.debts_of(name).await.map(|debts| debts.len());
        let ending = Ending::Failed { error: Box::new(error), given_up, left_published: owed.unwrap_or(1) };
        self.ended(ending).await
    }

    /// Whatever went wrong: nothing stays published but what an authority without ACME may look at any day, a lost journey is closed,
    /// and after a refusal the authority is left alone for a while.
    async fn note_failure(&self, error: &StepError) -> Result<(), StoreError> {
        let (store, name, now) = (&self.run.store, self.name.as_str(), self.context.now());
        if store.leased_by_another(name, now).await?.is_some() {
            return Ok(());
        }
        if !is_published_for_validation(store, name).await? {
            pay_debts_of(&self.around(), name).await?;
        }
        if matches!(error, StepError::Interrupted) {
            // The authority may look any moment, and finds nothing any more.
            let validates = |open: &JourneyRow| matches!(open.stage.acme(), Some(Acme::AwaitingProof { .. }));
            if let Some(open) = store.open_journey(name).await?.filter(validates).filter(|open| self.took_away(open)) {
                self.give_up(&open, GivenUp::Stopped).await?;
            }
            return store.add_event(name, &Event::Stopped, now).await;
        }
        if error.ends_journey()
            && let Some(open) = store.open_journey(name).await?
        {
            self.give_up(&open, GivenUp::OrderLost).await?;
        }
        if let StepError::Authority(AuthorityError::Rejected(rejected)) = error {
            let names: Vec<String> = rejected.iter().filter_map(|one| one.name.clone()).collect();
            let authority = &self.context.inventory.authorities[&self.entry().authority];
            store.spend_failures(authority.counted_as(&self.entry().authority), name, &names, now).await?;
        }
        let reason = words::printable(&error.to_string(), 300);
        let authority_says = error.authority_says(now);
        let authority = &self.entry().authority;
        let mut hold = None;
        match error.concerns() {
            Concerns::Authority { mistake } => {
                let section = if mistake { section_of(&self.context, authority) } else { String::new() };
                store.hold_authority(authority, &section, &reason, authority_says, now).await?;
            }
            Concerns::Reach => {
                // For this run only: whether it is there again costs one question.
                self.run.out_of_reach().insert(authority.clone(), reason.clone());
                if let Some(says) = authority_says {
                    store.hold_authority(authority, "", &reason, Some(says), now).await?;
                }
            }
            Concerns::Certificate => {
                let before = store.failures(name).await?.map_or(0, |(failures, _)| failures.count);
                let end = store.newest(name).await?.map(|newest| newest.validity.not_after);
                hold = Some(hold_of_certificate(before + 1, now, authority_says, end, name));
            }
            Concerns::Nobody => {}
        }
        let (code, fault, reason) = (error.into(), error.fault(), &*reason);
        store.record_failure(name, &Failure { code, reason, fault, authority, hold_until: hold }, now).await
    }

    /// Whether what proves control in a journey is gone when this program takes it away: what a person placed stays.
    fn took_away(&self, open: &JourneyRow) -> bool {
        let by_machine =
            |name| self.context.inventory.proof_of(self.entry(), name).is_none_or(|(_, proof)| !proof.awaits_person());
        open.stage.tasks().iter().any(|task| by_machine(&task.name))
    }

    async fn give_up(&self, open: &JourneyRow, why: GivenUp) -> Result<(), StoreError> {
        self.run.store.give_up_journey(&self.name, open.id, why, self.context.now()).await?;
        // A person may still bring an answer to a CSR that was carried away.
        if open.stage.handed_over().is_some() {
            return Ok(());
        }
        self.run.store.discard_unfinished(&self.name, open.generation)
    }

    fn around(&self) -> ProofContext<'_> {
        ProofContext { context: &self.context, ..self.run.around() }
    }
}

/// Carries out work on certificates. A bug of ours that shows in it is their failure, and does not end the run.
pub(super) async fn guarded<T>(work: impl Future<Output = Result<T, StepError>>) -> Result<T, StepError> {
    // Boxed: what waits for its turn stays small.
    caught(Box::pin(work)).await.unwrap_or_else(|what| Err(StepError::Panic { what }))
}

/// Lets a future run, and turns a panic in it into its message.
async fn caught<T>(future: impl Future<Output = T>) -> Result<T, String> {
    let mut future = std::pin::pin!(future);
    std::future::poll_fn(move |context| {
        let poll = std::panic::catch_unwind(AssertUnwindSafe(|| future.as_mut().poll(context)));
        match poll {
            Ok(Poll::Ready(value)) => Poll::Ready(Ok(value)),
            Ok(Poll::Pending) => Poll::Pending,
            Err(panic) => {
                let text = panic.downcast_ref::<String>().cloned();
                let text = text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_owned()));
                Poll::Ready(Err(text.unwrap_or_else(|| "a panic without words".into())))
            }
        }
    })
    .await
}
