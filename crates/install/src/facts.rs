//! What is known of servers: their configurations, each read once for a run, whatever machine they are on.

use crate::InstallError;
use crate::kinds::nginx::{self, NginxFacts};
use eskort_core::context::Context;
use eskort_core::inventory::Server;
use eskort_host::Machines;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// A main configuration file on a machine.
type MainFile = (Option<String>, PathBuf);

/// Configurations that were read in this run, for looking only: what is changed is read anew.
#[derive(Default)]
pub struct Facts {
    nginx: Mutex<BTreeMap<MainFile, Arc<NginxFacts>>>,
    pub(crate) machines: Machines,
}

impl Facts {
    /// Returns facts about the servers of a run's machines; nothing is known yet.
    pub fn about(machines: &Machines) -> Facts {
        Facts { nginx: Mutex::default(), machines: machines.clone() }
    }

    /// Forgets what was read, and ends the connections to machines: after something was changed, or some time has passed. Machines
    /// out of reach in this run still are.
    pub async fn forget(&self) {
        self.nginx.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.machines.hang_up().await;
    }

    /// Returns what is known of an nginx, and gathers it when it is first asked for.
    pub(crate) async fn nginx(
        &self,
        context: &Context,
        (name, server): (&str, &Server),
        main: &Path,
    ) -> Result<Arc<NginxFacts>, InstallError> {
        let place = (server.host.clone(), main.to_owned());
        let known = || self.nginx.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(facts) = known().get(&place) {
            return Ok(Arc::clone(facts));
        }
        let facts = Arc::new(nginx::gather(context, &self.machines, (name, server), main).await?);
        known().insert(place, Arc::clone(&facts));
        Ok(facts)
    }
}
