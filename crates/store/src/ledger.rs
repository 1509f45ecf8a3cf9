//! The ledger's file: opened, brought up to date, and asked in one place.

use crate::durable::Durable;
use crate::gathered::Gathered;
use crate::schema::{MIGRATIONS, VERSION};
use crate::worker::Worker;
use crate::{StoreError, io};
use eskort_core::boxed;
use eskort_host::files;
use parking_lot::ReentrantMutex;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, Params};
use std::fs::Permissions;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Duration;

/// SQLite does not wait for others while it changes the way a ledger is written: it is tried again here, for as long as it would
/// wait elsewhere.
fn patiently(mut job: impl FnMut() -> Result<(), StoreError>) -> Result<(), StoreError> {
    let end = std::time::Instant::now() + PATIENCE;
    loop {
        match job() {
            Err(StoreError::Ledger { source, .. })
                if source.sqlite_error_code() == Some(rusqlite::ErrorCode::DatabaseBusy)
                    && std::time::Instant::now() < end =>
            {
                std::thread::sleep(Duration::from_millis(20));
            }
            done => return done,
        }
    }
}

/// How long others that use the ledger are waited for.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long one of them is waited for before the next try: shorter than who writes much lets others write ([`Store::gather`]).
const NEXT_TRY: Duration = Duration::from_millis(2);

/// Waits a moment for others that use the ledger, for the `tried`th time; returns whether to try once more.
fn wait_for_others(tried: i32) -> bool {
    std::thread::sleep(NEXT_TRY);
    NEXT_TRY * tried.unsigned_abs() < PATIENCE
}

/// The state folder: the ledger and the files beside it.
///
/// Every call that concerns the ledger is async and one transaction: no caller can hold one open while it waits for something else,
/// and a ledger that is asked over a network can take this one's place. `SQLite` answers at once, so nothing is awaited in here. Those of
/// many side by side may be committed together ([`Store::gather`]).
pub struct Store {
    pub(crate) root: PathBuf,
    /// One writer: what belongs together is written without anybody in between.
    pub(crate) db: ReentrantMutex<Connection>,
    durable: Durable,
    pub(crate) gathered: Gathered,
    /// What this run leases journeys with, once it has.
    pub(crate) worker: OnceLock<Worker>,
}

impl Store {
    /// Opens a state folder, and makes it when it is not there.
    ///
    /// # Errors
    /// When the folder cannot be made, or the ledger cannot be opened or is of a newer program.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        files::make_folders(root, 0o700).map_err(io("make", root))?;
        let path = root.join("ledger.sqlite");
        // Made here: SQLite would let everybody read it.
        let made = std::fs::OpenOptions::new().read(true).append(true).create(true).mode(0o600).open(&path);
        let made = made.and_then(|file| {
            let open_to_others = file.metadata()?.mode() & 0o077 != 0;
            if open_to_others { file.set_permissions(Permissions::from_mode(0o600)) } else { Ok(()) }
        });
        made.map_err(io("make", &path))?;
        Self::at(root)
    }

    /// Opens a state folder, when there is one.
    ///
    /// # Errors
    /// As [`Store::open`], except that a missing ledger is `None`.
    pub fn open_existing(root: &Path) -> Result<Option<Self>, StoreError> {
        let path = root.join("ledger.sqlite");
        match std::fs::metadata(&path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(io("read", &path)(e)),
            Ok(_) => Self::at(root).map(Some),
        }
    }

    fn at(root: &Path) -> Result<Self, StoreError> {
        let path = root.join("ledger.sqlite");
        let fail = |source| StoreError::Ledger { path: path.clone(), source };
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut db = Connection::open_with_flags(&path, flags).map_err(fail)?;
        db.busy_handler(Some(wait_for_others)).map_err(fail)?;
        Self::over(root, db, Durable::of(&path))
    }

    fn over(root: &Path, db: Connection, durable: Durable) -> Result<Self, StoreError> {
        // All statements there are: none is read twice, and no other value makes another plan of one.
        db.set_prepared_statement_cache_capacity(128);
        let steady = db.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true);
        steady.map_err(|source| StoreError::Ledger { path: root.join("ledger.sqlite"), source })?;
        let (db, gathered, worker) = (ReentrantMutex::new(db), Gathered::default(), OnceLock::new());
        let store = Store { root: root.to_owned(), db, durable, gathered, worker };
        store.bring_up_to_date()?;
        Ok(store)
    }

    /// Makes a ledger in memory beside a folder on disk, for tests of what is built on it.
    ///
    /// # Errors
    /// Only when SQLite fails.
    pub fn in_memory(root: &Path) -> Result<Self, StoreError> {
        let fail = |source| StoreError::Ledger { path: root.to_owned(), source };
        let store = Self::over(root, Connection::open_in_memory().map_err(fail)?, Durable::default())?;
        store.worker.get_or_init(Worker::in_memory);
        Ok(store)
    }

    /// Returns the state folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn check_version(&self) -> Result<i64, StoreError> {
        let version = self.db.lock().pragma_query_value(None, "user_version", |row| row.get(0));
        let found: i64 = version.map_err(|e| self.fail(e))?;
        if found > VERSION {
            return Err(StoreError::Newer { path: self.root.join("ledger.sqlite"), found, known: VERSION });
        }
        Ok(found)
    }

    /// Brings the tables up to date, whoever opens them: what is missing is found out and made under one lock.
    fn bring_up_to_date(&self) -> Result<(), StoreError> {
        let run = |sql: &str| self.db.lock().execute_batch(sql).map_err(|e| self.fail(e));
        if self.check_version()? < VERSION {
            patiently(|| run("PRAGMA journal_mode = WAL"))?;
            patiently(|| run("BEGIN IMMEDIATE"))?;
            let brought = self.check_version().and_then(|found| {
                let found = usize::try_from(found).unwrap_or(0);
                MIGRATIONS.iter().skip(found).try_for_each(|script| run(script))?;
                run(&format!("PRAGMA user_version = {VERSION}"))
            });
            if brought.is_err() {
                let _ = run("ROLLBACK");
            }
            brought?;
            run("COMMIT")?;
        }
        // A commit that the machine's end could take back is made durable by `flush`, together with others.
        run("PRAGMA synchronous = NORMAL")?;
        // A night with a thousand orders need not be copied into the tables every sixteen.
        run("PRAGMA wal_autocheckpoint = 8000")
    }

    pub(crate) fn fail(&self, source: rusqlite::Error) -> StoreError {
        StoreError::Ledger { path: self.root.join("ledger.sqlite"), source }
    }

    pub(crate) fn run(&self, sql: &str, params: impl Params) -> Result<usize, StoreError> {
        let db = self.db.lock();
        self.before_write(&db)?;
        let done = db.prepare_cached(sql).and_then(|mut s| s.execute(params));
        self.durable.written();
        done.map_err(|e| self.failed(&db, e))
    }

    fn before_write(&self, db: &Connection) -> Result<(), StoreError> {
        self.gathered.look_for_loss(db, || "it was taken back".to_owned());
        self.check_nothing_is_lost()?;
        self.gathered.begin(db).map_err(|e| self.fail(e))
    }

    fn failed(&self, db: &Connection, source: rusqlite::Error) -> StoreError {
        self.gathered.look_for_loss(db, || source.to_string());
        self.fail(source)
    }

    fn check_nothing_is_lost(&self) -> Result<(), StoreError> {
        match self.gathered.lost() {
            Some(why) => Err(StoreError::Lost { path: self.root.join("ledger.sqlite"), why: why.to_owned() }),
            None => Ok(()),
        }
    }

    /// Commits what has been gathered ([`Store::gather`]): it outlives this process, and other runs see it.
    ///
    /// # Errors
    /// When the ledger cannot be written. What was gathered is lost then, and nothing is written any more.
    pub fn settle(&self) -> Result<(), StoreError> {
        let db = self.db.lock();
        if self.gathered.is_open() {
            self.gathered.commit(&db).map_err(|e| self.fail(e))?;
        }
        self.check_nothing_is_lost()
    }

    /// Runs several writes as one: all of them are kept or none.
    pub(crate) fn in_one_transaction<T>(
        &self,
        writes: impl FnOnce() -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let db = self.db.lock();
        self.before_write(&db)?;
        if self.gathered.is_open() {
            return self.as_part(&db, writes);
        }
        // Begun as a writer's: one that reads first would be turned away when another process has written since.
        self.together("BEGIN IMMEDIATE", writes)
    }

    /// Runs several writes among others that are not committed yet: all of these are kept or none.
    fn as_part<T>(&self, db: &Connection, writes: impl FnOnce() -> Result<T, StoreError>) -> Result<T, StoreError> {
        let part = Part::new(db).map_err(|e| self.failed(db, e))?;
        let value = writes()?;
        part.keep().map_err(|e| self.failed(db, e))?;
        Ok(value)
    }

    /// Runs several reads as one: they see the ledger as it is at one moment.
    pub(crate) fn in_one_view<T>(&self, reads: impl FnOnce() -> Result<T, StoreError>) -> Result<T, StoreError> {
        self.together("BEGIN", reads)
    }

    fn together<T>(&self, begin: &str, calls: impl FnOnce() -> Result<T, StoreError>) -> Result<T, StoreError> {
        let db = self.db.lock();
        // Within another it is part of that.
        if !db.is_autocommit() {
            return calls();
        }
        let transaction = Begun::new(&db, begin).map_err(|e| self.fail(e))?;
        let value = calls()?;
        transaction.commit().map_err(|e| self.fail(e))?;
        Ok(value)
    }

    /// Makes everything that is written durable: it outlives the machine's sudden end, too. Who asks while another's is under way
    /// is served together with all others that wait.
    ///
    /// # Errors
    /// When the disk does not take it.
    #[boxed]
    pub async fn flush(&self) -> Result<(), StoreError> {
        // Others that are about to ask come along: this takes long only where there are many.
        for _ in 0..3 {
            tokio::task::yield_now().await;
        }
        self.durable.flush(|| self.settle()).await
    }

    pub(crate) fn rows<T>(
        &self,
        sql: &str,
        params: impl Params,
        read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, StoreError> {
        let db = self.db.lock();
        let mut statement = db.prepare_cached(sql).map_err(|e| self.fail(e))?;
        let rows = statement.query_map(params, read).and_then(Iterator::collect);
        rows.map_err(|e| self.fail(e))
    }
}

/// A transaction that is rolled back when it is let go of before it was committed. Its statements are kept, as all others are: `SQLite`
/// reads none of them twice.
struct Begun<'c>(&'c Connection);

impl<'c> Begun<'c> {
    fn new(db: &'c Connection, begin: &str) -> rusqlite::Result<Self> {
        db.prepare_cached(begin)?.execute([]).map(|_| Begun(db))
    }

    fn commit(self) -> rusqlite::Result<()> {
        self.0.prepare_cached("COMMIT")?.execute([]).map(drop)
    }
}

impl Drop for Begun<'_> {
    fn drop(&mut self) {
        if !self.0.is_autocommit() {
            let _ = self.0.execute_batch("ROLLBACK");
        }
    }
}

/// Writes within a transaction that are taken back by themselves when this is let go of before they were kept.
struct Part<'c>(&'c Connection);

impl<'c> Part<'c> {
    fn new(db: &'c Connection) -> rusqlite::Result<Self> {
        db.prepare_cached("SAVEPOINT part")?.execute([]).map(|_| Part(db))
    }

    fn keep(self) -> rusqlite::Result<()> {
        self.0.prepare_cached("RELEASE part")?.execute([])?;
        std::mem::forget(self);
        Ok(())
    }
}

impl Drop for Part<'_> {
    fn drop(&mut self) {
        let _ = self.0.execute_batch("ROLLBACK TO part; RELEASE part");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_may_open_it_at_once_new_empty_or_old() {
        let old = format!("{} PRAGMA user_version = 1;", MIGRATIONS[0]);
        let debt = r#"INSERT INTO debt (certificate, debt, owed) VALUES ('website', '{"kind":"file","path":"/srv/x","folders":[]}', 1);"#;
        for before in [None, Some(""), Some(&*old), Some(&*format!("{old}{debt}"))] {
            let dir = tempfile::tempdir().unwrap();
            if let Some(script) = before {
                Connection::open(dir.path().join("ledger.sqlite")).unwrap().execute_batch(script).unwrap();
            }
            let open = || match before {
                Some(_) => Store::open_existing(dir.path()).map(Option::unwrap),
                None => Store::open(dir.path()),
            };
            let owed = std::thread::scope(|scope| {
                let threads: Vec<_> = (0..4)
                    .map(|_| scope.spawn(|| open().unwrap().rows("SELECT id FROM debt", [], |_| Ok(())).unwrap().len()))
                    .collect();
                threads.into_iter().map(|t| t.join().unwrap()).collect::<Vec<_>>()
            });
            assert_eq!(owed, vec![usize::from(before.is_some_and(|s| s.contains("INSERT"))); 4]);
        }
    }

    #[test]
    fn a_newer_ledger_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        drop(Store::open(dir.path()).unwrap());
        let store = Store::open(dir.path()).unwrap();
        store.db.lock().pragma_update(None, "user_version", VERSION + 1).unwrap();
        drop(store);
        assert!(matches!(Store::open(dir.path()), Err(StoreError::Newer { .. })));
        assert!(Store::open_existing(&dir.path().join("none")).unwrap().is_none());
        let mode = std::fs::metadata(dir.path().join("ledger.sqlite")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
}
