//! Copies of files from before their links were changed, and the way back.

use super::settings::DatabaseLogin;
use super::{LinksError, MOST_BYTES, MOST_CHANGES, write_private};
use eskort_core::context::Context;
use eskort_core::pki::{Secret, base64, base64_decode, hex};
use eskort_databases::{Change, Database, DatabaseAddress, Key, Table, TextColumn};
use eskort_host::files::{self, as_owner_of};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fs;
use std::io::{self, BufRead, Write};
use std::path::{Path, PathBuf};

const LIST: &str = "files.json";
/// The values of databases as they were, a JSON object on each line.
const VALUES: &str = "values.jsonl";

/// A file that was changed, and its copy of before.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Kept {
    path: PathBuf,
    copy: String,
    /// The SHA-256 digest of the file as it is after the change.
    after: String,
}

/// A value of a database that was changed.
#[derive(Serialize, Deserialize)]
struct KeptValue {
    database: String,
    table: String,
    column: String,
    key: Key,
    /// As it was, in base64.
    before: String,
    /// The SHA-256 digest of what it is after the change.
    after: String,
}

/// The copies of one change.
pub(super) struct Backup {
    folder: PathBuf,
    kept: Vec<Kept>,
    values: Option<fs::File>,
    /// Whether any of the values was changed.
    has_changed_values: bool,
}

fn links(state: &Path) -> PathBuf {
    state.join("links")
}

/// Takes in what is written, and says its SHA-256 digest.
#[derive(Default)]
pub(super) struct Sum(Sha256);

impl Sum {
    pub(super) fn finish(self) -> String {
        hex(&self.0.finalize())
    }
}

impl Write for Sum {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn digest(path: &Path) -> io::Result<String> {
    let mut sum = Sum::default();
    io::copy(&mut fs::File::open(path)?, &mut sum)?;
    Ok(sum.finish())
}

impl Backup {
    pub(super) fn new(state: &Path, now: Timestamp) -> Self {
        // A name that sorts by time and can be made again within a second.
        let taken = |n: &u32| links(state).join(format!("{}-{n:03}", now.as_second())).exists();
        let n = (0..1000).find(|n| !taken(n)).unwrap_or(999);
        Backup {
            folder: links(state).join(format!("{}-{n:03}", now.as_second())),
            kept: Vec::new(),
            values: None,
            has_changed_values: false,
        }
    }

    fn write_list(&self) -> Result<(), LinksError> {
        let text = serde_json::to_vec_pretty(&self.kept).expect("a list of paths is JSON");
        write_private(&self.folder.join(LIST), &text)
    }

    /// Keeps a copy of a file, and writes down what it will be, so that a change that is cut short can be taken back, too.
    pub(super) fn keep(&mut self, path: &Path, after: String) -> Result<String, LinksError> {
        let failed = |source| LinksError::Copy { path: self.folder.clone(), source };
        if self.is_empty() {
            files::make_folders(&self.folder, 0o700).map_err(failed)?;
        }
        let path = std::path::absolute(path).map_err(failed)?;
        let copy = format!("{:06}", self.kept.len());
        let to = self.folder.join(&copy);
        write_private(&to, b"")?;
        let copied = (|| {
            let mut to = fs::OpenOptions::new().write(true).open(&to)?;
            io::copy(&mut fs::File::open(&path)?, &mut to)?;
            to.sync_all()
        })();
        copied.map_err(failed)?;
        self.kept.push(Kept { path, copy: copy.clone(), after });
        self.write_list()?;
        Ok(copy)
    }

    fn is_empty(&self) -> bool {
        self.kept.is_empty() && self.values.is_none()
    }

    /// Keeps values of a table as they are, with what they will be.
    pub(super) fn keep_values(&mut self, database: &str, table: &Table, changes: &[Change]) -> Result<(), LinksError> {
        let failed = |source| LinksError::Copy { path: self.folder.clone(), source };
        if self.values.is_none() {
            files::make_folders(&self.folder, 0o700).map_err(failed)?;
            self.write_list()?;
            write_private(&self.folder.join(VALUES), b"")?;
            let opened = fs::OpenOptions::new().append(true).open(self.folder.join(VALUES));
            self.values = Some(opened.map_err(failed)?);
        }
        let mut lines = Vec::new();
        for Change { key, column, old, new } in changes {
            let column = table.columns[*column].name.clone();
            let (database, table) = (database.to_owned(), table.name.clone());
            let (before, after) = (base64(old), hex(&Sha256::digest(new)));
            let value = KeptValue { database, table, column, key: key.clone(), before, after };
            serde_json::to_writer(&mut lines, &value).map_err(|error| failed(error.into()))?;
            lines.push(b'\n');
        }
        let Some(values) = &mut self.values else { return Ok(()) };
        values.write_all(&lines).and_then(|()| values.sync_data()).map_err(failed)
    }

    /// Removes the copy of a file that was not changed.
    pub(super) fn forget(&mut self, copy: &str) {
        self.kept.retain(|kept| kept.copy != copy);
        let _ = fs::remove_file(self.folder.join(copy));
    }

    /// Notes that values were changed.
    pub(super) fn changed_values(&mut self) {
        self.has_changed_values = true;
    }

    /// Returns where the copies are, if there are any of what was changed.
    pub(super) fn finish(self) -> Option<PathBuf> {
        if self.kept.is_empty() && !self.has_changed_values {
            // Another run could not be taken back if this one were the last.
            let _ = fs::remove_dir_all(&self.folder);
            return None;
        }
        Some(self.folder)
    }
}

/// What was taken back.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Undone {
    /// Files that are as they were.
    pub restored: Vec<PathBuf>,
    /// Files that somebody has changed since, which stay.
    pub left_alone: Vec<PathBuf>,
    /// How many values of databases are as they were.
    pub values: u64,
    /// How many of them somebody has changed since, or removed: they stay.
    pub values_left: u64,
    /// Where the copies of those that stay are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub copies: Option<PathBuf>,
}

/// A database in which values are put back.
struct Returning {
    database: Database,
    tables: Vec<Table>,
    /// What is to be put back into one table in the next transaction.
    changes: Vec<Change>,
    table: usize,
    bytes: usize,
}

impl Returning {
    fn open(address: &str, password: Option<&Secret<String>>) -> Result<Self, LinksError> {
        let parsed = DatabaseAddress::parse(address);
        let address = parsed.map_err(|error| LinksError::Copy {
            path: PathBuf::from(address),
            source: io::Error::other(error.to_string()),
        })?;
        let mut database = DatabaseLogin { address, password: password.cloned() }.connect(true)?;
        let tables = database.tables()?;
        Ok(Returning { database, tables, changes: Vec::new(), table: 0, bytes: 0 })
    }

    /// Puts a value back, where it is still what it was changed to; most wait for others of their table.
    fn take(&mut self, value: KeptValue, undone: &mut Undone) -> Result<(), LinksError> {
        let table = self.tables.iter().position(|table| table.name == value.table);
        let place = table.and_then(|table| {
            let named = |column: &TextColumn| column.name == value.column;
            Some((table, self.tables[table].columns.iter().position(named)?))
        });
        let (Some((table, column)), Some(before)) = (place, base64_decode(&value.before)) else {
            undone.values_left += 1;
            return Ok(());
        };
        match self.database.text(&self.tables[table], column, &value.key)? {
            // It was not changed any more, or is as before again.
            Some(now) if now == before => {}
            Some(now) if hex(&Sha256::digest(&now)) == value.after => {
                if self.table != table || self.changes.len() >= MOST_CHANGES || self.bytes >= MOST_BYTES {
                    self.finish(undone)?;
                }
                (self.table, self.bytes) = (table, self.bytes + now.len() + before.len());
                self.changes.push(Change { key: value.key, column, old: now, new: before });
            }
            _ => undone.values_left += 1,
        }
        Ok(())
    }

    /// Puts back what still waits.
    fn finish(&mut self, undone: &mut Undone) -> Result<(), LinksError> {
        let changes = std::mem::take(&mut self.changes);
        self.bytes = 0;
        if changes.is_empty() {
            return Ok(());
        }
        let made = self.database.change(&self.tables[self.table], &changes, &|| {})?;
        for made in made {
            if made { undone.values += 1 } else { undone.values_left += 1 }
        }
        Ok(())
    }
}

/// Puts the values of databases back.
fn undo_values(folder: &Path, password: Option<&Secret<String>>, undone: &mut Undone) -> Result<(), LinksError> {
    let failed = |source| LinksError::Copy { path: folder.to_owned(), source };
    let file = match fs::File::open(folder.join(VALUES)) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(failed(error)),
    };
    let mut databases: BTreeMap<String, Returning> = BTreeMap::new();
    for line in io::BufReader::new(file).lines() {
        // The last line of a run that was killed may be cut short: nothing of it was changed.
        let Ok(value) = serde_json::from_str::<KeptValue>(&line.map_err(failed)?) else { continue };
        let database = match databases.entry(value.database.clone()) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(new) => new.insert(Returning::open(&value.database, password)?),
        };
        database.take(value, undone)?;
    }
    databases.into_values().try_for_each(|mut database| database.finish(undone))
}

/// Takes the last change of links back; `password` is for the databases in which it was made.
///
/// # Errors
/// When none is known, its copies cannot be read, or a database cannot be used: what was put back by then stays so, and the rest can be
/// put back by another try.
pub fn undo_links(context: &Context, password: Option<&Secret<String>>) -> Result<Undone, LinksError> {
    let folder = links(&context.state);
    let mut known: Vec<PathBuf> = fs::read_dir(&folder)
        .map(|entries| entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect())
        .unwrap_or_default();
    known.retain(|path| path.join(LIST).exists());
    known.sort();
    let last = known.pop().ok_or(LinksError::NothingToUndo)?;
    let failed = |source| LinksError::Copy { path: last.clone(), source };
    let text = fs::read(last.join(LIST)).map_err(failed)?;
    let kept: Vec<Kept> = serde_json::from_slice(&text).map_err(|error| failed(error.into()))?;
    let mut undone = Undone::default();
    undo_values(&last, password, &mut undone)?;
    for one in kept {
        let copy = last.join(&one.copy);
        let before = digest(&copy).map_err(failed)?;
        match digest(&one.path) {
            // It was not written any more, or is as before again.
            Ok(now) if now == before => {}
            Ok(now) if now == one.after => {
                // The copy is ours to read, the place its owner's to write.
                let mut old = fs::File::open(&copy).map_err(failed)?;
                let put_back =
                    || files::rewrite(&one.path, false, |_, mut new| io::copy(&mut old, &mut new).map(|_| true));
                match as_owner_of(one.path.parent().unwrap_or(Path::new("/")), put_back) {
                    Ok(_) => undone.restored.push(one.path),
                    Err(_) => undone.left_alone.push(one.path),
                }
            }
            _ => undone.left_alone.push(one.path),
        }
    }
    if undone.left_alone.is_empty() && undone.values_left == 0 {
        fs::remove_dir_all(&last).map_err(failed)?;
    } else {
        let aside = last.with_extension("taken-back");
        fs::rename(last.join(LIST), last.join("files.taken-back.json")).map_err(failed)?;
        fs::rename(&last, &aside).map_err(failed)?;
        undone.copies = Some(aside);
    }
    Ok(undone)
}
