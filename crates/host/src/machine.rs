//! A machine: this one or another, with the same operations on either.

use crate::error::{HostError, LARGEST};
use crate::files::{self, Access, FileRead};
use crate::program::{self, CommandError};
use crate::secret::{SecretError, read_secret};
use crate::session::{Session, passing_name};
use crate::socket;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::{HostKind, ProgramRules};
use nix::ifaddrs::{InterfaceAddress, getifaddrs};
use nix::unistd::{Group, User};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::IpAddr;
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, PoisonError};
use std::time::Duration;
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

/// A connection to a machine.
#[derive(Default)]
enum Connection {
    /// Not needed yet, or ended.
    #[default]
    None,
    Here,
    There(Box<Session>),
    /// It could not be connected to: the rest of the run does not wait for it again.
    OutOfReach(HostError),
}

/// The machines of one run, each connected to when it is first needed. Clones share the connections.
#[derive(Clone, Default)]
pub struct Machines(Arc<std::sync::Mutex<Connections>>);

/// The connection to each machine, by its name; `None` is this one.
type Connections = BTreeMap<Option<String>, Arc<Mutex<Connection>>>;

impl Machines {
    /// Returns a machine of the inventory; `None` is this one. Nothing is connected yet.
    pub fn at<'a>(&self, context: &'a Context, host: Option<&'a str>) -> Machine<'a> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let connection = Arc::clone(all.entry(host.map(str::to_owned)).or_default());
        Machine { context, host, connection }
    }

    /// Ends all connections: machines that are needed again are connected to anew. Those that were out of reach still are.
    #[boxed]
    pub async fn hang_up(&self) {
        let all: Vec<_> = self.0.lock().unwrap_or_else(PoisonError::into_inner).values().cloned().collect();
        for connection in all {
            let mut connection = connection.lock().await;
            if let Connection::There(_) = *connection
                && let Connection::There(session) = std::mem::take(&mut *connection)
            {
                session.close().await;
            }
        }
    }
}

/// Returns the addresses of this machine's interfaces.
pub fn own_addresses() -> BTreeSet<IpAddr> {
    let address = |interface: InterfaceAddress| {
        let address = interface.address?;
        let four = address.as_sockaddr_in().map(|found| found.ip().into());
        four.or_else(|| address.as_sockaddr_in6().map(|found| found.ip().into()))
    };
    getifaddrs().into_iter().flatten().filter_map(address).collect()
}

/// A machine whose files and programs are used.
pub struct Machine<'a> {
    context: &'a Context,
    host: Option<&'a str>,
    connection: Arc<Mutex<Connection>>,
}

/// Returns what makes an error of this machine's files.
fn failed(job: &'static str, path: &Path) -> impl FnOnce(io::Error) -> MachineError {
    let path = path.to_owned();
    move |source| MachineError::Io { job, path, source }
}

impl Machine<'_> {
    /// Returns its name in the inventory; `None` for this machine.
    pub fn host(&self) -> Option<&str> {
        self.host
    }

    /// Whether files there can be given to users, and closed or opened as one likes: not over FTP.
    pub fn gives_access(&self) -> bool {
        let entry = self.host.and_then(|host| self.context.inventory.hosts.get(host));
        !entry.is_some_and(|host| matches!(host.kind, HostKind::Ftp(_)))
    }

    /// Carries an operation out: on this machine, or over a session that is opened when there is none. A session on which something
    /// failed may be lost: the next operation makes a new one.
    async fn carry_out<T>(
        &self,
        here: impl AsyncFnOnce() -> Result<T, MachineError>,
        there: impl AsyncFnOnce(&mut Session) -> Result<T, HostError>,
    ) -> Result<T, MachineError> {
        let mut connection = self.connection.lock().await;
        if let Connection::None = *connection {
            *connection = self.connect().await?;
        }
        // A connection serves one after the other; this machine serves all at once.
        if let Connection::Here = *connection {
            drop(connection);
            return here().await;
        }
        match &mut *connection {
            Connection::None | Connection::Here => {
                unreachable!("it was just made, and is no connection to this machine")
            }
            Connection::OutOfReach(why) => Err(why.clone().into()),
            Connection::There(session) => {
                // Boxed: the callers' futures stay small.
                let done = Box::pin(there(session)).await;
                // A command that ends badly has ended, and says nothing against the session.
                let ended = matches!(&done, Err(HostError::Command { code: Some(_), .. }));
                if done.is_err() && !ended {
                    *connection = Connection::None;
                }
                Ok(done?)
            }
        }
    }

    async fn connect(&self) -> Result<Connection, MachineError> {
        let Some(name) = self.host else { return Ok(Connection::Here) };
        let unknown = || MachineError::Unknown { host: name.to_owned() };
        let entry = self.context.inventory.hosts.get(name).ok_or_else(unknown)?;
        let password = match &entry.kind {
            HostKind::Ftp(ftp) => Some(read_secret(&ftp.password)?),
            HostKind::Ssh(_) => None,
        };
        Ok(match Session::open(name, entry, password.as_ref()).await {
            Ok(session) => Connection::There(Box::new(session)),
            Err(why) => Connection::OutOfReach(why),
        })
    }

    /// Reads a file of at most `most` bytes; `None` when it is not there.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn read(&self, path: &Path, most: u64) -> Result<Option<FileRead>, MachineError> {
        let read = self.read_many(std::slice::from_ref(&path.to_owned()), most).await?;
        Ok(read.into_iter().next().flatten())
    }

    /// Reads several files as [`Machine::read`] does, in their order; on another machine many at the same time.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses one.
    #[boxed]
    pub async fn read_many(&self, paths: &[PathBuf], most: u64) -> Result<Vec<Option<FileRead>>, MachineError> {
        let read = |path: &PathBuf| files::read_whole(path, most).map_err(failed("read", path));
        let here = async || paths.iter().map(read).collect();
        self.carry_out(here, async |session| session.read_many(paths, most).await).await
    }

    /// Returns the files that a pattern stands for, as glob(3) has it, in order. Not over FTP.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn list(&self, pattern: &Path) -> Result<Vec<PathBuf>, MachineError> {
        let bad = |e: glob::PatternError| failed("list", pattern)(io::Error::new(io::ErrorKind::InvalidInput, e));
        // An editor's hidden files are not meant.
        let options = glob::MatchOptions { require_literal_leading_dot: true, ..glob::MatchOptions::new() };
        let here = async || {
            let found = glob::glob_with(&pattern.to_string_lossy(), options).map_err(bad)?;
            let mut found: Vec<PathBuf> = found.filter_map(Result::ok).filter(|path| path.is_file()).collect();
            found.sort();
            Ok(found)
        };
        self.carry_out(here, async |session| list_there(session, pattern, options).await).await
    }

    /// Writes a file whole or not at all, with the access that it is to have, and makes the folders it needs. Over FTP it has to belong to
    /// nobody in particular, and what others may read gets the access that the server gives it.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn write(&self, path: &Path, bytes: &[u8], access: Access) -> Result<(), MachineError> {
        let folder = path.parent().unwrap_or(Path::new("/"));
        let here = async || {
            files::make_folders(folder, 0o755).map_err(failed("make", folder))?;
            files::write_atomic(path, bytes, access).map_err(failed("write", path))
        };
        self.carry_out(here, async |session| write_there(session, path, bytes, access).await).await
    }

    /// Removes a file; one that does not exist counts as removed.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn remove(&self, path: &Path) -> Result<(), MachineError> {
        let here = async || files::remove(path).map_err(failed("remove", path));
        self.carry_out(here, async |session| session.remove(path, &passing_name()).await).await
    }

    /// Runs a command, gives it `input`, and waits for its end, for as long as the rules have it. On this machine it runs in the
    /// inventory's folder, with the environment and the user of the rules. Not over FTP.
    ///
    /// # Errors
    /// When it cannot be started, or ends badly.
    #[boxed]
    pub async fn run(&self, words: &[String], input: &[u8], rules: &ProgramRules) -> Result<(), MachineError> {
        self.output(words, input, rules).await.map(drop)
    }

    /// As [`Machine::run`]; returns what the command has printed.
    ///
    /// # Errors
    /// When it cannot be started, or ends badly.
    #[boxed]
    pub async fn output(&self, words: &[String], input: &[u8], rules: &ProgramRules) -> Result<Vec<u8>, MachineError> {
        let here = async || Ok(program::run(words, self.context.folder(), rules, input).await?);
        self.carry_out(here, async |session| session.run(words, input, rules.timeout).await).await
    }

    /// Sends a message to a Unix socket, and returns what is answered until the other side ends the conversation. Whoever listens there has
    /// to be trusted with the message: root, or the user that Eskort runs as or logs in as. Not over FTP.
    ///
    /// # Errors
    /// When nobody trusted listens there, or the answer is not there in time.
    #[boxed]
    pub async fn ask_socket(&self, at: &Path, message: &[u8], longest: Duration) -> Result<Vec<u8>, MachineError> {
        let here = async || {
            let asked = tokio::time::timeout(longest, socket::ask(at, message)).await;
            asked.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())).map_err(failed("talk to", at))
        };
        self.carry_out(here, async |session| session.ask_socket(at, message, longest).await).await
    }

    /// Returns an access with a user and a group by their names there, each `None` when it does not exist; with one of them alone on another
    /// machine, the other is that of the user that Eskort logs in as. Not over FTP.
    ///
    /// # Errors
    /// When the machine cannot be reached.
    #[boxed]
    pub async fn owned_by(&self, owner: Option<&str>, group: Option<&str>, mode: u32) -> Result<Access, MachineError> {
        if owner.is_none() && group.is_none() {
            return Ok(Access::mode(mode));
        }
        let here = async || {
            let uid = owner.and_then(|name| User::from_name(name).ok().flatten()).map(|user| user.uid.as_raw());
            let gid = group.and_then(|name| Group::from_name(name).ok().flatten()).map(|group| group.gid.as_raw());
            Ok(Access { mode, uid, gid })
        };
        self.carry_out(here, async |session| session.owned_by(owner, group, mode).await).await
    }

    /// Returns whether a folder is there.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn is_folder(&self, path: &Path) -> Result<bool, MachineError> {
        self.carry_out(async || Ok(path.is_dir()), async |session| session.is_folder(path).await).await
    }

    /// Returns those of a folder and the folders above it that do not exist, deepest first.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn missing_folders(&self, folder: &Path) -> Result<Vec<PathBuf>, MachineError> {
        let here = async || Ok(files::missing_folders(folder));
        self.carry_out(here, async |session| session.missing_folders(folder).await).await
    }

    /// Returns the first symbolic link among a folder and the folders above it, below `root`, that another machine would follow.
    /// This machine follows none of a stranger's.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn link_below(&self, root: &Path, folder: &Path) -> Result<Option<PathBuf>, MachineError> {
        let there = async |session: &mut Session| {
            for at in folder.ancestors().take_while(|at| *at != root) {
                if session.is_link(at).await? {
                    return Ok(Some(at.to_owned()));
                }
            }
            Ok(None)
        };
        self.carry_out(async || Ok(None), there).await
    }

    /// Returns what a file of a site holds, of at most 64 KiB; `None` when it is not there.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn read_site_file(&self, path: &Path) -> Result<Option<Vec<u8>>, MachineError> {
        let here = async || {
            let read = files::read_whole(path, LARGEST as u64).map_err(failed("read", path))?;
            Ok(read.map(|file| file.bytes))
        };
        self.carry_out(here, async |session| session.read(path).await).await
    }

    /// Makes a folder of a site, with those above it that are `missing`, so that visitors can read what is in it. On this machine they
    /// belong to the owner of `root`.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn make_site_folders(&self, root: &Path, folder: &Path, missing: &[PathBuf]) -> Result<(), MachineError> {
        let here = async || {
            let made = files::as_owner_of(root, || files::make_folders(folder, 0o755));
            made.map(drop).map_err(failed("make", folder))
        };
        let there = async |session: &mut Session| {
            for folder in missing.iter().rev() {
                session.make_folder(folder).await?;
            }
            Ok(())
        };
        self.carry_out(here, there).await
    }

    /// Writes a file of a site that visitors can read, whole or not at all: under the name `passing` first. On this machine it belongs to
    /// the owner of `root`.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn put_site_file(
        &self,
        root: &Path,
        path: &Path,
        passing: &str,
        bytes: &[u8],
    ) -> Result<(), MachineError> {
        let write = || files::write_transient(path, passing, bytes, Access::mode(0o644));
        let here = async || files::as_owner_of(root, write).map_err(failed("write", path));
        self.carry_out(here, async |session| session.put(path, passing, bytes).await).await
    }

    /// Removes a file of a site, and what a write of it that was cut short left under the name `passing`.
    ///
    /// # Errors
    /// When the machine cannot be reached, or refuses.
    #[boxed]
    pub async fn remove_site_file(&self, path: &Path, passing: &str) -> Result<(), MachineError> {
        let here = async || files::remove_transient(path, passing).map_err(failed("remove", path));
        self.carry_out(here, async |session| session.remove(path, passing).await).await
    }

    /// Removes those of the folders of a site, deepest first, that are empty. One that somebody put something into meanwhile is theirs, and
    /// one that cannot be removed harms nobody.
    ///
    /// # Errors
    /// When the machine cannot be reached.
    #[boxed]
    pub async fn remove_site_folders(&self, folders: &[PathBuf]) -> Result<(), MachineError> {
        let here = async || {
            for folder in folders {
                files::remove_folder(folder);
            }
            Ok(())
        };
        let there = async |session: &mut Session| {
            for folder in folders {
                session.remove_folder(folder).await;
            }
            Ok(())
        };
        self.carry_out(here, there).await
    }
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
