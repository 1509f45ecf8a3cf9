//! What is known of writes that are not committed yet.

use rusqlite::Connection;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use tokio::sync::Notify;

/// What is known of the writes that are gathered. All of it changes only while the connection is locked.
#[derive(Default)]
pub(crate) struct Gathered {
    wanted: AtomicBool,
    /// Whether some of them are not committed yet.
    open: AtomicBool,
    /// Why some were lost: who wrote them goes on as if they were there.
    lost: OnceLock<String>,
    /// The number of the commit that they are gathered for.
    number: AtomicU64,
    /// Told when the first write for a commit is gathered.
    begun: Notify,
}

impl Gathered {
    /// Says whether writes are gathered from now on.
    pub(crate) fn want(&self, wanted: bool) {
        self.wanted.store(wanted, Ordering::Relaxed);
    }

    /// Waits until something was written that is not committed yet; returns the number of its commit.
    pub(crate) async fn begun(&self) -> u64 {
        self.begun.notified().await;
        self.number.load(Ordering::Relaxed)
    }

    /// Whether the commit of that number is still to come.
    pub(crate) fn awaits_commit(&self, number: u64) -> bool {
        self.is_open() && self.number.load(Ordering::Relaxed) == number
    }

    /// Whether some of them are not committed yet.
    pub(crate) fn is_open(&self) -> bool {
        self.open.load(Ordering::Relaxed)
    }

    /// Why some were lost, where some were.
    pub(crate) fn lost(&self) -> Option<&str> {
        self.lost.get().map(String::as_str)
    }

    /// Begins to gather, where that is wanted, before something is written.
    pub(crate) fn begin(&self, db: &Connection) -> rusqlite::Result<()> {
        if self.wanted.load(Ordering::Relaxed) && db.is_autocommit() {
            // As a writer's: see `Store::in_one_transaction`.
            db.prepare_cached("BEGIN IMMEDIATE")?.execute([])?;
            self.open.store(true, Ordering::Relaxed);
            self.number.fetch_add(1, Ordering::Relaxed);
            self.begun.notify_one();
        }
        Ok(())
    }

    /// Commits what was gathered. Where that fails it is lost.
    pub(crate) fn commit(&self, db: &Connection) -> rusqlite::Result<()> {
        self.open.store(false, Ordering::Relaxed);
        let committed = db.prepare_cached("COMMIT").and_then(|mut commit| commit.execute([]));
        if let Err(error) = &committed {
            let _ = self.lost.set(error.to_string());
            if !db.is_autocommit() {
                let _ = db.execute_batch("ROLLBACK");
            }
        }
        committed.map(drop)
    }

    /// Looks whether `SQLite` has given up all that was gathered, and why: it may when the disk is full.
    pub(crate) fn look_for_loss(&self, db: &Connection, why: impl FnOnce() -> String) {
        if db.is_autocommit() && self.open.swap(false, Ordering::Relaxed) {
            let _ = self.lost.set(why());
        }
    }
}
