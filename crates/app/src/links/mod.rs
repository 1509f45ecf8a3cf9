//! Addresses that still say http, in a site's files and dumps: found, and changed to https.

mod online;
mod settings;
mod tables;
mod undo;
mod walk;

pub use online::{OverHttps, ask_others, find_on_sites};
pub use settings::{DatabaseLogin, SettingsError};
pub use undo::{Undone, undo_links};

use eskort_core::context::Context;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_databases::DatabaseError;
use eskort_host::files::{self, Access, as_owner_of};
use eskort_pages::{DumpMender, Hosts, Left, Tally, mend_text, mend_value};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use undo::{Backup, Sum};
use url::Url;
use walk::{Kind, Visited, walk};

/// Pages are read whole; none is larger.
const LARGEST: u64 = 64 << 20;
/// No site's configuration is larger.
const LARGEST_SETTINGS: u64 = 4 << 20;
/// So much is changed in one transaction of a database at the most.
const MOST_BYTES: usize = 8 << 20;
const MOST_CHANGES: usize = 500;
/// So many examples are shown.
const EXAMPLES: usize = 6;
/// So much is shown of a line before and behind an address.
const AROUND: usize = 40;

/// Where to look, and for what.
#[derive(Clone, Debug, Default)]
pub struct LinksOptions {
    /// Files and folders.
    pub paths: Vec<PathBuf>,
    /// The hosts whose addresses are meant; nothing stands for all names of the inventory.
    pub hosts: Vec<String>,
    /// Whether files keep the time of their last change.
    pub keep_times: bool,
    /// Live databases.
    pub databases: Vec<DatabaseLogin>,
    /// Live sites: where their first page is.
    pub sites: Vec<Url>,
    /// So many pages of each are read.
    pub pages: usize,
}

/// Why links cannot be looked for or changed.
#[derive(Debug, thiserror::Error)]
pub enum LinksError {
    /// Nothing says which hosts are meant.
    #[error("nothing says which hosts are meant")]
    NoHosts,
    /// A path does not exist or cannot be read.
    #[error("cannot read {}: {source}", path.display())]
    Path {
        /// The path.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// Copies of what was there before cannot be kept.
    #[error("cannot keep a copy in {}: {source}", path.display())]
    Copy {
        /// Where.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// A site has no address.
    #[error("{url} cannot be found: {source}")]
    Site {
        /// Its first page.
        url: Url,
        /// What the resolver said.
        source: io::Error,
    },
    /// A database cannot be used.
    #[error(transparent)]
    Database(#[from] DatabaseError),
    /// A site's configuration names no database.
    #[error("no database is found in {}: {source}", path.display())]
    Settings {
        /// The file.
        path: PathBuf,
        /// Why.
        source: SettingsError,
    },
    /// There is nothing to go back to.
    #[error("no change of links is known that could be taken back")]
    NothingToUndo,
}

/// What was found, and what was done about it.
#[derive(Clone, Debug, Default, Serialize)]
pub struct LinksReport {
    /// The hosts whose addresses are meant.
    pub hosts: Vec<String>,
    /// How many files were read.
    pub read: usize,
    /// How many tables of databases were read.
    pub read_tables: usize,
    /// How many addresses were changed, or would be.
    pub addresses: u64,
    /// The files in which something was changed or would be, with how many addresses.
    pub files: Vec<LinkFile>,
    /// The tables in which something was changed or would be.
    pub tables: Vec<LinkTable>,
    /// Addresses of the hosts that stay, by the reason.
    pub left: BTreeMap<Left, u64>,
    /// Files that stay as they are, each with the reason.
    pub left_alone: Vec<LeftAlone>,
    /// Addresses over http that lead to other hosts, by the host.
    pub others: BTreeMap<String, u64>,
    /// How these hosts answer over https, where they were asked.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub others_over_https: BTreeMap<String, OverHttps>,
    /// Some of what was changed or would be.
    pub examples: Vec<Example>,
    /// Where copies of the files of before are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub copies: Option<PathBuf>,
}

/// A file with addresses over http.
#[derive(Clone, Debug, Serialize)]
pub struct LinkFile {
    /// Where; of a live site the address of the page.
    pub path: PathBuf,
    /// How many addresses.
    pub addresses: u64,
}

/// A table of a live database with addresses over http.
#[derive(Clone, Debug, Serialize)]
pub struct LinkTable {
    /// Where the database is.
    pub database: String,
    /// The table.
    pub table: String,
    /// How many addresses.
    pub addresses: u64,
}

/// A file or a table that stays as it is.
#[derive(Clone, Debug, Serialize)]
pub struct LeftAlone {
    /// Where; for a table the database's address and its name.
    pub path: PathBuf,
    /// Why.
    pub why: String,
}

/// One address, with what stands around it.
#[derive(Clone, Debug, Serialize)]
pub struct Example {
    /// The file, or the column of a database.
    pub path: PathBuf,
    /// The key of the row in a database.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub row: Option<String>,
    /// The line, from 1.
    pub line: usize,
    /// The line around it as it is.
    pub before: String,
    /// The same as it will be.
    pub after: String,
}

impl LinksReport {
    /// Counts what was found.
    fn count(&mut self, tally: Tally) {
        let Tally { left, others, .. } = tally;
        let mut all =
            Tally { left: std::mem::take(&mut self.left), others: std::mem::take(&mut self.others), changed: 0 };
        all.add(Tally { left, others, changed: 0 });
        (self.left, self.others) = (all.left, all.others);
    }
}

/// Reads the login of a database from a site's configuration.
///
/// # Errors
/// When the file cannot be read, or names no database on this machine.
pub fn read_site_settings(path: &Path) -> Result<DatabaseLogin, LinksError> {
    let read = files::read_whole(path, LARGEST_SETTINGS);
    let read = read.and_then(|read| read.ok_or_else(|| io::ErrorKind::NotFound.into()));
    let read = read.map_err(|source| LinksError::Path { path: path.to_owned(), source })?;
    settings::login_in(&String::from_utf8_lossy(&read.bytes))
        .map_err(|source| LinksError::Settings { path: path.to_owned(), source })
}

/// Looks for addresses over http. Changes nothing.
///
/// # Errors
/// When a path cannot be read, or no host is known.
pub fn find_links(context: &Context, options: &LinksOptions) -> Result<LinksReport, LinksError> {
    go_through(context, options, None)
}

/// Changes addresses over http to https; copies of the files of before are kept in the state folder.
///
/// # Errors
/// As [`find_links`], and when no copy can be kept. A file that cannot be written stays as it is, and is told.
pub fn mend_links(context: &Context, options: &LinksOptions) -> Result<LinksReport, LinksError> {
    go_through(context, options, Some(Backup::new(&context.state, context.now())))
}

/// Returns the hosts that are meant.
fn names(context: &Context, options: &LinksOptions) -> Result<Vec<String>, LinksError> {
    let named = || context.inventory.certificates.values().flat_map(|entry| &entry.names).map(ToString::to_string);
    let names: Vec<String> = if options.hosts.is_empty() { named().collect() } else { options.hosts.clone() };
    if names.is_empty() { Err(LinksError::NoHosts) } else { Ok(names) }
}

fn go_through(
    context: &Context,
    options: &LinksOptions,
    mut backup: Option<Backup>,
) -> Result<LinksReport, LinksError> {
    let names = names(context, options)?;
    let hosts = Hosts::new(names.iter().cloned());
    let mut report = LinksReport { hosts: names, ..LinksReport::default() };
    for path in &options.paths {
        let mut each = |visited: Visited| -> Result<(), LinksError> {
            match visited {
                Visited::LeftAlone(path, why) => report.left_alone.push(LeftAlone { path, why }),
                Visited::File(path, kind) => {
                    report.read += 1;
                    if report.read.is_multiple_of(100) {
                        context.report(&Progress::Doing("look through files"));
                    }
                    visit(&hosts, &path, kind, options.keep_times, backup.as_mut(), &mut report)?;
                }
            }
            Ok(())
        };
        walk(path, &mut each)?;
    }
    for login in &options.databases {
        tables::go_through(context, &hosts, login, backup.as_mut(), &mut report)?;
    }
    report.tables.sort_by_key(|table| std::cmp::Reverse(table.addresses));
    report.files.sort_by(|a, b| b.addresses.cmp(&a.addresses).then_with(|| a.path.cmp(&b.path)));
    report.copies = backup.and_then(Backup::finish);
    Ok(report)
}

fn visit(
    hosts: &Hosts,
    path: &Path,
    kind: Kind,
    keep_times: bool,
    backup: Option<&mut Backup>,
    report: &mut LinksReport,
) -> Result<(), LinksError> {
    let found = match kind {
        Kind::Dump => look_through_dump(hosts, path, backup.is_some()),
        Kind::Text | Kind::Json => look_through_text(hosts, path, kind, report),
    };
    let (tally, after) = match found {
        Ok(Some(found)) => found,
        Ok(None) => return Ok(()),
        Err(error) => {
            report.left_alone.push(LeftAlone { path: path.to_owned(), why: error.to_string() });
            return Ok(());
        }
    };
    let changed = tally.changed;
    report.count(tally);
    if changed == 0 {
        return Ok(());
    }
    if let Some(backup) = backup {
        let copy = backup.keep(path, after)?;
        let whole = std::path::absolute(path).map_err(|source| LinksError::Path { path: path.to_owned(), source })?;
        let folder = whole.parent().unwrap_or(Path::new("/"));
        let write = || {
            files::rewrite(path, keep_times, |old, new| match kind {
                Kind::Dump => mend_dump(hosts, old, new),
                Kind::Text | Kind::Json => mend_whole(hosts, kind, old, new),
            })
        };
        if let Err(error) = as_owner_of(folder, write) {
            backup.forget(&copy);
            report.left_alone.push(LeftAlone { path: path.to_owned(), why: format!("cannot be written: {error}") });
            return Ok(());
        }
    }
    report.addresses += changed;
    report.files.push(LinkFile { path: path.to_owned(), addresses: changed });
    Ok(())
}

fn mended(hosts: &Hosts, kind: Kind, text: &[u8], tally: &mut Tally) -> Option<Vec<u8>> {
    match kind {
        Kind::Json => mend_value(text, hosts, tally),
        _ => mend_text(text, hosts, tally),
    }
}

fn look_through_text(
    hosts: &Hosts,
    path: &Path,
    kind: Kind,
    report: &mut LinksReport,
) -> io::Result<Option<(Tally, String)>> {
    let Some(read) = files::read_whole(path, LARGEST)? else { return Ok(None) };
    if read.bytes.iter().take(8192).any(|byte| *byte == 0) {
        return Err(io::Error::other("it is no text, whatever its name says (or one in UTF-16)"));
    }
    let (mut tally, mut sum) = (Tally::default(), Sum::default());
    if let Some(new) = mended(hosts, kind, &read.bytes, &mut tally) {
        if report.examples.len() < EXAMPLES {
            let example = cut_around(hosts, &read.bytes, &new);
            report.examples.extend(example.map(|(line, before, after)| Example {
                path: path.to_owned(),
                row: None,
                line,
                before,
                after,
            }));
        }
        sum.write_all(&new)?;
    }
    Ok(Some((tally, sum.finish())))
}

fn look_through_dump(hosts: &Hosts, path: &Path, is_to_change: bool) -> io::Result<Option<(Tally, String)>> {
    let (mut sum, file) = (Sum::default(), File::open(path)?);
    let tally = pass_through(hosts, &file, is_to_change.then_some(&mut sum))?;
    Ok(Some((tally, sum.finish())))
}

fn mend_dump(hosts: &Hosts, old: &File, new: &mut dyn Write) -> io::Result<bool> {
    Ok(pass_through(hosts, old, Some(new))?.changed > 0)
}

fn pass_through(hosts: &Hosts, old: &File, new: Option<&mut dyn Write>) -> io::Result<Tally> {
    let mut mender = DumpMender::new(hosts);
    mender.pass(&|buffer, at| old.read_at(buffer, at), new)?;
    Ok(mender.tally)
}

fn mend_whole(hosts: &Hosts, kind: Kind, old: &mut File, new: &mut dyn Write) -> io::Result<bool> {
    let mut text = Vec::new();
    old.read_to_end(&mut text)?;
    match mended(hosts, kind, &text, &mut Tally::default()) {
        Some(mended) => new.write_all(&mended).map(|()| true),
        None => Ok(false),
    }
}

/// Returns what stands around the first address of a text that is changed: the number of its line, the line as it is, and as it will be.
fn cut_around(hosts: &Hosts, old: &[u8], new: &[u8]) -> Option<(usize, String, String)> {
    let found = hosts.find(old).find(|found| found.is_ours && found.left.is_none())?;
    let at = found.scheme.start;
    let line = old[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
    let cut = |text: &[u8]| {
        let start = text[..at].iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
        let start = start.max(at.saturating_sub(AROUND));
        let end = text[at..].iter().position(|byte| *byte == b'\n').map_or(text.len(), |newline| at + newline);
        words::printable(String::from_utf8_lossy(&text[start..end.min(at + 2 * AROUND)]).trim(), 160)
    };
    // Values whose lengths are written before the address may have become longer before it, too.
    (old[..at] == new[..at.min(new.len())]).then(|| (line, cut(old), cut(new)))
}

/// Writes a file for the owner alone.
fn write_private(path: &Path, bytes: &[u8]) -> Result<(), LinksError> {
    files::write_atomic(path, bytes, Access::mode(0o600))
        .map_err(|source| LinksError::Copy { path: path.to_owned(), source })
}
