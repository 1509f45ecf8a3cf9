//! The kinds of servers: what each of them has to change, and how it is told.

mod commands;
pub(crate) mod configured;
mod files;
mod haproxy;
mod keystore;
pub(crate) mod nginx;
mod parcel;
mod parts;
mod program;
mod surveyed;
mod web_api;

use crate::InstallError;
use crate::facts::Facts;
use crate::plan::{
    Change, LARGEST, LiveEndpoint, Placement, ServerFile, ServerPlan, Serving, difference, in_place, read_part,
};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::deployment::{Deployment, Lack, Target};
use eskort_core::https::{Hsts, RampStep};
use eskort_core::inventory::{Install, Keystore, ServerKind};
use eskort_core::progress::{FileChange, Progress};
use eskort_host::files::Access;
use eskort_host::{MachineError, Machines};
use eskort_siteconf::FileChange as ConfigChange;
use eskort_store::{InstallRow, InstallState, Store, StoreError};
use futures_util::future::{BoxFuture, FutureExt};
use futures_util::stream::{self, StreamExt};
use haproxy::RuntimePut;
use nginx::Workers;
pub use parcel::steps_of;
use parts::Parts;
use program::input;
use std::sync::Arc;
pub use web_api::ask_api;

/// So many servers are read and planned side by side.
const PLANNED_AT_ONCE: usize = 8;

/// Gathers the facts and plans for every server of some certificates: one plan for a server, with all that is to be put on it. Reads
/// only.
///
/// # Errors
/// When a configuration cannot be read or changed, or a part of a generation is missing.
#[boxed]
pub async fn plan(
    context: &Context,
    store: &Store,
    placements: &[Placement<'_>],
    facts: &Facts,
) -> Result<Vec<ServerPlan>, InstallError> {
    let mut by_server: Vec<(&str, Vec<Serving<'_>>)> = Vec::new();
    for serving in servings(context, store, placements).await? {
        match by_server.iter_mut().find(|(name, _)| *name == serving.name) {
            Some((_, servings)) => servings.push(serving),
            None => by_server.push((serving.name, vec![serving])),
        }
    }
    let planned = by_server.iter().map(|(_, servings)| servings.as_slice());
    plan_each(context, store, planned, facts).await.into_iter().collect()
}

/// Plans several servers, some of them side by side: those of other machines are waited for.
async fn plan_each<'a, 'b: 'a>(
    context: &Context,
    store: &Store,
    servers: impl Iterator<Item = &'a [Serving<'b>]>,
    facts: &Facts,
) -> Vec<Result<ServerPlan, InstallError>> {
    let plan = |servings| plan_server(context, store, servings, facts).boxed();
    let plans: Vec<BoxFuture<'_, _>> = servers.map(plan).collect();
    stream::iter(plans).buffered(PLANNED_AT_ONCE).collect().await
}

/// Returns what each server of some certificates is to serve.
async fn servings<'a>(
    context: &'a Context,
    store: &Store,
    placements: &'a [Placement<'a>],
) -> Result<Vec<Serving<'a>>, StoreError> {
    let mut found = Vec::new();
    for placement in placements {
        for &Install { ref server, wishes, .. } in placement.install.iter().copied() {
            let hsts_age = match wishes.hsts {
                Some(Hsts::Ramp) => {
                    let ramp = store.ramp(placement.certificate, server).await?;
                    ramp.unwrap_or(RampStep::first(context.now())).max_age()
                }
                Some(Hsts::Fixed(seconds)) => seconds,
                Some(Hsts::Off) | None => 0,
            };
            let entry = &context.inventory.servers[server];
            found.push(Serving { name: server, server: entry, wishes, hsts_age, placement });
        }
    }
    Ok(found)
}

/// Plans one server for all that it is to serve. Its configuration is planned for one certificate after the other, each on what the one
/// before leaves.
async fn plan_server(
    context: &Context,
    store: &Store,
    servings: &[Serving<'_>],
    facts: &Facts,
) -> Result<ServerPlan, InstallError> {
    let Serving { name, server, .. } = servings[0];
    let configured = match &server.kind {
        ServerKind::Configured(configured) => Some(configured),
        _ => None,
    };
    let mut known = match configured {
        Some(configured) => Some((configured, facts.of(context, (name, server), configured).await?)),
        None => None,
    };
    let machine = facts.machines.at(context, server.host.as_deref());
    let owner = configured.map_or((None, None), |known| (known.owner.as_deref(), known.group.as_deref()));
    let owned_by = files::owned_by(&machine, name, owner, 0).await?;
    let mut plan = ServerPlan {
        server: name.to_owned(),
        host: server.host.clone(),
        certificates: Vec::new(),
        changes: Vec::new(),
        reads: configured
            .and_then(|configured| Parts { store, configured, serving: &servings[0], owned_by }.read_by_server()),
        test: test_command(&server.kind),
        prepare: Vec::new(),
        reload: Some(reload_command(&server.kind)).filter(|words| !words.is_empty()),
        runtime: None,
        pid_file: None,
        may_signal: server.host.is_none() && configured.is_some_and(|known| known.reload.is_none()),
        upload: upload_address(&server.kind),
        rules: server.rules.clone(),
        endpoints: Vec::new(),
        findings: Vec::new(),
    };
    // The files of the configuration that change, each with the first certificate that it changes for.
    let mut edited: Vec<(&str, ConfigChange)> = Vec::new();
    for (n, serving) in servings.iter().enumerate() {
        let files = match &mut known {
            Some((configured, before)) => {
                let planned = before.plan(&Parts { store, configured, serving, owned_by })?;
                if n + 1 < servings.len()
                    && let Some(after) = before.after(serving, &planned)?
                {
                    *before = Arc::new(after);
                }
                for file in planned.edited {
                    match edited.iter_mut().find(|(_, known)| known.path == file.path) {
                        Some((_, known)) => known.new = file.new,
                        None => edited.push((serving.placement.certificate, file)),
                    }
                }
                plan.endpoints.extend(planned.endpoints);
                plan.findings.extend(planned.findings);
                (plan.runtime, plan.pid_file) = (planned.runtime, planned.pid_file);
                plan.prepare.extend(planned.prepare);
                planned.files
            }
            None => plan_unread(context, store, serving, &facts.machines, &mut plan).await?,
        };
        for change in changed_files(context, store, serving, &files, facts).await? {
            plan.add(change);
        }
        plan.certificates.push(serving.placement.certificate.to_owned());
    }
    plan.prepare.sort();
    plan.prepare.dedup();
    // What it is to read anew as a whole needs a reload.
    if !edited.is_empty() || plan.changes.is_empty() {
        plan.runtime = None;
    }
    for (certificate, ConfigChange { path, old, new }) in edited {
        let access = old.is_none().then(|| Access::mode(0o644));
        let old = old.unwrap_or_default();
        let lines = difference(&String::from_utf8_lossy(&old), &String::from_utf8_lossy(&new));
        let (certificate, how) = (certificate.to_owned(), FileChange::Lines(lines));
        plan.add(Change { certificate, path, new, access, how });
    }
    Ok(plan)
}

/// Plans for a server whose configuration is not read. Returns the files that it is to have.
async fn plan_unread(
    context: &Context,
    store: &Store,
    serving: &Serving<'_>,
    machines: &Machines,
    plan: &mut ServerPlan,
) -> Result<Vec<ServerFile>, InstallError> {
    let Serving { name, server, .. } = *serving;
    let machine = machines.at(context, server.host.as_deref());
    // What a person puts in place is looked at later.
    if !matches!(server.kind, ServerKind::Parcel(_)) {
        plan.endpoints.extend(files::endpoints(serving));
    }
    match &server.kind {
        ServerKind::Files { copies, .. } => return files::files(&machine, name, copies).await,
        ServerKind::Keystore(keystore) => {
            let changed = keystore::changed(context, store, serving, keystore, machines).await?;
            changed.into_iter().for_each(|change| plan.add(change));
        }
        ServerKind::Parcel(parcel) => {
            let changed = parcel::changed(&machine, store, serving, parcel).await?;
            changed.into_iter().for_each(|change| plan.add(change));
        }
        ServerKind::WebApi(_) | ServerKind::Program { .. } | ServerKind::Configured(_) => {}
    }
    Ok(Vec::new())
}

/// Returns the files that do not hold what they should, or not with the access that they should have. One of this machine that
/// cannot be read counts as such.
async fn changed_files(
    context: &Context,
    store: &Store,
    serving: &Serving<'_>,
    files: &[ServerFile],
    facts: &Facts,
) -> Result<Vec<Change>, InstallError> {
    let Serving { name, server, placement, .. } = *serving;
    let folder = store.generation_folder(placement.certificate, placement.generation);
    let mut changes = Vec::new();
    for ServerFile { path, part, access } in files {
        let new = read_part(&folder, *part, placement.preview)?;
        let machine = facts.machines.at(context, server.host.as_deref());
        let there = match machine.read(path, LARGEST).await {
            Ok(there) => there,
            Err(MachineError::Io { .. }) => None,
            Err(error) => return Err(InstallError::on(name)(error)),
        };
        let is_in_place =
            there.is_some_and(|there| there.bytes == new && (!machine.gives_access() || in_place(&there, *access)));
        if !is_in_place {
            let (certificate, how) = (placement.certificate.to_owned(), FileChange::Whole(part.word()));
            changes.push(Change { certificate, path: path.clone(), new, access: Some(*access), how });
        }
    }
    Ok(changes)
}

/// Finds out what servers lack of a stored generation. Reads only. A server that cannot be read is said to lack something that
/// cannot be told.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn deployment(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Deployment, StoreError> {
    let Placement { certificate, generation, .. } = *placement;
    let switch_current = store.current_generation(certificate) != Some(generation);
    let rows = store.installs(certificate).await?;
    let mut targets = Vec::new();
    let servings = servings(context, store, std::slice::from_ref(placement)).await?;
    let planned = plan_each(context, store, servings.chunks(1), facts).await;
    for (serving, planned) in servings.iter().zip(planned) {
        let (mut lacks, can_be_checked) = match planned {
            Ok(ServerPlan { changes, endpoints, .. }) => {
                let lacks = changes.into_iter().map(|change| Lack::File { path: change.path });
                (lacks.collect(), !endpoints.is_empty())
            }
            Err(error) => (vec![Lack::Unknown { why: error.to_string() }], true),
        };
        let (server, host) = (serving.name, serving.server.host.clone());
        let machine = host.as_deref().unwrap_or_default();
        let row = rows.iter().find(|row| (&*row.server, &*row.machine) == (server, machine));
        if match serving.server.kind {
            ServerKind::Configured(_) => host.is_none() && switch_current,
            // Where Eskort writes no file, only the ledger says whether the command was run.
            ServerKind::Files { ref copies, .. } => copies.is_empty() && !row.is_some_and(|row| row.has(generation)),
            ServerKind::Keystore(_) | ServerKind::Parcel(_) => false,
            ServerKind::WebApi(_) | ServerKind::Program { .. } => !row.is_some_and(|row| row.has(generation)),
        } {
            lacks.insert(0, Lack::Current);
        }
        // Once it is seen in place the parcel may be gone.
        let is_parcel = matches!(serving.server.kind, ServerKind::Parcel(_));
        let is_seen = row.is_some_and(|row| row.has(generation) && row.state == InstallState::Confirmed);
        if is_parcel && is_seen {
            lacks.clear();
        }
        // What somebody else has put into use there is not ours.
        if let (ServerKind::WebApi(upload), true) = (&serving.server.kind, lacks.is_empty()) {
            match web_api::is_active(context, store, (certificate, generation), (server, upload)).await {
                Ok(true) => {}
                Ok(false) => lacks.push(Lack::Other),
                Err(error) => lacks.push(Lack::Unknown { why: error.to_string() }),
            }
        }
        let is_settled = |row: &InstallRow| match is_parcel {
            true => is_seen,
            false => row.has(generation) && (!can_be_checked || row.is_settled_with(generation)),
        };
        if lacks.is_empty() && !row.is_some_and(is_settled) {
            lacks.push(Lack::Check);
        }
        if !lacks.is_empty() {
            targets.push(Target { server: server.to_owned(), host, lacks });
        }
    }
    Ok(Deployment { generation, switch_current, targets, servers: placement.install.len() })
}

/// Returns the endpoints that a check looks at, without asking for any change.
///
/// # Errors
/// As [`plan`].
#[boxed]
pub async fn endpoints(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<Vec<LiveEndpoint>, InstallError> {
    let mut endpoints = Vec::new();
    for serving in servings(context, store, std::slice::from_ref(placement)).await? {
        endpoints.extend(match serving.server.kind {
            ServerKind::Configured(_) => {
                plan_server(context, store, std::slice::from_ref(&serving), facts).await?.endpoints
            }
            ServerKind::Parcel(_) => parcel::endpoints(&serving),
            ServerKind::Files { .. } | ServerKind::Keystore(_) | ServerKind::WebApi(_) | ServerKind::Program { .. } => {
                files::endpoints(&serving)
            }
        });
    }
    Ok(endpoints)
}

/// Returns the address of the API that certificates are uploaded to.
fn upload_address(kind: &ServerKind) -> Option<String> {
    match kind {
        ServerKind::WebApi(upload) => Some(upload.api.address.clone()),
        _ => None,
    }
}

/// Returns the command that makes a server take what was changed.
pub(crate) fn reload_command(kind: &ServerKind) -> Vec<String> {
    match kind {
        ServerKind::Configured(configured) => commands::reload_command(configured),
        ServerKind::Files { run: command, .. }
        | ServerKind::Keystore(Keystore { run: command, .. })
        | ServerKind::Program { command } => command.clone(),
        ServerKind::Parcel(_) | ServerKind::WebApi(_) => Vec::new(),
    }
}

/// Returns the command with which a server tests its configuration; `None` for one that has none that we read.
pub(crate) fn test_command(kind: &ServerKind) -> Option<Vec<String>> {
    match kind {
        ServerKind::Configured(configured) => Some(commands::test_command(configured)),
        _ => None,
    }
}

/// Makes a server take what a plan has changed: while it runs, where it can, else as [`tell`] does.
pub(crate) async fn take(
    context: &Context,
    store: &Store,
    machines: &Machines,
    plan: &ServerPlan,
) -> Result<(), InstallError> {
    let machine = machines.at(context, plan.host.as_deref());
    if let Some(socket) = &plan.runtime {
        context.report(&Progress::Doing("put the certificate into the running server"));
        match haproxy::put(&machine, socket, &plan.changes).await {
            RuntimePut::Done => return Ok(()),
            RuntimePut::Refused { file, said } => {
                return Err(InstallError::Runtime { server: plan.server.clone(), file, said });
            }
            RuntimePut::NotNow { why } => {
                let text = format!("the runtime socket of server `{}` is of no use now: {why}", plan.server);
                context.report(&Progress::Note(text));
            }
        }
    }
    for words in &plan.prepare {
        let done = machine.run(words, b"", &plan.rules).await;
        done.map_err(|source| InstallError::Reload { server: plan.server.clone(), source })?;
    }
    context.report(&Progress::Doing(if plan.upload.is_some() {
        "upload the certificate"
    } else {
        "reload the server"
    }));
    // What nginx's own command does, which reads the whole configuration first to find out the number.
    if plan.signal().and_then(nginx::daemon).is_some_and(|daemon| daemon.read_again().is_ok()) {
        return Ok(());
    }
    tell(context, store, machines, &plan.server, false).await
}

/// Makes a server take what was changed: by its command, or by uploading it. With `insist`, since something was put back, it is uploaded
/// though it is in use.
pub(crate) async fn tell(
    context: &Context,
    store: &Store,
    machines: &Machines,
    name: &str,
    insist: bool,
) -> Result<(), InstallError> {
    let Some(server) = context.inventory.servers.get(name) else { return Ok(()) };
    if let ServerKind::WebApi(upload) = &server.kind {
        return web_api::put(context, store, (name, server), upload, insist).await;
    }
    let mut commands = match &server.kind {
        // What was made of the files before is of others now.
        ServerKind::Configured(configured) if insist => {
            surveyed::compile_all(context, machines, (name, server), configured).await?
        }
        _ => Vec::new(),
    };
    commands.extend(Some(reload_command(&server.kind)).filter(|words| !words.is_empty()));
    let machine = machines.at(context, server.host.as_deref());
    let leaving = match &server.kind {
        ServerKind::Configured(configured) if insist => {
            Workers::of_server(machines.at(context, server.host.as_deref()), configured, &server.rules).await
        }
        _ => None,
    };
    for words in commands {
        let told = machine.run(&words, &input(context, store, name), &server.rules).await;
        told.map_err(|source| InstallError::Reload { server: name.to_owned(), source })?;
    }
    if let Some(workers) = leaving {
        workers.gone().await;
    }
    Ok(())
}
