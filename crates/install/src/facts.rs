//! What is known of servers: their configurations, each read once for a run, whatever machine they are on.

use crate::InstallError;
use crate::kinds::configured::ConfigFacts;
use eskort_core::context::Context;
use eskort_core::inventory::{Configured, Server};
use eskort_core::software::Software;
use eskort_host::Machines;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

/// A main configuration file on a machine, and the program that reads it.
type MainFile = (Option<String>, PathBuf, Software);

/// Configurations that were read in this run, for looking only: what is changed is read anew.
#[derive(Default)]
pub struct Facts {
    known: Mutex<BTreeMap<MainFile, Arc<ConfigFacts>>>,
    pub(crate) machines: Machines,
}

impl Facts {
    /// Returns facts about the servers of a run's machines; nothing is known yet.
    pub fn about(machines: &Machines) -> Facts {
        Facts { known: Mutex::default(), machines: machines.clone() }
    }

    /// Forgets what was read, and ends the connections to machines: after something was changed, or some time has passed. Machines
    /// out of reach in this run still are.
    pub async fn forget(&self) {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.machines.hang_up().await;
    }

    /// Returns what is known of a server, and gathers it when it is first asked for.
    pub(crate) async fn of(
        &self,
        context: &Context,
        (name, server): (&str, &Server),
        configured: &Configured,
    ) -> Result<Arc<ConfigFacts>, InstallError> {
        let place = (server.host.clone(), configured.config.clone(), configured.software);
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(facts) = known().get(&place) {
            return Ok(Arc::clone(facts));
        }
        let facts = Arc::new(ConfigFacts::gather(context, &self.machines, (name, server), configured).await?);
        known().insert(place, Arc::clone(&facts));
        Ok(facts)
    }
}
