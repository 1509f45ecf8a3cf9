//! This run, as other runs of a state folder see it.

use crate::{StoreError, io};
use eskort_core::words;
use eskort_host::files;
use jiff::Timestamp;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// The folder of the files that runs hold locked as long as they live.
pub(crate) const WORKERS: &str = "workers";

/// This run, as others see it: a file that the system keeps locked until the process ends, however it ends.
pub(crate) struct Worker {
    pub(crate) id: String,
    /// `None` where the ledger is in memory: nobody else can see it.
    file: Option<(PathBuf, File)>,
}

impl Worker {
    pub(crate) fn begin(state: &Path, now: Timestamp) -> Result<Self, StoreError> {
        let folder = state.join(WORKERS);
        files::make_folders(&folder, 0o700).map_err(io("make", &folder))?;
        let moment = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let id = format!("{}-{}", std::process::id(), moment.as_nanos());
        // Under another name until it is locked: nobody finds it without its lock.
        let (path, before) = (folder.join(&id), folder.join(format!(".{id}")));
        let made = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&before);
        let mut file = made.map_err(io("make", &before))?;
        file.lock().map_err(io("lock", &before))?;
        let words = format!("process {}, since {}", std::process::id(), words::instant(now));
        file.write_all(words.as_bytes()).map_err(io("write", &before))?;
        std::fs::rename(&before, &path).map_err(io("rename", &before))?;
        Ok(Worker { id, file: Some((path, file)) })
    }

    pub(crate) fn in_memory() -> Self {
        Worker { id: "this".into(), file: None }
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        if let Some((path, _)) = &self.file {
            let _ = std::fs::remove_file(path);
        }
    }
}

/// Whether a run still lives. The file of one that does not is removed.
pub(crate) fn lives(state: &Path, worker: &str) -> bool {
    let path = state.join(WORKERS).join(worker);
    let Ok(file) = File::open(&path) else { return false };
    let lives = matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock));
    if !lives {
        mark_killed(state);
        let _ = std::fs::remove_file(&path);
    }
    lives
}

/// There while a run was killed and nobody has looked after what it left.
const KILLED: &str = "killed";

/// Writes down that a run was killed.
pub(crate) fn mark_killed(state: &Path) {
    let _ = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(state.join(KILLED));
}

/// Whether a run was killed since [`forget_killed`].
pub(crate) fn was_killed(state: &Path) -> bool {
    state.join(KILLED).exists()
}

/// Writes down that what killed runs left was looked after.
pub(crate) fn forget_killed(state: &Path) {
    let _ = std::fs::remove_file(state.join(KILLED));
}

/// Whether any run of a state folder works on journeys.
pub(crate) fn anybody_works(state: &Path) -> bool {
    let Ok(entries) = std::fs::read_dir(state.join(WORKERS)) else { return false };
    let lives = |name: &str| !name.starts_with('.') && lives(state, name);
    entries.filter_map(Result::ok).any(|entry| entry.file_name().to_str().is_some_and(lives))
}
