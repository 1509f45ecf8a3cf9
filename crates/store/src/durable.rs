//! Durability: what was written by several is brought to the disk together.

use crate::{StoreError, io};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;
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
    /// Held while the disk is waited for.
    flushed: Mutex<Flushed>,
}

#[derive(Default)]
struct Flushed {
    /// How much of what was written is on the disk.
    upto: u64,
    /// The log, once it was needed. As long as the ledger is open it stays the same file.
    file: Option<Arc<File>>,
}

impl Durable {
    /// Returns that of a ledger's file.
    pub(crate) fn of(ledger: &Path) -> Self {
        let mut log = ledger.as_os_str().to_owned();
        log.push("-wal");
        Durable { log: Some(log.into()), ..Durable::default() }
    }

    /// Takes in that something was written, though it may not be committed yet.
    pub(crate) fn written(&self) {
        self.written.fetch_add(1, Ordering::Relaxed);
    }

    /// Waits until all that is written now is on the disk. Who waits for the disk first lets `commit` what was gathered, for all who wait.
    pub(crate) async fn flush(&self, commit: impl FnOnce() -> Result<(), StoreError>) -> Result<(), StoreError> {
        let Some(log) = &self.log else { return commit() };
        let ours = self.written.load(Ordering::Relaxed);
        let mut flushed = self.flushed.lock().await;
        if flushed.upto >= ours {
            return Ok(());
        }
        // What is written after this may not be committed.
        let all = self.written.load(Ordering::Relaxed);
        commit()?;
        let file = match &flushed.file {
            Some(file) => Some(Arc::clone(file)),
            None => match File::open(log) {
                // Without a log everything is in the ledger itself, which SQLite has synchronized.
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => None,
                opened => Some(Arc::new(opened.map_err(io("open", log))?)),
            },
        };
        flushed.file.clone_from(&file);
        if let Some(file) = file {
            let done = tokio::task::spawn_blocking(move || file.sync_data()).await;
            done.expect("synchronizing does not panic").map_err(io("synchronize", log))?;
        }
        flushed.upto = all;
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
        durable.flush(|| Ok(())).await.unwrap();
        assert_eq!(durable.flushed.lock().await.upto, 2);
        // A log that cannot be opened is an error, but only for who has something to flush.
        std::os::unix::fs::symlink("ledger.sqlite-wal", folder.path().join("ledger.sqlite-wal")).unwrap();
        durable.flush(|| Ok(())).await.unwrap();
        durable.written();
        assert!(durable.flush(|| Ok(())).await.is_err());
    }

    #[tokio::test]
    async fn what_several_wait_for_is_committed_once() {
        let folder = tempfile::tempdir().unwrap();
        let durable = Durable::of(&folder.path().join("ledger.sqlite"));
        let commits = AtomicU64::new(0);
        let flush = || {
            durable.written();
            durable.flush(|| {
                commits.fetch_add(1, Ordering::Relaxed);
                Ok(())
            })
        };
        let others_wait = durable.flushed.lock().await;
        let mut both = std::pin::pin!(async { tokio::join!(flush(), flush()) });
        tokio::select! {
            biased;
            _ = &mut both => panic!("the disk is still waited for"),
            () = async {} => {}
        }
        assert_eq!(commits.load(Ordering::Relaxed), 0);
        drop(others_wait);
        let (first, second) = both.await;
        assert!(first.is_ok() && second.is_ok());
        assert_eq!(commits.load(Ordering::Relaxed), 1);
        flush().await.unwrap();
        assert_eq!(commits.load(Ordering::Relaxed), 2);
    }
}
