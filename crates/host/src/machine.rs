//! A machine: this one or another, with the same operations on either.

use crate::error::HostError;
use crate::files::{self, Access, FileRead};
use crate::program::{self, CommandError};
use crate::secret::{SecretError, read_secret};
use crate::session::{Session, passing_name};
use eskort_core::context::Context;
use eskort_core::inventory::{HostKind, ProgramRules};
use std::collections::BTreeMap;
use std::io;
use std::path::{Component, Path, PathBuf};
use tokio::sync::Mutex;

/// Why something could not be done on a machine.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum MachineError {
    /// A file or folder of this machine.
    #[error("cannot {job} {}: {source}", path.display())]
    Io {
        /// What was tried.
        job: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// A program of this machine.
    #[error(transparent)]
    Program(#[from] CommandError),
    /// Another machine.
    #[error(transparent)]
    Host(Box<HostError>),
    /// The password of another machine.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// A machine that is not in the inventory any more.
    #[error("the host `{host}` is not in the inventory any more")]
    Unknown {
        /// Its name.
        host: String,
    },
}

impl From<HostError> for MachineError {
    fn from(error: HostError) -> Self {
        MachineError::Host(Box::new(error))
    }
}

/// A machine whose files and programs are used.
enum Machine {
    Here,
    There(Box<Session>),
    /// It could not be connected to: the rest of the run does not wait for it again.
    OutOfReach(HostError),
}

/// The machines of one run, each connected to when it is first needed. `None` is this one.
#[derive(Default)]
pub struct Machines(Mutex<BTreeMap<Option<String>, Machine>>);

/// Returns what makes an error of this machine's files.
fn failed(job: &'static str, path: &Path) -> impl FnOnce(io::Error) -> MachineError {
    let path = path.to_owned();
    move |source| MachineError::Io { job, path, source }
}

impl Machines {
    /// Returns the same machines, each to be connected to anew; those that were out of reach still are.
    pub async fn anew(&self) -> Machines {
        let all = self.0.lock().await;
        let out_of_reach = |(host, machine): (&Option<String>, &Machine)| match machine {
            Machine::OutOfReach(why) => Some((host.clone(), Machine::OutOfReach(why.clone()))),
            Machine::Here | Machine::There(_) => None,
        };
        Machines(Mutex::new(all.iter().filter_map(out_of_reach).collect()))
    }

    /// Reads a file of at most `most` bytes; `None` when it is not there.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    pub async fn read(
        &self,
        context: &Context,
        host: Option<&str>,
        path: &Path,
        most: u64,
    ) -> Result<Option<FileRead>, MachineError> {
        let mut all = self.0.lock().await;
        match connected(&mut all, context, host).await? {
            Connected::Here => files::read_whole(path, most).map_err(failed("read", path)),
            Connected::There(session) => {
                let read = session.read_whole(path, most).await;
                forget_if_failed(&mut all, host, read)
            }
        }
    }

    /// Returns the files that a pattern stands for, as glob(3) has it, in order.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    pub async fn list(
        &self,
        context: &Context,
        host: Option<&str>,
        pattern: &Path,
    ) -> Result<Vec<PathBuf>, MachineError> {
        let bad = |e: glob::PatternError| failed("list", pattern)(io::Error::new(io::ErrorKind::InvalidInput, e));
        // An editor's hidden files are not meant.
        let options = glob::MatchOptions { require_literal_leading_dot: true, ..glob::MatchOptions::new() };
        let mut all = self.0.lock().await;
        match connected(&mut all, context, host).await? {
            Connected::Here => {
                let found = glob::glob_with(&pattern.to_string_lossy(), options).map_err(bad)?;
                let mut found: Vec<PathBuf> = found.filter_map(Result::ok).filter(|path| path.is_file()).collect();
                found.sort();
                Ok(found)
            }
            Connected::There(session) => {
                let found = list_there(session, pattern, options).await;
                forget_if_failed(&mut all, host, found)
            }
        }
    }

    /// Writes a file whole or not at all, with the access that it is to have, and makes the folders it needs.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    pub async fn write(
        &self,
        context: &Context,
        host: Option<&str>,
        path: &Path,
        bytes: &[u8],
        access: Access,
    ) -> Result<(), MachineError> {
        let folder = path.parent().unwrap_or(Path::new("/"));
        let mut all = self.0.lock().await;
        match connected(&mut all, context, host).await? {
            Connected::Here => {
                files::make_folders(folder, 0o755).map_err(failed("make", folder))?;
                files::write_atomic(path, bytes, access).map_err(failed("write", path))
            }
            Connected::There(session) => {
                let written = write_there(session, path, bytes, access).await;
                forget_if_failed(&mut all, host, written)
            }
        }
    }

    /// Removes a file; one that does not exist counts as removed.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    pub async fn remove(&self, context: &Context, host: Option<&str>, path: &Path) -> Result<(), MachineError> {
        let mut all = self.0.lock().await;
        match connected(&mut all, context, host).await? {
            Connected::Here => files::remove(path).map_err(failed("remove", path)),
            Connected::There(session) => {
                let removed = session.remove(path, &passing_name()).await;
                forget_if_failed(&mut all, host, removed)
            }
        }
    }

    /// Runs a command and waits for its end, for as long as the rules have it. On this machine it runs in the inventory's folder,
    /// with the environment and the user of the rules.
    ///
    /// # Errors
    /// When it cannot be started, or ends badly.
    pub async fn run(
        &self,
        context: &Context,
        host: Option<&str>,
        words: &[String],
        rules: &ProgramRules,
    ) -> Result<(), MachineError> {
        let mut all = self.0.lock().await;
        match connected(&mut all, context, host).await? {
            Connected::Here => Ok(program::run(words, context.folder(), rules).await?),
            Connected::There(session) => {
                let ended = session.run(words, b"", rules.timeout).await;
                forget_if_failed(&mut all, host, ended)
            }
        }
    }
}

/// A connection on which something failed may be lost: the next operation makes a new one.
fn forget_if_failed<T>(
    all: &mut BTreeMap<Option<String>, Machine>,
    host: Option<&str>,
    done: Result<T, HostError>,
) -> Result<T, MachineError> {
    if done.is_err() {
        all.remove(&host.map(str::to_owned));
    }
    Ok(done?)
}

async fn list_there(
    session: &mut Session,
    pattern: &Path,
    options: glob::MatchOptions,
) -> Result<Vec<PathBuf>, HostError> {
    let mut found = vec![PathBuf::new()];
    for part in pattern.components() {
        let text = part.as_os_str().to_string_lossy();
        let parsed = glob::Pattern::new(&text).ok();
        let wanted = parsed.filter(|_| matches!(part, Component::Normal(_)) && text.contains(['*', '?', '[']));
        let mut next = Vec::new();
        for above in found {
            let Some(wanted) = &wanted else {
                next.push(above.join(part));
                continue;
            };
            let names = session.names_in(&above).await?;
            let fits = names.iter().filter(|name| wanted.matches_with(&name.to_string_lossy(), options));
            next.extend(fits.map(|name| above.join(name)));
        }
        found = next;
    }
    found.sort();
    Ok(found)
}

async fn write_there(session: &mut Session, path: &Path, bytes: &[u8], access: Access) -> Result<(), HostError> {
    for missing in session.missing_folders(path.parent().unwrap_or(Path::new("/"))).await?.iter().rev() {
        session.make_folder(missing).await?;
    }
    session.write_atomic(path, bytes, access).await
}

/// What an operation is carried out on.
enum Connected<'m> {
    Here,
    There(&'m mut Session),
}

async fn connected<'m>(
    all: &'m mut BTreeMap<Option<String>, Machine>,
    context: &Context,
    host: Option<&str>,
) -> Result<Connected<'m>, MachineError> {
    let key = host.map(str::to_owned);
    if !all.contains_key(&key) {
        let machine = match host {
            None => Machine::Here,
            Some(name) => {
                let unknown = || MachineError::Unknown { host: name.to_owned() };
                let entry = context.inventory.hosts.get(name).ok_or_else(unknown)?;
                let password = match &entry.kind {
                    HostKind::Ftp(ftp) => Some(read_secret(&ftp.password)?),
                    HostKind::Ssh(_) => None,
                };
                match Session::open(name, entry, password.as_ref()).await {
                    Ok(session) => Machine::There(Box::new(session)),
                    Err(why) => Machine::OutOfReach(why),
                }
            }
        };
        all.insert(key.clone(), machine);
    }
    match all.get_mut(&key).expect("it was just put in") {
        Machine::Here => Ok(Connected::Here),
        Machine::There(session) => Ok(Connected::There(session)),
        Machine::OutOfReach(why) => Err(why.clone().into()),
    }
}
