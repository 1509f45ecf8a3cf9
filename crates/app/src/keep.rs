//! Brings everything in the inventory to where it should be.

use crate::desk::is_shown_at_desk;
use crate::lost;
use crate::place::stays;
use crate::proof::{Proving, pay_debts};
use crate::stop::Stop;
use crate::turn::{Run, section_of};
use crate::{Errand, StepError};
use eskort_core::context::Context;
use eskort_core::decision::{Decision, Facts, Held, OpenJourney, Wanted, decide};
use eskort_core::finding::Finding;
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::{ProofTask, Stage};
use eskort_core::progress::{FileChange, Progress};
use eskort_core::record::RecordToPlace;
use eskort_core::renewal::Validity;
use eskort_install::{self as install, Facts as ServerFacts, Placement};
use eskort_store::{JourneyRow, RunLock, Store, StoreError};
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::time::Duration;

/// What `keep` is asked for.
#[derive(Clone, Debug, Default)]
pub struct KeepOptions {
    /// Only say what would be done.
    pub plan: bool,
    /// Wait for what people have to do, instead of ending.
    pub wait: bool,
    /// Only these certificates; a hold after failures does not apply to them.
    pub only: Vec<String>,
}

/// What would be done on one server.
#[derive(Clone, Debug)]
pub struct PlannedServer {
    /// The server.
    pub server: String,
    /// The files that would change, and how.
    pub changes: Vec<(PathBuf, FileChange)>,
    /// The command that would test its configuration.
    pub test: Option<Vec<String>>,
    /// The command that would make it take the change.
    pub run: Option<Vec<String>>,
    /// What there is to say about it.
    pub findings: Vec<Finding>,
}

/// How a certificate's turn ended.
#[derive(Debug)]
pub enum Ending {
    /// Only planned.
    Planned(Vec<PlannedServer>),
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
        /// How many endpoints it was looked at.
        looked_at: usize,
        /// Why it could not be looked at from here, though it is installed.
        unconfirmed: Option<String>,
    },
    /// It waits for a person to carry a CSR to its authority, and to bring the answer.
    AwaitsAnswer(Box<Errand>),
    /// It waits for somebody at the authority to approve.
    AwaitsApproval {
        /// When the authority wants to be asked again.
        until: Timestamp,
    },
    /// It waits for a person to place records.
    AwaitsPerson(Vec<RecordToPlace>),
    /// It failed.
    Failed {
        /// Why.
        error: Box<StepError>,
        /// Whether the next run begins anew; otherwise it goes on from where it stands.
        given_up: bool,
        /// How much is still published that could not be taken away.
        left_published: usize,
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
    /// What came of putting the newest generation in place, where something else was to be done too.
    pub placed: Option<Placed>,
    /// Since when a journey waits for a person.
    pub waits_since: Option<Timestamp>,
}

/// What came of putting a generation in place.
#[derive(Debug)]
pub struct Placed {
    /// The generation.
    pub generation: u32,
    /// Why it failed.
    pub error: Option<Box<StepError>>,
}

impl KeepEntry {
    pub(crate) fn new(name: &str, decision: Option<Decision>, ending: Ending) -> Self {
        KeepEntry { certificate: name.to_owned(), decision, ending, placed: None, waits_since: None }
    }

    /// Returns whether it waits for a person.
    pub fn awaits_person(&self) -> bool {
        matches!(self.ending, Ending::AwaitsAnswer(_) | Ending::AwaitsPerson(_))
    }
}

/// Brings the inventory's certificates to where they should be, one after the other. The failure of one does not stop the
/// others.
///
/// # Errors
/// When another run holds the lock, or the state folder cannot be used.
pub async fn keep(context: &Context, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    if options.plan {
        return plan_only(context, options);
    }
    let lock = RunLock::take(&context.state, "eskort keep", (context.now)())?;
    let store = Store::open(&context.state)?;
    install::recover(context, &store).await?;
    let chosen = chosen(context, options);
    // What an earlier run left published goes, but for journeys that go on, now or in another run: the authority may be looking.
    // What an authority without ACME may look at any day stays too.
    let mut left_alone: BTreeSet<String> = chosen.iter().map(|(name, _)| (*name).clone()).collect();
    for row in store.debts()? {
        let entry = context.inventory.certificates.get(&row.certificate);
        let open = store.open_journey(&row.certificate)?;
        let shown =
            |(entry, open): (_, JourneyRow)| still_fits(context, entry, &open) && open.stage.needs_publication();
        if stays(&row.certificate) || entry.zip(open).is_some_and(shown) || is_shown_at_desk(&store, &row.certificate)?
        {
            left_alone.insert(row.certificate);
        }
    }
    pay_debts(context, &store, |whose| !left_alone.contains(whose)).await?;
    let mut run = Run::new(context, &store);
    let mut entries = Vec::new();
    for (name, entry) in chosen {
        let ended = run.turn(name, entry, !options.only.is_empty()).await;
        entries.push(ended);
        if run.stop().is_asked() {
            break;
        }
    }
    // Waiting holds no lock: other runs go on meanwhile, the timer's too.
    let stop = run.stop().clone();
    drop((run, lock));
    if options.wait {
        wait_for_people(context, &store, &stop, !options.only.is_empty(), &mut entries).await?;
    }
    // What a person has to do comes first.
    entries.sort_by_key(|entry| !entry.awaits_person());
    Ok(entries)
}

/// Waits until what people have to place can be seen, and goes on with those journeys then, under the lock again. A journey that
/// another run has brought to its end meanwhile is found there.
async fn wait_for_people(
    context: &Context,
    store: &Store,
    stop: &Stop,
    insist: bool,
    entries: &mut [KeepEntry],
) -> Result<(), StoreError> {
    let to_place = |entry: &KeepEntry| match &entry.ending {
        Ending::AwaitsPerson(records) => records.clone(),
        _ => Vec::new(),
    };
    let all: Vec<RecordToPlace> = entries.iter().flat_map(to_place).collect();
    if !all.is_empty() {
        (context.watch)(&Progress::AwaitsPerson(all));
    }
    let mut pause = Duration::from_secs(1);
    while entries.iter().any(|entry| matches!(entry.ending, Ending::AwaitsPerson(_))) {
        (context.watch)(&Progress::Doing("wait for the records"));
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = stop.asked(1) => return Ok(()),
        }
        pause = (pause * 2).min(Duration::from_secs(20));
        for entry in entries.iter_mut().filter(|entry| matches!(entry.ending, Ending::AwaitsPerson(_))) {
            let name = entry.certificate.clone();
            let Some(wanted) = context.inventory.certificates.get(&name) else { continue };
            if !is_placed(context, store, &name, wanted).await? {
                continue;
            }
            // Another run may be at work just now; the next look comes soon.
            let _lock = match RunLock::take(&context.state, "eskort keep --wait", (context.now)()) {
                Err(StoreError::Busy { .. }) => continue,
                lock => lock?,
            };
            *entry = Run::new(context, store).turn(&name, wanted, insist).await;
        }
    }
    Ok(())
}

/// Whether everything that a person has to place for a journey can be seen; also when the journey does not wait any more.
async fn is_placed(context: &Context, store: &Store, name: &str, entry: &CertificateEntry) -> Result<bool, StoreError> {
    let Some(open) = store.open_journey(name)? else { return Ok(true) };
    let Stage::Published { tasks, .. } = &open.stage else { return Ok(true) };
    let by_person =
        |task: &&ProofTask| context.inventory.proof_of(entry, &task.name).is_some_and(|(_, p)| p.awaits_person());
    let tasks: Vec<ProofTask> = tasks.iter().filter(by_person).cloned().collect();
    Ok(Proving { context, store, certificate: name, entry }.look_first(&tasks).await.is_ok())
}

fn chosen<'a>(context: &'a Context, options: &KeepOptions) -> Vec<(&'a String, &'a CertificateEntry)> {
    let wanted = |name: &&String| options.only.is_empty() || options.only.contains(name);
    context.inventory.certificates.iter().filter(|(name, _)| wanted(name)).collect()
}

fn plan_only(context: &Context, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    let store = match Store::open_existing(&context.state)? {
        Some(store) => store,
        None => Store::in_memory(&context.state)?,
    };
    let now = (context.now)();
    let insist = !options.only.is_empty();
    let configs = ServerFacts::default();
    let mut entries = Vec::new();
    for (name, entry) in chosen(context, options) {
        entries.push(match gather(context, &store, name, entry, &configs).map(|facts| decide(&facts, now, insist)) {
            Err(error) => failed(name, None, error),
            Ok(decision) => match planned_changes(context, &store, name, entry, &decision, &configs) {
                Ok(changes) => {
                    let ending = Ending::Planned(changes);
                    KeepEntry::new(name, Some(decision), ending)
                }
                Err(error) => failed(name, Some(decision), error),
            },
        });
    }
    Ok(entries)
}

fn failed(name: &str, decision: Option<Decision>, error: StepError) -> KeepEntry {
    let ending = Ending::Failed { error: Box::new(error), given_up: false, left_published: 0 };
    KeepEntry::new(name, decision, ending)
}

/// Returns what a run would change on the servers.
fn planned_changes(
    context: &Context,
    store: &Store,
    name: &str,
    entry: &CertificateEntry,
    decision: &Decision,
    configs: &ServerFacts,
) -> Result<Vec<PlannedServer>, StepError> {
    let Some(generation) = decision.generation() else { return Ok(Vec::new()) };
    let placement = Placement { preview: true, ..Placement::of(name, entry, &entry.names, generation) };
    let plans = install::plan(context, store, &placement, configs)?;
    let planned = |plan: install::ServerPlan| PlannedServer {
        server: plan.server,
        changes: plan.changes.into_iter().map(|c| (c.path, c.how)).collect(),
        test: plan.test,
        run: plan.reload,
        findings: plan.findings,
    };
    Ok(plans.into_iter().map(planned).collect())
}

pub(crate) fn wanted_of(context: &Context, entry: &CertificateEntry) -> Wanted {
    Wanted::new(entry, &context.inventory.authorities[&entry.authority])
}

fn bare_facts(context: &Context, entry: &CertificateEntry) -> Facts {
    Facts {
        wanted: wanted_of(context, entry),
        newest: None,
        open: None,
        failures: None,
        authority_hold: None,
        not_in_place: Vec::new(),
        next_generation: 1,
        lead: context.inventory.authorities[&entry.authority].lead(),
    }
}

/// Whether an open journey can go on: it is for what the inventory wants, goes to an authority of the same kind, and proves each
/// name as the inventory says.
pub(crate) fn still_fits(context: &Context, entry: &CertificateEntry, open: &JourneyRow) -> bool {
    let fits = |task: &ProofTask| {
        context.inventory.proof_of(entry, &task.name).is_some_and(|(name, proof)| {
            task.proof.as_deref().is_none_or(|chosen| chosen == name) && proof.ways().contains(&task.way)
        })
    };
    let kind = context.inventory.authorities[&entry.authority].kind_word();
    open.wanted.differs(&wanted_of(context, entry)).is_none()
        && open.stage.authority_kind().is_none_or(|of| of == kind)
        && open.stage.tasks().iter().all(fits)
}

/// Gathers what is known about a certificate. Reads only.
pub(crate) fn gather(
    context: &Context,
    store: &Store,
    name: &str,
    entry: &CertificateEntry,
    configs: &ServerFacts,
) -> Result<Facts, StepError> {
    let bare = bare_facts(context, entry);
    let newest = match store.newest(name)? {
        Some(newest) => Some(newest.held()),
        None => lost::find(store, name, &bare.wanted).map(|found| found.held()),
    };
    let not_in_place = match newest.as_ref().filter(|held| held.made_for.differs(&bare.wanted).is_none()) {
        Some(Held { generation, .. }) => {
            let placement = Placement::of(name, entry, &entry.names, *generation);
            match install::plan(context, store, &placement, configs) {
                Ok(plans) => install::lacking(&plans, store, &placement),
                // A server that cannot be read must not keep a certificate from being renewed: installing it says why.
                Err(error) => vec![error.to_string()],
            }
        }
        None => Vec::new(),
    };
    let open = store.open_journey(name)?;
    let unfinished = |open: &&JourneyRow| {
        let handed_over = matches!(open.stage, Stage::HandedOver { .. });
        !handed_over && newest.as_ref().is_none_or(|held| held.generation < open.generation)
    };
    let discarded = open.as_ref().filter(unfinished).filter(|open| !still_fits(context, entry, open));
    let next_generation = store.next_generation(name, discarded.map(|open| open.generation))?;
    let summary = |open: JourneyRow| OpenJourney {
        generation: open.generation,
        fits: still_fits(context, entry, &open),
        passed: open.stage.milestone(),
    };
    Ok(Facts {
        newest,
        open: open.map(summary),
        failures: store.failures(name)?.map(|(failures, _)| failures),
        authority_hold: store.authority_hold(&entry.authority, &section_of(context, &entry.authority))?,
        not_in_place,
        next_generation,
        ..bare
    })
}
