//! Reading a server's configuration from its machine.

use crate::plan::LARGEST;
use eskort_core::boxed;
use eskort_host::{HostError, Machine, MachineError};
use eskort_siteconf::{FileChange, LoadError, ReadFiles, pattern_has};
use std::collections::{BTreeSet, HashMap};
use std::io;
use std::path::{Path, PathBuf};

/// What a path or pattern stands for: files with their contents.
type Found = Result<Vec<(PathBuf, Vec<u8>)>, io::ErrorKind>;

/// What was read of a configuration.
#[derive(Debug)]
pub struct Reading<T> {
    /// What was made of it.
    pub made: Result<T, LoadError>,
    /// Files that a pattern stands for and that cannot be read, with why.
    pub unread: Vec<(PathBuf, String)>,
    /// All that was read.
    pub(crate) known: KnownFiles,
}

/// What each path and pattern of a configuration stands for.
#[derive(Clone, Debug, Default)]
pub(crate) struct KnownFiles(HashMap<PathBuf, Found>);

impl KnownFiles {
    /// Returns what a path or pattern stands for; nothing for one that was not asked for.
    pub(crate) fn read(&self, pattern: &Path) -> io::Result<Vec<(PathBuf, Vec<u8>)>> {
        self.0.get(pattern).cloned().unwrap_or(Err(io::ErrorKind::NotFound)).map_err(io::Error::from)
    }

    /// Returns the same with another content of some files, and with those that are made.
    pub(crate) fn with(&self, changes: &[FileChange]) -> Self {
        let mut known = self.clone();
        for made in changes.iter().filter(|change| change.old.is_none()) {
            let has_it = |(pattern, found): (&PathBuf, &mut Found)| {
                if let (true, Ok(files)) = (pattern_has(pattern, &made.path), found) {
                    files.retain(|(path, _)| *path != made.path);
                    files.push((made.path.clone(), made.new.clone()));
                    files.sort();
                }
            };
            known.0.iter_mut().for_each(has_it);
        }
        for (path, bytes) in known.0.values_mut().filter_map(|found| found.as_mut().ok()).flatten() {
            if let Some(change) = changes.iter().find(|change| change.path == *path) {
                bytes.clone_from(&change.new);
            }
        }
        known
    }
}

/// Reads a configuration level by level: what the files of one level include is fetched together before they are read again.
///
/// # Errors
/// When the machine cannot be reached.
pub async fn read_configuration<T>(
    machine: &Machine<'_>,
    mut make: impl FnMut(&mut ReadFiles<'_>) -> Result<T, LoadError>,
) -> Result<Reading<T>, MachineError> {
    let mut known: HashMap<PathBuf, Found> = HashMap::new();
    let mut unread = Vec::new();
    loop {
        let mut missing = BTreeSet::new();
        let made = make(&mut |pattern| match known.get(pattern) {
            Some(found) => found.clone().map_err(io::Error::from),
            None => {
                missing.insert(pattern.to_owned());
                Ok(Vec::new())
            }
        });
        if missing.is_empty() {
            return Ok(Reading { made, unread, known: KnownFiles(known) });
        }
        read_level(machine, missing, &mut known, &mut unread).await?;
    }
}

/// Reads what was found to be missing, and adds it to what is known.
#[boxed]
async fn read_level(
    machine: &Machine<'_>,
    missing: BTreeSet<PathBuf>,
    known: &mut HashMap<PathBuf, Found>,
    unread: &mut Vec<(PathBuf, String)>,
) -> Result<(), MachineError> {
    let (patterns, plain): (Vec<PathBuf>, Vec<PathBuf>) = missing.into_iter().partition(|path| is_pattern(path));
    let mut of_pattern = Vec::new();
    for pattern in patterns {
        let paths = machine.list(&pattern).await?;
        of_pattern.push((pattern, paths));
    }
    // All of one level at the same time: a machine far away is asked once.
    let mut all: Vec<PathBuf> =
        of_pattern.iter().flat_map(|(_, paths)| paths.iter().cloned()).chain(plain.iter().cloned()).collect();
    all.sort();
    all.dedup();
    let read: HashMap<PathBuf, Result<Option<Vec<u8>>, String>> =
        all.iter().cloned().zip(read_each(machine, &all).await?).collect();
    for (pattern, paths) in of_pattern {
        let mut found = Vec::new();
        for path in paths {
            match &read[&path] {
                Ok(Some(bytes)) => found.push((path, bytes.clone())),
                Ok(None) => {}
                Err(why) => unread.push((path, why.clone())),
            }
        }
        known.insert(pattern, Ok(found));
    }
    for path in plain {
        let found = match &read[&path] {
            Ok(Some(bytes)) => Ok(vec![(path.clone(), bytes.clone())]),
            Ok(None) => Err(io::ErrorKind::NotFound),
            Err(_) => Err(io::ErrorKind::PermissionDenied),
        };
        known.insert(path, found);
    }
    Ok(())
}

fn is_pattern(path: &Path) -> bool {
    path.to_string_lossy().contains(['*', '?', '['])
}

/// Reads files; one that cannot be read keeps no other from being read.
async fn read_each(
    machine: &Machine<'_>,
    paths: &[PathBuf],
) -> Result<Vec<Result<Option<Vec<u8>>, String>>, MachineError> {
    match machine.read_many(paths, LARGEST).await {
        Ok(found) => return Ok(found.into_iter().map(|file| Ok(file.map(|file| file.bytes))).collect()),
        Err(error) if of_a_file(&error).is_some() => {}
        Err(error) => return Err(error),
    }
    let mut found = Vec::new();
    for path in paths {
        found.push(match machine.read(path, LARGEST).await {
            Ok(file) => Ok(file.map(|file| file.bytes)),
            Err(error) => Err(of_a_file(&error).ok_or(error)?),
        });
    }
    Ok(found)
}

/// Returns why one file cannot be read; `None` for what concerns the whole machine.
fn of_a_file(error: &MachineError) -> Option<String> {
    match error {
        MachineError::Io { source, .. } => Some(source.to_string()),
        MachineError::Host(error) => match &**error {
            HostError::File { what, .. } => Some(what.clone()),
            _ => None,
        },
        _ => None,
    }
}
