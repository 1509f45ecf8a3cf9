//! Whose a file is, and who may change it: nobody but root and the caller may decide what is obeyed.

use rustix::fs::{FileType, Stat};
use std::ffi::OsString;
use std::io;
use std::os::unix::ffi::OsStringExt;
use std::path::{Component, Path, PathBuf};

/// A file or folder that somebody else may change.
#[derive(Debug, thiserror::Error)]
pub enum TrustError {
    /// It is somebody else's.
    #[error("{} belongs to {owner}, who could change {}", path.display(), of(path, what))]
    Owner {
        /// The file, folder or link.
        path: PathBuf,
        /// Its owner.
        owner: String,
        /// What was to be used.
        what: PathBuf,
        /// Whose it should be.
        us: String,
    },
    /// Others may write to it.
    #[error("{} may be written by others (mode {mode:04o}, owner {owner}), who could change {}", path.display(), of(path, what))]
    Mode {
        /// The file or folder.
        path: PathBuf,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: String,
        /// What was to be used.
        what: PathBuf,
    },
    /// It cannot be looked at.
    #[error("cannot look at {}: {source}", path.display())]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
}

fn of(path: &Path, what: &Path) -> String {
    if path == what { "it".to_owned() } else { what.display().to_string() }
}

impl TrustError {
    /// Returns what mends it, with the command.
    pub fn mended_by(&self) -> Option<String> {
        match self {
            // A folder of somebody's stays theirs: what is to be used goes elsewhere.
            TrustError::Owner { path, what, us, .. } if path != what => {
                let name = what.file_name().unwrap_or_default().display();
                let to = if us == "root" { format!("/etc/eskort/{name}") } else { format!("$HOME/{name}") };
                Some(format!(
                    "`install -D '{}' \"{to}\"` puts it where nobody else can; use it from there",
                    what.display()
                ))
            }
            TrustError::Owner { path, us, .. } => Some(format!("`chown -h {us} '{}'` fixes that", path.display())),
            TrustError::Mode { path, .. } => Some(format!("`chmod go-w '{}'` fixes that", path.display())),
            TrustError::Io { .. } => None,
        }
    }

    /// Returns whether the thing does not exist.
    pub fn is_missing(&self) -> bool {
        matches!(self, TrustError::Io { source, .. } if source.kind() == io::ErrorKind::NotFound)
    }
}

/// Returns the user whose rights this thread has on files: the caller's, unless it took on others for a while.
pub(crate) fn acting_user() -> u32 {
    use nix::unistd::{Uid, setfsuid};
    // An id that no user can have changes nothing; the answer is the one in force.
    setfsuid(Uid::from_raw(u32::MAX)).as_raw()
}

/// Whether a user id is root's or that of whoever acts.
pub(crate) fn is_own(uid: u32) -> bool {
    uid == 0 || uid == acting_user()
}

/// Whether nobody but root and the caller may change a thing. In a folder with the sticky bit nobody can replace what is
/// another's.
pub(crate) fn nobody_else_writes(stat: &Stat) -> bool {
    let sticky = FileType::from_raw_mode(stat.st_mode) == FileType::Directory && stat.st_mode & 0o1000 != 0;
    let by_group = stat.st_mode & 0o020 != 0 && !is_group_of_one(stat);
    is_own(stat.st_uid) && (sticky || (stat.st_mode & 0o002 == 0 && !by_group))
}

/// Whether a thing's group is that of its owner alone, as systems make one for each user.
fn is_group_of_one(stat: &Stat) -> bool {
    use nix::unistd::{Gid, Group, Uid, User};
    if stat.st_gid == 0 {
        return true;
    }
    let owner = User::from_uid(Uid::from_raw(stat.st_uid)).ok().flatten();
    let group = Group::from_gid(Gid::from_raw(stat.st_gid)).ok().flatten();
    owner.zip(group).is_some_and(|(owner, group)| {
        owner.gid == group.gid && owner.name == group.name && group.mem.iter().all(|member| *member == owner.name)
    })
}

fn user_name(uid: u32) -> String {
    let known = nix::unistd::User::from_uid(nix::unistd::Uid::from_raw(uid)).ok().flatten();
    known.map_or_else(|| format!("user {uid}"), |user| format!("`{}`", user.name))
}

/// Checks that nobody but root and the caller may change a file, any folder above it, or a link on the way.
///
/// # Errors
/// [`TrustError`] names the first thing from the top that somebody else may change.
pub fn check_trust(path: &Path) -> Result<(), TrustError> {
    let io = |path: &Path| {
        let path = path.to_owned();
        move |source: io::Error| TrustError::Io { path, source }
    };
    let whole = std::path::absolute(path).map_err(io(path))?;
    let mut ahead: Vec<OsString> = names(&whole).rev().collect();
    let mut at = PathBuf::from("/");
    let mut links = 0;
    loop {
        let stat = rustix::fs::lstat(&at).map_err(|e| io(&at)(e.into()))?;
        let is_link = FileType::from_raw_mode(stat.st_mode) == FileType::Symlink;
        if !is_own(stat.st_uid) {
            let us = user_name(nix::unistd::geteuid().as_raw()).trim_matches('`').to_owned();
            return Err(TrustError::Owner { path: at, owner: user_name(stat.st_uid), what: path.to_owned(), us });
        }
        if !is_link && !nobody_else_writes(&stat) {
            let (mode, owner) = (stat.st_mode & 0o7777, user_name(stat.st_uid));
            return Err(TrustError::Mode { path: at, mode, owner, what: path.to_owned() });
        }
        if is_link {
            links += 1;
            if links > 40 {
                return Err(io(path)(rustix::io::Errno::LOOP.into()));
            }
            let target = rustix::fs::readlink(&at, Vec::new()).map_err(|e| io(&at)(e.into()))?;
            let target = PathBuf::from(OsString::from_vec(target.into_bytes()));
            at = if target.is_absolute() { PathBuf::from("/") } else { at.parent().unwrap_or(&at).to_owned() };
            ahead.extend(names(&target).rev().collect::<Vec<_>>());
            if target.is_absolute() {
                continue;
            }
        }
        match ahead.pop() {
            None => return Ok(()),
            Some(name) if name == ".." => at = at.parent().unwrap_or(&at).to_owned(),
            Some(name) => at.push(name),
        }
    }
}

fn names(path: &Path) -> impl DoubleEndedIterator<Item = OsString> + '_ {
    path.components().filter_map(|part| match part {
        Component::Normal(name) => Some(name.to_owned()),
        Component::ParentDir => Some("..".into()),
        Component::RootDir | Component::CurDir | Component::Prefix(_) => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn what_others_may_write_is_named_with_the_command_that_mends_it() {
        let dir = tempfile::tempdir().unwrap();
        let (folder, file) = (dir.path().join("f"), dir.path().join("f/eskort.toml"));
        fs::create_dir(&folder).unwrap();
        fs::write(&file, "").unwrap();
        symlink("f/eskort.toml", dir.path().join("link")).unwrap();
        let mode = |path: &Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        for (folder_mode, file_mode, culprit) in [
            (0o755, 0o644, None),
            (0o1777, 0o644, None),
            (0o777, 0o644, Some(&folder)),
            (0o755, 0o646, Some(&file)),
            (0o702, 0o666, Some(&folder)),
        ] {
            mode(&folder, folder_mode);
            mode(&file, file_mode);
            for path in [file.clone(), dir.path().join("link"), dir.path().join("f/../f/eskort.toml")] {
                match (check_trust(&path), culprit) {
                    (Ok(()), None) => {}
                    (Err(error), Some(culprit)) => {
                        let mended = error.mended_by().unwrap();
                        assert_eq!(mended, format!("`chmod go-w '{}'` fixes that", culprit.display()), "{error}");
                    }
                    (other, _) => panic!("{folder_mode:o} {file_mode:o}: {other:?}"),
                }
            }
        }
        assert!(check_trust(&dir.path().join("none")).unwrap_err().is_missing());
    }
}
