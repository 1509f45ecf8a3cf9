//! A connection to another machine: over SSH by the system's `ssh`, or over FTP.
//!
//! A file is written beside its place and renamed, so that nobody ever reads half of it.

use crate::error::HostError;
use crate::files::{Access, FileRead};
use crate::{ftp, ssh};
use eskort_core::boxed;
use eskort_core::inventory::{Host, HostKind};
use eskort_core::pki::Secret;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// So many files are read at the same time.
const AT_ONCE: usize = 32;

/// A connection to another machine.
pub struct Session {
    host: String,
    timeout: Duration,
    way: Way,
    /// Whether a step was given up in its middle: a late answer would be taken for that of the next.
    given_up: bool,
}

enum Way {
    Ssh(Box<ssh::SshSession>),
    Ftp(Box<ftp::FtpSession>),
}

/// Runs one operation on whichever kind of session it is, with the host's timeout.
macro_rules! on {
    ($session:expr, $job:literal, $way:ident => $operation:expr) => {{
        let (host, timeout) = ($session.host.clone(), $session.timeout);
        if $session.given_up {
            return Err(HostError::GivenUp { host });
        }
        let run = async {
            match &mut $session.way {
                Way::Ssh($way) => $operation.await,
                Way::Ftp($way) => $operation.await,
            }
        };
        match tokio::time::timeout(timeout, run).await {
            Ok(done) => done,
            Err(_) => {
                $session.given_up = true;
                Err(HostError::TimedOut { host, job: $job, after: timeout })
            }
        }
    }};
}

impl Session {
    /// Connects to a machine of the inventory. `password` is for FTP.
    ///
    /// # Errors
    /// When it cannot be reached, is not the right machine, or refused the login.
    #[boxed]
    pub async fn open(name: &str, host: &Host, password: Option<&Secret<String>>) -> Result<Self, HostError> {
        let connect = async {
            Ok(match &host.kind {
                HostKind::Ssh(ssh) => Way::Ssh(Box::new(ssh::SshSession::open(name, ssh, host.timeout).await?)),
                HostKind::Ftp(ftp) => Way::Ftp(Box::new(ftp::FtpSession::open(name, ftp, password).await?)),
            })
        };
        let late = |_| HostError::TimedOut { host: name.to_owned(), job: "connect", after: host.timeout };
        let way = tokio::time::timeout(host.timeout, connect).await.map_err(late)??;
        Ok(Session { host: name.to_owned(), timeout: host.timeout, way, given_up: false })
    }

    /// Ends the connection in an orderly way.
    #[boxed]
    pub async fn close(self) {
        // One that did not answer in time need not be asked politely.
        if self.given_up {
            return;
        }
        let end = async {
            match self.way {
                Way::Ssh(ssh) => ssh.close().await,
                Way::Ftp(ftp) => ftp.close().await,
            }
        };
        let _ = tokio::time::timeout(self.timeout, end).await;
    }

    /// Returns those of a folder and the folders above it that do not exist, deepest first.
    ///
    /// # Errors
    /// When the connection is lost.
    #[boxed]
    pub async fn missing_folders(&mut self, folder: &Path) -> Result<Vec<PathBuf>, HostError> {
        let mut missing = Vec::new();
        let mut at = Some(folder);
        while let Some(path) = at.filter(|p| !p.as_os_str().is_empty()) {
            if on!(self, "look at a folder", way => way.is_folder(path))? {
                break;
            }
            missing.push(path.to_owned());
            at = path.parent();
        }
        Ok(missing)
    }

    /// Returns whether a folder is there.
    ///
    /// # Errors
    /// When the connection is lost.
    #[boxed]
    pub async fn is_folder(&mut self, path: &Path) -> Result<bool, HostError> {
        on!(self, "look at a folder", way => way.is_folder(path))
    }

    /// Makes a folder that visitors can read.
    ///
    /// # Errors
    /// When the machine refuses, or the connection is lost.
    #[boxed]
    pub async fn make_folder(&mut self, path: &Path) -> Result<(), HostError> {
        on!(self, "make a folder", way => way.make_folder(path))
    }

    /// Writes a file that visitors can read, whole or not at all: under the name `passing` beside its place first.
    ///
    /// # Errors
    /// When the machine refuses, or the connection is lost. Nothing is left beside it if that can be helped.
    #[boxed]
    pub async fn put(&mut self, path: &Path, passing: &str, bytes: &[u8]) -> Result<(), HostError> {
        on!(self, "write a file", way => way.put(path, &path.with_file_name(passing), bytes))
    }

    /// Returns whether something is a symbolic link. Over FTP that cannot be seen, and is not so for anybody.
    ///
    /// # Errors
    /// When the connection is lost.
    #[boxed]
    pub async fn is_link(&mut self, path: &Path) -> Result<bool, HostError> {
        on!(self, "look at a folder", way => way.is_link(path))
    }

    /// Reads a file of at most 64 KiB; `None` when it is not there.
    ///
    /// # Errors
    /// When the machine refuses, or the connection is lost.
    #[boxed]
    pub async fn read(&mut self, path: &Path) -> Result<Option<Vec<u8>>, HostError> {
        on!(self, "read a file", way => way.read(path))
    }

    /// Reads files of at most `most` bytes each, with whose they are and who may do what with them; `None` for what is not there. Over FTP whose
    /// they are is not told.
    ///
    /// # Errors
    /// When the machine refuses one, or the connection is lost.
    #[boxed]
    pub async fn read_many(&mut self, paths: &[PathBuf], most: u64) -> Result<Vec<Option<FileRead>>, HostError> {
        let mut read = Vec::new();
        if let Way::Ftp(_) = self.way {
            for path in paths {
                let way = async |ftp: &mut ftp::FtpSession| ftp.read_whole(path, most).await;
                read.push(self.over_ftp("read a file", way).await?);
            }
            return Ok(read);
        }
        for paths in paths.chunks(AT_ONCE) {
            read.extend(self.over_ssh("read files", self.timeout, async |ssh| ssh.read_many(paths, most).await).await?);
        }
        Ok(read)
    }

    /// Writes a file whole or not at all, with the access that it is to have from its first byte. Over FTP what others may read gets the access
    /// that the server gives it.
    ///
    /// # Errors
    /// When the machine refuses, or the connection is lost.
    #[boxed]
    pub async fn write_atomic(&mut self, path: &Path, bytes: &[u8], access: Access) -> Result<(), HostError> {
        if let Way::Ftp(_) = self.way {
            let part = path.with_file_name(passing_name());
            let write = async |ftp: &mut ftp::FtpSession| ftp.write_atomic(path, &part, bytes, access).await;
            return self.over_ftp("write a file", write).await;
        }
        let write = async |ssh: &mut ssh::SshSession| ssh.write_atomic(path, &passing_name(), bytes, access).await;
        self.over_ssh("write a file", self.timeout, write).await
    }

    /// Returns the names in a folder; none where it does not exist. SSH only.
    ///
    /// # Errors
    /// When the machine refuses, or the connection is lost.
    #[boxed]
    pub async fn names_in(&mut self, folder: &Path) -> Result<Vec<std::ffi::OsString>, HostError> {
        self.over_ssh("list a folder", self.timeout, async |ssh| ssh.names_in(folder).await).await
    }

    /// Runs an operation that only SSH has, for as long as `longest`.
    async fn over_ssh<T>(
        &mut self,
        job: &'static str,
        longest: Duration,
        operation: impl AsyncFnOnce(&mut ssh::SshSession) -> Result<T, HostError>,
    ) -> Result<T, HostError> {
        let host = self.host.clone();
        if self.given_up {
            return Err(HostError::GivenUp { host });
        }
        let Way::Ssh(ssh) = &mut self.way else { return Err(HostError::NoCommands { host }) };
        match tokio::time::timeout(longest, operation(ssh)).await {
            Ok(done) => done,
            Err(_) => {
                self.given_up = true;
                Err(HostError::TimedOut { host, job, after: longest })
            }
        }
    }

    /// Runs an operation that is another over FTP.
    async fn over_ftp<T>(
        &mut self,
        job: &'static str,
        operation: impl AsyncFnOnce(&mut ftp::FtpSession) -> Result<T, HostError>,
    ) -> Result<T, HostError> {
        let (host, timeout) = (self.host.clone(), self.timeout);
        if self.given_up {
            return Err(HostError::GivenUp { host });
        }
        let Way::Ftp(ftp) = &mut self.way else { unreachable!("it was looked at") };
        match tokio::time::timeout(timeout, operation(ftp)).await {
            Ok(done) => done,
            Err(_) => {
                self.given_up = true;
                Err(HostError::TimedOut { host, job, after: timeout })
            }
        }
    }

    /// Removes a file, and what a write of it that was cut short left beside it. What does not exist counts as removed.
    ///
    /// # Errors
    /// When the machine refuses, or the connection is lost.
    #[boxed]
    pub async fn remove(&mut self, path: &Path, passing: &str) -> Result<(), HostError> {
        on!(self, "remove a file", way => way.remove(&path.with_file_name(passing)))?;
        on!(self, "remove a file", way => way.remove(path))
    }

    /// Removes a folder if it is empty, and returns whether it is gone.
    #[boxed]
    pub async fn remove_folder(&mut self, path: &Path) -> bool {
        self.try_remove_folder(path).await.is_ok()
    }

    async fn try_remove_folder(&mut self, path: &Path) -> Result<(), HostError> {
        on!(self, "remove a folder", way => way.remove_folder(path))
    }

    /// Runs a command, gives it `input`, and waits for its end. SSH only.
    ///
    /// # Errors
    /// When it ends badly, or the connection is lost.
    #[boxed]
    pub async fn run(&mut self, words: &[String], input: &[u8], longest: Duration) -> Result<Vec<u8>, HostError> {
        self.over_ssh("run a command", longest, async |ssh| ssh.run(words, input).await).await
    }

    /// Returns an access with a user and a group by their names there, `None` for one that does not exist; one that is not named is that of
    /// the user that logs in. SSH only.
    ///
    /// # Errors
    /// When the connection is lost.
    #[boxed]
    pub async fn owned_by(&mut self, owner: Option<&str>, group: Option<&str>, mode: u32) -> Result<Access, HostError> {
        let mut ids = Vec::new();
        let own = |flag: &str| vec!["id".to_owned(), flag.to_owned()];
        let named = |name: &str, words: [&str; 3]| {
            words.iter().map(|word| (*word).to_owned()).chain([name.to_owned()]).collect()
        };
        let user = owner.map_or_else(|| own("-u"), |name| named(name, ["id", "-u", "--"]));
        let group = group.map_or_else(|| own("-g"), |name| named(name, ["getent", "--", "group"]));
        for words in [user, group] {
            let said = match self.run(&words, b"", self.timeout).await {
                Err(HostError::Command { code: Some(_), .. }) => Vec::new(),
                said => said?,
            };
            // `id` says a number, and `getent` a line of fields.
            let said = String::from_utf8_lossy(&said).trim().to_owned();
            ids.push(said.split(':').nth(2).unwrap_or(&said).parse().ok());
        }
        Ok(Access { mode, uid: ids[0], gid: ids[1] })
    }

    /// Sends a message to a Unix socket there, and returns what is answered. SSH only.
    ///
    /// # Errors
    /// When others could listen there, nobody does, or the connection is lost.
    #[boxed]
    pub async fn ask_socket(&mut self, socket: &Path, message: &[u8], longest: Duration) -> Result<Vec<u8>, HostError> {
        let here = std::env::temp_dir().join(passing_name());
        self.over_ssh("talk to a socket", longest, async |ssh| ssh.ask_socket(socket, &here, message).await).await
    }
}

/// Returns a name that nobody can guess, for a file on its way to its place.
pub fn passing_name() -> String {
    use std::hash::{BuildHasher, Hasher};
    let random = std::collections::hash_map::RandomState::new().build_hasher().finish();
    format!(".eskort-{random:016x}.part")
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::inventory::{FtpHost, FtpTls, SecretSource};
    use std::sync::Arc;
    use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
    use tokio::sync::Notify;

    /// An FTP server that removes nothing, and says so late.
    async fn slow_server(answer_late: Arc<Notify>) -> u16 {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let answer_late = Arc::clone(&answer_late);
                tokio::spawn(async move {
                    let (read, mut write) = stream.into_split();
                    let mut lines = BufReader::new(read).lines();
                    let _ = write.write_all(b"220 ready\r\n").await;
                    while let Ok(Some(line)) = lines.next_line().await {
                        let word = line.split(' ').next().unwrap_or_default().to_owned();
                        if word == "DELE" {
                            answer_late.notified().await;
                        }
                        let answer = match word.as_str() {
                            "USER" => "331 password",
                            "PASS" => "230 in",
                            "PWD" => "257 \"/\"",
                            _ => "250 done",
                        };
                        let answer = if word == "TYPE" { "200 so" } else { answer };
                        let _ = write.write_all(format!("{answer}\r\n").as_bytes()).await;
                    }
                });
            }
        });
        port
    }

    #[tokio::test]
    async fn a_session_that_was_given_up_is_not_used_again() {
        let late = Arc::new(Notify::new());
        let port = slow_server(Arc::clone(&late)).await;
        let ftp = FtpHost {
            address: "127.0.0.1".into(),
            port,
            user: "keeper".into(),
            password: SecretSource::Env("NONE".into()),
            tls: FtpTls::None,
            roots: None,
        };
        let host = Host { kind: HostKind::Ftp(ftp), timeout: Duration::from_millis(300) };
        let password = Secret::new("oil".to_owned());
        let mut session = Session::open("account", &host, Some(&password)).await.unwrap();
        let first = session.remove(Path::new("/a"), ".a.part").await.unwrap_err();
        assert!(matches!(first, HostError::TimedOut { .. }), "{first}");
        late.notify_one();
        // The late answer to the first is on its way now: it must not be taken for that of another.
        let refused = session.remove(Path::new("/b"), ".b.part").await.unwrap_err();
        assert!(matches!(refused, HostError::GivenUp { .. }), "{refused}");
        let injected = Secret::new("oil\r\nDELE /etc/passwd".to_owned());
        let refused = Session::open("account", &host, Some(&injected)).await.err().unwrap();
        assert!(refused.to_string().contains("must not contain line breaks"), "{refused}");
    }
}
