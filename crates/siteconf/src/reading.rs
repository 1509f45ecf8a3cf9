//! What all readers of configurations share that find out on the way what is brought in.

use crate::files::{DEEPEST, Files, LoadError, MOST_STATEMENTS, ReadFiles, why};
use crate::site::{Place, Site};
use crate::survey::{Remark, Survey, SurveyFile};
use std::ops::Range;
use std::path::{Path, PathBuf};

/// A token of a file: what it is, and its bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Token<K> {
    pub(crate) kind: K,
    pub(crate) range: Range<usize>,
}

/// What is read of one file.
type Parse<T> = fn(&Path, &[u8]) -> Result<T, LoadError>;

/// A configuration while it is read.
pub(crate) struct Reading<'a, 'b, T> {
    main: &'a Path,
    read: &'a mut ReadFiles<'b>,
    parse: Parse<T>,
    pub(crate) files: Files<T>,
    remarks: Vec<Remark>,
    statements: usize,
}

impl<'a, 'b, T> Reading<'a, 'b, T> {
    /// Begins with the main file, which is number 0 then.
    pub(crate) fn begin(main: &'a Path, read: &'a mut ReadFiles<'b>, parse: Parse<T>) -> Result<Self, LoadError> {
        let mut reading = Reading { main, read, parse, files: Files::none(), remarks: Vec::new(), statements: 0 };
        if reading.files.take_in(main, None, main, reading.read, parse)?.is_empty() {
            return Err(LoadError::Read { path: main.to_owned(), source: std::io::ErrorKind::NotFound.into() });
        }
        Ok(reading)
    }

    /// Returns the folder of the main file.
    pub(crate) fn folder(&self) -> &'a Path {
        self.main.parent().unwrap_or(Path::new("/"))
    }

    /// Returns the folder of a file.
    pub(crate) fn folder_of(&self, file: usize) -> PathBuf {
        self.files.files[file].path.parent().unwrap_or(Path::new("/")).to_owned()
    }

    /// Returns the beginning of the main file.
    pub(crate) fn start(&self) -> Place {
        Place { path: self.main.to_owned(), line: 1, column: 1, included_from: Vec::new() }
    }

    /// Says that something was left out.
    pub(crate) fn remark(&mut self, place: Place, text: String) {
        let remark = Remark { place, text };
        if !self.remarks.contains(&remark) {
            self.remarks.push(remark);
        }
    }

    /// Reads what a path or pattern stands for without taking it in as part of the configuration.
    pub(crate) fn look(&mut self, pattern: &Path) -> std::io::Result<Vec<(PathBuf, Vec<u8>)>> {
        (self.read)(pattern)
    }

    /// Takes in the files that a statement names, and returns their numbers. `at` is the statement, `place` where it is said to stand. What
    /// cannot be read is left out and said, unless the server leaves it out, too.
    ///
    /// # Errors
    /// When there are too many.
    pub(crate) fn include(
        &mut self,
        at: Option<(usize, usize)>,
        place: Place,
        pattern: &Path,
        optional: bool,
    ) -> Result<Vec<usize>, LoadError> {
        match self.files.take_in(self.main, at, pattern, self.read, self.parse) {
            Err(LoadError::Read { path, source }) => {
                if !optional {
                    self.remark(place, format!("cannot read {}: {}", path.display(), why(&source)));
                }
                Ok(Vec::new())
            }
            Err(error @ LoadError::Syntax { .. }) => {
                self.remark(place, error.to_string());
                Ok(Vec::new())
            }
            found => found,
        }
    }

    /// Counts a statement that is so deep in blocks and files.
    ///
    /// # Errors
    /// When that is too deep, or there have been too many: includes go in circles.
    pub(crate) fn count(&mut self, depth: usize) -> Result<(), LoadError> {
        self.statements += 1;
        if depth > DEEPEST || self.statements > MOST_STATEMENTS {
            return Err(self.endless());
        }
        Ok(())
    }

    pub(crate) fn endless(&self) -> LoadError {
        LoadError::TooManyFiles { path: self.main.to_owned() }
    }

    /// Ends with the sites that were found.
    pub(crate) fn end(self, sites: Vec<Site>) -> Survey {
        let file = |file: crate::files::ConfigFile<T>| SurveyFile { path: file.path, bytes: file.bytes };
        Survey { sites, files: self.files.files.into_iter().map(file).collect(), remarks: self.remarks }
    }
}

/// Open conditions, the innermost last: for each whether its statements count now, and whether a branch of it has counted.
#[derive(Default)]
pub(crate) struct Conditions(Vec<(bool, bool)>);

impl Conditions {
    /// Returns whether statements count here.
    pub(crate) fn count(&self) -> bool {
        self.0.iter().all(|(counts, _)| *counts)
    }

    /// Begins one.
    pub(crate) fn begin(&mut self, holds: bool) {
        self.0.push((holds, holds));
    }

    /// Begins another branch, which counts if it holds and none before it did.
    pub(crate) fn otherwise(&mut self, holds: bool) {
        if let Some((counts, has)) = self.0.last_mut() {
            (*counts, *has) = (holds && !*has, *has || holds);
        }
    }

    /// Ends the innermost.
    pub(crate) fn end(&mut self) {
        self.0.pop();
    }
}
