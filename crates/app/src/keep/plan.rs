//! What a run would do, without doing it.

use super::entry::{Ending, KeepEntry, KeepOptions, PlannedServer};
use super::gather::{chosen, gather, with_authorities_of_the_day};
use crate::StepError;
use eskort_core::boxed;
use eskort_core::budget::{Budget, Outlook};
use eskort_core::context::Context;
use eskort_core::decision::{Decision, Facts, Obtaining, decide, urgency};
use eskort_core::https::HttpsWishes;
use eskort_core::inventory::{CertificateEntry, ServerKind};
use eskort_core::words;
use eskort_install::{self as install, Facts as ServerFacts, Placement};
use eskort_store::{Store, StoreError};
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::Path;

/// What a run would do.
#[derive(Debug)]
pub struct Plan {
    /// For each certificate.
    pub entries: Vec<KeepEntry>,
    /// What its orders would spend, and what is left.
    pub budgets: Vec<PlannedBudget>,
}

/// What a run would spend of a budget of an authority.
#[derive(Clone, Debug, Serialize)]
pub struct PlannedBudget {
    /// The authority's name in the inventory.
    pub authority: String,
    /// The budget.
    #[serde(flatten)]
    pub budget: Budget,
}

/// Decides for every certificate, and plans what would change on its servers and what would be spent. Changes nothing.
///
/// # Errors
/// When the state folder cannot be read.
#[boxed]
pub async fn plan(context: &Context, options: &KeepOptions) -> Result<Plan, StoreError> {
    let store = match Store::open_existing(&context.state)? {
        Some(store) => store,
        None => Store::in_memory(&context.state)?,
    };
    let now = context.now();
    let insistence = options.insistence();
    let names: Vec<&str> = chosen(context, options).into_iter().map(|(name, _)| name).collect();
    let of_the_day = with_authorities_of_the_day(context, &store, &names).await?;
    let context = of_the_day.as_ref();
    let servers = ServerFacts::default();
    let (mut entries, mut decided) = (Vec::new(), Vec::new());
    for (name, entry) in chosen(context, options) {
        match gather(context, &store, name, entry, &servers).await {
            // What has no room now is found below, with what the orders before it take.
            Ok(facts) => {
                let urgency = urgency(facts.newest.as_ref(), now);
                let (wanted, may_lose_names) = (insistence.renew, insistence.drop_names);
                let facts = Facts { no_room: None, wanted, may_lose_names, ..facts };
                decided.push((urgency, name, entry, decide(&facts, now, insistence.at_once)));
            }
            Err(error) => entries.push(failed(name, None, error)),
        }
    }
    // In the order in which a run lets them in.
    decided.sort_by_key(|(urgency, ..)| *urgency);
    let mut outlooks: BTreeMap<&str, (String, Outlook)> = BTreeMap::new();
    for (_, _, entry, decision) in &mut decided {
        let Obtaining::Start { .. } = decision.obtain else { continue };
        let authority = &context.inventory.authorities[&entry.authority];
        let counted_as = authority.counted_as(&entry.authority);
        if !outlooks.contains_key(counted_as) {
            let spent = store.spent(counted_as, &authority.limits, now).await?;
            let outlook = Outlook::new(authority.limits, spent, now);
            outlooks.insert(counted_as, (entry.authority.clone(), outlook));
        }
        let (_, outlook) = outlooks.get_mut(counted_as).expect("it was put there");
        if let Some((budget, until)) = outlook.plan(&entry.names, options.beyond_budget) {
            decision.obtain = Obtaining::NoRoom { until, budget };
        }
    }
    for (_, name, entry, decision) in decided {
        entries.push(match planned_changes(context, &store, name, entry, &decision, &servers).await {
            Ok(changes) => KeepEntry::new(name, Some(decision), Ending::Planned(changes)),
            Err(error) => failed(name, Some(decision), error),
        });
    }
    entries.sort_by(|a, b| words::natural_order(&a.certificate, &b.certificate));
    let budgets = outlooks.into_values().flat_map(|(authority, outlook)| {
        let planned = move |budget| PlannedBudget { authority: authority.clone(), budget };
        outlook.into_budgets().into_iter().map(planned)
    });
    Ok(Plan { budgets: budgets.collect(), entries })
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

/// Plans what putting the newest generation of a certificate on its servers would change. Changes nothing.
///
/// # Errors
/// When nothing is stored, or a configuration cannot be read or changed.
///
/// # Panics
/// When the certificate is not in the inventory: callers look first.
#[boxed]
pub async fn planned_installation(context: &Context, name: &str) -> Result<Vec<PlannedServer>, StepError> {
    let entry = &context.inventory.certificates[name];
    let store = Store::open_existing(&context.state)?.ok_or(StepError::NothingStored)?;
    store.newest(name).await?.ok_or(StepError::NothingStored)?;
    Ok(planned_servers(context, &store, name, entry).await?.into_iter().map(planned).collect())
}

/// What would mend a server's site, and what that would change.
#[derive(Clone, Debug)]
pub struct Advised {
    /// The server.
    pub server: String,
    /// The keys to add to its install entry.
    pub keys: Vec<String>,
    /// What that would change there.
    pub planned: PlannedServer,
}

/// Plans what would mend the findings of looks at a certificate's endpoints, by their words, beyond what the inventory wishes already. Changes nothing.
///
/// # Errors
/// As [`planned_installation`].
///
/// # Panics
/// As [`planned_installation`].
#[boxed]
pub async fn planned_mending(context: &Context, name: &str, codes: &[&str]) -> Result<Vec<Advised>, StepError> {
    let mut entry = context.inventory.certificates[name].clone();
    let mending = HttpsWishes::mending(codes.iter().copied());
    entry.install.retain(|install| {
        let server = context.inventory.servers.get(&install.server).map(|server| &server.kind);
        matches!(server, Some(ServerKind::Configured(server)) if server.software.takes_level())
    });
    let mut keys: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for install in &mut entry.install {
        let known = install.wishes.keys();
        // Of other programs no more than versions and ciphers is changed.
        let gets_all =
            context.inventory.servers.get(&install.server).is_some_and(
                |server| matches!(&server.kind, ServerKind::Configured(server) if server.software.gets_tls()),
            );
        let only_level = HttpsWishes { tls: mending.tls, ..HttpsWishes::default() };
        install.wishes = install.wishes.or(if gets_all { mending } else { only_level });
        let new = install.wishes.keys().into_iter().filter(|key| !known.contains(key)).collect();
        keys.insert(install.server.clone(), new);
    }
    let store = Store::open_existing(&context.state)?.ok_or(StepError::NothingStored)?;
    store.newest(name).await?.ok_or(StepError::NothingStored)?;
    let plans = planned_servers(context, &store, name, &entry).await?.into_iter().map(planned);
    let advised = plans.filter(|plan| !plan.changes.is_empty()).map(|planned| {
        let server = planned.server.clone();
        Advised { keys: keys.remove(&server).unwrap_or_default(), server, planned }
    });
    Ok(advised.collect())
}

fn planned(plan: install::ServerPlan) -> PlannedServer {
    let signal = plan.signal().map(Path::to_owned);
    PlannedServer {
        server: plan.server,
        changes: plan.changes.into_iter().map(|c| (c.path, c.how)).collect(),
        test: plan.test,
        prepare: plan.prepare,
        run: plan.reload.filter(|_| plan.runtime.is_none() && signal.is_none()),
        runtime: plan.runtime,
        signal,
        upload: plan.upload,
        findings: plan.findings,
    }
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
    Ok(plans.into_iter().map(planned).collect())
}
