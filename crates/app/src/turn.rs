//! One certificate's turn in a run of `keep`: decides, and carries the decision out.

use crate::authority::Client;
use crate::desk::is_shown_at_desk;
use crate::driver::{Driver, Step};
use crate::hands::RealHands;
use crate::keep::{Ending, KeepEntry, gather, still_fits, wanted_of};
use crate::proof::pay_debts;
use crate::{App, Progress, StepError};
use eskort_core::decision::{Decision, decide, hold_after};
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::{Milestone, Stage, WaitsFor};
use eskort_core::pki::Built;
use eskort_core::words;
use eskort_store::{JourneyRow, Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::pin::Pin;
use std::time::Duration;

type Stop = Pin<Box<dyn Future<Output = ()>>>;

/// What the turns of one run share.
pub(crate) struct Run<'a> {
    app: &'a App,
    store: &'a Store,
    /// The conversations with authorities, each begun when it is first needed.
    clients: BTreeMap<String, Client>,
    /// Ends when somebody asks the program to stop.
    stop: Stop,
    /// Whether a person's work is waited for.
    wait: bool,
    /// Answers that a person has brought, by certificate.
    answers: BTreeMap<String, Built>,
}

impl<'a> Run<'a> {
    /// Begins a run.
    pub(crate) fn new(app: &'a App, store: &'a Store, wait: bool) -> Self {
        Run { app, store, clients: BTreeMap::new(), stop: Box::pin(signalled()), wait, answers: BTreeMap::new() }
    }

    /// Gives the run an answer that a person has brought.
    pub(crate) fn bring(&mut self, certificate: &str, answer: Built) {
        self.answers.insert(certificate.to_owned(), answer);
    }

    /// Looks after one certificate. `insist` is set when somebody asked for this very one.
    pub(crate) async fn turn(&mut self, name: &str, entry: &CertificateEntry, insist: bool) -> KeepEntry {
        let certificate = name.to_owned();
        let decision = match gather(self.app, self.store, name, entry) {
            Ok(facts) => decide(&facts, (self.app.now)(), insist),
            Err(error) => {
                let ending = self.failed(name, error).await;
                return KeepEntry { certificate, decision: None, ending, waits_since: None };
            }
        };
        (self.app.watch)(&Progress::Certificate { name: name.to_owned(), decision: decision.clone() });
        let ending = match self.carry_out(name, entry, &decision).await {
            Ok(ending) => ending,
            Err(error) => self.failed(name, error).await,
        };
        let mut entry = KeepEntry { certificate, decision: Some(decision), ending, waits_since: None };
        if entry.awaits_person() {
            entry.waits_since = self.store.open_journey(name).ok().flatten().map(|open| open.started);
        }
        entry
    }

    async fn failed(&self, name: &str, error: StepError) -> Ending {
        let error = match error {
            StepError::AwaitsPerson { to_place } => return Ending::AwaitsPerson(to_place),
            StepError::AwaitsAnswer(errand) => return Ending::AwaitsAnswer(errand),
            StepError::AwaitsApproval { until } => return Ending::AwaitsApproval { until },
            other => other,
        };
        let given_up = error.ends_journey();
        if let Err(trouble) = self.note_failure(name, &error).await {
            (self.app.watch)(&Progress::Note(format!("the failure could not be written down: {trouble}")));
        }
        Ending::Failed { error: Box::new(error), given_up }
    }

    /// Whatever went wrong: nothing stays published but what an authority without ACME may look at any day, a lost journey is closed, and after a refusal the authority is left
    /// alone for a while.
    async fn note_failure(&self, name: &str, error: &StepError) -> Result<(), StoreError> {
        let (store, now) = (self.store, (self.app.now)());
        if !is_shown_at_desk(store, name)? {
            pay_debts(self.app, store, |whose| whose == name).await?;
        }
        if matches!(error, StepError::Interrupted) {
            return store.add_event(name, &error.to_string(), now);
        }
        if error.ends_journey()
            && let Some(open) = store.open_journey(name)?
        {
            store.give_up_journey(name, open.id, "its order is lost", now)?;
        }
        let before = store.failures(name)?.map_or(0, |(failures, _)| failures.count);
        let authority_says = error.authority_says(now);
        let refused = error.is_refusal() || authority_says.is_some();
        let hold = refused.then(|| hold_after(before + 1, now, authority_says));
        let reason = words::printable(&error.to_string(), 300);
        store.record_failure(name, &reason, hold, now)
    }

    async fn carry_out(
        &mut self,
        name: &str,
        entry: &CertificateEntry,
        decision: &Decision,
    ) -> Result<Ending, StepError> {
        let (store, now) = (self.store, (self.app.now)());
        let wanted = wanted_of(entry);
        let mut open = store.open_journey(name)?;
        if let Some(stale) = open.take_if(|open| !still_fits(self.app, entry, open)) {
            store.give_up_journey(name, stale.id, "the inventory changed", now)?;
        }
        // A journey that goes on may be looked at by the authority right now: its files stay.
        let goes_on = matches!(decision, Decision::GoOn { .. });
        if !open.as_ref().is_some_and(|open| goes_on && open.stage.needs_publication()) {
            pay_debts(self.app, store, |whose| whose == name).await?;
        }
        let journey = match decision {
            Decision::Rest { .. } => {
                store.clear_failures(name)?;
                return Ok(Ending::AtRest { validity: store.newest(name)?.map(|g| g.validity) });
            }
            Decision::Hold { .. } => {
                let reason = store.failures(name)?.map(|(_, reason)| reason).unwrap_or_default();
                return Ok(Ending::Held { reason });
            }
            Decision::Obtain { generation, .. } => {
                store.start_journey(name, *generation, &wanted, Stage::Opened, now)?
            }
            Decision::PutInPlace { generation, .. } => {
                store.start_journey(name, *generation, &wanted, Stage::Issued, now)?
            }
            Decision::GoOn { .. } => open.expect("the decision was made for an open journey"),
        };
        let generation = journey.generation;
        let looked_at = self.travel(name, entry, journey).await?;
        let arrived = store.newest(name)?.filter(|g| g.number == generation);
        Ok(Ending::Arrived { generation, validity: arrived.map(|g| g.validity), looked_at })
    }

    /// Goes on with a journey to its end, and returns how many endpoints were looked at then.
    async fn travel(&mut self, name: &str, entry: &CertificateEntry, journey: JourneyRow) -> Result<usize, StepError> {
        let Run { app, store, clients, stop, wait, answers } = self;
        let (app, store, wait) = (*app, *store, *wait);
        let (wanted, generation) = (journey.wanted.clone(), journey.generation);
        let mut hands = RealHands {
            app,
            store,
            certificate: name,
            entry,
            wanted,
            generation,
            clients,
            wait,
            looked_at: 0,
            published: false,
            answer: answers.remove(name),
            listeners: Vec::new(),
            seen: BTreeMap::new(),
        };
        steps(&mut hands, Driver::new(store, name, journey), stop).await?;
        store.clear_failures(name)?;
        Ok(hands.looked_at)
    }
}

/// Does step after step until the journey ends, or until somebody asks the program to stop.
async fn steps(hands: &mut RealHands<'_>, mut driver: Driver<'_>, stop: &mut Stop) -> Result<(), StepError> {
    let (app, store, name) = (hands.app, hands.store, hands.certificate);
    let patience = app.inventory.authorities[&hands.entry.authority].patience;
    let patience = SignedDuration::try_from(patience).unwrap_or(SignedDuration::MAX);
    let mut waiting_since: Option<Timestamp> = None;
    loop {
        let now = (app.now)();
        let step = if driver.journey().stage == Stage::Issued {
            // An installation ends or is undone; it is not left in the middle.
            driver.step(hands, now).await?
        } else {
            tokio::select! {
                step = driver.step(hands, now) => step?,
                () = &mut *stop => return Err(StepError::Interrupted),
            }
        };
        match step {
            Step::Done => return Ok(()),
            Step::Wait(until, waits_for) => {
                let since = *waiting_since.get_or_insert(now);
                let waited = now.duration_since(since);
                // A person at the authority may take days: the next runs ask again.
                if waits_for == WaitsFor::Approval && until.duration_since(now) > patience - waited {
                    return Err(StepError::AwaitsApproval { until });
                }
                if waited >= patience {
                    return Err(StepError::Stuck { waits_for, waited });
                }
                (app.watch)(&Progress::Waiting { until, waits_for });
                let pause = until.duration_since(now).min(patience - waited);
                tokio::select! {
                    () = tokio::time::sleep(Duration::try_from(pause).unwrap_or_default()) => {}
                    () = &mut *stop => return Err(StepError::Interrupted),
                }
            }
            Step::Did(passed) => {
                if !driver.journey().stage.needs_publication() {
                    hands.listeners.clear();
                    pay_debts(app, store, |whose| whose == name).await?;
                }
                if let Some(milestone) = passed {
                    waiting_since = None;
                    let detail = detail(hands, driver.journey(), milestone)?;
                    (app.watch)(&Progress::Passed { milestone, detail });
                    if milestone == Milestone::Proved && hands.has_records_by_hand() {
                        (app.watch)(&Progress::Note("the records placed by hand can be removed now".into()));
                    }
                }
            }
        }
    }
}

/// Returns what there is to say about a stage that was passed.
fn detail(hands: &RealHands<'_>, journey: &JourneyRow, milestone: Milestone) -> Result<String, StoreError> {
    Ok(match milestone {
        Milestone::Prepared => format!("key ({}) stored, readable by its owner only", journey.wanted.key),
        Milestone::Ordered => {
            let names = words::count(journey.wanted.names.len() as u64, "name");
            format!("{names} at authority `{}`", journey.wanted.authority)
        }
        Milestone::Proved => format!("control of {} shown", words::list(&journey.wanted.names)),
        Milestone::Issued => match hands.store.newest(hands.certificate)? {
            Some(g) => {
                let lifetime = words::duration(g.validity.lifetime());
                format!("by `{}`, good for {lifetime} until {}", g.issuer, words::day(g.validity.not_after))
            }
            None => String::new(),
        },
        Milestone::Installed if hands.entry.install.is_empty() => "nowhere: the inventory names no server".to_owned(),
        Milestone::Installed => format!("generation {} is in use", journey.generation),
        Milestone::Confirmed if hands.looked_at == 0 => "stored; no endpoint to look at".to_owned(),
        Milestone::Confirmed => "seen live, as visitors see it".to_owned(),
    })
}

/// Ends when somebody asks the program to stop, by Ctrl-C or SIGTERM.
pub async fn signalled() {
    use tokio::signal::unix::{SignalKind, signal};
    match signal(SignalKind::terminate()) {
        Ok(mut terminate) => tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
        },
        Err(_) => drop(tokio::signal::ctrl_c().await),
    }
}
