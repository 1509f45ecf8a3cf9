//! Brings everything in the inventory to where it should be.

mod actions;
mod common;
mod deploy;
mod domain;
pub(crate) mod entry;
mod gate;
pub(crate) mod gather;
mod group;
pub(crate) mod install;
mod lost;
mod plan;
mod ramp;
mod renewal_info;
mod rest;
mod revocation;
pub(crate) mod run;
pub(crate) mod steps;
mod sweep;
mod tlsa;
mod travel;
mod turn;

use crate::by_hand::validation::is_published_for_validation;
use crate::give::news::tell_news;
use crate::give::place::stays;
use crate::stop::Stop;
pub(crate) use domain::{Caa, look_at_caa, resolver};
use entry::{Ending, Insistence, KeepEntry, KeepOptions};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::ProofTask;
use eskort_core::progress::Progress;
use eskort_core::record::RecordToPlace;
use eskort_host::Machines;
use eskort_install::recover;
use eskort_prove::{ProofContext, Proving, SharedProofs, pay_debts};
use eskort_store::{JourneyRow, RunLock, RunRow, Store, StoreError};
pub(crate) use gather::rooms_for;
use gather::{chosen, still_fits, with_authorities_of_the_day};
pub(crate) use plan::planned_servers;
pub use plan::{Advised, Plan, PlannedBudget, plan, planned_installation, planned_mending};
use run::Run;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

/// Brings the inventory's certificates to where they should be, several at once. The failure of one does not stop the others.
///
/// # Errors
/// When another run holds the lock, or the state folder cannot be used.
#[boxed]
pub async fn keep(context: &Context, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    let lock = RunLock::take(&context.state, "eskort keep", context.now())?;
    let store = Arc::new(Store::open(&context.state)?);
    let (began, machines) = (context.now(), Machines::default());
    store.mend_clock(began).await?;
    recover(context, &store, &machines).await?;
    // What could not be removed is no reason to leave all else alone.
    if let Err(error) = sweep::sweep(context, &store).await {
        context.report(&Progress::Note(error.to_string()));
    }
    let names: Vec<&str> = chosen(context, options).into_iter().map(|(name, _)| name).collect();
    let of_the_day = with_authorities_of_the_day(context, &store, &names).await?;
    let context = of_the_day.as_ref();
    // What an earlier run left published goes, but for journeys that go on, now or in another run: the authority may be looking.
    // What an authority without ACME may look at any day stays too.
    let unwanted = tlsa::forget_unwanted(context, &store).await?;
    let mut left_alone: BTreeSet<String> = names.iter().map(|name| (*name).to_owned()).collect();
    for row in store.debts().await? {
        let entry = context.inventory.certificates.get(&row.certificate);
        let open = store.open_journey(&row.certificate).await?;
        let shown =
            |(entry, open): (_, JourneyRow)| still_fits(context, entry, &open) && open.stage.needs_publication();
        if stays(&row.certificate) && !unwanted.contains(&row.certificate)
            || store.leased_by_another(&row.certificate, context.now()).await?.is_some()
            || entry.zip(open).is_some_and(shown)
            || is_published_for_validation(&store, &row.certificate).await?
        {
            left_alone.insert(row.certificate);
        }
    }
    let run = Run::new(context, &store, machines, lock, options.insistence());
    let mut owed = store.debts().await?;
    owed.retain(|row| !left_alone.contains(&row.certificate));
    pay_debts(&run.around(), owed).await?;
    let mut entries = run.process_all(&names).await;
    // Waiting holds no lock: other runs go on meanwhile, the timer's too.
    let stop = run.stop().clone();
    drop(run);
    if options.wait {
        wait_for_people(context, &store, &stop, options, &mut entries).await?;
    }
    let failed = entries.iter().filter(|entry| matches!(entry.ending, Ending::Failed { .. })).count();
    let waiting = entries.iter().filter(|entry| entry.awaits_person()).count();
    let (ended, by_timer, certificates) = (context.now(), options.by_timer, entries.len());
    store.record_run(&RunRow { began, ended, by_timer, certificates, failed, waiting }).await?;
    if let Err(error) = tell_news(context, &store).await {
        context.report(&Progress::Note(error.to_string()));
    }
    // What a person has to do comes first.
    entries.sort_by_key(|entry| !entry.awaits_person());
    Ok(entries)
}

/// Waits until what people have to place can be seen, and goes on with those journeys then, under the lock again. A journey that
/// another run has brought to its end meanwhile is found there.
async fn wait_for_people(
    context: &Context,
    store: &Arc<Store>,
    stop: &Stop,
    options: &KeepOptions,
    entries: &mut [KeepEntry],
) -> Result<(), StoreError> {
    let to_place = |entry: &KeepEntry| match &entry.ending {
        Ending::AwaitsPerson(records) => records.clone(),
        _ => Vec::new(),
    };
    let all: Vec<RecordToPlace> = entries.iter().flat_map(to_place).collect();
    if !all.is_empty() {
        context.report(&Progress::AwaitsPerson(all));
    }
    let mut pause = Duration::from_secs(1);
    while entries.iter().any(|entry| matches!(entry.ending, Ending::AwaitsPerson(_))) {
        context.report(&Progress::Doing("wait for the records"));
        tokio::select! {
            () = context.clock.wait(pause) => {}
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
            let lock = match RunLock::take(&context.state, "eskort keep --wait", context.now()) {
                Err(StoreError::Busy { .. }) => continue,
                lock => lock?,
            };
            let insistence = Insistence { renew: false, ..options.insistence() };
            let run = Run::new(context, store, Machines::default(), lock, insistence);
            *entry = run.process(&name).await;
        }
    }
    Ok(())
}

/// Whether everything that a person has to place for a journey can be seen; also when the journey does not wait any more.
async fn is_placed(context: &Context, store: &Store, name: &str, entry: &CertificateEntry) -> Result<bool, StoreError> {
    let Some(open) = store.open_journey(name).await? else { return Ok(true) };
    let Some(tasks) = open.stage.to_self_check() else { return Ok(true) };
    let by_person =
        |task: &&ProofTask| context.inventory.proof_of(entry, &task.name).is_some_and(|(_, p)| p.awaits_person());
    let tasks: Vec<ProofTask> = tasks.iter().filter(by_person).cloned().collect();
    let (machines, shared) = (Machines::default(), SharedProofs::default());
    let around = ProofContext { context, store, machines: &machines, shared: &shared };
    Ok(Proving { around, certificate: name, entry }.self_check(&tasks).await.is_ok_and(|to_place| to_place.is_empty()))
}
