//! Machines other than this one, and how they are reached.

use super::SecretSource;
use super::read::{Entry, duration, kind};
use super::section::{Notes, Section};
use std::path::PathBuf;
use std::time::Duration;

pub(super) const SSH: &[&str] =
    &["kind", "address", "port", "user", "key-file", "known-hosts", "ssh-config", "jump", "patience"];
pub(super) const FTP: &[&str] =
    &["kind", "address", "port", "user", "password-file", "password-env", "tls", "roots", "patience"];

const USUAL_PATIENCE: Duration = Duration::from_secs(30);

/// A machine where files are put.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// How it is reached.
    pub kind: HostKind,
    /// How long one step may take: connecting, or moving one file.
    pub patience: Duration,
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

pub(super) fn read_host<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Host> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let word = |section: &Section<'_>, key| section.text(key).map(|t| t.value.to_owned());
    let (section, kind) = match kind(entry, &["ssh", "ftp"], notes)? {
        "ssh" => {
            let section = open(SSH);
            let kind = HostKind::Ssh(SshHost {
                address: address(&section)?,
                port: port(&section),
                user: user(&section),
                key_file: section.path("key-file"),
                known_hosts: section.path("known-hosts"),
                ssh_config: section.path("ssh-config"),
                jump: section.one_or_more("jump").iter().filter_map(|t| argument(&section, "jump", t)).collect(),
            });
            (section, kind)
        }
        _ => {
            let section = open(FTP);
            let tls = section.parsed("tls", "one of \"explicit\", \"implicit\", \"none\"", |text| match text {
                "explicit" => Some(FtpTls::Explicit),
                "implicit" => Some(FtpTls::Implicit),
                "none" => Some(FtpTls::None),
                _ => None,
            });
            let tls = tls.unwrap_or(FtpTls::Explicit);
            let usual_port = if tls == FtpTls::Implicit { 990 } else { 21 };
            if section.get("user").is_none() {
                section.missing("user", "user = \"keeper\"");
            }
            let password = SecretSource::read(&section, "password");
            if password.is_none() {
                section.missing("password-file", "password-file = \"ftp.password\", a file that only you can read");
            }
            let kind = HostKind::Ftp(FtpHost {
                address: address(&section)?,
                port: port(&section).unwrap_or(usual_port),
                user: word(&section, "user")?,
                password: password?,
                tls,
                roots: section.path("roots"),
            });
            (section, kind)
        }
    };
    Some(Host { kind, patience: duration(&section, "patience", USUAL_PATIENCE) })
}

fn address(section: &Section<'_>) -> Option<String> {
    if section.get("address").is_none() {
        section.missing("address", "address = \"www.lampholm.example\"");
    }
    argument(section, "address", &section.text("address")?)
}

fn user(section: &Section<'_>) -> Option<String> {
    argument(section, "user", &section.text("user")?)
}

/// Returns a text that becomes an argument of `ssh`: one that begins with `-` would be taken for an option.
fn argument(section: &Section<'_>, key: &str, text: &super::section::Text<'_>) -> Option<String> {
    let odd = text.value.is_empty()
        || text.value.starts_with('-')
        || text.value.contains(|c: char| c.is_whitespace() || c.is_control() || c == ',');
    if odd {
        section.note(text.span.clone(), format!("`{key}` cannot be `{}`", text.value), None);
        return None;
    }
    Some(text.value.to_owned())
}

fn port(section: &Section<'_>) -> Option<u16> {
    section.get("port")?;
    u16::try_from(section.number("port", 1..=65_535, 22)).ok()
}
