//! Applies what was planned: all of it or nothing.

use crate::InstallError;
use crate::confinement::confinement;
use crate::facts::Facts;
use crate::kinds::nginx::Workers;
use crate::kinds::{endpoints, take, tell, test_command};
use crate::plan::{Change, LARGEST, LiveEndpoint, Placement, ServerPlan, difference};
use crate::served::{await_gone, not_served};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::inventory::ServerKind;
use eskort_core::journey::Milestone;
use eskort_core::progress::{FileChange, Progress};
use eskort_core::words;
use eskort_host::files::FileRead;
use eskort_host::{Machines, crash_point};
use eskort_store::{InstallRow, InstallState, PutBack, Store, StoreError, Undo};
use futures_util::future::{self, BoxFuture, FutureExt};
use futures_util::stream::{self, StreamExt};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::PathBuf;

/// So many machines are changed side by side.
const MACHINES_AT_ONCE: usize = 8;

/// Applies the plans of some certificates: keeps what is there, writes, tests, reloads, looks. When any of it fails, everything is put
/// back, for all of them.
///
/// # Errors
/// What failed, after everything was put back; [`InstallError::Undo`] where that failed too.
#[boxed]
pub async fn apply(
    context: &Context,
    store: &Store,
    plans: &[ServerPlan],
    placements: &[Placement<'_>],
    facts: &Facts,
) -> Result<(), InstallError> {
    let rows = |placement: &Placement<'_>, state: InstallState, seen: Option<&str>, changed: Timestamp| {
        let row = |plan: &ServerPlan| InstallRow {
            machine: plan.host.clone().unwrap_or_default(),
            server: plan.server.clone(),
            generation: placement.generation,
            state,
            seen: seen.map(str::to_owned),
            changed,
        };
        let serves = |plan: &&ServerPlan| plan.certificates.iter().any(|name| name == placement.certificate);
        plans.iter().filter(serves).map(row).collect::<Vec<InstallRow>>()
    };
    let machines = &facts.machines;
    match forward(context, store, facts, plans, placements).await {
        Ok(()) => {
            let now = context.now();
            let certificates: Vec<&str> = placements.iter().map(|placement| placement.certificate).collect();
            store.settle_changes(&certificates, now).await?;
            crash_point("settled");
            for placement in placements {
                let rows = rows(placement, InstallState::Installed, None, now);
                let event =
                    Event::Passed { stage: Milestone::Installed, generation: placement.generation, requests: 0 };
                store.record_installs(placement.certificate, &rows, Some(&event), now).await?;
            }
            Ok(())
        }
        Err(first) => {
            let confined = confined(context, machines, plans, &first).await;
            let error = undone(context, store, machines, plans, placements, first).await;
            confined.into_iter().for_each(|text| context.report(&Progress::Note(text)));
            let (seen, now) = (words::printable(&error.to_string(), 300), context.now());
            for placement in placements {
                let rows = rows(placement, InstallState::Failed, Some(&seen), now);
                store.record_installs(placement.certificate, &rows, None, now).await?;
            }
            Err(error)
        }
    }
}

/// Says what may have kept the server on which something failed from its certificates.
async fn confined(
    context: &Context,
    machines: &Machines,
    plans: &[ServerPlan],
    first: &InstallError,
) -> Option<String> {
    let (InstallError::Test { server, .. }
    | InstallError::Reload { server, .. }
    | InstallError::NotServed { server, .. }) = first
    else {
        return None;
    };
    let plan = plans.iter().find(|plan| plan.server == *server)?;
    let (software, folder) = plan.reads.as_ref()?;
    let found = confinement(&machines.at(context, plan.host.as_deref()), *software, folder).await?;
    Some(format!("{}: {}", found.words(*software), found.advice(folder)))
}

/// Undoes what a run that was killed left half-way, before anything else is planned. What somebody changed since stays theirs.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn recover(context: &Context, store: &Store, machines: &Machines) -> Result<(), StoreError> {
    let changes = store.unsettled().await?;
    if changes.is_empty() {
        return Ok(());
    }
    context.report(&Progress::Doing("undo what an interrupted run left unfinished"));
    let (theirs, failed) = put_back(context, store, machines, &changes).await;
    for text in theirs.iter().map(Theirs::words).chain(failed.clone()) {
        context.report(&Progress::Note(text));
    }
    if failed.is_empty() {
        let paths: Vec<PathBuf> = theirs.into_iter().map(|theirs| theirs.path).collect();
        store.forget_changes(&changes, &paths).await?;
    }
    for server in reloaded(&changes) {
        if let Err(error) = tell(context, store, machines, server, true).await {
            let text = format!("server `{server}` could not be reloaded after files were put back: {error}");
            context.report(&Progress::Note(text));
        }
    }
    Ok(())
}

/// Puts back what was changed for a certificate, configuration and all, as it was before it was first installed. Nothing is done when somebody else
/// has changed any of it since.
///
/// # Errors
/// [`InstallError::Theirs`] with what stands in the way; when a file cannot be put back, or a server refuses it.
///
/// # Panics
/// When the certificate, or a server of its, is not in the inventory: callers look first.
#[boxed]
pub async fn restore(
    context: &Context,
    store: &Store,
    machines: &Machines,
    certificate: &str,
) -> Result<Vec<PathBuf>, InstallError> {
    let changes = store.settled(certificate).await?;
    let current = store.current_generation(certificate);
    let entry = &context.inventory.certificates[certificate];
    let placement = Placement::of(certificate, entry, &entry.names, current.unwrap_or_default());
    let endpoints = endpoints(context, store, &placement, &Facts::about(machines)).await.unwrap_or_default();
    let fingerprint = installed_fingerprint(store, &placement).await?;
    if let Some(what) = stands_in_the_way(context, store, certificate, &changes) {
        return Err(InstallError::Theirs { what });
    }
    let (mut theirs, mut now) = (Vec::new(), Vec::new());
    for undo in changes.iter().filter(|undo| !undo.is_link) {
        let on = InstallError::on(&undo.server);
        let found = machines.at(context, undo.host.as_deref()).read(&undo.path, LARGEST).await.map_err(on)?;
        theirs.extend(Theirs::of(undo, store.put_back(undo, found.clone())?));
        now.push((undo, found));
    }
    if !theirs.is_empty() {
        return Err(InstallError::Theirs { what: theirs.iter().map(Theirs::words).collect::<Vec<_>>().join("\n") });
    }
    let (_, failed) = put_back(context, store, machines, &changes).await;
    if !failed.is_empty() {
        return Err(InstallError::Restore { what: failed.join("; ") });
    }
    for server in reloaded(&changes) {
        let entry = &context.inventory.servers.get(server);
        let Some((entry, test)) = entry.and_then(|entry| Some((entry, test_command(&entry.kind)?))) else { continue };
        let tested = machines.at(context, entry.host.as_deref()).run(&test, b"", &entry.rules).await;
        if let Err(source) = tested {
            // What stands in the way is another certificate's change, or somebody's: all is as it was.
            for (undo, found) in now {
                let machine = machines.at(context, undo.host.as_deref());
                let done = match found {
                    Some(file) => machine.write(&undo.path, &file.bytes, file.access).await,
                    None => machine.remove(&undo.path).await,
                };
                done.map_err(InstallError::on(&undo.server))?;
            }
            store.switch_current(certificate, current)?;
            return Err(InstallError::Test { server: server.to_owned(), source });
        }
    }
    for server in reloaded(&changes) {
        tell(context, store, machines, server, true).await?;
    }
    store.forget_changes(&changes, &[]).await?;
    // Whatever the link was led to meanwhile: nothing is in use.
    store.switch_current(certificate, None)?;
    await_gone(&endpoints.iter().collect::<Vec<_>>(), &fingerprint).await;
    Ok(changes.into_iter().filter(|undo| !undo.is_link).map(|undo| undo.path).collect())
}

/// Returns why the configurations of a certificate's servers cannot be put back as a whole: what was changed for others stands in the same files.
fn stands_in_the_way(context: &Context, store: &Store, certificate: &str, changes: &[Undo]) -> Option<String> {
    let all = &context.inventory.certificates;
    let servers = all[certificate].install.iter().map(|install| &install.server);
    let is_upload = |server: &&String| matches!(context.inventory.servers[*server].kind, ServerKind::WebApi(_));
    if let Some(server) = servers.clone().find(is_upload) {
        return Some(format!("what server `{server}` had before is not known here: upload it there by hand"));
    }
    let configured = |server: &&String| matches!(context.inventory.servers[*server].kind, ServerKind::Configured(_));
    servers.filter(configured).find_map(|server| {
        let others = all.iter().filter(|(name, entry)| {
            let is_on = entry.install.iter().any(|install| install.server == *server);
            name.as_str() != certificate && is_on && store.current_generation(name).is_some()
        });
        let others: Vec<String> = others.map(|(name, _)| format!("`{name}`")).collect();
        if !others.is_empty() {
            let others = words::list(&others);
            return Some(format!("the configuration of server `{server}` was changed for {others} too"));
        }
        let is_known = changes.iter().any(|undo| !undo.is_link && undo.server == *server);
        (!is_known).then(|| format!("nothing is known of a change to the configuration of server `{server}`"))
    })
}

/// A file that was to be put back, and that somebody else has changed.
struct Theirs {
    path: PathBuf,
    kept: Option<PathBuf>,
    difference: Option<String>,
}

impl Theirs {
    fn of(undo: &Undo, put_back: PutBack) -> Option<Self> {
        let PutBack::Theirs { before, now } = put_back else { return None };
        let lossy = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let now = now.as_deref().map(lossy);
        let difference = now.map(|now| difference(&before.as_deref().map(lossy).unwrap_or_default(), &now));
        Some(Theirs { path: undo.path.clone(), kept: undo.kept.clone(), difference })
    }

    fn words(&self) -> String {
        let kept = match &self.kept {
            Some(kept) => format!("its contents before our change are in {}", kept.display()),
            None => "it did not exist before our change".to_owned(),
        };
        let difference = self.difference.as_ref().map(|d| format!("\n{}", d.trim_end())).unwrap_or_default();
        format!("{} was changed by somebody else, and stays as it is; {kept}{difference}", self.path.display())
    }
}

/// Puts back what is exactly as we made it. Returns what others have changed, and what could not be put back.
async fn put_back(
    context: &Context,
    store: &Store,
    machines: &Machines,
    changes: &[Undo],
) -> (Vec<Theirs>, Vec<String>) {
    let (mut theirs, mut failed) = (Vec::new(), Vec::new());
    for undo in changes {
        match put_one_back(context, store, machines, undo).await {
            Ok(found) => theirs.extend(found),
            Err(error) => failed.push(error),
        }
    }
    (theirs, failed)
}

/// Puts a file or link back; returns it where somebody else has changed it. Errors are in words.
async fn put_one_back(
    context: &Context,
    store: &Store,
    machines: &Machines,
    undo: &Undo,
) -> Result<Option<Theirs>, String> {
    let (host, path) = (undo.host.as_deref(), &undo.path);
    let found = match undo.is_link {
        true => None,
        false => machines.at(context, host).read(path, LARGEST).await.map_err(|e| e.to_string())?,
    };
    let done = match store.put_back(undo, found).map_err(|e| e.to_string())? {
        PutBack::Done => Ok(()),
        PutBack::Write { bytes, access } => machines.at(context, host).write(path, &bytes, access).await,
        PutBack::Remove => machines.at(context, host).remove(path).await,
        theirs @ PutBack::Theirs { .. } => return Ok(Theirs::of(undo, theirs)),
    };
    done.map(|()| None).map_err(|e| e.to_string())
}

/// Returns the servers that were reloaded with a change.
fn reloaded(changes: &[Undo]) -> BTreeSet<&str> {
    changes.iter().filter(|undo| undo.reloaded).map(|undo| undo.server.as_str()).collect()
}

/// Puts everything back, reloads the servers that were reloaded with the change, and returns what to say.
async fn undone(
    context: &Context,
    store: &Store,
    machines: &Machines,
    plans: &[ServerPlan],
    placements: &[Placement<'_>],
    first: InstallError,
) -> InstallError {
    let changes: Vec<Undo> = match store.unsettled().await {
        // What an earlier run could not undo for another certificate is no trouble of these.
        Ok(changes) => {
            let ours = |undo: &Undo| placements.iter().any(|placement| placement.certificate == undo.certificate);
            changes.into_iter().filter(ours).collect()
        }
        Err(then) => return InstallError::Undo { first: Box::new(first), then: then.to_string() },
    };
    let (theirs, mut trouble) = put_back(context, store, machines, &changes).await;
    if trouble.is_empty() {
        let paths: Vec<PathBuf> = theirs.iter().map(|theirs| theirs.path.clone()).collect();
        trouble.extend(store.forget_changes(&changes, &paths).await.err().map(|e| e.to_string()));
    }
    trouble.extend(theirs.iter().map(Theirs::words));
    for server in reloaded(&changes) {
        if let Err(error) = tell(context, store, machines, server, true).await {
            // The first failure was this very reload: that it fails again says nothing new.
            if !matches!(&first, InstallError::Reload { server: failed, .. } if failed == server) {
                trouble.push(format!("server `{server}` could not be reloaded after files were put back: {error}"));
            }
        }
    }
    for placement in placements {
        let fingerprint = installed_fingerprint(store, placement).await.unwrap_or_default();
        let of_plans = plans.iter().filter(|plan| reloaded(&changes).contains(&*plan.server));
        let endpoints = of_plans.flat_map(|plan| &plan.endpoints);
        let ours: Vec<&LiveEndpoint> = endpoints.filter(|e| e.certificate == placement.certificate).collect();
        await_gone(&ours, &fingerprint).await;
    }
    let first = match first {
        InstallError::Test { server, source } => {
            let test = plans.iter().find(|p| p.server == server);
            let again = match test.and_then(|plan| Some((plan, plan.test.as_ref()?))) {
                Some((plan, test)) => machines.at(context, plan.host.as_deref()).run(test, b"", &plan.rules).await,
                None => Ok(()),
            };
            match again {
                Err(source) => InstallError::BrokenBefore { server, source },
                Ok(()) => InstallError::Test { server, source },
            }
        }
        other => other,
    };
    if trouble.is_empty() { first } else { InstallError::Undo { first: Box::new(first), then: trouble.join("; ") } }
}

/// The way forward.
async fn forward(
    context: &Context,
    store: &Store,
    facts: &Facts,
    plans: &[ServerPlan],
    placements: &[Placement<'_>],
) -> Result<(), InstallError> {
    let machines = &facts.machines;
    for Placement { certificate, generation, install, .. } in placements {
        // For each server that goes by the link: each has to be told when it goes back.
        let servers = install.iter().map(|install| install.server.as_str());
        for server in servers.chain(install.is_empty().then_some("")) {
            store.keep_link(server, certificate, *generation).await?;
        }
    }
    let before: Vec<BoxFuture<'_, _>> = plans.iter().map(|plan| read_all(context, machines, plan).boxed()).collect();
    let before: Vec<_> = stream::iter(before).buffered(MACHINES_AT_ONCE).collect().await;
    for (plan, found) in plans.iter().zip(before) {
        for (change, found) in plan.changes.iter().zip(found?) {
            let shown = matches!(change.how, FileChange::Lines(_));
            let (host, path) = (plan.host.as_deref(), &change.path);
            store
                .keep_file((&plan.server, host), &change.certificate, path, found.as_ref(), &change.new, shown)
                .await?;
        }
    }
    store.flush().await?;
    crash_point("backed-up");
    for placement in placements {
        store.switch_current(placement.certificate, Some(placement.generation))?;
    }
    crash_point("switched");
    // Machines work side by side. None is told before all have tested what they have.
    let mut by_machine: BTreeMap<Option<&str>, Vec<&ServerPlan>> = BTreeMap::new();
    for plan in plans {
        by_machine.entry(plan.host.as_deref()).or_default().push(plan);
    }
    let written = by_machine.values().map(|plans| write_all(context, machines, plans).boxed());
    all_done(written.collect()).await?;
    let leaving = plans.iter().filter_map(|plan| {
        let pid_file = plan.pid_file.clone()?;
        Some(Workers::of(machines.at(context, plan.host.as_deref()), pid_file, &plan.rules).boxed())
    });
    let leaving = future::join_all(leaving).await;
    let told = by_machine.values().map(|plans| take_all(context, store, machines, plans).boxed());
    all_done(told.collect()).await?;
    for placement in placements {
        look(context, store, (plans, placement), facts).await?;
    }
    // What new processes show is what visitors get once the old ones take none.
    future::join_all(leaving.iter().map(|workers| workers.gone().boxed())).await;
    Ok(())
}

/// Looks at the endpoints of a certificate until they show it.
async fn look(
    context: &Context,
    store: &Store,
    (plans, placement): (&[ServerPlan], &Placement<'_>),
    facts: &Facts,
) -> Result<(), InstallError> {
    let of_plans = plans.iter().flat_map(|plan| &plan.endpoints);
    let endpoints: Vec<&LiveEndpoint> = of_plans.filter(|e| e.certificate == placement.certificate).collect();
    if endpoints.is_empty() {
        return Ok(());
    }
    let fingerprint = installed_fingerprint(store, placement).await?;
    context.report(&Progress::Doing("check whether the server shows the new certificate"));
    let late = not_served(facts, &endpoints, &fingerprint, |timeout| timeout / 3).await;
    // One that was told in the middle of a reload may have missed it.
    for server in late.iter().map(|(endpoint, _)| &*endpoint.server).collect::<BTreeSet<&str>>() {
        tell(context, store, &facts.machines, server, false).await?;
    }
    let late: Vec<&LiveEndpoint> = late.into_iter().map(|(endpoint, _)| endpoint).collect();
    let late = not_served(facts, &late, &fingerprint, |timeout| timeout * 2 / 3).await;
    late.into_iter().next().map_or(Ok(()), |(_, error)| Err(error))
}

/// Reads what is to be changed on one server.
async fn read_all(
    context: &Context,
    machines: &Machines,
    plan: &ServerPlan,
) -> Result<Vec<Option<FileRead>>, InstallError> {
    let paths: Vec<PathBuf> = plan.changes.iter().map(|change| change.path.clone()).collect();
    let machine = machines.at(context, plan.host.as_deref());
    machine.read_many(&paths, LARGEST).await.map_err(InstallError::on(&plan.server))
}

/// Carries out what concerns several machines, some of them side by side. What has begun comes to its end.
async fn all_done(work: Vec<BoxFuture<'_, Result<(), InstallError>>>) -> Result<(), InstallError> {
    let done: Vec<_> = stream::iter(work).buffered(MACHINES_AT_ONCE).collect().await;
    done.into_iter().collect()
}

/// Writes what is planned for the servers of one machine, and has each of them test it.
async fn write_all(context: &Context, machines: &Machines, plans: &[&ServerPlan]) -> Result<(), InstallError> {
    for plan in plans {
        for change in &plan.changes {
            context.report(&Progress::Change {
                host: plan.host.clone(),
                path: change.path.clone(),
                how: change.how.clone(),
            });
            write(context, machines, plan, change).await?;
        }
        crash_point("written");
        if let Some(test) = &plan.test {
            context.report(&Progress::Doing("have the server test its configuration"));
            let tested = machines.at(context, plan.host.as_deref()).run(test, b"", &plan.rules).await;
            tested.map_err(|source| InstallError::Test { server: plan.server.clone(), source })?;
        }
    }
    Ok(())
}

/// Makes the servers of one machine take what was changed.
async fn take_all(
    context: &Context,
    store: &Store,
    machines: &Machines,
    plans: &[&ServerPlan],
) -> Result<(), InstallError> {
    for plan in plans {
        if plan.reload.is_some() || plan.upload.is_some() {
            store.mark_reloaded(&plan.server).await?;
            take(context, store, machines, plan).await?;
        }
        crash_point("reloaded");
    }
    Ok(())
}

async fn write(context: &Context, machines: &Machines, plan: &ServerPlan, change: &Change) -> Result<(), InstallError> {
    let (host, path, failed) = (plan.host.as_deref(), &change.path, InstallError::on(&plan.server));
    let access = match change.access {
        Some(access) => access,
        None => {
            let gone = || InstallError::Write {
                server: plan.server.clone(),
                path: path.clone(),
                source: io::ErrorKind::NotFound.into(),
            };
            machines.at(context, host).read(path, LARGEST).await.map_err(&failed)?.ok_or_else(gone)?.access
        }
    };
    machines.at(context, host).write(path, &change.new, access).await.map_err(failed)
}

async fn installed_fingerprint(store: &Store, placement: &Placement<'_>) -> Result<String, StoreError> {
    let known = store.generations(placement.certificate).await?;
    let found = known.into_iter().find(|g| g.number == placement.generation);
    Ok(found.map(|g| g.fingerprint).unwrap_or_default())
}
