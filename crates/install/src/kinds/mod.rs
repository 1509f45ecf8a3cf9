//! The kinds of servers: what each of them has to change, and how it is told.

mod files;
mod nginx;

use crate::InstallError;
use crate::facts::Facts;
use crate::plan::{LARGEST, LiveEndpoint, Placement, ServerPlan};
use eskort_core::context::Context;
use eskort_core::inventory::{Install, Server, ServerKind};
use eskort_host::MachineError;
use eskort_host::files::Access;
use eskort_store::Store;
use std::path::Path;

/// Gathers the facts and plans for every server of a certificate. Reads only.
///
/// # Errors
/// When a configuration cannot be read or changed, or a part of the generation is missing.
pub async fn plan(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Vec<ServerPlan>, InstallError> {
    let mut plans = Vec::new();
    for install in placement.install {
        plans.push(Planning::new(context, placement, facts, install).plan(store).await?);
    }
    Ok(plans)
}

/// What the plan of one server is made from.
struct Planning<'a> {
    context: &'a Context,
    facts: &'a Facts,
    install: &'a Install,
    server: &'a Server,
    placement: &'a Placement<'a>,
}

impl<'a> Planning<'a> {
    fn new(context: &'a Context, placement: &'a Placement<'a>, facts: &'a Facts, install: &'a Install) -> Self {
        Planning { context, facts, install, server: &context.inventory.servers[&install.server], placement }
    }

    async fn plan(&self, store: &Store) -> Result<ServerPlan, InstallError> {
        let Placement { certificate, generation, .. } = *self.placement;
        let folder = store.generation_folder(certificate, generation);
        match &self.server.kind {
            ServerKind::Nginx { .. } => nginx::plan(self, &store.current_folder(certificate), &folder).await,
            ServerKind::Files { .. } => files::plan(self, &folder).await,
        }
    }

    /// Returns whether a file is there with just these bytes and this access. One of this machine that cannot be read is not.
    async fn is_in_place(&self, path: &Path, bytes: &[u8], access: Access) -> Result<bool, InstallError> {
        let there = match self.facts.machines.read(self.context, self.server.host.as_deref(), path, LARGEST).await {
            Ok(there) => there,
            Err(MachineError::Io { .. }) => None,
            Err(error) => return Err(InstallError::on(&self.install.server)(error)),
        };
        Ok(there.is_some_and(|there| {
            there.bytes == bytes
                && there.access.mode == access.mode
                && access.uid.is_none_or(|uid| there.access.uid == Some(uid))
                && access.gid.is_none_or(|gid| there.access.gid == Some(gid))
        }))
    }
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
pub async fn endpoints(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Vec<LiveEndpoint>, InstallError> {
    let mut endpoints = Vec::new();
    for install in placement.install {
        let planning = Planning::new(context, placement, facts, install);
        endpoints.extend(match planning.server.kind {
            ServerKind::Nginx { .. } => planning.plan(store).await?.endpoints,
            ServerKind::Files { .. } => files::endpoints(&planning),
        });
    }
    Ok(endpoints)
}

/// Returns the command that makes a server take what was changed.
pub(crate) fn reload_command(kind: &ServerKind) -> Vec<String> {
    match kind {
        ServerKind::Nginx { config, reload, .. } => nginx::reload_command(config, reload.as_ref()),
        ServerKind::Files { run, .. } => run.clone(),
    }
}
