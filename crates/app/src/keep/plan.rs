//! What a run would do, without doing it.

use super::entry::{Ending, KeepEntry, KeepOptions, PlannedServer};
use super::gather::{chosen, gather};
use crate::StepError;
use eskort_core::context::Context;
use eskort_core::decision::{Decision, Obtaining, decide};
use eskort_core::inventory::CertificateEntry;
use eskort_install::{self as install, Facts as ServerFacts, Placement};
use eskort_store::{Store, StoreError};

/// Decides for every certificate, and plans what would change on its servers.
pub(crate) async fn plan_only(context: &Context, options: &KeepOptions) -> Result<Vec<KeepEntry>, StoreError> {
    let store = match Store::open_existing(&context.state)? {
        Some(store) => store,
        None => Store::in_memory(&context.state)?,
    };
    let now = context.now();
    let insist = !options.only.is_empty();
    let servers = ServerFacts::default();
    let mut entries = Vec::new();
    for (name, entry) in chosen(context, options) {
        let gathered = gather(context, &store, name, entry, &servers).await;
        entries.push(match gathered.map(|facts| decide(&facts, now, insist)) {
            Err(error) => failed(name, None, error),
            Ok(decision) => match planned_changes(context, &store, name, entry, &decision, &servers).await {
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

/// Plans an installation on all servers of a certificate, whatever they have.
pub(crate) async fn planned_servers(
    context: &Context,
    store: &Store,
    name: &str,
    entry: &CertificateEntry,
) -> Result<Vec<install::ServerPlan>, StepError> {
    let generation = store.newest(name).await?.map_or(1, |newest| newest.number);
    let placement = Placement { preview: true, ..Placement::of(name, entry, &entry.names, generation) };
    Ok(install::plan(context, store, std::slice::from_ref(&placement), &ServerFacts::default()).await?)
}

/// Returns what a run would change on the servers.
async fn planned_changes(
    context: &Context,
    store: &Store,
    name: &str,
    entry: &CertificateEntry,
    decision: &Decision,
    servers: &ServerFacts,
) -> Result<Vec<PlannedServer>, StepError> {
    let Some(generation) = decision.generation() else { return Ok(Vec::new()) };
    let mut placement = Placement { preview: true, ..Placement::of(name, entry, &entry.names, generation) };
    if let Decision { place: Some(place), obtain: Obtaining::Rest { .. } } = decision {
        placement = placement.on(|server| place.targets.iter().any(|t| t.server == server && t.is_to_install()));
    }
    let plans = install::plan(context, store, std::slice::from_ref(&placement), servers).await?;
    let planned = |plan: install::ServerPlan| PlannedServer {
        server: plan.server,
        changes: plan.changes.into_iter().map(|c| (c.path, c.how)).collect(),
        test: plan.test,
        run: plan.reload,
        findings: plan.findings,
    };
    Ok(plans.into_iter().map(planned).collect())
}
