//! Changes to servers that have not proved themselves yet, and how they are undone.
//!
//! Every file is written down with what it held before and what it holds after. One is put back only when it is exactly what we
//! wrote: what a person or a program wrote since is theirs.

use crate::{LARGEST, Store, StoreError, io};
use eskort_core::boxed;
use eskort_core::pki::{hex, sha256};
use eskort_host::files::{Access, FileRead, make_folders, read_whole, remove, write_atomic};
use jiff::Timestamp;
use rusqlite::params;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// One change of a file, or of the link `current`, that is not settled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Undo {
    id: i64,
    /// The server it was made for.
    pub server: String,
    /// The machine that the file is on; `None` for this one.
    pub host: Option<String>,
    /// The certificate it was made for.
    pub certificate: String,
    /// The file or link.
    pub path: PathBuf,
    /// Whether the server was reloaded with it, or that was begun.
    pub reloaded: bool,
    /// Whether it is the link `current`, which is in the state folder.
    pub is_link: bool,
    before: Option<String>,
    after: String,
    /// The copy of what it held before.
    pub kept: Option<PathBuf>,
    access: Access,
    shown: bool,
}

/// What came of putting something back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PutBack {
    /// It is as it was before the change.
    Done,
    /// This is to be written in its place.
    Write {
        /// What it held.
        bytes: Vec<u8>,
        /// Whose it was, and who could do what with it.
        access: Access,
    },
    /// It is to be removed: it did not exist.
    Remove,
    /// It holds neither what we wrote nor what was there before: it stays.
    Theirs {
        /// What it held before our change, unless that is secret.
        before: Option<Vec<u8>>,
        /// What it holds now, unless that is secret.
        now: Option<Vec<u8>>,
    },
}

fn digest(bytes: &[u8]) -> String {
    hex(&sha256(bytes))
}

fn text(path: &Path) -> Result<&str, StoreError> {
    path.to_str().ok_or_else(|| StoreError::Path { path: path.to_owned() })
}

impl Store {
    /// Keeps what a file of a server's machine holds before it becomes `after`: what was `found` in its place.
    ///
    /// # Errors
    /// When the copy cannot be written.
    #[boxed]
    pub async fn keep_file(
        &self,
        (server, host): (&str, Option<&str>),
        certificate: &str,
        path: &Path,
        found: Option<&FileRead>,
        after: &[u8],
        shown: bool,
    ) -> Result<(), StoreError> {
        let mut kept = None;
        let mut before = None;
        let mut access = Access::mode(0);
        if let Some(file) = found {
            let folder = self.root.join("backups").join(server);
            make_folders(&folder, 0o700).map_err(io("make", &folder))?;
            let sql = "SELECT coalesce(max(id), 0) + 1 FROM undo";
            let number: i64 = self.db.lock().query_row(sql, [], |r| r.get(0)).map_err(|e| self.fail(e))?;
            let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            // Copies that stay for people may have the next numbers.
            let free = |number: &i64| !folder.join(format!("{number:06}-{name}")).exists();
            let number = (number..).find(free).unwrap_or(number);
            let copy = folder.join(format!("{number:06}-{name}"));
            write_atomic(&copy, &file.bytes, Access::mode(0o600)).map_err(io("write", &copy))?;
            (before, access) = (Some(digest(&file.bytes)), file.access);
            kept = Some(text(&copy)?.to_owned());
        }
        let after = digest(after);
        self.run(
            "INSERT INTO undo (server, host, certificate, path, kind, before, after, kept, mode, uid, gid, shown)
             VALUES (?, ?, ?, ?, 'file', ?, ?, ?, ?, ?, ?, ?)",
            params![
                server,
                host,
                certificate,
                text(path)?,
                before,
                after,
                kept,
                access.mode,
                access.uid,
                access.gid,
                shown
            ],
        )
        .map(drop)
    }

    /// Keeps where the link `current` of a certificate leads before it is switched to a generation, for a server that goes by it.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn keep_link(&self, server: &str, certificate: &str, generation: u32) -> Result<(), StoreError> {
        let path = self.current_link(certificate);
        let before = self.current_generation(certificate).map(|number| number.to_string());
        self.run(
            "INSERT INTO undo (server, certificate, path, kind, before, after, shown) VALUES (?, ?, ?, 'link', ?, ?, 1)",
            params![server, certificate, text(&path)?, before, generation.to_string()],
        )
        .map(drop)
    }

    /// Writes down that a server is reloaded with its changes.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn mark_reloaded(&self, server: &str) -> Result<(), StoreError> {
        self.run("UPDATE undo SET reloaded = 1 WHERE server = ? AND settled IS NULL", [server]).map(drop)
    }

    /// Returns the changes that are not settled, newest first.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn unsettled(&self) -> Result<Vec<Undo>, StoreError> {
        self.undos("settled IS NULL", [])
    }

    /// Returns the last settled change of each file that was made for a certificate, newest first.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn settled(&self, certificate: &str) -> Result<Vec<Undo>, StoreError> {
        self.undos("settled IS NOT NULL AND certificate = ?", [certificate])
    }

    fn undos(&self, which: &str, params: impl rusqlite::Params) -> Result<Vec<Undo>, StoreError> {
        let sql = format!(
            "SELECT id, server, certificate, path, reloaded, kind, before, after, kept, coalesce(mode, 0), uid, gid, shown, host
                   FROM undo WHERE {which} ORDER BY id DESC"
        );
        self.rows(&sql, params, |row| {
            let (path, kept): (String, Option<String>) = (row.get(3)?, row.get(8)?);
            Ok(Undo {
                id: row.get(0)?,
                server: row.get(1)?,
                certificate: row.get(2)?,
                path: path.into(),
                reloaded: row.get(4)?,
                is_link: row.get::<_, String>(5)? == "link",
                before: row.get(6)?,
                after: row.get(7)?,
                kept: kept.map(Into::into),
                access: Access { mode: row.get(9)?, uid: row.get(10)?, gid: row.get(11)? },
                shown: row.get(12)?,
                host: row.get(13)?,
            })
        })
    }

    /// Returns how a file is put back as it was, if what was `found` in its place is exactly what we made of it. What does not exist
    /// any more is made again. The link `current` is put back at once.
    ///
    /// # Errors
    /// When the copy is lost, or the link cannot be switched.
    pub fn put_back(&self, undo: &Undo, found: Option<FileRead>) -> Result<PutBack, StoreError> {
        if undo.is_link {
            let now = self.current_generation(&undo.certificate).map(|number| number.to_string());
            if now.as_ref() == Some(&undo.after) {
                let number = undo.before.as_ref().and_then(|number| number.parse().ok());
                self.switch_current(&undo.certificate, number)?;
            }
            return Ok(PutBack::Done);
        }
        let now = found.as_ref().map(|file| digest(&file.bytes));
        if now == undo.before {
            return Ok(PutBack::Done);
        }
        let copy = match &undo.kept {
            Some(kept) => {
                let lost = || std::io::Error::from(std::io::ErrorKind::NotFound);
                let copy = read_whole(kept, LARGEST).and_then(|copy| copy.ok_or_else(lost));
                Some(copy.map_err(io("read", kept))?.bytes)
            }
            None => None,
        };
        if now.is_some_and(|now| now != undo.after) {
            let shown = |bytes: Option<Vec<u8>>| bytes.filter(|_| undo.shown);
            return Ok(PutBack::Theirs { before: shown(copy), now: shown(found.map(|file| file.bytes)) });
        }
        Ok(match copy {
            Some(bytes) => PutBack::Write { bytes, access: undo.access },
            None => PutBack::Remove,
        })
    }

    /// Forgets changes that were undone, or that somebody else has taken over. Of the latter the copies stay for people.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn forget_changes(&self, changes: &[Undo], theirs: &[PathBuf]) -> Result<(), StoreError> {
        for undo in changes {
            if let Some(kept) = undo.kept.as_ref().filter(|_| !theirs.contains(&undo.path)) {
                let _ = remove(kept);
            }
        }
        let forget = |undo: &Undo| self.run("DELETE FROM undo WHERE id = ?", [undo.id]).map(drop);
        self.in_one_transaction(|| changes.iter().try_for_each(forget))
    }

    /// Writes down that the changes made for certificates have proved themselves, all as one: what servers read of one may stand in a
    /// file that was changed for another. The newest copy of each file stays for people; older ones go. Changes for other certificates
    /// that could not be undone yet wait on.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn settle_changes(&self, certificates: &[&str], now: Timestamp) -> Result<(), StoreError> {
        let sql = "UPDATE undo SET settled = ? WHERE settled IS NULL AND certificate = ?";
        let settle = |certificate: &&str| self.run(sql, params![now.as_second(), certificate]).map(drop);
        let old = "SELECT DISTINCT older.id, older.kept FROM undo newer JOIN undo older ON older.path = newer.path AND older.id < newer.id
                     AND coalesce(older.host, '') = coalesce(newer.host, '')
                     AND CASE older.kind WHEN 'link' THEN older.server ELSE '' END = CASE newer.kind WHEN 'link' THEN newer.server ELSE '' END
                   WHERE newer.certificate = ? AND older.settled IS NOT NULL";
        let old: Vec<(i64, Option<String>)> = self.in_one_transaction(|| {
            certificates.iter().try_for_each(settle)?;
            certificates.iter().try_for_each(|certificate| self.carry_forward(certificate))?;
            // Which row has which copy is settled now, for all of them.
            let mut replaced = BTreeMap::new();
            for certificate in certificates {
                replaced.extend(self.rows(old, [certificate], |r| Ok((r.get::<_, i64>(0)?, r.get(1)?)))?);
            }
            let old: Vec<(i64, _)> = replaced.into_iter().collect();
            let forget = |(id, _): &(i64, _)| self.run("DELETE FROM undo WHERE id = ?", [id]).map(drop);
            old.iter().try_for_each(forget)?;
            Ok(old)
        })?;
        for kept in old.iter().filter_map(|(_, kept)| kept.as_ref()) {
            let _ = remove(Path::new(kept));
        }
        Ok(())
    }
}

impl Store {
    /// Lets the last change of a file go back to what was there before the first, where each change for a certificate came upon what the one
    /// before had left.
    fn carry_forward(&self, certificate: &str) -> Result<(), StoreError> {
        let sql = "SELECT newer.id, newer.kept, older.id, older.before, older.kept, older.mode, older.uid, older.gid
                   FROM undo newer JOIN undo older ON older.path = newer.path AND coalesce(older.host, '') = coalesce(newer.host, '')
                     AND older.certificate = newer.certificate AND older.id < newer.id AND older.after = newer.before
                   WHERE newer.certificate = ? AND newer.kind = 'file' AND newer.settled IS NOT NULL AND older.settled IS NOT NULL ORDER BY newer.id, older.id";
        type Pair = (i64, Option<String>, i64, Option<String>, Option<String>, Option<u32>, Option<u32>, Option<u32>);
        let pair = |r: &rusqlite::Row<'_>| -> rusqlite::Result<Pair> {
            Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?, r.get(7)?))
        };
        for (newer, newer_kept, older, before, kept, mode, uid, gid) in self.rows(sql, [certificate], pair)? {
            let carried = "UPDATE undo SET before = ?, kept = ?, mode = ?, uid = ?, gid = ? WHERE id = ?";
            self.run(carried, params![before, kept, mode, uid, gid, newer])?;
            // The copy between goes with the older row.
            self.run("UPDATE undo SET kept = ? WHERE id = ?", params![newer_kept, older])?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[tokio::test]
    async fn what_is_exactly_ours_comes_back_and_what_is_theirs_stays() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("state")).unwrap();
        let path = |name: &str| dir.path().join(name);
        for name in ["old", "gone", "theirs", "key"] {
            fs::write(path(name), "as it was").unwrap();
        }
        for (name, shown) in [("old", true), ("gone", true), ("theirs", true), ("key", false), ("new", true)] {
            let found = read_whole(&path(name), LARGEST).unwrap();
            store.keep_file(("front", None), "website", &path(name), found.as_ref(), b"ours", shown).await.unwrap();
        }
        for name in ["old", "new"] {
            fs::write(path(name), "ours").unwrap();
        }
        for name in ["theirs", "key"] {
            fs::write(path(name), "mended by a person").unwrap();
        }
        fs::remove_file(path("gone")).unwrap();
        let changes = store.unsettled().await.unwrap();
        let put_back = |undo: &Undo| match store.put_back(undo, read_whole(&undo.path, LARGEST).unwrap()).unwrap() {
            PutBack::Write { bytes, access } => {
                write_atomic(&undo.path, &bytes, access).unwrap();
                PutBack::Done
            }
            PutBack::Remove => {
                remove(&undo.path).unwrap();
                PutBack::Done
            }
            other => other,
        };
        let back: Vec<PutBack> = changes.iter().map(put_back).collect();
        let some = |text: &str| Some(text.as_bytes().to_vec());
        assert_eq!(back[1], PutBack::Theirs { before: None, now: None }, "a key is not shown");
        assert_eq!(back[2], PutBack::Theirs { before: some("as it was"), now: some("mended by a person") });
        assert!([0, 3, 4].iter().all(|n| back[*n] == PutBack::Done));
        let read = |name: &str| fs::read_to_string(path(name)).unwrap();
        assert_eq!([read("old"), read("gone"), read("theirs")], ["as it was", "as it was", "mended by a person"]);
        assert!(!path("new").exists());
        store.forget_changes(&changes, &[path("theirs")]).await.unwrap();
        assert!(store.unsettled().await.unwrap().is_empty());
        assert_eq!(fs::read_dir(path("state/backups/front")).unwrap().count(), 1, "the copy of what is theirs");
    }

    #[tokio::test]
    async fn changes_of_other_certificates_and_machines_wait_on() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("state")).unwrap();
        let path = Path::new("/etc/app/tls.pem");
        let found = |text: &str| FileRead { bytes: text.into(), access: Access::mode(0o644) };
        let keep = async |server, host, certificate, text| {
            store.keep_file((server, host), certificate, path, Some(&found(text)), b"ours", true).await.unwrap();
        };
        // The machine of `far` could not be reached when a killed run was to be undone.
        keep("far", Some("node"), "shop", "of node").await;
        keep("near", None, "website", "of this machine").await;
        store.settle_changes(&["website"], Timestamp::UNIX_EPOCH).await.unwrap();
        let waiting = store.unsettled().await.unwrap();
        assert_eq!(waiting.iter().map(|undo| undo.host.as_deref()).collect::<Vec<_>>(), [Some("node")]);
        let back = store.put_back(&waiting[0], Some(found("ours"))).unwrap();
        assert_eq!(back, PutBack::Write { bytes: "of node".into(), access: Access::mode(0o644) });
        store.settle_changes(&["shop"], Timestamp::UNIX_EPOCH).await.unwrap();
        let copies = |server: &str| fs::read_dir(dir.path().join("state/backups").join(server)).unwrap().count();
        assert_eq!((copies("far"), copies("near")), (1, 1), "each machine's newest copy stays");
    }

    #[tokio::test]
    async fn the_last_of_several_changes_goes_back_to_before_the_first_unless_somebody_came_between() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("state")).unwrap();
        for (between, wanted) in [(None, "as it was"), (Some("mended by a person"), "mended by a person")] {
            let path = dir.path().join(wanted);
            fs::write(&path, "as it was").unwrap();
            for step in ["first", "second", "third"] {
                let found = read_whole(&path, LARGEST).unwrap();
                let change = store.keep_file(("front", None), wanted, &path, found.as_ref(), step.as_bytes(), true);
                change.await.unwrap();
                fs::write(&path, step).unwrap();
                store.settle_changes(&[wanted], Timestamp::now()).await.unwrap();
                if let (Some(between), "second") = (between, step) {
                    fs::write(&path, between).unwrap();
                }
            }
            let changes = store.settled(wanted).await.unwrap();
            assert_eq!(changes.len(), 1, "one for a file");
            let put_back = store.put_back(&changes[0], read_whole(&path, LARGEST).unwrap()).unwrap();
            let PutBack::Write { bytes, .. } = put_back else { panic!("{put_back:?}") };
            assert_eq!(String::from_utf8_lossy(&bytes), wanted);
            assert!(store.unsettled().await.unwrap().is_empty());
        }
        assert_eq!(fs::read_dir(dir.path().join("state/backups/front")).unwrap().count(), 2, "a copy for each file");
    }
}
