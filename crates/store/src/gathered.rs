//! Writes of several journeys, gathered into one commit.
//!
//! While many are under way each of them writes often, and each commit costs locks and copies of pages. What is gathered is seen by this
//! process at once, by others a moment later; until then `SQLite` lets nobody else write. When the process is killed before, the ledger
//! is as it was at the commit before: as after the machine's sudden end, which a flush guards against, and each flush commits.

use crate::{Store, StoreError};
use rusqlite::Connection;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::sync::Notify;

/// For so long at the most what was written is not committed.
const GATHERED_FOR: Duration = Duration::from_millis(10);
/// After so many times each write is a commit of its own for a while: other runs come to theirs.
const ROUNDS: u32 = 10;
const PAUSE: Duration = Duration::from_millis(2);

/// What is known of the writes that are gathered.
#[derive(Default)]
pub(crate) struct Gathered {
    /// Whether somebody wants them gathered.
    wanted: AtomicBool,
    /// Whether some of them are not committed yet.
    open: AtomicBool,
    /// Whether some were lost: who wrote them goes on as if they were there.
    lost: AtomicBool,
    /// Told when the first of them is written.
    begun: Notify,
}

/// Writes are gathered until this is let go of.
pub struct Gathering<'s>(&'s Store);

impl Gathering<'_> {
    /// Commits again and again what has been gathered, each time a moment after the first write. Never ends.
    pub async fn settle_in_time(&self) {
        let gathered = &self.0.gathered;
        loop {
            for _ in 0..ROUNDS {
                gathered.begun.notified().await;
                tokio::time::sleep(GATHERED_FOR).await;
                // What could not be written is said to whoever writes next.
                let _ = self.0.settle();
            }
            gathered.wanted.store(false, Ordering::Relaxed);
            tokio::time::sleep(PAUSE).await;
            gathered.wanted.store(true, Ordering::Relaxed);
        }
    }
}

impl Drop for Gathering<'_> {
    fn drop(&mut self) {
        self.0.gathered.wanted.store(false, Ordering::Relaxed);
        let _ = self.0.settle();
    }
}

impl Store {
    /// Gathers what is written from now on, by whomever in this process. Who lets go of it has to [`Store::settle`] where it matters that
    /// all is written.
    pub fn gather(&self) -> Gathering<'_> {
        self.gathered.wanted.store(true, Ordering::Relaxed);
        Gathering(self)
    }

    /// Commits what has been gathered: it outlives this process, and other runs see it.
    ///
    /// # Errors
    /// When the ledger cannot be written. What was gathered is lost then, and nothing is written any more.
    pub fn settle(&self) -> Result<(), StoreError> {
        let db = self.db.lock();
        if self.gathered.open.swap(false, Ordering::Relaxed) {
            let committed = db.prepare_cached("COMMIT").and_then(|mut commit| commit.execute([]));
            self.durable.written();
            if let Err(error) = committed {
                self.gathered.lost.store(true, Ordering::Relaxed);
                if !db.is_autocommit() {
                    let _ = db.execute_batch("ROLLBACK");
                }
                return Err(self.fail(error));
            }
        }
        self.check_nothing_is_lost()
    }

    fn check_nothing_is_lost(&self) -> Result<(), StoreError> {
        match self.gathered.lost.load(Ordering::Relaxed) {
            true => Err(StoreError::Lost { path: self.root.join("ledger.sqlite") }),
            false => Ok(()),
        }
    }

    /// Begins to gather, where that is wanted, before something is written.
    pub(crate) fn before_write(&self, db: &Connection) -> Result<(), StoreError> {
        self.look_for_loss(db);
        self.check_nothing_is_lost()?;
        if self.gathered.wanted.load(Ordering::Relaxed) && db.is_autocommit() {
            // As a writer's: see `in_one_transaction`.
            let begun = db.prepare_cached("BEGIN IMMEDIATE").and_then(|mut begin| begin.execute([]));
            begun.map_err(|e| self.fail(e))?;
            self.gathered.open.store(true, Ordering::Relaxed);
            self.gathered.begun.notify_one();
        }
        Ok(())
    }

    /// Looks whether `SQLite` has given up all that was gathered: it may when the disk is full.
    pub(crate) fn look_for_loss(&self, db: &Connection) {
        if db.is_autocommit() && self.gathered.open.swap(false, Ordering::Relaxed) {
            self.gathered.lost.store(true, Ordering::Relaxed);
        }
    }

    /// Whether writes are gathered that are not committed yet.
    pub(crate) fn is_gathering(&self) -> bool {
        self.gathered.open.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::event::Event;
    use jiff::Timestamp;
    use std::path::Path;

    fn folder_with_store() -> (tempfile::TempDir, Store) {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        (dir, store)
    }

    async fn write(store: &Store, certificate: &str) -> Result<(), StoreError> {
        store.add_event(certificate, &Event::Stopped, Timestamp::UNIX_EPOCH).await
    }

    /// Returns the certificates of the events that somebody sees who opens the ledger anew.
    fn seen(root: &Path) -> Vec<String> {
        let store = Store::open(root).unwrap();
        store.rows("SELECT certificate FROM event ORDER BY certificate", [], |row| row.get(0)).unwrap()
    }

    #[tokio::test]
    async fn others_see_what_was_gathered_once_it_is_settled() {
        let (dir, store) = folder_with_store();
        let gathering = store.gather();
        write(&store, "a").await.unwrap();
        // Takes back its own write, and no other.
        let failed: Result<(), _> = store.in_one_transaction(|| {
            store.run(
                "INSERT INTO hold (authority, section, count, last, until, reason) VALUES ('x', '', 1, 1, 1, '')",
                [],
            )?;
            Err(StoreError::Busy { since: None })
        });
        assert!(matches!(failed, Err(StoreError::Busy { .. })));
        write(&store, "b").await.unwrap();
        assert_eq!(seen(dir.path()), Vec::<String>::new());
        assert_eq!(store.rows("SELECT 1 FROM event", [], |_| Ok(())).unwrap().len(), 2);
        store.settle().unwrap();
        assert_eq!(seen(dir.path()), ["a", "b"]);
        write(&store, "c").await.unwrap();
        store.flush().await.unwrap();
        assert_eq!(seen(dir.path()), ["a", "b", "c"]);
        write(&store, "d").await.unwrap();
        drop(gathering);
        write(&store, "e").await.unwrap();
        assert_eq!(seen(dir.path()), ["a", "b", "c", "d", "e"]);
        assert_eq!(store.rows("SELECT 1 FROM hold", [], |_| Ok(())).unwrap().len(), 0);
    }

    #[tokio::test]
    async fn nothing_more_is_written_once_something_is_lost() {
        for by_a_write in [false, true] {
            let (dir, store) = folder_with_store();
            let _gathering = store.gather();
            write(&store, "a").await.unwrap();
            // As SQLite does it by itself when the disk is full.
            store.db.lock().execute_batch("ROLLBACK").unwrap();
            match by_a_write {
                true => assert!(store.run("INSERT INTO nothing VALUES (1)", []).is_err()),
                false => assert!(store.flush().await.is_err()),
            }
            assert!(matches!(write(&store, "b").await, Err(StoreError::Lost { .. })));
            assert!(matches!(store.settle(), Err(StoreError::Lost { .. })));
            assert_eq!(seen(dir.path()), Vec::<String>::new());
        }
    }

    #[tokio::test]
    async fn others_come_to_write_while_much_is_gathered() {
        let (dir, store) = folder_with_store();
        let gathering = store.gather();
        write(&store, "a").await.unwrap();
        let root = dir.path().to_owned();
        let another = std::thread::spawn(move || {
            let store = Store::open(&root).unwrap();
            for _ in 0..3 {
                store.run("DELETE FROM event WHERE certificate = 'a'", []).unwrap();
            }
        });
        let writing = async {
            while !another.is_finished() {
                write(&store, "b").await.unwrap();
                tokio::task::yield_now().await;
            }
        };
        tokio::select! {
            () = gathering.settle_in_time() => {}
            () = writing => {}
        }
        another.join().unwrap();
        assert!(!seen(dir.path()).contains(&"a".to_owned()));
    }
}
