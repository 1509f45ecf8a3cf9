//! Puts a generation on its servers: gather and plan, then apply all of it or nothing.

mod files;
mod nginx;

pub(crate) use nginx::Configs;

use eskort_core::context::Context;
use eskort_core::finding::Finding;
use eskort_core::inventory::{CheckAddress, Install, Part, ProgramRules, ServerKind};
use eskort_core::names::Identifier;
use eskort_core::progress::{FileChange, Progress};
use eskort_core::words;
use eskort_host::CommandError;
use eskort_host::crash_point;
use eskort_host::files::{Access, make_folders, read_whole, write_whole};
use eskort_probe::observe;
use eskort_siteconf::nginx::{LoadError, PlanError};
use eskort_store::{GenerationFolder, InstallState, PutBack, Store, StoreError, Undo};
use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// No file that is read or written here is larger.
const LARGEST: u64 = 16 << 20;

/// Why a certificate could not be put on a server.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
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
    #[error("no {what} `{name}` exists on this machine")]
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
    /// How its programs are run.
    pub(crate) rules: ProgramRules,
    pub(crate) endpoints: Vec<LiveEndpoint>,
    pub(crate) findings: Vec<Finding>,
}

/// What to put where.
pub(crate) struct Placement<'a> {
    pub(crate) certificate: &'a str,
    pub(crate) names: &'a [Identifier],
    pub(crate) generation: u32,
    pub(crate) install: &'a [Install],
    /// Whether this is only to show what would be done: the generation may not be there yet.
    pub(crate) preview: bool,
}

/// Gathers the facts and plans for every server of a certificate. Reads only.
pub(crate) fn plan(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    configs: &Configs,
) -> Result<Vec<ServerPlan>, InstallError> {
    let one = |install: &Install| {
        let server = &context.inventory.servers[&install.server];
        match &server.kind {
            ServerKind::Nginx { .. } => {
                nginx::plan(install, server, &store.current_folder(placement.certificate), placement, configs)
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

/// Applies the plans: keeps what is there, writes, tests, reloads, looks. When any of it fails, everything is put back.
pub(crate) async fn apply(
    context: &Context,
    store: &Store,
    plans: &[ServerPlan],
    placement: &Placement<'_>,
) -> Result<(), InstallError> {
    let certificate = placement.certificate;
    let servers = || plans.iter().map(|plan| plan.server.as_str());
    match forward(context, store, plans, placement).await {
        Ok(()) => {
            let now = (context.now)();
            store.settle_changes(now)?;
            store.record_installs(certificate, servers(), placement.generation, InstallState::Installed, None, now)?;
            Ok(())
        }
        Err(first) => {
            let error = undone(context, store, plans, first).await;
            let (seen, now) = (words::printable(&error.to_string(), 300), (context.now)());
            store.record_installs(
                certificate,
                servers(),
                placement.generation,
                InstallState::Failed,
                Some(&seen),
                now,
            )?;
            Err(error)
        }
    }
}

/// Undoes what a run that was killed left half-way, before anything else is planned. What somebody changed since stays theirs.
pub(crate) async fn recover(context: &Context, store: &Store) -> Result<(), StoreError> {
    let changes = store.unsettled()?;
    if changes.is_empty() {
        return Ok(());
    }
    (context.watch)(&Progress::Doing("undo what a run that was cut off left half-way"));
    let (theirs, failed) = put_back(store, &changes);
    for text in theirs.iter().map(Theirs::words).chain(failed.clone()) {
        (context.watch)(&Progress::Note(text));
    }
    if failed.is_empty() {
        let paths: Vec<PathBuf> = theirs.into_iter().map(|theirs| theirs.path).collect();
        store.forget_changes(&changes, &paths)?;
    }
    for server in told(&changes) {
        if let Err(error) = reload(context, server).await {
            let text = format!("server `{server}` could not be made to take what was put back: {error}");
            (context.watch)(&Progress::Note(text));
        }
    }
    Ok(())
}

/// A file that was to be put back, and that somebody else has changed.
struct Theirs {
    path: PathBuf,
    kept: Option<PathBuf>,
    difference: Option<String>,
}

impl Theirs {
    fn words(&self) -> String {
        let kept = match &self.kept {
            Some(kept) => format!("what it held before our change is in {}", kept.display()),
            None => "it did not exist before our change".to_owned(),
        };
        let difference = self.difference.as_ref().map(|d| format!("\n{}", d.trim_end())).unwrap_or_default();
        format!("{} was changed by somebody else, and stays as it is; {kept}{difference}", self.path.display())
    }
}

/// Puts back what is exactly as we made it. Returns what others have changed, and what could not be put back.
fn put_back(store: &Store, changes: &[Undo]) -> (Vec<Theirs>, Vec<String>) {
    let (mut theirs, mut failed) = (Vec::new(), Vec::new());
    for undo in changes {
        match store.put_back(undo) {
            Ok(PutBack::Done) => {}
            Ok(PutBack::Theirs { before, now }) => {
                let lossy = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
                let now = now.as_deref().map(lossy);
                let difference = now.map(|now| difference(&before.as_deref().map(lossy).unwrap_or_default(), &now));
                theirs.push(Theirs { path: undo.path.clone(), kept: undo.kept.clone(), difference });
            }
            Err(error) => failed.push(error.to_string()),
        }
    }
    (theirs, failed)
}

/// Returns the servers that were told of a change.
fn told(changes: &[Undo]) -> BTreeSet<&str> {
    changes.iter().filter(|undo| undo.told).map(|undo| undo.server.as_str()).collect()
}

/// Makes a server read its files again, by the command that the inventory has for it now.
async fn reload(context: &Context, server: &str) -> Result<(), CommandError> {
    let Some(entry) = context.inventory.servers.get(server) else { return Ok(()) };
    let command = match &entry.kind {
        ServerKind::Nginx { config, reload, .. } => nginx::reload_command(config, reload.as_ref()),
        ServerKind::Files { run, .. } => run.clone(),
    };
    eskort_host::program::run(&command, &work_folder(context), &entry.rules).await
}

/// Puts everything back, makes the servers that were told of the change take that, and returns what to say.
async fn undone(context: &Context, store: &Store, plans: &[ServerPlan], first: InstallError) -> InstallError {
    let changes = match store.unsettled() {
        Ok(changes) => changes,
        Err(then) => return InstallError::Undo { first: Box::new(first), then: then.to_string() },
    };
    let (theirs, mut trouble) = put_back(store, &changes);
    if trouble.is_empty() {
        let paths: Vec<PathBuf> = theirs.iter().map(|theirs| theirs.path.clone()).collect();
        trouble.extend(store.forget_changes(&changes, &paths).err().map(|e| e.to_string()));
    }
    trouble.extend(theirs.iter().map(Theirs::words));
    for server in told(&changes) {
        if let Err(error) = reload(context, server).await {
            // The first failure was this very reload: that it fails again says nothing new.
            if !matches!(&first, InstallError::Reload { server: failed, .. } if failed == server) {
                trouble.push(format!("server `{server}` could not be made to take what was put back: {error}"));
            }
        }
    }
    let first = match first {
        InstallError::Test { server, source } => {
            let test = plans.iter().find(|p| p.server == server);
            let again = match test.and_then(|plan| Some((plan, plan.test.as_ref()?))) {
                Some((plan, test)) => eskort_host::program::run(test, &work_folder(context), &plan.rules).await,
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
    plans: &[ServerPlan],
    placement: &Placement<'_>,
) -> Result<(), InstallError> {
    let certificate = placement.certificate;
    let first = plans.first().map_or("", |plan| plan.server.as_str());
    store.keep_link(first, certificate, placement.generation)?;
    for plan in plans {
        for change in &plan.changes {
            let shown = matches!(change.how, FileChange::Lines(_));
            store.keep_file(&plan.server, certificate, &change.path, &change.new, shown)?;
        }
    }
    crash_point("backed-up");
    store.switch_current(certificate, Some(placement.generation))?;
    crash_point("switched");
    for plan in plans {
        for change in &plan.changes {
            (context.watch)(&Progress::Change { path: change.path.clone(), how: change.how.clone() });
            write(change)?;
        }
        crash_point("written");
        let server = || plan.server.clone();
        if let Some(test) = &plan.test {
            (context.watch)(&Progress::Doing("let the server test its configuration"));
            let tested = eskort_host::program::run(test, &work_folder(context), &plan.rules).await;
            tested.map_err(|source| InstallError::Test { server: server(), source })?;
        }
        if let Some(reload) = &plan.reload {
            (context.watch)(&Progress::Doing("make the server take the change"));
            store.mark_told(&plan.server)?;
            let reloaded = eskort_host::program::run(reload, &work_folder(context), &plan.rules).await;
            reloaded.map_err(|source| InstallError::Reload { server: server(), source })?;
        }
        crash_point("reloaded");
    }
    let fingerprint = installed_fingerprint(store, placement)?;
    for endpoint in plans.iter().flat_map(|p| &p.endpoints) {
        (context.watch)(&Progress::Doing("look whether the server shows the new certificate"));
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
            let gone = || io::Error::from(io::ErrorKind::NotFound);
            let there = read_whole(&change.path, LARGEST).and_then(|there| there.ok_or_else(gone));
            there.map_err(fail)?.access
        }
    };
    write_whole(&change.path, &change.new, access).map_err(fail)
}

/// Returns the lines that differ, with two around them.
fn difference(old: &str, new: &str) -> String {
    similar::TextDiff::from_lines(old, new).unified_diff().context_radius(2).to_string()
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
            Ok(o) => format!("{} shows `{}` by `{}`", o.address, words::list(&o.sent[0].names), o.sent[0].issuer),
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
fn work_folder(context: &Context) -> PathBuf {
    context.inventory_path.parent().map_or_else(|| PathBuf::from("/"), Path::to_owned)
}

/// Returns where this machine reaches its own server.
fn loopback(port: u16) -> CheckAddress {
    CheckAddress { ip: std::net::Ipv4Addr::LOCALHOST.into(), port: Some(port) }
}

fn read_part(folder: &GenerationFolder, part: Part, preview: bool) -> Result<Vec<u8>, InstallError> {
    let path = folder.part(part);
    let fail = |source| StoreError::Io { job: "read", path: path.clone(), source };
    match read_whole(&path, LARGEST).map_err(fail)? {
        Some(file) => Ok(file.bytes),
        None if preview => Ok(Vec::new()),
        None => Err(fail(io::ErrorKind::NotFound.into()).into()),
    }
}

/// Returns the endpoints that a check looks at, without asking for any change.
pub(crate) fn endpoints(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    configs: &Configs,
) -> Result<Vec<LiveEndpoint>, InstallError> {
    Ok(plan(context, store, placement, configs)?.into_iter().flat_map(|p| p.endpoints).collect())
}
