//! Machines other than this one, and how they are reached.

use super::SecretSource;
use std::path::PathBuf;
use std::time::Duration;

/// A machine where files are put.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// How it is reached.
    pub kind: HostKind,
    /// How long one step may take: connecting, or moving one file.
    pub timeout: Duration,
}

/// The ways to reach a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HostKind {
    /// SSH: files over SFTP, and commands.
    Ssh(SshHost),
    /// FTP: files only.
    Ftp(FtpHost),
}

/// A machine that is reached by the system's `ssh`, which obeys its own configuration, agent and known hosts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SshHost {
    /// Its name or address, or an alias of the ssh configuration.
    pub address: String,
    /// The port; `None` for ssh's own choice.
    pub port: Option<u16>,
    /// The user; `None` for ssh's own choice.
    pub user: Option<String>,
    /// The private key; `None` for ssh's own choice and the agent.
    pub key_file: Option<PathBuf>,
    /// The file with the keys of known hosts; `None` for the user's own.
    pub known_hosts: Option<PathBuf>,
    /// An ssh configuration file instead of the user's own.
    pub ssh_config: Option<PathBuf>,
    /// Machines to go through on the way, in order: `user@host:port`.
    pub jump: Vec<String>,
}

/// A machine that is reached over FTP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FtpHost {
    /// Its name or address.
    pub address: String,
    /// The port.
    pub port: u16,
    /// The user.
    pub user: String,
    /// The password.
    pub password: SecretSource,
    /// Whether and how TLS is spoken.
    pub tls: FtpTls,
    /// PEM file with roots that its certificate is checked against, beside the system's.
    pub roots: Option<PathBuf>,
}

/// How TLS is spoken over FTP (RFC 4217).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FtpTls {
    /// Begun by `AUTH TLS` on the usual port.
    Explicit,
    /// From the first byte, on a port of its own.
    Implicit,
    /// Not at all: the password travels in clear.
    None,
}

impl Host {
    /// Returns the word for its kind.
    pub fn kind(&self) -> &'static str {
        match self.kind {
            HostKind::Ssh(_) => "ssh",
            HostKind::Ftp(_) => "ftp",
        }
    }

    /// Returns its address.
    pub fn address(&self) -> &str {
        match &self.kind {
            HostKind::Ssh(ssh) => &ssh.address,
            HostKind::Ftp(ftp) => &ftp.address,
        }
    }

    /// Returns the local paths in it.
    pub(super) fn paths_mut(&mut self) -> Vec<&mut PathBuf> {
        match &mut self.kind {
            HostKind::Ssh(ssh) => {
                [&mut ssh.key_file, &mut ssh.known_hosts, &mut ssh.ssh_config].into_iter().flatten().collect()
            }
            HostKind::Ftp(ftp) => ftp.password.path_mut().into_iter().chain(&mut ftp.roots).collect(),
        }
    }
}
