//! What is to be done on a server: values, as they are planned, shown and applied.

use crate::InstallError;
use eskort_core::finding::Finding;
use eskort_core::https::HttpsWishes;
use eskort_core::inventory::{CertificateEntry, CheckAddress, Install, Part, ProgramRules, Server};
use eskort_core::names::Identifier;
use eskort_core::pki::tls_secret_manifest;
use eskort_core::progress::FileChange;
use eskort_core::software::Software;
use eskort_host::files::{Access, FileRead, read_whole};
use eskort_store::{GenerationFolder, StoreError};
use similar::DiffTag;
use similar::algorithms::{Capture, Replace, myers};
use std::fmt::Write;
use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// No file that is read or written here is larger.
pub(crate) const LARGEST: u64 = 16 << 20;

/// Where a certificate is looked at once it is installed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LiveEndpoint {
    /// The server in the inventory.
    pub server: String,
    /// The certificate in the inventory that it should show.
    pub certificate: String,
    /// The name that visitors ask for.
    pub name: String,
    /// The port that they come to.
    pub port: u16,
    /// What the inventory says to connect to.
    pub instead: Option<CheckAddress>,
    /// Where the server listens, as far as this machine knows; `None` for where the name leads.
    pub here: Option<CheckAddress>,
    /// How long a reload may take until the new certificate is served.
    pub reload_timeout: Duration,
}

/// A file before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The certificate it is made for; the first where there are several.
    pub certificate: String,
    /// Its path.
    pub path: PathBuf,
    /// What it is to hold.
    pub new: Vec<u8>,
    /// `None` leaves it as it is.
    pub access: Option<Access>,
    /// How it changes, to show.
    pub how: FileChange,
}

/// What is to be done on one server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerPlan {
    /// The server in the inventory.
    pub server: String,
    /// The machine that it runs on; `None` for this one.
    pub host: Option<String>,
    /// The certificates that it is to serve.
    pub certificates: Vec<String>,
    /// The files that change.
    pub changes: Vec<Change>,
    /// The program that reads the certificates, and the folder in which it finds them.
    pub reads: Option<(Software, PathBuf)>,
    /// The server's own test of its configuration.
    pub test: Option<Vec<String>>,
    /// Commands that make something of the files before it reads it: maps that are compiled.
    pub prepare: Vec<Vec<String>>,
    /// The command that makes it take the change.
    pub reload: Option<Vec<String>>,
    /// The Unix socket over which the files are put into it while it runs, in place of a reload.
    pub runtime: Option<PathBuf>,
    /// The file with the number of its main process, where that is known; on this machine only where that runs.
    pub pid_file: Option<PathBuf>,
    /// Whether that process may be sent SIGHUP in place of `reload`: on this machine, where the inventory does not say how it is reloaded.
    pub may_signal: bool,
    /// The address of the API that certificates are uploaded to.
    pub upload: Option<String>,
    /// How its programs are run.
    pub rules: ProgramRules,
    /// Where visitors then see the certificate.
    pub endpoints: Vec<LiveEndpoint>,
    /// What there is to say about it.
    pub findings: Vec<Finding>,
}

impl ServerPlan {
    /// Returns the file with the number of the process that is sent SIGHUP, in place of `reload`.
    pub fn signal(&self) -> Option<&Path> {
        self.pid_file.as_deref().filter(|_| self.may_signal)
    }

    /// Adds a change. One of the same file takes the place of the one before, which it contains.
    pub(crate) fn add(&mut self, change: Change) {
        match self.changes.iter_mut().find(|known| known.path == change.path) {
            Some(known) => *known = Change { certificate: known.certificate.clone(), ..change },
            None => self.changes.push(change),
        }
    }
}

/// What to put where.
pub struct Placement<'a> {
    /// The certificate in the inventory.
    pub certificate: &'a str,
    /// Its names.
    pub names: &'a [Identifier],
    /// The generation.
    pub generation: u32,
    /// The servers to put it on, as the inventory says.
    pub install: Vec<&'a Install>,
    /// Whether this is only to show what would be done: the generation may not be there yet.
    pub preview: bool,
}

impl<'a> Placement<'a> {
    /// Returns what to put where for a certificate of the inventory.
    pub fn of(certificate: &'a str, entry: &'a CertificateEntry, names: &'a [Identifier], generation: u32) -> Self {
        Placement { certificate, names, generation, install: entry.install.iter().collect(), preview: false }
    }

    /// Returns the part of it that concerns some servers only.
    pub fn on(&self, servers: impl Fn(&str) -> bool) -> Self {
        let install = self.install.iter().copied().filter(|install| servers(&install.server)).collect();
        Placement { install, ..*self }
    }
}

/// A certificate that one server is to serve.
pub(crate) struct Serving<'a> {
    /// The server's name in the inventory.
    pub(crate) name: &'a str,
    pub(crate) server: &'a Server,
    /// What its site wants of https there.
    pub(crate) wishes: HttpsWishes,
    /// For how many seconds browsers are to come back over https alone, where that is wanted.
    pub(crate) hsts_age: u32,
    pub(crate) placement: &'a Placement<'a>,
}

/// A file that is written for a server.
pub(crate) struct ServerFile {
    /// Where it goes.
    pub(crate) path: PathBuf,
    /// What it holds.
    pub(crate) part: Part,
    /// Who may do what with it.
    pub(crate) access: Access,
}

/// Returns the lines that differ, with two around them, as a unified difference.
pub(crate) fn difference(old: &str, new: &str) -> String {
    let (old, new): (Vec<&str>, Vec<&str>) = (old.lines().collect(), new.lines().collect());
    let mut found = Replace::new(Capture::new());
    let Ok(()) = myers::diff(&mut found, &old, 0..old.len(), &new, 0..new.len());
    let mut text = String::new();
    let range = |range: Range<usize>| match range.len() {
        1 => format!("{}", range.start + 1),
        0 => format!("{},0", range.start),
        many => format!("{},{many}", range.start + 1),
    };
    for group in found.into_inner().into_grouped_ops(2) {
        let (Some(first), Some(last)) = (group.first(), group.last()) else { continue };
        let before = range(first.old_range().start..last.old_range().end);
        let after = range(first.new_range().start..last.new_range().end);
        let _ = writeln!(text, "@@ -{before} +{after} @@");
        for operation in group {
            let lines =
                |sign: char, lines: &[&str]| -> String { lines.iter().map(|line| format!("{sign}{line}\n")).collect() };
            let (before, after) = (&old[operation.old_range()], &new[operation.new_range()]);
            match operation.tag() {
                DiffTag::Equal => text += &lines(' ', before),
                DiffTag::Delete | DiffTag::Insert | DiffTag::Replace => {
                    text += &lines('-', before);
                    text += &lines('+', after);
                }
            }
        }
    }
    text
}

/// Whether a file has the access that it should have.
pub(crate) fn in_place(there: &FileRead, access: Access) -> bool {
    there.access.mode == access.mode
        && access.uid.is_none_or(|uid| there.access.uid == Some(uid))
        && access.gid.is_none_or(|gid| there.access.gid == Some(gid))
}

/// Returns where this machine reaches its own server.
pub(crate) fn loopback(port: u16) -> CheckAddress {
    CheckAddress { ip: std::net::Ipv4Addr::LOCALHOST.into(), port: Some(port) }
}

pub(crate) fn read_part(folder: &GenerationFolder, part: Part, preview: bool) -> Result<Vec<u8>, InstallError> {
    if part == Part::Combined {
        let parts = [Part::Key, Part::Bundle].map(|part| read_part(folder, part, preview));
        return parts.into_iter().collect::<Result<Vec<_>, _>>().map(|parts| parts.concat());
    }
    if part == Part::Manifest {
        let parts = [Part::Bundle, Part::Key].map(|part| read_part(folder, part, preview));
        let [bundle, key] = parts.map(|part| part.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()));
        let certificate = folder.path().parent().and_then(Path::file_name).unwrap_or_default().to_string_lossy();
        return Ok(tls_secret_manifest(&certificate, &bundle?, &key?).into_bytes());
    }
    let path = folder.part(part);
    let fail = |source| StoreError::Io { job: "read", path: path.clone(), source };
    match read_whole(&path, LARGEST).map_err(fail)? {
        Some(file) => Ok(file.bytes),
        None if preview => Ok(Vec::new()),
        None => Err(fail(io::ErrorKind::NotFound.into()).into()),
    }
}
