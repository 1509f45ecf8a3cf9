//! Brings everything in the inventory to where it should be.

use crate::authority::Client;
use crate::driver::{Driver, Step};
use crate::hands::{RealHands, placement};
use crate::install::{self, Placement};
use crate::proof::pay_debts;
use crate::{App, FileChange, Progress, StepError};
use eskort_core::decision::{Decision, Facts, Wanted, decide, hold_after};
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::{Milestone, Stage};
use eskort_core::renewal::Validity;
use eskort_core::words;
use eskort_store::{JourneyRow, RunLock, Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

/// What `keep` is asked for.
#[derive(Clone, Debug, Default)]
pub struct KeepOptions {
    /// Only say what would be done.
    pub plan: bool,
    /// Only these certificates; a hold after failures does not apply to them.
    pub only: Vec<String>,
}

/// A file that would change, or a command that would run.
#[derive(Clone, Debug)]
pub struct PlannedChange {
    /// The server.
    pub server: String,
    /// The file.
    pub path: PathBuf,
    /// How it changes.
    pub how: FileChange,
}

/// How a certificate's turn ended.
#[derive(Debug)]
pub enum Ending {
    /// Only planned.
    Planned(Vec<PlannedChange>),
    /// There was nothing to do.
    AtRest {
        /// The dates of the generation in use.
        validity: Option<Validity>,
    },
    /// Left alone after failures.
    Held {
        /// The last failure.
        reason: String,
    },
    /// The journey came to its end.
    Arrived {
        /// The generation.
        generation: u32,
        /// Its dates.
        validity: Option<Validity>,
    },
    /// It failed.
    Failed {
        /// Why.
        error: Box<StepError>,
        /// Whether the next run begins anew; otherwise it goes on from where it stands.
        given_up: bool,
    },
}

/// What was done about one certificate.
#[derive(Debug)]
pub struct KeepEntry {
    /// Its name in the inventory.
    pub certificate: String,
    /// What was decided; `None` when not even that was possible.
    pub decision: Option<Decision>,
    /// What came of it.
    pub ending: Ending,
}

/// Brings the inventory's certificates to where they should be, one after the other. The failure of one does not stop the
/// others.
///
/// # Errors
/// When another run holds the lock, or the state folder cannot be used.
pub async fn keep(app: &App, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    if options.plan {
        return plan_only(app, options);
    }
    let _lock = RunLock::take(&app.state, "eskort keep", (app.now)())?;
    let store = Store::open(&app.state)?;
    let chosen = chosen(app, options);
    // What an earlier run left published goes, but for journeys that are about to go on: the authority may be looking.
    pay_debts(app, &store, |whose| chosen.iter().all(|(name, _)| *name != whose))?;
    let mut clients = BTreeMap::new();
    let mut entries = Vec::new();
    for (name, entry) in chosen {
        let ended = one(app, &store, &mut clients, name, entry, !options.only.is_empty()).await;
        let interrupted =
            matches!(&ended.ending, Ending::Failed { error, .. } if matches!(**error, StepError::Interrupted));
        entries.push(ended);
        if interrupted {
            break;
        }
    }
    Ok(entries)
}

fn chosen<'a>(app: &'a App, options: &KeepOptions) -> Vec<(&'a String, &'a CertificateEntry)> {
    let wanted = |name: &&String| options.only.is_empty() || options.only.contains(name);
    app.inventory.certificates.iter().filter(|(name, _)| wanted(name)).collect()
}

fn plan_only(app: &App, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    let store = Store::open_existing(&app.state)?;
    let now = (app.now)();
    let insist = !options.only.is_empty();
    let mut entries = Vec::new();
    for (name, entry) in chosen(app, options) {
        let planned = match &store {
            Some(store) => gather(app, store, name, entry).map(|facts| (decide(&facts, now, insist), Some(store))),
            None => Ok((decide(&bare_facts(entry), now, insist), None)),
        };
        entries.push(match planned {
            Err(error) => failed(name, None, error),
            Ok((decision, store)) => match planned_changes(app, store, name, entry, &decision) {
                Ok(changes) => {
                    KeepEntry { certificate: name.clone(), decision: Some(decision), ending: Ending::Planned(changes) }
                }
                Err(error) => failed(name, Some(decision), error),
            },
        });
    }
    Ok(entries)
}

fn failed(name: &str, decision: Option<Decision>, error: StepError) -> KeepEntry {
    let ending = Ending::Failed { error: Box::new(error), given_up: false };
    KeepEntry { certificate: name.to_owned(), decision, ending }
}

/// Returns what a run would change on the servers.
fn planned_changes(
    app: &App,
    store: Option<&Store>,
    name: &str,
    entry: &CertificateEntry,
    decision: &Decision,
) -> Result<Vec<PlannedChange>, StepError> {
    let generation = match decision {
        Decision::Rest { .. } | Decision::Hold { .. } => return Ok(Vec::new()),
        Decision::Obtain { generation, .. }
        | Decision::GoOn { generation, .. }
        | Decision::PutInPlace { generation, .. } => *generation,
    };
    let scratch;
    let store = match store {
        Some(store) => store,
        None => {
            scratch = Store::in_memory(&app.state)?;
            &scratch
        }
    };
    let placement = Placement { preview: true, ..placement(app, name, entry, &entry.names, generation) };
    let plans = install::plan(app, store, &placement)?;
    let change =
        |server: &str, c: install::Change| PlannedChange { server: server.to_owned(), path: c.path, how: c.how };
    Ok(plans.into_iter().flat_map(|p| p.changes.into_iter().map(move |c| change(&p.server, c))).collect())
}

fn wanted_of(entry: &CertificateEntry) -> Wanted {
    Wanted::new(entry.names.clone(), &entry.authority, entry.key)
}

fn bare_facts(entry: &CertificateEntry) -> Facts {
    Facts { wanted: wanted_of(entry), newest: None, open: None, failures: None, not_in_place: Vec::new() }
}

/// Gathers what is known about a certificate. Reads only.
fn gather(app: &App, store: &Store, name: &str, entry: &CertificateEntry) -> Result<Facts, StepError> {
    let newest = store.newest(name)?;
    let not_in_place = match &newest {
        Some(newest) if newest.wanted == wanted_of(entry) => {
            let placement = placement(app, name, entry, &entry.names, newest.number);
            install::lacking(&install::plan(app, store, &placement)?, store, &placement)
        }
        _ => Vec::new(),
    };
    Ok(Facts {
        newest: newest.map(|g| g.held()),
        open: store.open_journey(name)?.map(|j| j.summary()),
        failures: store.failures(name)?.map(|(failures, _)| failures),
        not_in_place,
        ..bare_facts(entry)
    })
}

/// One certificate's turn.
async fn one(
    app: &App,
    store: &Store,
    clients: &mut BTreeMap<String, Client>,
    name: &str,
    entry: &CertificateEntry,
    insist: bool,
) -> KeepEntry {
    let decision = match gather(app, store, name, entry) {
        Ok(facts) => decide(&facts, (app.now)(), insist),
        Err(error) => {
            (app.watch)(&Progress::Doing("read the servers' configuration"));
            return failed(name, None, error);
        }
    };
    (app.watch)(&Progress::Certificate { name: name.to_owned(), decision: decision.clone() });
    let ending = match carry_out(app, store, clients, name, entry, &decision).await {
        Ok(ending) => ending,
        Err(error) => {
            let given_up = error.ends_journey();
            if let Err(trouble) = note_failure(app, store, name, &error) {
                (app.watch)(&Progress::Note(format!("the failure could not be written down: {trouble}")));
            }
            Ending::Failed { error: Box::new(error), given_up }
        }
    };
    KeepEntry { certificate: name.to_owned(), decision: Some(decision), ending }
}

/// Whatever went wrong: nothing stays published, a lost journey is closed, the authority is left alone for a while.
fn note_failure(app: &App, store: &Store, name: &str, error: &StepError) -> Result<(), StoreError> {
    let now = (app.now)();
    pay_debts(app, store, |whose| whose == name)?;
    if error.ends_journey()
        && let Some(open) = store.open_journey(name)?
    {
        store.give_up_journey(name, open.id, "its order is lost", now)?;
    }
    let before = store.failures(name)?.map_or(0, |(failures, _)| failures.count);
    let authority_says = error.authority_says(now);
    let hold = (error.is_refusal() || authority_says.is_some()).then(|| hold_after(before + 1, now, authority_says));
    let reason = words::printable(&error.to_string(), 300);
    store.record_failure(name, &reason, hold, now)
}

async fn carry_out(
    app: &App,
    store: &Store,
    clients: &mut BTreeMap<String, Client>,
    name: &str,
    entry: &CertificateEntry,
    decision: &Decision,
) -> Result<Ending, StepError> {
    let now = (app.now)();
    let wanted = wanted_of(entry);
    if let Some(stale) = store.open_journey(name)?.filter(|open| open.wanted != wanted) {
        store.give_up_journey(name, stale.id, "the inventory changed", now)?;
    }
    let still_needed = match (store.open_journey(name)?, decision) {
        (Some(open), Decision::GoOn { .. }) => open.stage.needs_publication(),
        _ => false,
    };
    if !still_needed {
        pay_debts(app, store, |whose| whose == name)?;
    }
    let journey = match decision {
        Decision::Rest { .. } => return Ok(Ending::AtRest { validity: store.newest(name)?.map(|g| g.validity) }),
        Decision::Hold { .. } => {
            let reason = store.failures(name)?.map(|(_, reason)| reason).unwrap_or_default();
            return Ok(Ending::Held { reason });
        }
        Decision::Obtain { generation, .. } => store.start_journey(name, *generation, &wanted, Stage::Opened, now)?,
        Decision::PutInPlace { generation, .. } => {
            store.start_journey(name, *generation, &wanted, Stage::Issued, now)?
        }
        Decision::GoOn { .. } => store.open_journey(name)?.expect("the decision was made for an open journey"),
    };
    let generation = journey.generation;
    travel(app, store, clients, name, entry, journey).await?;
    let newest = store.newest(name)?;
    Ok(Ending::Arrived { generation, validity: newest.filter(|g| g.number == generation).map(|g| g.validity) })
}

/// Goes on with a journey to its end.
async fn travel(
    app: &App,
    store: &Store,
    clients: &mut BTreeMap<String, Client>,
    name: &str,
    entry: &CertificateEntry,
    journey: JourneyRow,
) -> Result<(), StepError> {
    let authority = &app.inventory.authorities[&entry.authority];
    if !clients.contains_key(&entry.authority) {
        let client = Client::open(&entry.authority, authority, store, app.watch.clone(), app.now.clone())?;
        clients.insert(entry.authority.clone(), client);
    }
    let client = clients.get_mut(&entry.authority).expect("it was just put in");
    let (wanted, generation) = (journey.wanted.clone(), journey.generation);
    let mut hands = RealHands {
        app,
        store,
        certificate: name,
        entry,
        wanted,
        generation,
        client,
        published: false,
        listener: None,
    };
    let mut driver = Driver::new(store, name, journey);
    let patience = SignedDuration::try_from(authority.patience).unwrap_or(SignedDuration::MAX);
    tokio::select! {
        ended = steps(app, store, name, &mut driver, &mut hands, patience) => ended?,
        () = signalled() => return Err(StepError::Interrupted),
    }
    let now = (app.now)();
    store.end_journey(driver.journey().id, now)?;
    store.clear_failures(name)?;
    Ok(())
}

async fn steps(
    app: &App,
    store: &Store,
    name: &str,
    driver: &mut Driver<'_>,
    hands: &mut RealHands<'_>,
    patience: SignedDuration,
) -> Result<(), StepError> {
    let mut waiting_since: Option<Timestamp> = None;
    loop {
        let now = (app.now)();
        match driver.step(hands, now).await? {
            Step::Done => return Ok(()),
            Step::Wait(until, waits_for) => {
                let since = *waiting_since.get_or_insert(now);
                let waited = now.duration_since(since);
                if waited >= patience {
                    return Err(StepError::Stuck { waits_for, waited });
                }
                (app.watch)(&Progress::Waiting { until, waits_for });
                let pause = until.duration_since(now).min(patience - waited);
                tokio::time::sleep(Duration::try_from(pause).unwrap_or_default()).await;
            }
            Step::Did(passed) => {
                if !driver.journey().stage.needs_publication() {
                    hands.listener = None;
                    pay_debts(app, store, |whose| whose == name)?;
                }
                if let Some(milestone) = passed {
                    waiting_since = None;
                    let detail = detail(store, name, driver.journey(), milestone)?;
                    (app.watch)(&Progress::Passed { milestone, detail });
                }
            }
        }
    }
}

/// Returns what there is to say about a stage that was passed.
fn detail(store: &Store, name: &str, journey: &JourneyRow, milestone: Milestone) -> Result<String, StoreError> {
    Ok(match milestone {
        Milestone::Prepared => format!("key ({}) stored, readable by its owner only", journey.wanted.key),
        Milestone::Ordered => {
            let names = words::count(journey.wanted.names.len() as u64, "name");
            format!("{names} at authority `{}`", journey.wanted.authority)
        }
        Milestone::Proved => format!("control of {} shown", words::list(&journey.wanted.names)),
        Milestone::Issued => match store.newest(name)? {
            Some(g) => {
                let lifetime = words::duration(g.validity.lifetime());
                format!("by `{}`, good for {lifetime} until {}", g.issuer, words::day(g.validity.not_after))
            }
            None => String::new(),
        },
        Milestone::Installed => format!("generation {} is in use", journey.generation),
        Milestone::Confirmed => "seen live, as visitors see it".to_owned(),
    })
}

/// Ends when somebody asks the program to stop.
async fn signalled() {
    use tokio::signal::unix::{SignalKind, signal};
    match signal(SignalKind::terminate()) {
        Ok(mut terminate) => tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
        },
        Err(_) => drop(tokio::signal::ctrl_c().await),
    }
}
