//! What is known of servers: their configurations, each read once for a run, whatever machine they are on.

use crate::InstallError;
use crate::plan::LARGEST;
use eskort_core::context::Context;
use eskort_core::inventory::Server;
use eskort_host::{MachineError, Machines};
use eskort_siteconf::LoadError;
use eskort_siteconf::nginx::{self, Config, Sites};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// A main configuration file on a machine.
type Place = (Option<String>, PathBuf);

/// Configurations that were read in this run, for looking only: what is changed is read anew.
#[derive(Default)]
pub struct Facts {
    configs: Mutex<BTreeMap<Place, Arc<(Config, Sites)>>>,
    pub(crate) machines: Machines,
}

/// What a pattern of an `include` stands for: files with their contents.
type Found = Result<Vec<(PathBuf, Vec<u8>)>, io::ErrorKind>;

impl Facts {
    /// Returns nginx's configuration and its sites.
    pub(crate) async fn nginx(
        &self,
        context: &Context,
        (name, server): (&str, &Server),
        main: &Path,
    ) -> Result<Arc<(Config, Sites)>, InstallError> {
        let place = (server.host.clone(), main.to_owned());
        let known = || self.configs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(config) = known().get(&place) {
            return Ok(Arc::clone(config));
        }
        let config = self.load(context, (name, server), main).await?;
        let sites = Sites::find(&config);
        let loaded = Arc::new((config, sites));
        known().insert(place, Arc::clone(&loaded));
        Ok(loaded)
    }

    /// Returns facts that are gathered anew, about machines that are connected to anew; those out of reach in this run still are.
    /// After something was changed, or some time has passed.
    pub async fn anew(&self) -> Facts {
        Facts { configs: Mutex::default(), machines: self.machines.anew().await }
    }

    /// Reads a configuration level by level: what the files of one include is fetched before they are read again.
    async fn load(
        &self,
        context: &Context,
        (name, server): (&str, &Server),
        main: &Path,
    ) -> Result<Config, InstallError> {
        let refused = |source| InstallError::Load { server: name.to_owned(), source };
        let mut known: HashMap<PathBuf, Found> = HashMap::new();
        loop {
            let mut missing = BTreeSet::new();
            let loaded = nginx::load(main, &mut |pattern| match known.get(pattern) {
                Some(found) => found.clone().map_err(io::Error::from),
                None => {
                    missing.insert(pattern.to_owned());
                    Ok(Vec::new())
                }
            });
            if missing.is_empty() {
                return loaded.map_err(refused);
            }
            for pattern in missing {
                let found = self.files(context, server.host.as_deref(), &pattern).await;
                let found = found.map_err(|error| match error {
                    MachineError::Io { path, source, .. } => refused(LoadError::Read { path, source }),
                    source => InstallError::Machine { server: name.to_owned(), source },
                })?;
                known.insert(pattern, found);
            }
        }
    }

    async fn files(&self, context: &Context, host: Option<&str>, pattern: &Path) -> Result<Found, MachineError> {
        if !pattern.to_string_lossy().contains(['*', '?', '[']) {
            let file = self.machines.read(context, host, pattern, LARGEST).await?;
            return Ok(file.map(|file| vec![(pattern.to_owned(), file.bytes)]).ok_or(io::ErrorKind::NotFound));
        }
        let mut found = Vec::new();
        for path in self.machines.list(context, host, pattern).await? {
            let file = self.machines.read(context, host, &path, LARGEST).await?;
            found.extend(file.map(|file| (path, file.bytes)));
        }
        Ok(Ok(found))
    }
}
