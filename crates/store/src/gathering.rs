//! Writes of several journeys, gathered into one commit.
//!
//! While many are under way each of them writes often, and each commit costs locks and copies of pages. What is gathered is seen by this
//! process at once, by others a moment later; until then `SQLite` lets nobody else write. When the process is killed before, the ledger
//! is as it was at the commit before: as after the machine's sudden end, which a flush guards against, and each flush commits.

use crate::Store;
use std::time::Duration;

/// For twice as long at the most what was written is not committed.
const GATHERED_FOR: Duration = Duration::from_millis(10);
/// After so many times each write is a commit of its own for a while: other runs come to theirs.
const ROUNDS: u32 = 10;
const PAUSE: Duration = Duration::from_millis(5);

/// Writes are gathered until this is let go of.
pub struct Gathering<'s>(&'s Store);

impl Gathering<'_> {
    /// Commits again and again what has been gathered, each time a moment after the first write. Never ends.
    pub async fn settle_in_time(&self) {
        let gathered = &self.0.gathered;
        loop {
            for _ in 0..ROUNDS {
                let number = gathered.begun().await;
                tokio::time::sleep(GATHERED_FOR).await;
                if gathered.awaits_commit(number) {
                    // What could not be written is said to whoever writes next.
                    let _ = self.0.settle();
                }
            }
            gathered.want(false);
            let _ = self.0.settle();
            tokio::time::sleep(PAUSE).await;
            gathered.want(true);
        }
    }
}

impl Drop for Gathering<'_> {
    fn drop(&mut self) {
        self.0.gathered.want(false);
        let _ = self.0.settle();
    }
}

impl Store {
    /// Gathers what is written from now on, by whomever in this process. Where it matters that all is written, [`Store::settle`].
    pub fn gather(&self) -> Gathering<'_> {
        self.gathered.want(true);
        Gathering(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::StoreError;
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
            for _ in 0..10 {
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
