//! What is known of servers: their configurations, each read once for a run.

use crate::plan::LARGEST;
use eskort_host::files::read_whole;
use eskort_siteconf::nginx::{self, Config, Sites};
use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// Configurations that were read in this run, for looking only: what is changed is read anew.
#[derive(Default)]
pub struct Facts(Mutex<BTreeMap<PathBuf, Arc<(Config, Sites)>>>);

impl Facts {
    /// Returns nginx's configuration and its sites.
    pub(crate) fn nginx(&self, main: &Path) -> Result<Arc<(Config, Sites)>, nginx::LoadError> {
        let known = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(config) = known().get(main) {
            return Ok(Arc::clone(config));
        }
        let config = load(main)?;
        let sites = Sites::find(&config);
        let loaded = Arc::new((config, sites));
        known().insert(main.to_owned(), Arc::clone(&loaded));
        Ok(loaded)
    }

    /// Forgets everything, after something was changed or some time has passed.
    pub fn forget(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

fn load(main: &Path) -> Result<Config, nginx::LoadError> {
    nginx::load(main, &mut |pattern| {
        let text = pattern.to_string_lossy();
        if !text.contains(['*', '?', '[']) {
            return Ok(vec![(pattern.to_owned(), read(pattern)?)]);
        }
        // As glob(3) has it: an editor's hidden files are not meant.
        let options = glob::MatchOptions { require_literal_leading_dot: true, ..glob::MatchOptions::new() };
        let paths =
            glob::glob_with(&text, options).map_err(|e| io::Error::new(io::ErrorKind::InvalidInput, e.to_string()))?;
        let files = paths.filter_map(Result::ok).filter(|p| p.is_file());
        let mut found: Vec<PathBuf> = files.collect();
        found.sort();
        found.into_iter().map(|path| read(&path).map(|bytes| (path, bytes))).collect()
    })
}

fn read(path: &Path) -> io::Result<Vec<u8>> {
    let there = read_whole(path, LARGEST)?;
    there.map(|file| file.bytes).ok_or_else(|| io::ErrorKind::NotFound.into())
}
