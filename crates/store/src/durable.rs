//! Durability: what was written by several is brought to the disk together.

use crate::{StoreError, io};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use tokio::sync::Mutex;

/// How much of what was written is on the disk.
///
/// SQLite writes each commit to its write-ahead log, in order; the log alone has to be synchronized for that to be durable. No lock of
/// SQLite's is on that file: opening and closing it here takes none away.
#[derive(Default)]
pub(crate) struct Durable {
    /// The write-ahead log; `None` for a ledger in memory.
    log: Option<PathBuf>,
    written: AtomicU64,
    /// What of it is on the disk. Held while the disk is waited for.
    flushed: Mutex<u64>,
}

impl Durable {
    /// Returns that of a ledger's file.
    pub(crate) fn of(ledger: &Path) -> Self {
        let mut log = ledger.as_os_str().to_owned();
        log.push("-wal");
        Durable { log: Some(log.into()), ..Durable::default() }
    }

    /// Takes in that something was written.
    pub(crate) fn written(&self) {
        self.written.fetch_add(1, Ordering::Relaxed);
    }

    /// Waits until all that is written now is on the disk.
    pub(crate) async fn flush(&self) -> Result<(), StoreError> {
        let Some(log) = &self.log else { return Ok(()) };
        let ours = self.written.load(Ordering::Relaxed);
        let mut flushed = self.flushed.lock().await;
        if *flushed >= ours {
            return Ok(());
        }
        let all = self.written.load(Ordering::Relaxed);
        let path = log.clone();
        let synchronize = move || match std::fs::File::open(&path) {
            // Without a log everything is in the ledger itself, which SQLite has synchronized.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(()),
            file => file.and_then(|file| file.sync_data()),
        };
        let done = tokio::task::spawn_blocking(synchronize).await.expect("synchronizing does not panic");
        done.map_err(io("synchronize", log))?;
        *flushed = all;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn one_who_wrote_before_another_flushed_waits_for_no_disk() {
        let folder = tempfile::tempdir().unwrap();
        let ledger = folder.path().join("ledger.sqlite");
        let durable = Durable::of(&ledger);
        durable.written();
        durable.written();
        durable.flush().await.unwrap();
        assert_eq!(*durable.flushed.lock().await, 2);
        // A log that cannot be opened is an error, but only for who has something to flush.
        std::fs::create_dir(folder.path().join("ledger.sqlite-wal")).unwrap();
        std::fs::remove_dir(folder.path().join("ledger.sqlite-wal")).unwrap();
        std::os::unix::fs::symlink("ledger.sqlite-wal", folder.path().join("ledger.sqlite-wal")).unwrap();
        durable.flush().await.unwrap();
        durable.written();
        assert!(durable.flush().await.is_err());
    }
}
