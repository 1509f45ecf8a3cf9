//! The ledger's file: opened, brought up to date, and asked in one place.

use crate::{StoreError, files, io};
use rusqlite::{Connection, OpenFlags, Params};
use std::path::{Path, PathBuf};

/// The version of the ledger's tables that this program writes.
const VERSION: i64 = 1;

const TABLES: &str = "
CREATE TABLE journey (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, generation INTEGER NOT NULL, wanted TEXT NOT NULL,
  stage_version INTEGER NOT NULL, stage TEXT NOT NULL, passed TEXT,
  started INTEGER NOT NULL, changed INTEGER NOT NULL, ended INTEGER, ending TEXT);
CREATE UNIQUE INDEX one_open_journey ON journey (certificate) WHERE ended IS NULL;
CREATE TABLE generation (
  certificate TEXT NOT NULL, number INTEGER NOT NULL, wanted TEXT NOT NULL, serial TEXT NOT NULL,
  fingerprint TEXT NOT NULL, issuer TEXT NOT NULL, not_before INTEGER NOT NULL, not_after INTEGER NOT NULL,
  received INTEGER NOT NULL, confirmed INTEGER, PRIMARY KEY (certificate, number)) WITHOUT ROWID;
CREATE TABLE debt (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, debt TEXT NOT NULL UNIQUE, owed INTEGER NOT NULL, last_trouble TEXT);
CREATE TABLE account (
  authority TEXT NOT NULL, directory TEXT NOT NULL, url TEXT NOT NULL, made INTEGER NOT NULL,
  PRIMARY KEY (authority, directory)) WITHOUT ROWID;
CREATE TABLE failure (
  certificate TEXT PRIMARY KEY, count INTEGER NOT NULL, last INTEGER NOT NULL, hold_until INTEGER,
  reason TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE event (id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, at INTEGER NOT NULL, text TEXT NOT NULL);
CREATE INDEX event_of ON event (certificate, id);
CREATE TABLE backup (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, path TEXT NOT NULL, kept TEXT, mode INTEGER, uid INTEGER,
  gid INTEGER, settled INTEGER);
";

/// The state folder: the ledger and the files beside it.
pub struct Store {
    pub(crate) root: PathBuf,
    pub(crate) db: Connection,
}

impl Store {
    /// Opens a state folder, and makes it when it is not there.
    ///
    /// # Errors
    /// When the folder cannot be made, or the ledger cannot be opened or is of a newer program.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        files::make_folders(root, 0o700).map_err(io("make", root))?;
        let path = root.join("ledger.sqlite");
        let fail = |source| StoreError::Ledger { path: path.clone(), source };
        let db = Connection::open(&path).map_err(fail)?;
        db.pragma_update(None, "journal_mode", "WAL").map_err(fail)?;
        db.pragma_update(None, "synchronous", "FULL").map_err(fail)?;
        db.busy_timeout(std::time::Duration::from_secs(10)).map_err(fail)?;
        let store = Store { root: root.to_owned(), db };
        store.bring_up_to_date()?;
        Ok(store)
    }

    /// Opens a state folder for reading, when there is one.
    ///
    /// # Errors
    /// As [`Store::open`], except that a missing ledger is `None`.
    pub fn open_existing(root: &Path) -> Result<Option<Self>, StoreError> {
        let path = root.join("ledger.sqlite");
        match std::fs::metadata(&path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            other => other.map_err(io("read", &path))?,
        };
        let fail = |source| StoreError::Ledger { path: path.clone(), source };
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(&path, flags).map_err(fail)?;
        let store = Store { root: root.to_owned(), db };
        store.check_version()?;
        Ok(Some(store))
    }

    /// Makes a ledger in memory beside a folder on disk, for tests of what is built on it.
    ///
    /// # Errors
    /// Only when SQLite fails.
    pub fn in_memory(root: &Path) -> Result<Self, StoreError> {
        let fail = |source| StoreError::Ledger { path: root.to_owned(), source };
        let store = Store { root: root.to_owned(), db: Connection::open_in_memory().map_err(fail)? };
        store.bring_up_to_date()?;
        Ok(store)
    }

    /// Returns the state folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn check_version(&self) -> Result<i64, StoreError> {
        let version = self.db.pragma_query_value(None, "user_version", |row| row.get(0));
        let found: i64 = version.map_err(|e| self.fail(e))?;
        if found > VERSION {
            return Err(StoreError::Newer { path: self.root.join("ledger.sqlite"), found, known: VERSION });
        }
        Ok(found)
    }

    fn bring_up_to_date(&self) -> Result<(), StoreError> {
        if self.check_version()? == 0 {
            let script = format!("BEGIN; {TABLES} PRAGMA user_version = {VERSION}; COMMIT;");
            self.db.execute_batch(&script).map_err(|e| self.fail(e))?;
        }
        Ok(())
    }

    pub(crate) fn fail(&self, source: rusqlite::Error) -> StoreError {
        StoreError::Ledger { path: self.root.join("ledger.sqlite"), source }
    }

    pub(crate) fn run(&self, sql: &str, params: impl Params) -> Result<usize, StoreError> {
        self.db.prepare_cached(sql).and_then(|mut s| s.execute(params)).map_err(|e| self.fail(e))
    }

    /// Runs several writes as one: all of them are kept or none.
    ///
    /// # Errors
    /// What `writes` says, or when the ledger fails.
    pub fn together<T>(&self, writes: impl FnOnce() -> Result<T, StoreError>) -> Result<T, StoreError> {
        let transaction = self.db.unchecked_transaction().map_err(|e| self.fail(e))?;
        let value = writes()?;
        transaction.commit().map_err(|e| self.fail(e))?;
        Ok(value)
    }

    pub(crate) fn rows<T>(
        &self,
        sql: &str,
        params: impl Params,
        read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, StoreError> {
        let mut statement = self.db.prepare_cached(sql).map_err(|e| self.fail(e))?;
        let rows = statement.query_map(params, read).and_then(Iterator::collect);
        rows.map_err(|e| self.fail(e))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_newer_ledger_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        drop(Store::open(dir.path()).unwrap());
        let store = Store::open(dir.path()).unwrap();
        store.db.pragma_update(None, "user_version", VERSION + 1).unwrap();
        drop(store);
        assert!(matches!(Store::open(dir.path()), Err(StoreError::Newer { .. })));
        assert!(Store::open_existing(&dir.path().join("none")).unwrap().is_none());
    }
}
