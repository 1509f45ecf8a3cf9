//! Machines over SSH: the system's `ssh` does the talking, so its configuration, agent and known hosts count.

use crate::error::{HostError, LARGEST, tame};
use crate::files::{Access, FileRead};
use crate::socket::converse;
use eskort_core::inventory::SshHost;
use futures_core::Stream;
use futures_util::future::try_join_all;
use openssh::{ControlPersist, ForwardType, KnownHosts, SessionBuilder, Stdio};
use openssh_sftp_client::error::SftpErrorKind;
use openssh_sftp_client::metadata::{MetaDataBuilder, Permissions};
use openssh_sftp_client::{Error as SftpError, Sftp, SftpOptions};
use std::borrow::Cow;
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::AsyncWriteExt;
use tokio::net::UnixStream;

pub(crate) struct SshSession {
    host: String,
    /// `None` once it is closed.
    session: Option<Arc<openssh::Session>>,
    sftp: Option<Sftp>,
}

impl Drop for SshSession {
    /// A session that is dropped, and not closed, waits for a program to end: that is done beside everything else.
    fn drop(&mut self) {
        if let Some(session) = self.session.take() {
            let sftp = self.sftp.take();
            std::thread::spawn(move || drop((sftp, session)));
        }
    }
}

impl SshSession {
    pub(crate) async fn open(name: &str, host: &SshHost, timeout: Duration) -> Result<Self, HostError> {
        let mut builder = SessionBuilder::default();
        builder.known_hosts_check(KnownHosts::Strict).connect_timeout(timeout);
        builder.control_directory(std::env::temp_dir());
        // Should this program die, the connection ends by itself.
        builder.control_persist(ControlPersist::IdleFor(NonZeroUsize::new(30).expect("30 is not 0")));
        if let Some(port) = host.port {
            builder.port(port);
        }
        if let Some(user) = &host.user {
            builder.user(user.clone());
        }
        if let Some(path) = &host.key_file {
            builder.keyfile(path);
        }
        if let Some(path) = &host.known_hosts {
            builder.user_known_hosts_file(path);
        }
        if let Some(path) = &host.ssh_config {
            builder.config_file(path);
        }
        if !host.jump.is_empty() {
            builder.jump_hosts(&host.jump);
        }
        let session = builder.connect(&host.address).await.map_err(|error| why_not(name, host, &error))?;
        Ok(SshSession { host: name.to_owned(), session: Some(Arc::new(session)), sftp: None })
    }

    pub(crate) async fn close(mut self) {
        if let Some(sftp) = self.sftp.take() {
            let _ = sftp.close().await;
        }
        if let Some(session) = self.session.take().and_then(Arc::into_inner) {
            let _ = session.close().await;
        }
    }

    fn session(&self) -> &Arc<openssh::Session> {
        self.session.as_ref().expect("only closing takes it away")
    }

    /// Returns the SFTP channel, opened when it is first needed.
    async fn sftp(&mut self, job: &'static str, path: &Path) -> Result<&Sftp, HostError> {
        if self.sftp.is_none() {
            let opened = Sftp::from_clonable_session(Arc::clone(self.session()), SftpOptions::new()).await;
            self.sftp = Some(opened.map_err(|error| self.file(job, path)(error))?);
        }
        Ok(self.sftp.as_ref().expect("it was just opened"))
    }

    fn file(&self, job: &'static str, path: &Path) -> impl Fn(SftpError) -> HostError + use<> {
        let (host, path) = (self.host.clone(), path.to_owned());
        move |error| HostError::File { host: host.clone(), job, path: path.clone(), what: sftp_words(&error) }
    }

    pub(crate) async fn is_folder(&mut self, path: &Path) -> Result<bool, HostError> {
        let fail = self.file("look at", path);
        let seen = self.sftp("look at", path).await?.fs().metadata(path).await;
        match seen {
            Ok(metadata) => Ok(metadata.file_type().is_some_and(|kind| kind.is_dir())),
            Err(error) if is_missing(&error) => Ok(false),
            Err(error) => Err(fail(error)),
        }
    }

    pub(crate) async fn make_folder(&mut self, path: &Path) -> Result<(), HostError> {
        let fail = self.file("make", path);
        let mut fs = self.sftp("make", path).await?.fs();
        // With its permissions from the beginning: changing them afterwards would follow whatever is put into its place.
        let mut builder = fs.dir_builder();
        builder.permissions(permissions(0o755));
        builder.create(path).await.map_err(&fail)?;
        let made = fs.symlink_metadata(path).await.map_err(&fail)?;
        let open = made.permissions().is_none_or(|p| p.read_by_other() && p.execute_by_other());
        if open || !made.file_type().is_some_and(|kind| kind.is_dir()) {
            return Ok(());
        }
        fs.set_permissions(path, permissions(0o755)).await.map_err(&fail)
    }

    pub(crate) async fn is_link(&mut self, path: &Path) -> Result<bool, HostError> {
        let fail = self.file("look at", path);
        match self.sftp("look at", path).await?.fs().symlink_metadata(path).await {
            Ok(metadata) => Ok(metadata.file_type().is_some_and(|kind| kind.is_symlink())),
            Err(error) if is_missing(&error) => Ok(false),
            Err(error) => Err(fail(error)),
        }
    }

    pub(crate) async fn put(&mut self, path: &Path, part: &Path, bytes: &[u8]) -> Result<(), HostError> {
        self.write_by_way_of(part, path, bytes, Access::mode(0o644)).await
    }

    /// Writes a file under the name `part`, with its access before its first byte, and renames it. Nothing is left when that fails.
    async fn write_by_way_of(
        &mut self,
        part: &Path,
        path: &Path,
        bytes: &[u8],
        access: Access,
    ) -> Result<(), HostError> {
        let fail = self.file("write", path);
        let sftp = self.sftp("write", path).await?;
        let mode = u16::try_from(access.mode & 0o777).expect("nine bits");
        let written = async {
            // What stands there already, a link of somebody's perhaps, is not opened.
            let mut file = sftp.options().write(true).create_new(true).open(part).await?;
            if let (Some(uid), Some(gid)) = (access.uid, access.gid) {
                file.set_metadata(MetaDataBuilder::new().id((uid, gid)).create()).await?;
            }
            file.set_permissions(permissions(mode)).await?;
            file.write_all(bytes).await?;
            file.close().await?;
            sftp.fs().rename(part, path).await
        };
        let written = written.await;
        if written.is_err() {
            let _ = sftp.fs().remove_file(part).await;
        }
        written.map_err(fail)
    }

    pub(crate) async fn read(&mut self, path: &Path) -> Result<Option<Vec<u8>>, HostError> {
        let fail = self.file("read", path);
        let sftp = self.sftp("read", path).await?;
        let mut file = match sftp.open(path).await {
            Ok(file) => file,
            Err(error) if is_missing(&error) => return Ok(None),
            Err(error) => return Err(fail(error)),
        };
        let mut bytes = Vec::new();
        while bytes.len() <= LARGEST {
            let wanted = u32::try_from(LARGEST).unwrap_or(u32::MAX);
            match file.read(wanted, bytes_buffer()).await.map_err(&fail)? {
                Some(part) => bytes.extend_from_slice(&part),
                None => break,
            }
        }
        let _ = file.close().await;
        Ok(Some(bytes))
    }

    /// Reads files of at most `most` bytes each, all at once, with whose they are and who may do what with them.
    pub(crate) async fn read_many(&mut self, paths: &[PathBuf], most: u64) -> Result<Vec<Option<FileRead>>, HostError> {
        let Some(first) = paths.first() else { return Ok(Vec::new()) };
        self.sftp("read", first).await?;
        let this = &*self;
        try_join_all(paths.iter().map(|path| this.read_whole(path, most))).await
    }

    async fn read_whole(&self, path: &Path, most: u64) -> Result<Option<FileRead>, HostError> {
        let fail = self.file("read", path);
        let host = self.host.clone();
        let sftp = self.sftp.as_ref().expect("it was opened for all");
        let mut file = match sftp.open(path).await {
            Ok(file) => file,
            Err(error) if is_missing(&error) => return Ok(None),
            Err(error) => return Err(fail(error)),
        };
        let metadata = file.metadata().await.map_err(&fail)?;
        let mut bytes = Vec::new();
        while let Some(part) = file.read(64 * 1024, bytes_buffer()).await.map_err(&fail)? {
            bytes.extend_from_slice(&part);
            if bytes.len() as u64 > most {
                let what = format!("it is larger than {most} bytes");
                return Err(HostError::File { host, job: "read", path: path.to_owned(), what });
            }
        }
        let _ = file.close().await;
        let mode = metadata.permissions().map_or(0o644, |permissions| mode_of(&permissions));
        Ok(Some(FileRead { bytes, access: Access { mode, uid: metadata.uid(), gid: metadata.gid() } }))
    }

    /// Returns where a file is that may be behind a link. Only a link of root's is followed, or of the user that Eskort logs in as:
    /// whose that is shows in a folder `aside` that is made for the question.
    async fn behind_link(&mut self, path: &Path, aside: &Path) -> Result<PathBuf, HostError> {
        let (host, fail) = (self.host.clone(), self.file("look at", path));
        let mut fs = self.sftp("look at", path).await?.fs();
        let link = match fs.symlink_metadata(path).await {
            Ok(metadata) if metadata.file_type().is_some_and(|kind| kind.is_symlink()) => metadata,
            Ok(_) => return Ok(path.to_owned()),
            Err(error) if is_missing(&error) => return Ok(path.to_owned()),
            Err(error) => return Err(fail(error)),
        };
        if link.uid() != Some(0) {
            fs.dir_builder().permissions(permissions(0o700)).create(aside).await.map_err(&fail)?;
            let own = fs.symlink_metadata(aside).await.map(|made| made.uid());
            let _ = fs.remove_dir(aside).await;
            if link.uid().is_none() || link.uid() != own.map_err(&fail)? {
                let what = "it is a link that neither root nor the user of the host made".to_owned();
                return Err(HostError::File { host, job: "write", path: path.to_owned(), what });
            }
        }
        fs.canonicalize(path).await.map_err(fail)
    }

    /// Writes a file whole or not at all, with the access that it is to have. It is made in a folder `aside` beside it, which is opened
    /// to nobody else: SFTP makes files that all may open, and who had opened one while it was empty could read a key later.
    pub(crate) async fn write_atomic(
        &mut self,
        path: &Path,
        aside: &str,
        bytes: &[u8],
        access: Access,
    ) -> Result<(), HostError> {
        let path = &self.behind_link(path, &path.with_file_name(aside)).await?;
        let aside = &path.with_file_name(aside);
        let fail = self.file("write", path);
        let mut fs = self.sftp("write", path).await?.fs();
        fs.dir_builder().permissions(permissions(0o700)).create(aside).await.map_err(&fail)?;
        // Where the server made the folder otherwise.
        let closed = fs.set_permissions(aside, permissions(0o700)).await.map_err(&fail);
        let written = match closed {
            Ok(()) => self.write_by_way_of(&aside.join("part"), path, bytes, access).await,
            Err(error) => Err(error),
        };
        if let Ok(sftp) = self.sftp("write", path).await {
            let _ = sftp.fs().remove_dir(aside).await;
        }
        written
    }

    /// Returns the names in a folder; none where it does not exist.
    pub(crate) async fn names_in(&mut self, folder: &Path) -> Result<Vec<std::ffi::OsString>, HostError> {
        let fail = self.file("list", folder);
        let mut fs = self.sftp("list", folder).await?.fs();
        let opened = match fs.open_dir(folder).await {
            Ok(opened) => opened,
            Err(error) if is_missing(&error) => return Ok(Vec::new()),
            Err(error) => return Err(fail(error)),
        };
        let mut entries = std::pin::pin!(opened.read_dir());
        let mut names = Vec::new();
        while let Some(entry) = std::future::poll_fn(|context| entries.as_mut().poll_next(context)).await {
            let entry = entry.map_err(&fail)?;
            let name = entry.filename().as_os_str();
            if name != "." && name != ".." {
                names.push(name.to_owned());
            }
        }
        Ok(names)
    }

    pub(crate) async fn remove(&mut self, path: &Path) -> Result<(), HostError> {
        let fail = self.file("remove", path);
        match self.sftp("remove", path).await?.fs().remove_file(path).await {
            Err(error) if !is_missing(&error) => Err(fail(error)),
            _ => Ok(()),
        }
    }

    pub(crate) async fn remove_folder(&mut self, path: &Path) -> Result<(), HostError> {
        let fail = self.file("remove", path);
        match self.sftp("remove", path).await?.fs().remove_dir(path).await {
            Err(error) if !is_missing(&error) => Err(fail(error)),
            _ => Ok(()),
        }
    }

    /// Sends a message to a Unix socket there, through a socket `here` that is this user's alone, and returns what is answered. The
    /// folder of the socket must not be open to everybody, who could listen in the server's place.
    pub(crate) async fn ask_socket(
        &mut self,
        socket: &Path,
        here: &Path,
        message: &[u8],
    ) -> Result<Vec<u8>, HostError> {
        let (host, fail) = (self.host.clone(), self.file("talk to", socket));
        let broken =
            |what: String| HostError::File { host: host.clone(), job: "talk to", path: socket.to_owned(), what };
        let folder = socket.parent().unwrap_or(Path::new("/"));
        let seen = self.sftp("look at", folder).await?.fs().metadata(folder).await.map_err(fail)?;
        if seen.permissions().is_none_or(|permissions| permissions.write_by_other()) {
            return Err(broken("everybody may write into its folder, and could listen in its place".to_owned()));
        }
        let unix = |path| openssh::Socket::UnixSocket { path: Cow::Borrowed(path) };
        let forwarded = self.session().request_port_forward(ForwardType::Local, unix(here), unix(socket)).await;
        forwarded.map_err(|error| broken(tame(&error.to_string())))?;
        let answer = async { converse(UnixStream::connect(here).await?, message).await }.await;
        let _ = self.session().close_port_forward(ForwardType::Local, unix(here), unix(socket)).await;
        let _ = std::fs::remove_file(here);
        answer.map_err(|error| broken(tame(&error.to_string())))
    }

    pub(crate) async fn run(&mut self, words: &[String], input: &[u8]) -> Result<Vec<u8>, HostError> {
        let command = words.join(" ");
        let broken = |what: String| HostError::Command {
            host: self.host.clone(),
            command: command.clone(),
            code: None,
            status: "a lost connection".into(),
            said: tame(&what),
        };
        let Some((program, arguments)) = words.split_first() else { return Ok(Vec::new()) };
        let mut remote = self.session().command(program.as_str());
        remote.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = remote.spawn().await.map_err(|e| broken(e.to_string()))?;
        if let Some(mut stdin) = child.stdin().take() {
            // A command that reads nothing has closed its end: its exit status says whether that was right.
            let _ = stdin.write_all(input).await;
        }
        let output = child.wait_with_output().await.map_err(|e| broken(e.to_string()))?;
        if output.status.success() {
            return Ok(output.stdout);
        }
        let text = String::from_utf8_lossy(&output.stderr).into_owned();
        Err(HostError::Command {
            host: self.host.clone(),
            code: output.status.code(),
            status: output.status.to_string(),
            said: tame(&text),
            command,
        })
    }
}

fn bytes_buffer() -> bytes::BytesMut {
    bytes::BytesMut::new()
}

fn permissions(mode: u16) -> Permissions {
    let mut permissions = Permissions::default();
    permissions.set_read_by_owner(mode & 0o400 != 0).set_write_by_owner(mode & 0o200 != 0);
    permissions.set_execute_by_owner(mode & 0o100 != 0).set_read_by_group(mode & 0o040 != 0);
    permissions.set_write_by_group(mode & 0o020 != 0).set_write_by_other(mode & 0o002 != 0);
    permissions.set_execute_by_group(mode & 0o010 != 0).set_read_by_other(mode & 0o004 != 0);
    permissions.set_execute_by_other(mode & 0o001 != 0);
    permissions
}

fn mode_of(permissions: &Permissions) -> u32 {
    let bits = [
        permissions.read_by_owner(),
        permissions.write_by_owner(),
        permissions.execute_by_owner(),
        permissions.read_by_group(),
        permissions.write_by_group(),
        permissions.execute_by_group(),
        permissions.read_by_other(),
        permissions.write_by_other(),
        permissions.execute_by_other(),
    ];
    bits.iter().fold(0, |mode, bit| mode << 1 | u32::from(*bit))
}

fn is_missing(error: &SftpError) -> bool {
    matches!(error, SftpError::SftpError(SftpErrorKind::NoSuchFile, _))
}

fn sftp_words(error: &SftpError) -> String {
    match error {
        SftpError::SftpError(SftpErrorKind::PermDenied, _) => "permission denied".into(),
        SftpError::SftpError(SftpErrorKind::NoSuchFile, _) => "no such file or folder".into(),
        SftpError::SftpError(_, message) => tame(&message.to_string()),
        SftpError::RemoteChildSpawnError(error) => format!("no SFTP there: {error}"),
        _ => "the connection was lost".into(),
    }
}

/// Turns what `ssh` said into a kind of failure.
fn why_not(name: &str, host: &SshHost, error: &openssh::Error) -> HostError {
    let source = std::error::Error::source(error).map(ToString::to_string);
    let what = tame(&source.unwrap_or_else(|| error.to_string()).replace(['\r', '\n'], " "));
    let (host, address) = (name.to_owned(), host.address.clone());
    let says = |part: &str| what.contains(part);
    if says("Host key verification failed") || says("host key is known") || says("IDENTIFICATION HAS CHANGED") {
        HostError::Untrusted { host, address, what }
    } else if says("Permission denied") || says("Too many authentication failures") {
        HostError::Login { host, address, what }
    } else {
        HostError::Unreachable { host, address, what }
    }
}
