//! Brings everything in the inventory to where it should be.

use crate::desk::is_shown_at_desk;
use crate::hands::placement;
use crate::install::{self, Placement};
use crate::place::stays;
use crate::proof::pay_debts;
use crate::turn::Run;
use crate::{App, Errand, FileChange, RecordToPlace, StepError};
use eskort_core::decision::{Decision, Facts, OpenJourney, Wanted, decide};
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::ProofTask;
use eskort_core::renewal::Validity;
use eskort_store::{JourneyRow, RunLock, Store, StoreError};
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::path::PathBuf;

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
        /// How many endpoints it was looked at.
        looked_at: usize,
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
    /// Since when a journey waits for a person.
    pub waits_since: Option<Timestamp>,
}

impl KeepEntry {
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
pub async fn keep(app: &App, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    if options.plan {
        return plan_only(app, options);
    }
    let _lock = RunLock::take(&app.state, "eskort keep", (app.now)())?;
    let store = Store::open(&app.state)?;
    let chosen = chosen(app, options);
    // What an earlier run left published goes, but for journeys that are about to go on: the authority may be looking.
    // What an authority without ACME may look at any day stays too.
    let mut left_alone: BTreeSet<String> = chosen.iter().map(|(name, _)| (*name).clone()).collect();
    for row in store.debts()? {
        if stays(&row.certificate) || is_shown_at_desk(&store, &row.certificate)? {
            left_alone.insert(row.certificate);
        }
    }
    pay_debts(app, &store, |whose| !left_alone.contains(whose)).await?;
    let mut run = Run::new(app, &store, options.wait);
    let mut entries = Vec::new();
    for (name, entry) in chosen {
        let ended = run.turn(name, entry, !options.only.is_empty()).await;
        let interrupted =
            matches!(&ended.ending, Ending::Failed { error, .. } if matches!(**error, StepError::Interrupted));
        entries.push(ended);
        if interrupted {
            break;
        }
    }
    // What a person has to do comes first.
    entries.sort_by_key(|entry| !entry.awaits_person());
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
            None => Ok((decide(&bare_facts(app, entry), now, insist), None)),
        };
        entries.push(match planned {
            Err(error) => failed(name, None, error),
            Ok((decision, store)) => match planned_changes(app, store, name, entry, &decision) {
                Ok(changes) => {
                    let ending = Ending::Planned(changes);
                    KeepEntry { certificate: name.clone(), decision: Some(decision), ending, waits_since: None }
                }
                Err(error) => failed(name, Some(decision), error),
            },
        });
    }
    Ok(entries)
}

fn failed(name: &str, decision: Option<Decision>, error: StepError) -> KeepEntry {
    let ending = Ending::Failed { error: Box::new(error), given_up: false };
    KeepEntry { certificate: name.to_owned(), decision, ending, waits_since: None }
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

pub(crate) fn wanted_of(entry: &CertificateEntry) -> Wanted {
    Wanted::new(entry.names.clone(), &entry.authority, entry.key)
}

fn bare_facts(app: &App, entry: &CertificateEntry) -> Facts {
    let lead = app.inventory.authorities[&entry.authority].lead();
    Facts { wanted: wanted_of(entry), newest: None, open: None, failures: None, not_in_place: Vec::new(), lead }
}

/// Whether an open journey can go on: it is for what the inventory wants, and proves each name as the inventory says.
pub(crate) fn still_fits(app: &App, entry: &CertificateEntry, open: &JourneyRow) -> bool {
    let fits = |task: &ProofTask| {
        app.inventory.proof_of(entry, &task.name).is_some_and(|(name, proof)| {
            task.proof.as_deref().is_none_or(|chosen| chosen == name) && proof.ways().contains(&task.way)
        })
    };
    open.wanted == wanted_of(entry) && open.stage.tasks().iter().all(fits)
}

/// Gathers what is known about a certificate. Reads only.
pub(crate) fn gather(app: &App, store: &Store, name: &str, entry: &CertificateEntry) -> Result<Facts, StepError> {
    let newest = store.newest(name)?;
    let not_in_place = match &newest {
        Some(newest) if newest.wanted == wanted_of(entry) => {
            let placement = placement(app, name, entry, &entry.names, newest.number);
            match install::plan(app, store, &placement) {
                Ok(plans) => install::lacking(&plans, store, &placement),
                // A server that cannot be read must not keep a certificate from being renewed: installing it says why.
                Err(error) => vec![error.to_string()],
            }
        }
        _ => Vec::new(),
    };
    let open = store.open_journey(name)?;
    let summary = |open: JourneyRow| OpenJourney {
        generation: open.generation,
        fits: still_fits(app, entry, &open),
        passed: open.stage.milestone(),
    };
    Ok(Facts {
        newest: newest.map(|g| g.held()),
        open: open.map(summary),
        failures: store.failures(name)?.map(|(failures, _)| failures),
        not_in_place,
        ..bare_facts(app, entry)
    })
}
