//! Copies of files as they were before a change, until the change has proved itself.

use crate::files::{Access, make_folders, write_whole};
use crate::{Store, StoreError, io};
use jiff::Timestamp;
use rusqlite::params;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// A file as it was before it was changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Backup {
    /// The file.
    pub path: PathBuf,
    /// The copy of what it held; `None` when it did not exist.
    pub kept: Option<PathBuf>,
    access: Access,
}

impl Store {
    /// Keeps a copy of a file before it is changed. The first copy stands: after a crash in the middle, what is found there
    /// may be half of the change.
    ///
    /// # Errors
    /// When the file is there and cannot be read, or the copy cannot be written.
    pub fn back_up(&self, certificate: &str, path: &Path) -> Result<(), StoreError> {
        if self.backups(certificate)?.iter().any(|b| b.path == path) {
            return Ok(());
        }
        let text = path.to_string_lossy();
        match fs::read(path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
                let sql = "INSERT INTO backup (certificate, path) VALUES (?, ?)";
                self.run(sql, params![certificate, text]).map(drop)
            }
            Err(e) => Err(io("read", path)(e)),
            Ok(bytes) => {
                let meta = fs::metadata(path).map_err(io("read", path))?;
                let folder = self.root.join("backups").join(certificate);
                make_folders(&folder, 0o700).map_err(io("make", &folder))?;
                let number: i64 = self
                    .db
                    .query_row("SELECT coalesce(max(id), 0) + 1 FROM backup", [], |r| r.get(0))
                    .map_err(|e| self.fail(e))?;
                let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
                let kept = folder.join(format!("{number:06}-{name}"));
                write_whole(&kept, &bytes, Access::mode(0o600)).map_err(io("write", &kept))?;
                let kept = kept.to_string_lossy().into_owned();
                let access = (meta.mode() & 0o7777, meta.uid(), meta.gid());
                let sql = "INSERT INTO backup (certificate, path, kept, mode, uid, gid) VALUES (?, ?, ?, ?, ?, ?)";
                self.run(sql, params![certificate, text, kept, access.0, access.1, access.2]).map(drop)
            }
        }
    }

    /// Returns the copies kept for a change that has not proved itself yet, newest first.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn backups(&self, certificate: &str) -> Result<Vec<Backup>, StoreError> {
        let sql = "SELECT path, kept, coalesce(mode, 0) AS mode, uid, gid FROM backup
                   WHERE certificate = ? AND settled IS NULL ORDER BY id DESC";
        self.rows(sql, [certificate], |row| {
            let path: String = row.get("path")?;
            let kept: Option<String> = row.get("kept")?;
            let access = Access { mode: row.get("mode")?, uid: row.get("uid")?, gid: row.get("gid")? };
            Ok(Backup { path: path.into(), kept: kept.map(Into::into), access })
        })
    }

    /// Puts every file of a change back as it was, and forgets the copies.
    ///
    /// # Errors
    /// When a file cannot be written; the copies stay then.
    pub fn restore_backups(&self, certificate: &str) -> Result<(), StoreError> {
        for backup in self.backups(certificate)? {
            let path = &backup.path;
            match &backup.kept {
                Some(kept) => {
                    let bytes = fs::read(kept).map_err(io("read", kept))?;
                    if fs::read(path).ok().as_ref() != Some(&bytes) {
                        write_whole(path, &bytes, backup.access).map_err(io("write", path))?;
                    }
                }
                None => match fs::remove_file(path) {
                    Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(io("remove", path)(e)),
                    _ => {}
                },
            }
        }
        for kept in self.backups(certificate)?.into_iter().filter_map(|b| b.kept) {
            let _ = fs::remove_file(kept);
        }
        self.run("DELETE FROM backup WHERE certificate = ? AND settled IS NULL", [certificate]).map(drop)
    }

    /// Writes down that a change has proved itself. The newest copy of each file stays for people; older ones go.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn settle_backups(&self, certificate: &str, now: Timestamp) -> Result<(), StoreError> {
        let sql = "UPDATE backup SET settled = ? WHERE certificate = ? AND settled IS NULL";
        self.run(sql, params![now.as_second(), certificate])?;
        let sql = "SELECT id, kept FROM backup WHERE certificate = ?1 AND id NOT IN
                   (SELECT max(id) FROM backup WHERE certificate = ?1 GROUP BY path)";
        let old: Vec<(i64, Option<String>)> = self.rows(sql, [certificate], |r| Ok((r.get(0)?, r.get(1)?)))?;
        for (id, kept) in old {
            if let Some(kept) = kept {
                let _ = fs::remove_file(kept);
            }
            self.run("DELETE FROM backup WHERE id = ?", [id])?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_copy_stands_and_everything_comes_back() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("state")).unwrap();
        let (old, new) = (dir.path().join("old"), dir.path().join("new"));
        fs::write(&old, "as it was").unwrap();
        store.back_up("website", &old).unwrap();
        store.back_up("website", &new).unwrap();
        fs::write(&old, "half").unwrap();
        fs::write(&new, "made").unwrap();
        store.back_up("website", &old).unwrap();
        store.restore_backups("website").unwrap();
        assert_eq!(fs::read_to_string(&old).unwrap(), "as it was");
        assert!(!new.exists() && store.backups("website").unwrap().is_empty());

        for text in ["one", "two", "three"] {
            store.back_up("website", &old).unwrap();
            fs::write(&old, text).unwrap();
            store.settle_backups("website", Timestamp::UNIX_EPOCH).unwrap();
        }
        store.restore_backups("website").unwrap();
        assert_eq!(fs::read_to_string(&old).unwrap(), "three", "a settled change is not undone");
        let kept = dir.path().join("state/backups/website");
        let left: Vec<_> =
            fs::read_dir(kept).unwrap().map(|e| fs::read_to_string(e.unwrap().path()).unwrap()).collect();
        assert_eq!(left, ["two"], "the newest copy stays for people");
    }
}
