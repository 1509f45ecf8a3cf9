//! The kinds of servers: what each of them has to change, and how it is told.

mod files;
mod nginx;

use crate::InstallError;
use crate::facts::Facts;
use crate::plan::{LiveEndpoint, Placement, ServerPlan};
use eskort_core::context::Context;
use eskort_core::inventory::{Install, ServerKind};
use eskort_store::Store;

/// Gathers the facts and plans for every server of a certificate. Reads only.
///
/// # Errors
/// When a configuration cannot be read or changed, or a part of the generation is missing.
pub fn plan(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Vec<ServerPlan>, InstallError> {
    let one = |install: &Install| {
        let server = &context.inventory.servers[&install.server];
        match &server.kind {
            ServerKind::Nginx { .. } => {
                nginx::plan(install, server, &store.current_folder(placement.certificate), placement, facts)
            }
            ServerKind::Files { .. } => {
                let folder = store.generation_folder(placement.certificate, placement.generation);
                files::plan(install, server, &folder, placement)
            }
        }
    };
    placement.install.iter().map(one).collect()
}

/// Returns what the servers lack of a generation, in words.
pub fn lacking(plans: &[ServerPlan], store: &Store, placement: &Placement<'_>) -> Vec<String> {
    let mut lacks: Vec<String> = Vec::new();
    if !plans.is_empty() && store.current_generation(placement.certificate) != Some(placement.generation) {
        lacks.push(format!("`current` does not lead to generation {}", placement.generation));
    }
    for plan in plans {
        lacks.extend(plan.changes.iter().map(|c| format!("{} of server `{}`", c.path.display(), plan.server)));
    }
    lacks
}

/// Returns the endpoints that a check looks at, without asking for any change.
///
/// # Errors
/// As [`plan`].
pub fn endpoints(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Vec<LiveEndpoint>, InstallError> {
    Ok(plan(context, store, placement, facts)?.into_iter().flat_map(|p| p.endpoints).collect())
}

/// Returns the command that makes a server take what was changed.
pub(crate) fn reload_command(kind: &ServerKind) -> Vec<String> {
    match kind {
        ServerKind::Nginx { config, reload, .. } => nginx::reload_command(config, reload.as_ref()),
        ServerKind::Files { run, .. } => run.clone(),
    }
}
