//! What the proofs of several certificates share in one run: turns at folders and zones, and listeners.

use crate::listener::Listeners;
use eskort_core::boxed;
use rustls::sign::CertifiedKey;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::OwnedMutexGuard;

/// Turns at places where only one may be at work at a time.
#[derive(Default)]
pub struct Turns(Mutex<BTreeMap<String, Arc<tokio::sync::Mutex<()>>>>);

/// What the proofs of all certificates of a run share.
#[derive(Default)]
pub struct SharedProofs {
    turns: Turns,
    /// What answers over HTTP, by path.
    pub(crate) http: Listeners<String>,
    /// What answers in a handshake, by name.
    pub(crate) tls: Listeners<Arc<CertifiedKey>>,
}

/// Held while somebody is at work at some places.
pub struct Turn {
    _places: Vec<OwnedMutexGuard<()>>,
}

impl Turns {
    /// Waits for a turn at all the places.
    #[boxed]
    pub async fn take(&self, places: BTreeSet<String>) -> Turn {
        let mut held = Vec::new();
        // All take them in the same order, so that no two wait for each other.
        for place in places {
            let place = {
                let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
                Arc::clone(turns.entry(place).or_default())
            };
            held.push(place.lock_owned().await);
        }
        Turn { _places: held }
    }
}

impl SharedProofs {
    /// Waits for a turn at all the places: nobody else of this run publishes or removes anything there meanwhile. Zones are written
    /// by one at a time, and nobody takes away what another just finds in its place.
    pub(crate) async fn turn(&self, places: BTreeSet<String>) -> Turn {
        self.turns.take(places).await
    }

    /// Waits for a turn at the files of a machine.
    pub(crate) async fn files_of(&self, host: Option<&str>) -> Turn {
        self.turn([format!("files {}", host.unwrap_or_default())].into()).await
    }
}
