//! Puts a generation on its servers: gather and plan, then apply all of it or nothing.

mod files;
mod nginx;

use crate::crash::crash_point;
use crate::{App, CommandError, FileChange, Progress};
use eskort_core::finding::Finding;
use eskort_core::inventory::{CheckAddress, Install, Part, ServerKind};
use eskort_core::names::Identifier;
use eskort_probe::observe;
use eskort_siteconf::nginx::{LoadError, PlanError};
use eskort_store::files::{Access, make_folders, write_whole};
use eskort_store::{GenerationFolder, Store, StoreError};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Why a certificate could not be put on a server.
#[derive(Debug, thiserror::Error)]
pub enum InstallError {
    /// The configuration cannot be read.
    #[error("cannot read the configuration of server `{server}`: {source}")]
    Load {
        /// The server.
        server: String,
        /// Why.
        source: LoadError,
    },
    /// The configuration cannot be changed.
    #[error("cannot change the configuration of server `{server}`: {source}")]
    Plan {
        /// The server.
        server: String,
        /// Why.
        source: PlanError,
    },
    /// A file cannot be written.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A user or group of the inventory.
    #[error("there is no {what} `{name}` on this machine")]
    NoSuchOwner {
        /// `user` or `group`.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// The server's own test refused the configuration.
    #[error("server `{server}` refuses the changed configuration: {source}")]
    Test {
        /// The server.
        server: String,
        /// What it said.
        source: CommandError,
    },
    /// It refuses the configuration even without the change.
    #[error("server `{server}` refuses its configuration as it was before any change: {source}")]
    BrokenBefore {
        /// The server.
        server: String,
        /// What it said.
        source: CommandError,
    },
    /// It could not be made to take the change.
    #[error("server `{server}` could not be made to take the change: {source}")]
    Reload {
        /// The server.
        server: String,
        /// What it said.
        source: CommandError,
    },
    /// It goes on serving something else.
    #[error("server `{server}` does not serve the new certificate after {}: {seen}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    NotServed {
        /// The server.
        server: String,
        /// What was seen instead.
        seen: String,
        /// How long was looked.
        after: Duration,
    },
    /// Putting things back failed too.
    #[error("{first}; and putting things back failed: {then}")]
    Undo {
        /// What failed first.
        first: Box<InstallError>,
        /// What failed then.
        then: String,
    },
    /// The state folder.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Where a certificate is looked at once it is installed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct LiveEndpoint {
    pub(crate) server: String,
    pub(crate) name: String,
    pub(crate) port: u16,
    /// What the inventory says to connect to.
    pub(crate) instead: Option<CheckAddress>,
    /// Where the server listens on this machine.
    pub(crate) here: CheckAddress,
    pub(crate) settle: Duration,
}

/// A file before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Change {
    pub(crate) path: PathBuf,
    pub(crate) new: Vec<u8>,
    /// `None` leaves it as it is.
    pub(crate) access: Option<Access>,
    /// How it changes, to show.
    pub(crate) how: FileChange,
}

/// What is to be done on one server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ServerPlan {
    pub(crate) server: String,
    pub(crate) changes: Vec<Change>,
    /// The server's own test of its configuration.
    pub(crate) test: Option<Vec<String>>,
    /// The command that makes it take the change.
    pub(crate) reload: Option<Vec<String>>,
    pub(crate) endpoints: Vec<LiveEndpoint>,
    pub(crate) findings: Vec<Finding>,
}

/// What to put where.
pub(crate) struct Placement<'a> {
    pub(crate) certificate: &'a str,
    pub(crate) names: &'a [Identifier],
    pub(crate) generation: u32,
    pub(crate) install: &'a [Install],
    /// The folder that challenge files are in, for redirecting server blocks.
    pub(crate) challenge_folder: Option<&'a Path>,
    /// Whether this is only to show what would be done: the generation may not be there yet.
    pub(crate) preview: bool,
}

/// Gathers the facts and plans for every server of a certificate. Reads only.
pub(crate) fn plan(app: &App, store: &Store, placement: &Placement<'_>) -> Result<Vec<ServerPlan>, InstallError> {
    let one = |install: &Install| {
        let server = &app.inventory.servers[&install.server];
        match &server.kind {
            ServerKind::Nginx { .. } => {
                nginx::plan(install, server, &store.current_folder(placement.certificate), placement)
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
pub(crate) fn lacking(plans: &[ServerPlan], store: &Store, placement: &Placement<'_>) -> Vec<String> {
    let mut lacks: Vec<String> = Vec::new();
    if !plans.is_empty() && store.current_generation(placement.certificate) != Some(placement.generation) {
        lacks.push(format!("`current` does not lead to generation {}", placement.generation));
    }
    for plan in plans {
        lacks.extend(plan.changes.iter().map(|c| format!("{} of server `{}`", c.path.display(), plan.server)));
    }
    lacks
}

/// Applies the plans: backs up, writes, tests, reloads, looks. When any of it fails, everything is put back.
pub(crate) async fn apply(
    app: &App,
    store: &Store,
    plans: &[ServerPlan],
    placement: &Placement<'_>,
) -> Result<(), InstallError> {
    let certificate = placement.certificate;
    let before = generation_before(store, placement)?;
    for change in plans.iter().flat_map(|p| &p.changes) {
        store.back_up(certificate, &change.path)?;
    }
    crash_point("backed-up");
    let mut told = Vec::new();
    match forward(app, store, plans, placement, &mut told).await {
        Ok(()) => Ok(store.settle_backups(certificate, (app.now)())?),
        Err(first) => {
            let put_back = store.restore_backups(certificate).and_then(|()| store.switch_current(certificate, before));
            match put_back {
                Ok(()) => Err(undone(app, plans, &told, first).await),
                Err(then) => Err(InstallError::Undo { first: Box::new(first), then: then.to_string() }),
            }
        }
    }
}

/// Everything lies as it was again: makes the servers that were told of the change take that, and returns what to say.
async fn undone(app: &App, plans: &[ServerPlan], told: &[&Vec<String>], first: InstallError) -> InstallError {
    if let InstallError::Test { server, .. } = &first
        && let Some(test) = plans.iter().find(|p| p.server == *server).and_then(|p| p.test.as_ref())
        && let Err(source) = crate::command::run(test, &work_folder(app)).await
    {
        return InstallError::BrokenBefore { server: server.clone(), source };
    }
    let mut trouble = None;
    for command in told {
        trouble = trouble.or(crate::command::run(command, &work_folder(app)).await.err());
    }
    match trouble {
        // The first failure was the reload itself: its second failure says nothing new.
        Some(then) if !matches!(first, InstallError::Reload { .. }) => {
            InstallError::Undo { first: Box::new(first), then: then.to_string() }
        }
        _ => first,
    }
}

/// Returns the generation to go back to. After a crash in the middle `current` may lead to the new one already.
fn generation_before(store: &Store, placement: &Placement<'_>) -> Result<Option<u32>, StoreError> {
    let current = store.current_generation(placement.certificate);
    if current != Some(placement.generation) {
        return Ok(current);
    }
    let known = store.generations(placement.certificate)?;
    let in_use = known.iter().find(|g| g.confirmed.is_some()).map(|g| g.number);
    Ok(in_use)
}

/// The way forward. `told` gets the commands of the servers that were told of the change.
async fn forward<'p>(
    app: &App,
    store: &Store,
    plans: &'p [ServerPlan],
    placement: &Placement<'_>,
    told: &mut Vec<&'p Vec<String>>,
) -> Result<(), InstallError> {
    store.switch_current(placement.certificate, Some(placement.generation))?;
    crash_point("switched");
    for plan in plans {
        for change in &plan.changes {
            (app.watch)(&Progress::Change { path: change.path.clone(), how: change.how.clone() });
            write(change)?;
        }
        crash_point("written");
        let server = || plan.server.clone();
        if let Some(test) = &plan.test {
            (app.watch)(&Progress::Doing("let the server test its configuration"));
            let tested = crate::command::run(test, &work_folder(app)).await;
            tested.map_err(|source| InstallError::Test { server: server(), source })?;
        }
        if let Some(reload) = &plan.reload {
            (app.watch)(&Progress::Doing("make the server take the change"));
            told.push(reload);
            let reloaded = crate::command::run(reload, &work_folder(app)).await;
            reloaded.map_err(|source| InstallError::Reload { server: server(), source })?;
        }
        crash_point("reloaded");
    }
    let fingerprint = installed_fingerprint(store, placement)?;
    for endpoint in plans.iter().flat_map(|p| &p.endpoints) {
        (app.watch)(&Progress::Doing("look whether the server shows the new certificate"));
        await_served(endpoint, &fingerprint).await?;
    }
    Ok(())
}

fn write(change: &Change) -> Result<(), InstallError> {
    let fail = |source| InstallError::Write { path: change.path.clone(), source };
    if let Some(folder) = change.path.parent() {
        make_folders(folder, 0o755).map_err(fail)?;
    }
    let access = match change.access {
        Some(access) => access,
        None => {
            use std::os::unix::fs::MetadataExt;
            let meta = std::fs::metadata(&change.path).map_err(fail)?;
            Access { mode: meta.mode() & 0o7777, uid: Some(meta.uid()), gid: Some(meta.gid()) }
        }
    };
    write_whole(&change.path, &change.new, access).map_err(fail)
}

fn installed_fingerprint(store: &Store, placement: &Placement<'_>) -> Result<String, StoreError> {
    let known = store.generations(placement.certificate)?;
    let found = known.into_iter().find(|g| g.number == placement.generation);
    Ok(found.map(|g| g.fingerprint).unwrap_or_default())
}

/// Looks at an endpoint until it shows the certificate: a reload may take a while.
async fn await_served(endpoint: &LiveEndpoint, fingerprint: &str) -> Result<(), InstallError> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(50);
    loop {
        let connect_to = endpoint.instead.unwrap_or(endpoint.here);
        let seen = match observe(&endpoint.name, endpoint.port, Some(connect_to)).await {
            Ok(o) if o.sent[0].fingerprint().to_string() == fingerprint => return Ok(()),
            Ok(o) => format!("{} shows `{}` by `{}`", o.address, o.sent[0].names.join(", "), o.sent[0].issuer),
            Err(error) => error.to_string(),
        };
        if begun.elapsed() > endpoint.settle {
            return Err(InstallError::NotServed { server: endpoint.server.clone(), seen, after: endpoint.settle });
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(1));
    }
}

/// Commands run in the inventory's folder.
fn work_folder(app: &App) -> PathBuf {
    app.inventory_path.parent().map_or_else(|| PathBuf::from("/"), Path::to_owned)
}

/// Returns where this machine reaches its own server.
fn loopback(port: u16) -> CheckAddress {
    CheckAddress { ip: std::net::Ipv4Addr::LOCALHOST.into(), port: Some(port) }
}

fn read_part(folder: &GenerationFolder, part: Part, preview: bool) -> Result<Vec<u8>, InstallError> {
    let path = folder.part(part);
    match std::fs::read(&path) {
        Err(e) if preview && e.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        other => other.map_err(|source| StoreError::Io { job: "read", path, source }.into()),
    }
}

/// Returns the endpoints that a check looks at, without asking for any change.
pub(crate) fn endpoints(
    app: &App,
    store: &Store,
    placement: &Placement<'_>,
) -> Result<Vec<LiveEndpoint>, InstallError> {
    Ok(plan(app, store, placement)?.into_iter().flat_map(|p| p.endpoints).collect())
}
