//! What is known of servers: their configurations, each read once for a run, whatever machine they are on.

use crate::kinds::configured::ConfigFacts;
use crate::{InstallError, LiveEndpoint};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::{Configured, Server};
use eskort_core::software::Software;
use eskort_host::Machines;
use eskort_probe::Observation;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// So long what an endpoint has shown is what it shows.
const MOMENT: Duration = Duration::from_secs(2);

/// A main configuration file on a machine, and the program that reads it.
type MainFile = (Option<String>, PathBuf, Software);

/// What an endpoint has shown, and when.
struct Sighting {
    endpoint: LiveEndpoint,
    at: Instant,
    shown: Observation,
}

/// Configurations that were read in this run, for looking only: what is changed is read anew.
#[derive(Default)]
pub struct Facts {
    known: Mutex<BTreeMap<MainFile, Arc<ConfigFacts>>>,
    /// What endpoints have shown, by name and port.
    seen: Mutex<BTreeMap<(String, u16), Sighting>>,
    pub(crate) machines: Machines,
}

impl Facts {
    /// Returns facts about the servers of a run's machines; nothing is known yet.
    pub fn about(machines: &Machines) -> Facts {
        Facts { machines: machines.clone(), ..Facts::default() }
    }

    /// Forgets what was read, and ends the connections to machines: after something was changed, or some time has passed. Machines
    /// out of reach in this run still are.
    #[boxed]
    pub async fn forget(&self) {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.machines.hang_up().await;
    }

    /// Keeps what an endpoint shows now, where it was looked at on the way that visitors take.
    pub(crate) fn saw(&self, endpoint: &LiveEndpoint, shown: Observation) {
        if endpoint.instead.is_some() || endpoint.here.is_none() {
            let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
            let sighting = Sighting { endpoint: endpoint.clone(), at: Instant::now(), shown };
            seen.insert((endpoint.name.clone(), endpoint.port), sighting);
        }
    }

    /// Returns what an endpoint showed to visitors a moment ago, once: whoever wants to know later looks again.
    pub fn just_seen(&self, endpoint: &LiveEndpoint) -> Option<Observation> {
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let sighting = seen.remove(&(endpoint.name.clone(), endpoint.port))?;
        (sighting.endpoint == *endpoint && sighting.at.elapsed() < MOMENT).then_some(sighting.shown)
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
