//! Reading, writing and removing files so that they are there whole or not at all, and so that nobody but root and the
//! caller decides which files these are.
//!
//! Every path is walked from the top, folder by folder. A symbolic link on the way is followed only where root or the caller
//! made it, in a folder that nobody else may change; what is done in the end is done below an open folder, by the last name
//! alone, which is never followed.

use crate::crash::crash_point;
use crate::trust::{acting_user, is_own, nobody_else_writes};
use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, ResolveFlags, Stat, openat, openat2, readlinkat, statat};
use rustix::io::Errno;
use std::collections::VecDeque;
use std::ffi::{OsStr, OsString};
use std::fs::{File, Permissions};
use std::hash::{BuildHasher, Hasher};
use std::io::{self, Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Component, Path, PathBuf};

/// More links than these on one way lead nowhere.
const MOST_LINKS: usize = 40;

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

/// A file that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileRead {
    /// What it holds.
    pub bytes: Vec<u8>,
    /// Whose it is and who may do what with it.
    pub access: Access,
}

/// Whether a write has to be on the disk when it returns.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Lasting {
    Yes,
    No,
}

/// A name in an open folder.
struct Place {
    folder: OwnedFd,
    name: OsString,
}

fn refused(path: &Path, why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::PermissionDenied, format!("{}: {why}", path.display()))
}

/// What is done about a link that stands at the very end of a path.
#[derive(Clone, Copy, PartialEq, Eq)]
enum LastLink {
    /// It is meant itself.
    Keep,
    /// It is followed where it can be trusted, and meant itself otherwise.
    FollowTrusted,
    /// It is followed where it can be trusted, and refused otherwise.
    Demand,
}

impl Place {
    /// Finds the folder that a path's last name stands in.
    fn find(path: &Path, last_link: LastLink) -> io::Result<Place> {
        let whole = std::path::absolute(path)?;
        match Place::find_straight(&whole) {
            Some(Ok(place)) if last_link == LastLink::Keep || !place.is_link() => return Ok(place),
            // A link on the way would have been the error.
            Some(Err(Errno::NOENT)) => return Err(Errno::NOENT.into()),
            _ => {}
        }
        let mut ahead: VecDeque<OsString> = parts(&whole).collect();
        let mut at = root()?;
        let mut links = 0;
        loop {
            let name = ahead.pop_front().ok_or_else(|| refused(path, "it is not the name of a file"))?;
            let last = ahead.is_empty();
            if last && last_link == LastLink::Keep && name != ".." {
                return Ok(Place { folder: at, name });
            }
            let found = statat(&at, &name, AtFlags::SYMLINK_NOFOLLOW);
            let is_link = found.as_ref().is_ok_and(|stat| kind(stat) == FileType::Symlink);
            if !is_link {
                if last && name != ".." {
                    return Ok(Place { folder: at, name });
                }
                let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                at = openat(&at, &name, flags, Mode::empty())?;
                continue;
            }
            if !found.is_ok_and(|stat| is_own(stat.st_uid)) || !nobody_else_writes(&rustix::fs::fstat(&at)?) {
                if last && last_link == LastLink::FollowTrusted {
                    return Ok(Place { folder: at, name });
                }
                let why = format!(
                    "`{}` on the way is a symbolic link that somebody else may have made, and is not followed",
                    name.display()
                );
                return Err(refused(path, &why));
            }
            links += 1;
            if links > MOST_LINKS {
                return Err(Errno::LOOP.into());
            }
            let target = PathBuf::from(OsString::from_vec(readlinkat(&at, &name, Vec::new())?.into_bytes()));
            if target.is_absolute() {
                at = root()?;
            }
            for part in parts(&target).collect::<Vec<_>>().into_iter().rev() {
                ahead.push_front(part);
            }
        }
    }

    /// As [`Place::find`], in one call of the system, for paths without any link on the way; an error for all others, and where the
    /// system does not know that call; `None` where no name comes last.
    fn find_straight(whole: &Path) -> Option<Result<Place, Errno>> {
        let name = whole.file_name()?.to_owned();
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = openat2(CWD, whole.parent()?, flags, Mode::empty(), ResolveFlags::NO_SYMLINKS);
        Some(folder.map(|folder| Place { folder, name }))
    }

    fn is_link(&self) -> bool {
        let found = statat(&self.folder, &self.name, AtFlags::SYMLINK_NOFOLLOW);
        found.is_ok_and(|stat| kind(&stat) == FileType::Symlink)
    }

    /// Opens what stands there, which must be no link, for reading.
    fn open(&self) -> io::Result<File> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(File::from(openat(&self.folder, &self.name, flags, Mode::empty())?))
    }

    /// Makes renames, new names and removals in the folder last. A folder that may not be read cannot be asked for that.
    fn sync_folder(&self) -> io::Result<()> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        match openat(&self.folder, ".", flags, Mode::empty()) {
            Err(Errno::ACCESS) => Ok(()),
            opened => Ok(rustix::fs::fsync(opened?)?),
        }
    }

    /// Returns the names in the folder under which writes of this one that were cut short may have left something.
    fn passing_names(&self) -> Vec<OsString> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let Ok(folder) = openat(&self.folder, ".", flags, Mode::empty()) else { return Vec::new() };
        let Ok(entries) = rustix::fs::Dir::new(folder) else { return Vec::new() };
        let passing = |entry: rustix::fs::DirEntry| {
            let name = OsStr::from_bytes(entry.file_name().to_bytes());
            passing_of(name).is_some_and(|of| of == self.name).then(|| name.to_owned())
        };
        entries.filter_map(|entry| passing(entry.ok()?)).collect()
    }

    fn sweep(&self) {
        for name in self.passing_names() {
            let _ = rustix::fs::unlinkat(&self.folder, name, AtFlags::empty());
        }
    }
}

fn root() -> io::Result<OwnedFd> {
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    Ok(rustix::fs::open("/", flags, Mode::empty())?)
}

fn parts(path: &Path) -> impl Iterator<Item = OsString> + '_ {
    path.components().filter_map(|part| match part {
        Component::Normal(name) => Some(name.to_owned()),
        Component::ParentDir => Some("..".into()),
        Component::RootDir | Component::CurDir | Component::Prefix(_) => None,
    })
}

fn kind(stat: &Stat) -> FileType {
    FileType::from_raw_mode(stat.st_mode)
}

/// Returns a name that nobody can guess, beside the one that a file gets in the end.
fn passing_name(name: &OsStr) -> OsString {
    let random = std::collections::hash_map::RandomState::new().build_hasher().finish();
    let mut passing = OsString::from(".");
    passing.push(name);
    passing.push(format!(".{random:016x}.new"));
    passing
}

/// Returns the name that a file under a passing name was to get.
fn passing_of(name: &OsStr) -> Option<&OsStr> {
    let bare = name.as_bytes().strip_prefix(b".")?.strip_suffix(b".new")?;
    let (of, random) = bare.split_at_checked(bare.len().checked_sub(17)?)?;
    let hex = random[0] == b'.' && random[1..].iter().all(u8::is_ascii_hexdigit);
    hex.then(|| OsStr::from_bytes(of))
}

/// Writes a file: under a passing name in the same folder with its final access from the first byte on, to the disk, then
/// renamed into place. A link of root's or the caller's is followed, so that it stays; one that somebody else may have made is
/// replaced.
///
/// # Errors
/// Whatever the system says; the old file is whole then, and nothing is left beside it.
pub fn write_atomic(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    let place = Place::find(path, LastLink::FollowTrusted)?;
    put(&place, bytes, access)?;
    place.sync_folder()
}

/// Writes files as [`write_atomic`] does, each whole or not at all; when it returns, all of them are on the disk. Those of one folder
/// stand side by side, and the disk is asked for their names once.
///
/// # Errors
/// The path that could not be written, and what the system says; those before it are written.
pub fn write_several<'f>(
    files: impl IntoIterator<Item = (&'f Path, &'f [u8])>,
    access: Access,
) -> Result<(), (PathBuf, io::Error)> {
    let mut last: Option<(&Path, Place)> = None;
    for (path, bytes) in files {
        let named = |error| (path.to_owned(), error);
        let place = Place::find(path, LastLink::FollowTrusted).map_err(named)?;
        put(&place, bytes, access).map_err(named)?;
        let beside = last.as_ref().is_some_and(|(before, _)| before.parent() == path.parent());
        if let Some((before, place)) = last.replace((path, place)).filter(|_| !beside) {
            place.sync_folder().map_err(|error| (before.to_owned(), error))?;
        }
    }
    last.map_or(Ok(()), |(path, place)| place.sync_folder().map_err(|error| (path.to_owned(), error)))
}

/// Writes a file as [`write_atomic`] does, under a passing name that the caller has chosen and knows to remove; but leaves it to the
/// system when it reaches the disk, and replaces every link: for what is needed only for a moment and not after a loss of power.
///
/// # Errors
/// As [`write_atomic`].
pub fn write_transient(path: &Path, passing: &str, bytes: &[u8], access: Access) -> io::Result<()> {
    let (place, passing) = (Place::find(path, LastLink::Keep)?, OsStr::new(passing));
    match put_as(&place, passing, bytes, access, Lasting::No) {
        // A run that was killed left it there; the try that failed has removed it.
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            put_as(&place, passing, bytes, access, Lasting::No)
        }
        written => written,
    }
}

/// Writes a file, to the disk, and renames it into place.
fn put(place: &Place, bytes: &[u8], access: Access) -> io::Result<()> {
    // What a run that was killed left here is ours to remove.
    place.sweep();
    put_as(place, &passing_name(&place.name), bytes, access, Lasting::Yes)
}

fn put_as(place: &Place, passing: &OsStr, bytes: &[u8], access: Access, lasting: Lasting) -> io::Result<()> {
    let written = write_new(place, passing, bytes, access, lasting).and_then(|()| {
        crash_point(&format!("rename-{}", place.name.display()));
        Ok(rustix::fs::renameat(&place.folder, passing, &place.folder, &place.name)?)
    });
    if written.is_err() {
        let _ = rustix::fs::unlinkat(&place.folder, passing, AtFlags::empty());
    }
    written
}

fn write_new(place: &Place, passing: &OsStr, bytes: &[u8], access: Access, lasting: Lasting) -> io::Result<()> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mut file = File::from(openat(&place.folder, passing, flags, Mode::RUSR | Mode::WUSR)?);
    if access.uid.is_some() || access.gid.is_some() {
        std::os::unix::fs::fchown(&file, access.uid, access.gid)?;
    }
    file.set_permissions(Permissions::from_mode(access.mode))?;
    file.write_all(bytes)?;
    if lasting == Lasting::Yes { file.sync_all() } else { Ok(()) }
}

/// Reads a file of at most `most` bytes; `None` when it does not exist.
///
/// # Errors
/// Whatever the system says; when it is not a regular file, is larger, or is reached over a link that somebody else may have made.
pub fn read_whole(path: &Path, most: u64) -> io::Result<Option<FileRead>> {
    let opened = Place::find(path, LastLink::Demand).and_then(|place| place.open());
    let mut file = match opened {
        Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => return Ok(None),
        opened => opened?,
    };
    let meta = file.metadata()?;
    if !meta.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file"));
    }
    let mut bytes = Vec::new();
    if meta.len() <= most {
        // With room for one byte more its end is seen at once.
        bytes.reserve(usize::try_from(meta.len()).unwrap_or(0) + 1);
        Read::by_ref(&mut file).take(most + 1).read_to_end(&mut bytes)?;
    }
    if meta.len().max(bytes.len() as u64) > most {
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, format!("it is larger than {most} bytes")));
    }
    let access = Access { mode: meta.mode() & 0o7777, uid: Some(meta.uid()), gid: Some(meta.gid()) };
    Ok(Some(FileRead { bytes, access }))
}

/// Writes a file anew from what it is, piece by piece: `job` reads the old and writes the new, and says whether anything changed; then
/// the new one takes the place of the old, with its access and, where `keep_times` is set, its times.
///
/// # Errors
/// As [`write_atomic`], and what `job` says; the old file is whole then.
pub fn rewrite(
    path: &Path,
    keep_times: bool,
    job: impl FnOnce(&mut File, &mut dyn Write) -> io::Result<bool>,
) -> io::Result<bool> {
    let place = Place::find(path, LastLink::Demand)?;
    let mut old = place.open()?;
    let meta = old.metadata()?;
    if !meta.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file"));
    }
    place.sweep();
    let passing = passing_name(&place.name);
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mut new = File::from(openat(&place.folder, &passing, flags, Mode::RUSR | Mode::WUSR)?);
    let written = (|| {
        std::os::unix::fs::fchown(&new, Some(meta.uid()), Some(meta.gid()))?;
        new.set_permissions(Permissions::from_mode(meta.mode() & 0o7777))?;
        let mut out = io::BufWriter::with_capacity(1 << 16, &mut new);
        let changed = job(&mut old, &mut out)?;
        out.flush()?;
        drop(out);
        if !changed {
            return Ok(false);
        }
        if keep_times {
            new.set_times(std::fs::FileTimes::new().set_modified(meta.modified()?).set_accessed(meta.accessed()?))?;
        }
        new.sync_all()?;
        crash_point("links-written");
        rustix::fs::renameat(&place.folder, &passing, &place.folder, &place.name)?;
        place.sync_folder()?;
        Ok(true)
    })();
    if !matches!(written, Ok(true)) {
        let _ = rustix::fs::unlinkat(&place.folder, &passing, AtFlags::empty());
    }
    written
}

/// Whether the caller may write to a file or folder (access(2)).
pub fn is_writable(path: &Path) -> bool {
    rustix::fs::access(path, rustix::fs::Access::WRITE_OK).is_ok()
}

/// Removes a file, and what writes of it that were cut short left beside it. What does not exist counts as removed.
///
/// # Errors
/// Whatever the system says.
pub fn remove(path: &Path) -> io::Result<()> {
    remove_from(path, Place::sweep)
}

/// Removes what [`write_transient`] has written, and what it left under the passing name where it was cut short. What does not exist
/// counts as removed.
///
/// # Errors
/// Whatever the system says.
pub fn remove_transient(path: &Path, passing: &str) -> io::Result<()> {
    remove_from(path, |place| {
        let _ = rustix::fs::unlinkat(&place.folder, passing, AtFlags::empty());
    })
}

/// Removes a file, after what may be left beside it.
fn remove_from(path: &Path, left: impl FnOnce(&Place)) -> io::Result<()> {
    let gone = |e: &io::Error| matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory);
    let place = match Place::find(path, LastLink::Keep) {
        Err(e) if gone(&e) => return Ok(()),
        place => place?,
    };
    left(&place);
    match rustix::fs::unlinkat(&place.folder, &place.name, AtFlags::empty()).map_err(io::Error::from) {
        Err(e) if !gone(&e) => Err(e),
        _ => Ok(()),
    }
}

/// Removes a folder if it is empty, and returns whether it is gone.
pub fn remove_folder(path: &Path) -> bool {
    let removed = Place::find(path, LastLink::Keep)
        .and_then(|place| Ok(rustix::fs::unlinkat(&place.folder, &place.name, AtFlags::REMOVEDIR)?));
    removed.is_ok() || removed.is_err_and(|e| e.kind() == io::ErrorKind::NotFound)
}

/// Makes a link lead to `target`, in one rename.
///
/// # Errors
/// Whatever the system says; the old link stands then.
pub fn switch_link(path: &Path, target: &str) -> io::Result<()> {
    let place = Place::find(path, LastLink::Keep)?;
    place.sweep();
    let passing = passing_name(&place.name);
    rustix::fs::symlinkat(target, &place.folder, &passing)?;
    let renamed = rustix::fs::renameat(&place.folder, &passing, &place.folder, &place.name);
    if renamed.is_err() {
        let _ = rustix::fs::unlinkat(&place.folder, &passing, AtFlags::empty());
    }
    renamed?;
    place.sync_folder()
}

/// Makes a folder with all above it, on the disk, and returns those that did not exist before, deepest first. Each is closed
/// to everybody else until it has its `mode`.
///
/// # Errors
/// Whatever the system says.
pub fn make_folders(folder: &Path, mode: u32) -> io::Result<Vec<PathBuf>> {
    let made = missing_folders(folder);
    for path in made.iter().rev() {
        let place = Place::find(path, LastLink::Keep)?;
        match rustix::fs::mkdirat(&place.folder, &place.name, Mode::RWXU) {
            Err(Errno::EXIST) => continue,
            made => made?,
        }
        // By descriptor: whoever owns the folder above may put another thing into its place.
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let new = openat(&place.folder, &place.name, flags, Mode::empty())?;
        if rustix::fs::fstat(&new)?.st_uid != acting_user() {
            return Err(refused(path, "somebody put another folder into its place"));
        }
        rustix::fs::fchmod(&new, Mode::from_raw_mode(mode))?;
        place.sync_folder()?;
    }
    Ok(made)
}

/// Returns the folders above and including `folder` that do not exist, deepest first.
pub fn missing_folders(folder: &Path) -> Vec<PathBuf> {
    let above = |p: &&Path| !p.as_os_str().is_empty() && std::fs::symlink_metadata(p).is_err();
    folder.ancestors().take_while(above).map(Path::to_owned).collect()
}

/// Removes what writes that were cut short left anywhere below a folder. Links are not followed.
pub fn sweep_below(folder: &Path) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for entry in entries.filter_map(Result::ok) {
        let passing = passing_of(&entry.file_name()).is_some();
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => sweep_below(&entry.path()),
            Ok(_) if passing => drop(std::fs::remove_file(entry.path())),
            _ => {}
        }
    }
}

/// Does something with the rights of a folder's owner, when we are root and the folder is somebody else's: what root could
/// be led to do there, they can do themselves.
///
/// # Errors
/// When the folder cannot be looked at; and what `job` says.
pub fn as_owner_of<T>(folder: &Path, job: impl FnOnce() -> io::Result<T>) -> io::Result<T> {
    use nix::unistd::{Gid, Uid, getegid, geteuid, setfsgid, setfsuid};
    let meta = std::fs::metadata(folder)?;
    if !geteuid().is_root() || meta.uid() == 0 {
        return job();
    }
    /// Gives the thread its own rights back, whatever happens.
    struct Back;
    impl Drop for Back {
        fn drop(&mut self) {
            setfsuid(geteuid());
            setfsgid(getegid());
        }
    }
    let _back = Back;
    setfsgid(Gid::from_raw(meta.gid()));
    setfsuid(Uid::from_raw(meta.uid()));
    job()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    #[test]
    fn replaces_a_file_and_follows_a_link_of_our_own() {
        let dir = tempfile::tempdir().unwrap();
        let (file, link) = (dir.path().join("a"), dir.path().join("b"));
        fs::write(&file, "old").unwrap();
        symlink("../x/./a", dir.path().join("c")).unwrap();
        symlink(&file, &link).unwrap();
        write_atomic(&link, b"new", Access::mode(0o640)).unwrap();
        assert_eq!(read_whole(&link, 3).unwrap().unwrap().bytes, b"new");
        assert!(read_whole(&link, 2).is_err() && read_whole(&dir.path().join("none"), 2).unwrap().is_none());
        assert!(fs::symlink_metadata(&link).unwrap().file_type().is_symlink());
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o640);
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 3, "no passing file is left");
        symlink("round", dir.path().join("round")).unwrap();
        assert!(write_atomic(&dir.path().join("round/x"), b"", Access::mode(0o600)).is_err());
    }

    #[test]
    fn names_the_folders_it_made_deepest_first() {
        let dir = tempfile::tempdir().unwrap();
        let deep = dir.path().join("x/y");
        assert_eq!(make_folders(&deep, 0o755).unwrap(), [deep.clone(), dir.path().join("x")]);
        assert_eq!(fs::metadata(&deep).unwrap().permissions().mode() & 0o777, 0o755);
        assert!(make_folders(&deep, 0o755).unwrap().is_empty());
        fs::write(dir.path().join("f"), "").unwrap();
        assert!(make_folders(&dir.path().join("f/z"), 0o755).is_err());
        assert!(remove_folder(&deep) && remove_folder(&deep));
    }

    #[test]
    fn what_a_killed_run_left_beside_a_file_goes_with_the_next_write_or_its_removal() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("key.pem");
        let left = |of: &str| dir.path().join(passing_name(OsStr::new(of)));
        let (ours, other) = (left("key.pem"), left("other.pem"));
        for file in [&ours, &other] {
            fs::write(file, "secret").unwrap();
        }
        write_atomic(&path, b"new", Access::mode(0o600)).unwrap();
        assert!(!ours.exists() && other.exists());
        fs::write(&ours, "secret").unwrap();
        remove(&path).unwrap();
        assert!(!ours.exists() && !path.exists() && other.exists());
        sweep_below(dir.path().parent().unwrap().join(dir.path().file_name().unwrap()).as_path());
        assert!(!other.exists());
        assert_eq!(passing_of(OsStr::new(".a.new")), None);
        assert_eq!(passing_of(OsStr::new("..0123456789abcdef.new")), Some(OsStr::new("")));
    }
}
