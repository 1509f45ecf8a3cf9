//! Writing files so that they are there whole or not at all.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Who may do what with a file, and whose it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Access {
    /// Permission bits.
    pub mode: u32,
    /// User id; `None` leaves the writer's.
    pub uid: Option<u32>,
    /// Group id; `None` leaves the writer's.
    pub gid: Option<u32>,
}

impl Access {
    /// Access by mode alone.
    pub fn mode(mode: u32) -> Self {
        Access { mode, uid: None, gid: None }
    }
}

/// Writes a file: into a temporary one in the same folder with its final access from the first byte on, to the disk, then
/// renamed into place. A symbolic link is followed, so that the link stays.
///
/// # Errors
/// Whatever the system says; the old file is whole then, and no temporary one is left.
pub fn write_whole(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    write(path, bytes, access, Lasting::Yes)
}

/// Writes a file as [`write_whole`] does, but leaves it to the system when it reaches the disk: for what is needed only for
/// a moment and not after a loss of power.
///
/// # Errors
/// As [`write_whole`].
pub fn write_fleeting(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    write(path, bytes, access, Lasting::No)
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Lasting {
    Yes,
    No,
}

fn write(path: &Path, bytes: &[u8], access: Access, lasting: Lasting) -> io::Result<()> {
    let target = match fs::symlink_metadata(path) {
        Ok(meta) if meta.file_type().is_symlink() => fs::canonicalize(path)?,
        _ => path.to_owned(),
    };
    let folder = target.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let temporary = folder.join(temporary_name(&target));
    let written = write_new(&temporary, bytes, access, lasting).and_then(|()| fs::rename(&temporary, &target));
    if written.is_err() {
        let _ = fs::remove_file(&temporary);
        return written;
    }
    if lasting == Lasting::Yes { sync_folder(folder) } else { Ok(()) }
}

fn temporary_name(target: &Path) -> String {
    let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    format!(".{name}.{}.new", std::process::id())
}

fn write_new(path: &Path, bytes: &[u8], access: Access, lasting: Lasting) -> io::Result<()> {
    // A leftover of a killed run with our process number is ours to remove.
    let _ = fs::remove_file(path);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
    if access.uid.is_some() || access.gid.is_some() {
        std::os::unix::fs::fchown(&file, access.uid, access.gid)?;
    }
    file.set_permissions(fs::Permissions::from_mode(access.mode))?;
    file.write_all(bytes)?;
    if lasting == Lasting::Yes { file.sync_all() } else { Ok(()) }
}

/// Makes a rename or removal in a folder last.
///
/// # Errors
/// Whatever the system says.
pub fn sync_folder(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

/// Makes a folder with all above it, and returns those that did not exist before, deepest first.
///
/// # Errors
/// Whatever the system says.
pub fn make_folders(folder: &Path, mode: u32) -> io::Result<Vec<PathBuf>> {
    let made = missing_folders(folder);
    for path in made.iter().rev() {
        match fs::create_dir(path) {
            Ok(()) => fs::set_permissions(path, fs::Permissions::from_mode(mode))?,
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
            Err(e) => return Err(e),
        }
    }
    Ok(made)
}

/// Returns the folders above and including `folder` that do not exist, deepest first.
pub fn missing_folders(folder: &Path) -> Vec<PathBuf> {
    let above = |p: &&Path| !p.as_os_str().is_empty() && fs::symlink_metadata(p).is_err();
    folder.ancestors().take_while(above).map(Path::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn replaces_a_file_and_follows_a_link() {
        let dir = tempfile::tempdir().unwrap();
        let (file, link) = (dir.path().join("a"), dir.path().join("b"));
        fs::write(&file, "old").unwrap();
        std::os::unix::fs::symlink(&file, &link).unwrap();
        write_whole(&link, b"new", Access::mode(0o640)).unwrap();
        assert_eq!(fs::read(&file).unwrap(), b"new");
        assert!(fs::symlink_metadata(&link).unwrap().file_type().is_symlink());
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o640);
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2, "no temporary file is left");
    }

    #[test]
    fn names_the_folders_it_made_deepest_first() {
        let dir = tempfile::tempdir().unwrap();
        let deep = dir.path().join("x/y");
        assert_eq!(make_folders(&deep, 0o755).unwrap(), [deep.clone(), dir.path().join("x")]);
        assert!(make_folders(&deep, 0o755).unwrap().is_empty());
        fs::write(dir.path().join("f"), "").unwrap();
        assert!(make_folders(&dir.path().join("f/z"), 0o755).is_err());
    }
}
