//! Copies of files from before their links were changed, and the way back.

use super::{LinksError, write_private};
use eskort_core::context::Context;
use eskort_core::pki::hex;
use eskort_host::files::{self, as_owner_of};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

const LIST: &str = "files.json";

/// A file that was changed, and its copy of before.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Kept {
    path: PathBuf,
    copy: String,
    /// The SHA-256 digest of the file as it is after the change.
    after: String,
}

/// The copies of one change.
pub(super) struct Backup {
    folder: PathBuf,
    kept: Vec<Kept>,
}

fn links(state: &Path) -> PathBuf {
    state.join("links")
}

/// Takes in what is written, and says its SHA-256 digest.
#[derive(Default)]
pub(super) struct Sum(Sha256);

impl Sum {
    pub(super) fn finish(self) -> String {
        hex(&self.0.finalize())
    }
}

impl Write for Sum {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn digest(path: &Path) -> io::Result<String> {
    let mut sum = Sum::default();
    io::copy(&mut fs::File::open(path)?, &mut sum)?;
    Ok(sum.finish())
}

impl Backup {
    pub(super) fn new(state: &Path, now: Timestamp) -> Self {
        // A name that sorts by time and can be made again within a second.
        let taken = |n: &u32| links(state).join(format!("{}-{n:03}", now.as_second())).exists();
        let n = (0..1000).find(|n| !taken(n)).unwrap_or(999);
        Backup { folder: links(state).join(format!("{}-{n:03}", now.as_second())), kept: Vec::new() }
    }

    fn write_list(&self) -> Result<(), LinksError> {
        let text = serde_json::to_vec_pretty(&self.kept).expect("a list of paths is JSON");
        write_private(&self.folder.join(LIST), &text)
    }

    /// Keeps a copy of a file, and writes down what it will be, so that a change that is cut short can be taken back, too.
    pub(super) fn keep(&mut self, path: &Path, after: String) -> Result<String, LinksError> {
        let failed = |source| LinksError::Copy { path: self.folder.clone(), source };
        if self.kept.is_empty() {
            files::make_folders(&self.folder, 0o700).map_err(failed)?;
        }
        let path = std::path::absolute(path).map_err(failed)?;
        let copy = format!("{:06}", self.kept.len());
        let to = self.folder.join(&copy);
        write_private(&to, b"")?;
        let copied = (|| {
            let mut to = fs::OpenOptions::new().write(true).open(&to)?;
            io::copy(&mut fs::File::open(&path)?, &mut to)?;
            to.sync_all()
        })();
        copied.map_err(failed)?;
        self.kept.push(Kept { path, copy: copy.clone(), after });
        self.write_list()?;
        Ok(copy)
    }

    /// Removes the copy of a file that was not changed.
    pub(super) fn forget(&mut self, copy: &str) {
        self.kept.retain(|kept| kept.copy != copy);
        let _ = fs::remove_file(self.folder.join(copy));
    }

    /// Returns where the copies are, if there are any.
    pub(super) fn finish(self) -> Option<PathBuf> {
        (!self.kept.is_empty()).then_some(self.folder)
    }
}

/// What was taken back.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Undone {
    /// Files that are as they were.
    pub restored: Vec<PathBuf>,
    /// Files that somebody has changed since, which stay.
    pub left_alone: Vec<PathBuf>,
    /// Where the copies of those that stay are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub copies: Option<PathBuf>,
}

/// Takes the last change of links back.
///
/// # Errors
/// When none is known, or its copies cannot be read.
pub fn undo_links(context: &Context) -> Result<Undone, LinksError> {
    let folder = links(&context.state);
    let mut known: Vec<PathBuf> = fs::read_dir(&folder)
        .map(|entries| entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect())
        .unwrap_or_default();
    known.retain(|path| path.join(LIST).exists());
    known.sort();
    let last = known.pop().ok_or(LinksError::NothingToUndo)?;
    let failed = |source| LinksError::Copy { path: last.clone(), source };
    let text = fs::read(last.join(LIST)).map_err(failed)?;
    let kept: Vec<Kept> = serde_json::from_slice(&text).map_err(|error| failed(error.into()))?;
    let mut undone = Undone::default();
    for one in kept {
        let copy = last.join(&one.copy);
        let before = digest(&copy).map_err(failed)?;
        match digest(&one.path) {
            // It was not written any more, or is as before again.
            Ok(now) if now == before => {}
            Ok(now) if now == one.after => {
                // The copy is ours to read, the place its owner's to write.
                let mut old = fs::File::open(&copy).map_err(failed)?;
                let put_back =
                    || files::rewrite(&one.path, false, |_, mut new| io::copy(&mut old, &mut new).map(|_| true));
                match as_owner_of(one.path.parent().unwrap_or(Path::new("/")), put_back) {
                    Ok(_) => undone.restored.push(one.path),
                    Err(_) => undone.left_alone.push(one.path),
                }
            }
            _ => undone.left_alone.push(one.path),
        }
    }
    if undone.left_alone.is_empty() {
        fs::remove_dir_all(&last).map_err(failed)?;
    } else {
        let aside = last.with_extension("taken-back");
        fs::rename(last.join(LIST), last.join("files.taken-back.json")).map_err(failed)?;
        fs::rename(&last, &aside).map_err(failed)?;
        undone.copies = Some(aside);
    }
    Ok(undone)
}
