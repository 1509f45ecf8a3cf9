//! One certificate's turn in a run of `keep`: decides, and carries the decision out.

use super::actions::{AcmeOrders, JourneyActions, Publication, Work};
use super::deploy::{Deployed, Deploying, finished, install};
use super::entry::{Ending, KeepEntry, Placed};
use super::gather::{gather, section_of, specification_of, still_fits};
use super::group::{Grouped, Groups};
use super::lost;
use super::steps::{Awaited, Driver, Step};
use crate::StepError;
use crate::by_hand::validation::is_published_for_validation;
use crate::stop::Stop;
use eskort_core::context::Context;
use eskort_core::decision::{AuthorityHold, Concerns, Decision, Facts, Obtaining, Specification, decide, hold_after};
use eskort_core::deployment::Deployment;
use eskort_core::event::{Event, GivenUp};
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::{Acme, Milestone, Stage, WaitsFor};
use eskort_core::pki::AssembledChain;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::{Machines, panic_point};
use eskort_install::{Facts as ServerFacts, Placement, deployment};
use eskort_prove::{ProofContext, pay_debts};
use eskort_store::{JourneyRow, Store, StoreError};
use eskort_talk::Conversation;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::panic::AssertUnwindSafe;
use std::task::Poll;
use std::time::{Duration, Instant};

/// What the turns of one run share.
pub(crate) struct Run<'a> {
    context: &'a Context,
    store: &'a Store,
    /// The conversations with authorities, each begun when it is first needed.
    conversations: BTreeMap<String, Conversation>,
    /// Authorities that were found to be out of reach in this run, with what came back.
    out_of_reach: BTreeMap<String, String>,
    /// Whether somebody asks the program to stop.
    stop: Stop,
    /// Answers that a person has brought, by certificate.
    answers: BTreeMap<String, AssembledChain>,
    /// The machines of the run.
    machines: Machines,
    /// What was read of servers.
    servers: ServerFacts,
    /// What was gathered of certificates, while it is still so.
    gathered: BTreeMap<String, Facts>,
    /// Certificates that were installed together with others in this run, and when.
    installed_together: BTreeMap<String, Instant>,
}

impl<'a> Run<'a> {
    /// Begins a run.
    pub(crate) fn new(context: &'a Context, store: &'a Store, machines: Machines) -> Self {
        let (conversations, answers, out_of_reach) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
        Run {
            context,
            store,
            conversations,
            out_of_reach,
            stop: Stop::listen(),
            answers,
            servers: ServerFacts::about(&machines),
            machines,
            gathered: BTreeMap::new(),
            installed_together: BTreeMap::new(),
        }
    }

    /// Returns what is around the proofs of the run.
    pub(crate) fn around(&self) -> ProofContext<'_> {
        ProofContext { context: self.context, store: self.store, machines: &self.machines }
    }

    /// Gives the run an answer that a person has brought.
    pub(crate) fn bring(&mut self, certificate: &str, answer: AssembledChain) {
        self.answers.insert(certificate.to_owned(), answer);
    }

    /// Returns whether somebody asked the program to stop.
    pub(crate) fn stop(&self) -> &Stop {
        &self.stop
    }

    /// Looks after one certificate. `insist` is set when somebody asked for this very one. A bug of ours that shows in it is
    /// its failure, and does not end the run.
    pub(crate) async fn process(&mut self, name: &str, entry: &CertificateEntry, insist: bool) -> KeepEntry {
        let turn = caught(Box::pin(self.process_unguarded(name, entry, insist))).await;
        match turn {
            Ok(entry) => entry,
            Err(what) => {
                self.conversations.clear();
                let ending = self.failed(name, StepError::Panic { what }).await;
                KeepEntry::new(name, None, ending)
            }
        }
    }

    async fn process_unguarded(&mut self, name: &str, entry: &CertificateEntry, insist: bool) -> KeepEntry {
        let decision = match self.decide(name, entry, insist).await {
            Ok(decision) => decision,
            Err(error) => {
                let ending = self.failed(name, error).await;
                return KeepEntry::new(name, None, ending);
            }
        };
        self.context.report(&Progress::Certificate { name: name.to_owned(), decision: decision.clone() });
        panic_point(name);
        let mut placed = None;
        if let Some(place) = &decision.place {
            placed = Some((place.generation, self.deploy(name, entry, place).await));
        }
        let ending = match self.obtain_and_deploy(name, entry, &decision.obtain).await {
            Ok(Ending::AtRest { validity }) => match placed.take() {
                Some((_, Ok(arrived))) => arrived,
                Some((_, Err(error))) => self.failed(name, error).await,
                None => {
                    if let Err(error) = self.store.clear_failures(name) {
                        self.failed(name, error.into()).await
                    } else {
                        Ending::AtRest { validity }
                    }
                }
            },
            Ok(ending) => ending,
            Err(error) => self.failed(name, error).await,
        };
        // Whatever took its time or changed a server: what was read before may not be so any more.
        if placed.is_some() || !matches!(ending, Ending::AtRest { .. } | Ending::Held { .. }) {
            self.forget().await;
        }
        let mut entry = KeepEntry::new(name, Some(decision), ending);
        // Once a newer generation has arrived, what became of the one before is of no interest.
        entry.placed = placed
            .filter(|_| !matches!(entry.ending, Ending::Arrived { .. }))
            .map(|(generation, done)| Placed { generation, error: done.err().map(Box::new) });
        if entry.awaits_person() {
            entry.waits_since = self.store.open_journey(name).ok().flatten().map(|open| open.started);
        }
        entry
    }

    /// Forgets what was gathered: something was changed, or time has passed.
    async fn forget(&mut self) {
        self.gathered.clear();
        self.servers.forget().await;
    }

    /// Installs together what several certificates lack on the same servers: each server is tested and reloaded once. What cannot be
    /// installed so is left to each certificate's own turn, which says why.
    pub(crate) async fn install_together(&mut self, chosen: &[(&String, &CertificateEntry)], insist: bool) {
        let mut groups = Groups::default();
        for &(name, entry) in chosen {
            if self.stop.is_asked() {
                return;
            }
            let decided = caught(Box::pin(self.decide(name, entry, insist))).await;
            let Ok(Ok(decision)) = decided else { continue };
            if let Some(place) = decision.place.clone().filter(Deployment::is_to_install) {
                groups.add(Grouped { name, entry, place, decision });
            }
        }
        for group in groups.of_several() {
            if self.stop.is_asked() {
                return;
            }
            for Grouped { name, decision, .. } in &group {
                self.context.report(&Progress::Certificate { name: (*name).clone(), decision: decision.clone() });
            }
            let placements: Vec<Placement<'_>> = group.iter().map(Grouped::placement).collect();
            self.context.report(&Progress::Doing("install the certificates"));
            let installing = install(self.context, self.store, &self.servers, &placements);
            match finished(self.context, &self.stop, installing).await {
                Ok(()) => {
                    let names: Vec<&String> = group.iter().map(|one| one.name).collect();
                    self.installed_together.extend(names.iter().map(|name| ((*name).clone(), Instant::now())));
                    let detail = format!("{} are in use", words::list(&names));
                    self.context.report(&Progress::Passed { milestone: Milestone::Installed, detail });
                }
                Err(error) => {
                    let text = format!(
                        "{} certificates could not be installed together; each is tried alone: {error}",
                        group.len()
                    );
                    self.context.report(&Progress::Note(text));
                }
            }
            self.forget().await;
        }
    }

    async fn decide(&mut self, name: &str, entry: &CertificateEntry, insist: bool) -> Result<Decision, StepError> {
        let (context, store, now) = (self.context, self.store, (self.context.now)());
        if store.newest(name)?.is_none()
            && let Some(found) = lost::find(store, name, &specification_of(context, entry))
        {
            let generation = found.take_in(store, name, now)?;
            let text =
                format!("{name}: generation {generation} was found in the state folder; the ledger did not know it");
            context.report(&Progress::Note(text));
        }
        let mut facts = match self.gathered.remove(name) {
            Some(facts) => {
                let hold = store.authority_hold(&entry.authority, &section_of(context, &entry.authority))?;
                Facts { authority_hold: hold, ..facts }
            }
            None => gather(context, store, name, entry, &self.servers).await?,
        };
        self.gathered.insert(name.to_owned(), facts.clone());
        let Some(reason) = self.out_of_reach.get(&entry.authority) else { return Ok(decide(&facts, now, insist)) };
        // What would ask the authority is held; all else is done.
        let until = now + SignedDuration::from_secs(1);
        facts.authority_hold = Some(AuthorityHold { until, reason: reason.clone() });
        let mut decision = decide(&facts, now, false);
        if matches!(decision.obtain, Obtaining::Hold { authority: Some(_), .. }) {
            decision.obtain = Obtaining::OutOfReach { reason: reason.clone() };
        }
        Ok(decision)
    }

    async fn failed(&mut self, name: &str, error: StepError) -> Ending {
        let open_before = self.store.open_journey(name).ok().flatten().map(|open| open.id);
        if let Err(trouble) = self.note_failure(name, &error).await {
            self.context.report(&Progress::Note(format!("the failure could not be written down: {trouble}")));
        }
        let open_now = self.store.open_journey(name).ok().flatten().map(|open| open.id);
        let given_up = open_before.is_some() && open_now.is_none();
        let owed = self.store.debts().map(|debts| debts.iter().filter(|row| row.certificate == name).count());
        Ending::Failed { error: Box::new(error), given_up, left_published: owed.unwrap_or(1) }
    }

    /// Whatever went wrong: nothing stays published but what an authority without ACME may look at any day, a lost journey is closed,
    /// and after a refusal the authority is left alone for a while.
    async fn note_failure(&mut self, name: &str, error: &StepError) -> Result<(), StoreError> {
        let (store, now) = (self.store, (self.context.now)());
        if !is_published_for_validation(store, name)? {
            pay_debts(self.around(), |whose| whose == name).await?;
        }
        if matches!(error, StepError::Interrupted) {
            // The authority may look any moment, and finds nothing any more.
            let validates = |open: &JourneyRow| matches!(open.stage.acme(), Some(Acme::AwaitingProof { .. }));
            if let Some(open) = store.open_journey(name)?.filter(validates).filter(|open| self.took_away(name, open)) {
                self.give_up(name, &open, GivenUp::Stopped)?;
            }
            return store.add_event(name, &Event::Stopped, now);
        }
        if error.ends_journey()
            && let Some(open) = store.open_journey(name)?
        {
            self.give_up(name, &open, GivenUp::OrderLost)?;
        }
        let reason = words::printable(&error.to_string(), 300);
        let authority_says = error.authority_says(now);
        let authority = self.context.inventory.certificates.get(name).map(|entry| entry.authority.as_str());
        let mut hold = None;
        match (error.concerns(), authority) {
            (Concerns::Authority { mistake }, Some(authority)) => {
                let section = if mistake { section_of(self.context, authority) } else { String::new() };
                store.hold_authority(authority, &section, &reason, authority_says, now)?;
            }
            (Concerns::Reach, Some(authority)) => {
                // For this run only: whether it is there again costs one question.
                self.out_of_reach.insert(authority.to_owned(), reason.clone());
                if let Some(says) = authority_says {
                    store.hold_authority(authority, "", &reason, Some(says), now)?;
                }
            }
            (Concerns::Certificate, _) => {
                let before = store.failures(name)?.map_or(0, |(failures, _)| failures.count);
                hold = Some(hold_after(before + 1, now, authority_says));
            }
            (Concerns::Nobody, _) | (_, None) => {}
        }
        store.record_failure(name, (error.into(), &reason), hold, now)
    }

    /// Whether what proves control in a journey is gone when this program takes it away: what a person placed stays.
    fn took_away(&self, name: &str, open: &JourneyRow) -> bool {
        let Some(entry) = self.context.inventory.certificates.get(name) else { return true };
        let by_machine =
            |name| self.context.inventory.proof_of(entry, name).is_none_or(|(_, proof)| !proof.awaits_person());
        open.stage.tasks().iter().any(|task| by_machine(&task.name))
    }

    fn give_up(&self, name: &str, open: &JourneyRow, why: GivenUp) -> Result<(), StoreError> {
        self.store.give_up_journey(name, open.id, why, (self.context.now)())?;
        // A person may still bring an answer to a CSR that was carried away.
        if open.stage.handed_over().is_some() {
            return Ok(());
        }
        self.store.discard_unfinished(name, open.generation)
    }

    /// Puts a stored generation where it is lacking.
    async fn deploy(&self, name: &str, entry: &CertificateEntry, deployment: &Deployment) -> Result<Ending, StepError> {
        let (context, store, generation) = (self.context, self.store, deployment.generation);
        let placement = Placement::of(name, entry, &entry.names, generation);
        let (stop, servers) = (&self.stop, &self.servers);
        let installed_since = self.installed_together.get(name).copied();
        let deploying = Deploying { context, store, stop, placement, servers, installed_since };
        let Deployed { looked_at, unconfirmed } = deploying.run(deployment).await?;
        let arrived = store.newest(name)?.filter(|g| g.number == generation);
        store.clear_failures(name)?;
        Ok(Ending::Arrived { generation, validity: arrived.map(|g| g.validity), looked_at, unconfirmed })
    }

    /// Obtains a generation, where that is decided, and puts it on all servers.
    async fn obtain_and_deploy(
        &mut self,
        name: &str,
        entry: &CertificateEntry,
        decision: &Obtaining,
    ) -> Result<Ending, StepError> {
        let generation = match self.obtain(name, entry, decision).await? {
            Obtained::Generation(generation) => generation,
            Obtained::Nothing(ending) => return Ok(ending),
        };
        // Much may have changed on a server while the authority was at work.
        self.forget().await;
        let placement = Placement::of(name, entry, &entry.names, generation);
        let deployment = deployment(self.context, self.store, &placement, &self.servers).await?;
        self.deploy(name, entry, &deployment).await
    }

    async fn obtain(
        &mut self,
        name: &str,
        entry: &CertificateEntry,
        decision: &Obtaining,
    ) -> Result<Obtained, StepError> {
        let (store, now) = (self.store, (self.context.now)());
        let specification = specification_of(self.context, entry);
        let mut open = store.open_journey(name)?;
        let goes_on = matches!(decision, Obtaining::GoOn { .. });
        let holds = matches!(decision, Obtaining::Hold { .. } | Obtaining::OutOfReach { .. });
        if let Some(stale) = open.take_if(|open| !(goes_on || holds && still_fits(self.context, entry, open))) {
            let fits = still_fits(self.context, entry, &stale);
            let why = if fits { GivenUp::Due } else { GivenUp::InventoryChanged };
            self.give_up(name, &stale, why)?;
        }
        // A journey that goes on may be looked at by the authority right now: its files stay.
        if !open.as_ref().is_some_and(|open| goes_on && open.stage.needs_publication()) {
            pay_debts(self.around(), |whose| whose == name).await?;
        }
        let journey = match decision {
            Obtaining::Rest { .. } => {
                return Ok(Obtained::Nothing(Ending::AtRest { validity: store.newest(name)?.map(|g| g.validity) }));
            }
            Obtaining::OutOfReach { reason } | Obtaining::Hold { authority: Some(reason), .. } => {
                return Ok(Obtained::Nothing(Ending::Held { reason: reason.clone() }));
            }
            Obtaining::Hold { .. } => {
                let reason = store.failures(name)?.map(|(_, reason)| reason).unwrap_or_default();
                return Ok(Obtained::Nothing(Ending::Held { reason }));
            }
            Obtaining::Start { generation, .. } => {
                store.start_journey(name, *generation, &specification, Stage::Opened, now)?
            }
            Obtaining::GoOn { .. } => open.expect("the decision was made for an open journey"),
        };
        let generation = journey.generation;
        Ok(match self.travel(name, entry, journey).await? {
            Reached::End => Obtained::Generation(generation),
            Reached::Awaits(awaited) => Obtained::Nothing(awaited.into()),
        })
    }

    /// Returns the actions for a generation.
    fn actions<'r>(
        &'r mut self,
        name: &'r str,
        entry: &'r CertificateEntry,
        specification: Specification,
        generation: u32,
    ) -> JourneyActions<'r> {
        JourneyActions {
            work: Work {
                context: self.context,
                store: self.store,
                machines: &self.machines,
                certificate: name,
                entry,
                specification,
                generation,
            },
            acme: AcmeOrders::new(&mut self.conversations),
            publication: Publication::default(),
            answer: self.answers.remove(name),
        }
    }

    /// Goes on with a journey to its end, or until it waits beyond this run.
    async fn travel(
        &mut self,
        name: &str,
        entry: &CertificateEntry,
        journey: JourneyRow,
    ) -> Result<Reached, StepError> {
        let (store, stop) = (self.store, self.stop.clone());
        let mut actions = self.actions(name, entry, journey.specification.clone(), journey.generation);
        let reached = steps(&mut actions, Driver::new(store, name, journey), &stop).await?;
        if matches!(reached, Reached::End) {
            store.clear_failures(name)?;
            store.end_authority_hold(&entry.authority)?;
        }
        Ok(reached)
    }
}

/// What came of obtaining a generation.
enum Obtained {
    /// This one is stored.
    Generation(u32),
    /// None, and the certificate's turn ends with that.
    Nothing(Ending),
}

/// How far a journey has come in a run.
enum Reached {
    /// Its end: the generation is stored.
    End,
    /// Something that it waits for beyond the run.
    Awaits(Awaited),
}

/// An authority that wants to be asked again only after this is not waited for.
const LONG_WAIT: SignedDuration = SignedDuration::from_mins(5);

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

/// Does step after step until the journey ends, or until somebody asks the program to stop. Returns how far it
/// came.
async fn steps(actions: &mut JourneyActions<'_>, mut driver: Driver<'_>, stop: &Stop) -> Result<Reached, StepError> {
    let (context, name) = (actions.work.context, actions.work.certificate);
    let timeout = context.inventory.authorities[&actions.work.entry.authority].timeout;
    let timeout = SignedDuration::try_from(timeout).unwrap_or(SignedDuration::MAX);
    let mut waiting_since: Option<Timestamp> = None;
    loop {
        let now = (context.now)();
        let step = tokio::select! {
            biased;
            () = stop.asked(1) => return Err(StepError::Interrupted),
            step = driver.step(actions, now) => step?,
        };
        match step {
            Step::Done => return Ok(Reached::End),
            Step::Awaits(awaited) => return Ok(Reached::Awaits(awaited)),
            Step::Wait(until, waits_for) => {
                let since = *waiting_since.get_or_insert(now);
                let waited = now.duration_since(since);
                // A person at the authority may take days, and an authority may want to be asked much later: the next runs ask
                // again. What proves control stays meanwhile, but for a listener, which ends with this run.
                let wait = until.duration_since(now);
                let much_later = wait >= LONG_WAIT && actions.publication.listeners.is_empty();
                if (waits_for == WaitsFor::Approval || much_later) && wait > timeout - waited {
                    return Ok(Reached::Awaits(Awaited::Approval(until)));
                }
                if waited >= timeout {
                    return Err(StepError::Stuck { waits_for, waited });
                }
                context.report(&Progress::Waiting { until, waits_for });
                let pause = until.duration_since(now).min(timeout - waited);
                tokio::select! {
                    () = tokio::time::sleep(Duration::try_from(pause).unwrap_or_default()) => {}
                    () = stop.asked(1) => return Err(StepError::Interrupted),
                }
            }
            Step::Did(passed) => {
                if !driver.journey().stage.needs_publication() {
                    actions.publication.listeners.clear();
                    pay_debts(actions.work.around(), |whose| whose == name).await?;
                }
                if let Some(milestone) = passed {
                    waiting_since = None;
                    let journey = driver.journey();
                    let detail = detail(actions, &journey.specification.key, milestone)?;
                    context.report(&Progress::Passed { milestone, detail });
                    if milestone == Milestone::Proved && actions.work.has_records_by_hand() {
                        context.report(&Progress::Note("the records placed by hand can be removed now".into()));
                    }
                }
            }
        }
    }
}

/// Returns what there is to say about a stage that was passed.
fn detail(actions: &JourneyActions<'_>, key: &str, milestone: Milestone) -> Result<String, StoreError> {
    Ok(match milestone {
        Milestone::Prepared => format!("key ({key}) stored, readable by its owner only"),
        Milestone::Ordered => {
            let names = words::count(actions.work.specification.names.len() as u64, "name");
            format!("{names} at authority `{}`", actions.work.specification.authority)
        }
        Milestone::Proved => format!("control of {} proved", words::list(&actions.work.specification.names)),
        Milestone::Issued => match actions.work.store.newest(actions.work.certificate)? {
            Some(g) => {
                let lifetime = words::duration(g.validity.lifetime());
                let until = words::by_when(g.validity.not_after, g.validity.lifetime());
                format!("by `{}`, valid for {lifetime}, until {until}", g.issuer)
            }
            None => String::new(),
        },
        // Those of the deployment.
        Milestone::Installed | Milestone::Confirmed => String::new(),
    })
}
