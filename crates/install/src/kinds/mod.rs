//! The kinds of servers: what each of them has to change, and how it is told.

mod files;
mod nginx;

use crate::InstallError;
use crate::facts::Facts;
use crate::plan::{LARGEST, LiveEndpoint, Placement, ServerPlan};
use eskort_core::context::Context;
use eskort_core::deployment::{Deployment, Lack, Target};
use eskort_core::inventory::{Install, Server, ServerKind};
use eskort_host::MachineError;
use eskort_host::files::Access;
use eskort_store::{Store, StoreError};
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
    for install in &placement.install {
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

/// Finds out what servers lack of a stored generation. Reads only. A server that cannot be read is said to lack something that
/// cannot be told.
///
/// # Errors
/// When the ledger fails.
pub async fn deployment(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Deployment, StoreError> {
    let Placement { certificate, generation, .. } = *placement;
    let switch_current = store.current_generation(certificate) != Some(generation);
    let rows = store.installs(certificate)?;
    let mut targets = Vec::new();
    for install in &placement.install {
        let planning = Planning::new(context, placement, facts, install);
        let mut lacks = match planning.plan(store).await {
            Ok(plan) => plan.changes.into_iter().map(|change| Lack::File { path: change.path }).collect(),
            Err(error) => vec![Lack::Unknown { why: error.to_string() }],
        };
        let (server, host) = (&install.server, planning.server.host.clone());
        let machine = host.as_deref().unwrap_or_default();
        let row = rows.iter().find(|row| (&row.server, &*row.machine) == (server, machine));
        if match planning.server.kind {
            ServerKind::Nginx { .. } => host.is_none() && switch_current,
            // Where Eskort writes no file, only the ledger says whether the command was run.
            ServerKind::Files { ref copies, .. } => copies.is_empty() && !row.is_some_and(|row| row.has(generation)),
        } {
            lacks.insert(0, Lack::Current);
        }
        if lacks.is_empty() && !row.is_some_and(|row| row.is_settled_with(generation)) {
            lacks.push(Lack::Check);
        }
        if !lacks.is_empty() {
            targets.push(Target { server: server.clone(), host, lacks });
        }
    }
    Ok(Deployment { generation, switch_current, targets, servers: placement.install.len() })
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
    for install in &placement.install {
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
