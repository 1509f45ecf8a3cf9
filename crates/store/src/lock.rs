//! The lock that keeps two runs apart.

use crate::worker::{anybody_works, forget_killed, mark_killed, was_killed};
use crate::{StoreError, io};
use eskort_host::files;
use jiff::Timestamp;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::Duration;

/// Held while a run may change anything; the system lets go of it when the process ends, however it ends.
#[derive(Debug)]
pub struct RunLock {
    command: String,
    file: File,
}

impl Drop for RunLock {
    fn drop(&mut self) {
        // One that was killed leaves its words there.
        let _ = self.file.set_len(0);
    }
}

impl RunLock {
    /// Takes the lock of a state folder, and writes down who holds it.
    ///
    /// # Errors
    /// [`StoreError::Busy`] when another run holds it.
    pub fn take(state: &Path, command: &str, now: Timestamp) -> Result<Self, StoreError> {
        // A child that a killed run was just about to start has the lock for a moment, until its own program begins.
        for _ in 0..5 {
            match Self::try_take(state, command, now) {
                Err(StoreError::Busy { .. }) => std::thread::sleep(Duration::from_millis(60)),
                taken => return taken,
            }
        }
        Self::try_take(state, command, now)
    }

    /// Returns the command that it was taken for.
    pub fn command(&self) -> &str {
        &self.command
    }

    /// Takes the lock as [`RunLock::take`] does, without waiting a moment for it.
    ///
    /// # Errors
    /// [`StoreError::Busy`] when another run holds it.
    pub fn try_take(state: &Path, command: &str, now: Timestamp) -> Result<Self, StoreError> {
        let path = state.join("lock");
        files::make_folders(state, 0o700).map_err(io("make", state))?;
        let open = OpenOptions::new().read(true).write(true).create(true).truncate(false).mode(0o600).open(&path);
        let mut file = open.map_err(io("open", &path))?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut since = String::new();
                let _ = file.take(400).read_to_string(&mut since);
                let since = eskort_core::words::printable(since.trim(), 200);
                return Err(StoreError::Busy { since: Some(since).filter(|s| !s.is_empty()) });
            }
            Err(TryLockError::Error(source)) => return Err(StoreError::Io { job: "lock", path, source }),
        }
        if file.metadata().is_ok_and(|meta| meta.len() > 0) {
            mark_killed(state);
        }
        let holder = format!("process {}, `{command}`, since {}", std::process::id(), eskort_core::words::instant(now));
        let written = file.set_len(0).and_then(|()| file.rewind()).and_then(|()| file.write_all(holder.as_bytes()));
        written.map_err(io("write", &path))?;
        // Where nobody else writes now, what passed through a name of its own when a run was killed is of no use to anybody.
        let somebody_works = anybody_works(state);
        if was_killed(state) && !somebody_works {
            files::sweep_below(state);
            forget_killed(state);
        }
        Ok(RunLock { command: command.to_owned(), file })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_second_is_told_who_holds_it() {
        let dir = tempfile::tempdir().unwrap();
        let now = "2026-03-02T10:00:00Z".parse().unwrap();
        let first = RunLock::take(dir.path(), "eskort keep", now).unwrap();
        let said = RunLock::take(dir.path(), "eskort keep", now).unwrap_err().to_string();
        assert!(said.contains("`eskort keep`, since 2026-03-02 10:00 UTC"), "{said}");
        let holder = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(100));
            drop(first);
        });
        RunLock::take(dir.path(), "eskort keep", now).unwrap();
        holder.join().unwrap();
    }

    #[test]
    fn what_a_killed_run_left_goes_once_nobody_works() {
        let dir = tempfile::tempdir().unwrap();
        let now = "2026-03-02T10:00:00Z".parse().unwrap();
        let passing = dir.path().join(".key.pem.0123456789abcdef.new");
        std::fs::write(&passing, "x").unwrap();
        drop(RunLock::take(dir.path(), "eskort keep", now).unwrap());
        assert!(passing.exists(), "no run was killed");
        std::fs::write(dir.path().join("lock"), "process 1").unwrap();
        drop(RunLock::take(dir.path(), "eskort keep", now).unwrap());
        assert!(!passing.exists());
    }
}
