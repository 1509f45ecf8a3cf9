//! The files of a configuration: those that includes bring in, in which order, and where each stands.

use crate::site::Place;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// Most files that one configuration may bring in, and most statements once all includes are put in place.
const MOST_FILES: usize = 10_000;
pub(crate) const MOST_STATEMENTS: usize = 2_000_000;

/// Files are nested, and blocks in a file, at most so deep.
pub(crate) const DEEPEST: usize = 100;

/// Returns the files that a path or pattern stands for, with their bytes, in the order in which the server reads them.
pub type ReadFiles<'a> = dyn FnMut(&Path) -> std::io::Result<Vec<(PathBuf, Vec<u8>)>> + 'a;

/// Why a configuration cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// A brace too many or too few, or a directive without an end.
    #[error("{}:{line}: {what}", path.display())]
    Syntax {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// What is wrong there.
        what: &'static str,
    },
    /// Includes that never end.
    #[error("the includes of {} never end", path.display())]
    TooManyFiles {
        /// The main file.
        path: PathBuf,
    },
    /// A file that cannot be read.
    #[error("cannot read {}: {}", path.display(), why(source))]
    Read {
        /// The file or pattern.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
}

/// Says why a file cannot be read.
pub(crate) fn why(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::NotFound => "it does not exist".into(),
        _ => error.to_string(),
    }
}

/// Whether a pattern with one `*` in its last part stands for a path.
pub fn pattern_has(pattern: &Path, path: &Path) -> bool {
    let [Some(wanted), Some(name)] = [pattern, path].map(|path| path.file_name().and_then(|name| name.to_str())) else {
        return false;
    };
    let Some((head, tail)) = wanted.split_once('*') else { return false };
    let fits = name.len() >= head.len() + tail.len() && name.starts_with(head) && name.ends_with(tail);
    fits && !tail.contains(['*', '?', '[']) && !head.contains(['?', '[']) && pattern.parent() == path.parent()
}

/// One file of a configuration, with what a server's own reader made of it.
#[derive(Clone, Debug)]
pub struct ConfigFile<T> {
    /// Its path.
    pub path: PathBuf,
    /// Its bytes, as read.
    pub bytes: Vec<u8>,
    /// What stands in it.
    pub(crate) parsed: T,
    /// Where its lines begin.
    lines: Vec<usize>,
    /// The include that first brought it in: the file, and the byte there; `None` for the main file.
    included_at: Option<(usize, usize)>,
}

impl<T> ConfigFile<T> {
    /// Returns line and column of a byte, both counted from 1.
    fn line_and_column(&self, at: usize) -> (usize, usize) {
        let line = self.lines.partition_point(|start| *start <= at);
        (line, at - self.lines[line - 1] + 1)
    }
}

fn line_starts(bytes: &[u8]) -> Vec<usize> {
    let ends = bytes.iter().enumerate().filter(|(_, byte)| **byte == b'\n').map(|(at, _)| at + 1);
    std::iter::once(0).chain(ends).collect()
}

/// An include of a file.
pub(crate) struct Include {
    /// Which of the file's statements it is.
    pub(crate) statement: usize,
    /// Where it stands.
    pub(crate) at: usize,
    /// The path or pattern, absolute.
    pub(crate) pattern: PathBuf,
}

/// All files of a configuration, its main file first.
#[derive(Clone, Debug)]
pub struct Files<T> {
    /// The files, each once.
    pub files: Vec<ConfigFile<T>>,
    by_path: HashMap<PathBuf, usize>,
    /// Which files each include brings in, by file and statement.
    includes: HashMap<(usize, usize), Vec<usize>>,
    /// Which files each path or pattern stands for.
    patterns: HashMap<PathBuf, Vec<usize>>,
}

impl<T> Files<T> {
    /// Reads a configuration from its main file. `parse` makes a file's statements of its bytes; `includes` says which of them are includes,
    /// and `count` how many statements there are.
    pub(crate) fn load(
        main: &Path,
        read: &mut ReadFiles<'_>,
        parse: impl Fn(&Path, &[u8]) -> Result<T, LoadError>,
        includes: impl Fn(&T) -> Vec<Include>,
        count: impl Fn(&T) -> usize,
    ) -> Result<Self, LoadError> {
        let mut all = Files::none();
        all.take_in(main, None, main, read, &parse)?;
        let mut file = 0;
        while file < all.files.len() {
            for Include { statement, at, pattern } in includes(&all.files[file].parsed) {
                let found = all.take_in(main, Some((file, at)), &pattern, read, &parse)?;
                all.includes.insert((file, statement), found.clone());
                all.patterns.insert(pattern, found);
            }
            file += 1;
        }
        if !all.files.is_empty() {
            all.check_includes(main, &count)?;
        }
        Ok(all)
    }

    /// Returns a configuration without files, for readers that find out on the way what is brought in.
    pub(crate) fn none() -> Self {
        Files { files: Vec::new(), by_path: HashMap::new(), includes: HashMap::new(), patterns: HashMap::new() }
    }

    /// Returns the same configuration with other contents of some files, which bring in nothing new.
    pub(crate) fn with<'c>(
        &self,
        changed: impl Iterator<Item = (&'c Path, &'c [u8])>,
        parse: impl Fn(&Path, &[u8]) -> Result<T, LoadError>,
        includes: impl Fn(&T) -> Vec<Include>,
    ) -> Result<Self, LoadError>
    where
        T: Clone,
    {
        let mut all = self.clone();
        for (path, bytes) in changed {
            let Some(&file) = all.by_path.get(path) else { continue };
            let parsed = parse(path, bytes)?;
            all.includes.retain(|(of, _), _| *of != file);
            for Include { statement, pattern, .. } in includes(&parsed) {
                all.includes.extend(all.patterns.get(&pattern).map(|found| ((file, statement), found.clone())));
            }
            let known = &mut all.files[file];
            (known.bytes, known.lines, known.parsed) = (bytes.to_vec(), line_starts(bytes), parsed);
        }
        Ok(all)
    }

    /// Reads the files that a path or pattern stands for, those that are not known yet, and returns their numbers. `included_at` is the
    /// file and the byte of what brings them in.
    pub(crate) fn take_in(
        &mut self,
        main: &Path,
        included_at: Option<(usize, usize)>,
        pattern: &Path,
        read: &mut ReadFiles<'_>,
        parse: impl Fn(&Path, &[u8]) -> Result<T, LoadError>,
    ) -> Result<Vec<usize>, LoadError> {
        let files = read(pattern).map_err(|source| LoadError::Read { path: pattern.to_owned(), source })?;
        let mut indices = Vec::new();
        for (path, bytes) in files {
            let index = match self.by_path.get(&path) {
                Some(index) => *index,
                None => {
                    let parsed = parse(&path, &bytes)?;
                    let lines = line_starts(&bytes);
                    self.by_path.insert(path.clone(), self.files.len());
                    self.files.push(ConfigFile { path, bytes, parsed, lines, included_at });
                    self.files.len() - 1
                }
            };
            if self.files.len() > MOST_FILES {
                return Err(LoadError::TooManyFiles { path: main.to_owned() });
            }
            indices.push(index);
        }
        Ok(indices)
    }

    /// Returns the files that an include brings in.
    pub(crate) fn included(&self, file: usize, statement: usize) -> &[usize] {
        self.includes.get(&(file, statement)).map_or(&[], Vec::as_slice)
    }

    /// Returns the place of a byte of a file, with the includes that lead to it.
    pub(crate) fn place(&self, file: usize, at: usize) -> Place {
        let (line, column) = self.files[file].line_and_column(at);
        let mut included_from = Vec::new();
        let mut above = self.files[file].included_at;
        // A file is brought in by one that was read before it, so this ends.
        while let Some((file, at)) = above {
            included_from.push((self.files[file].path.clone(), self.files[file].line_and_column(at).0));
            above = self.files[file].included_at;
        }
        Place { path: self.files[file].path.clone(), line, column, included_from }
    }

    /// Checks that no file brings itself in, and that all is not too much once includes are put in place.
    fn check_includes(&self, main: &Path, count: &impl Fn(&T) -> usize) -> Result<(), LoadError> {
        let mut sizes: Vec<Option<usize>> = vec![None; self.files.len()];
        let mut way = Vec::new();
        match self.size(0, count, &mut sizes, &mut way) {
            Some(size) if size <= MOST_STATEMENTS => Ok(()),
            _ => Err(LoadError::TooManyFiles { path: main.to_owned() }),
        }
    }

    /// Returns how many statements a file has with all that it brings in; `None` when it brings in itself.
    fn size(
        &self,
        file: usize,
        count: &impl Fn(&T) -> usize,
        sizes: &mut [Option<usize>],
        way: &mut Vec<usize>,
    ) -> Option<usize> {
        if let Some(size) = sizes[file] {
            return Some(size);
        }
        if way.contains(&file) || way.len() > DEEPEST {
            return None;
        }
        way.push(file);
        let own = count(&self.files[file].parsed);
        let mut size = own;
        for statement in 0..own {
            for &included in self.included(file, statement) {
                size = size.saturating_add(self.size(included, count, sizes, way)?);
            }
        }
        way.pop();
        sizes[file] = Some(size);
        Some(size)
    }
}
