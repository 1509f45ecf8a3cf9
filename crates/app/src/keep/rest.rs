//! Certificates about which there is nothing to do, found all at once: most of them, in most runs.

use super::common::Common;
use super::entry::{Ending, KeepEntry};
use super::gather::bare_facts;
use super::turn::guarded;
use eskort_core::decision::{Decision, Facts, Obtaining, decide};
use eskort_core::https::Hsts;
use eskort_core::inventory::Install;
use eskort_install::{Placement, deployment};
use eskort_store::{Settled, StoreError};
use std::collections::BTreeMap;

/// What the ledger knows about certificates about which nothing is open.
#[derive(Default)]
pub(super) struct Known(BTreeMap<String, Settled>);

impl Known {
    /// Reads it, unless somebody wants more than what is due.
    pub(super) async fn read(run: &Common) -> Result<Self, StoreError> {
        if run.insistence.renew {
            return Ok(Known::default());
        }
        run.store.all_settled().await.map(Known)
    }

    /// Returns what is known about a certificate.
    pub(super) fn of(&self, name: &str) -> Option<&Settled> {
        self.0.get(name)
    }

    /// Forgets what was known about a certificate: something has come to it.
    pub(super) fn forget(&mut self, name: &str) {
        self.0.remove(name);
    }

    /// Returns the entry of a certificate that is at rest; `None` where that is not certain.
    pub(super) async fn at_rest(&self, run: &Common, name: &str) -> Option<KeepEntry> {
        let Settled { newest, asked_renewal, .. } = self.of(name)?;
        let entry = &run.context.inventory.certificates[name];
        let climbs = |install: &Install| install.wishes.hsts == Some(Hsts::Ramp) || install.tlsa.is_some();
        let (generation, validity) = (newest.generation, newest.validity);
        if entry.install.iter().any(climbs) || run.store.current_generation(name) != Some(generation) {
            return None;
        }
        let bare = bare_facts(&run.context, name, entry);
        let facts = Facts { newest: Some(newest.clone()), asked_renewal: *asked_renewal, ..bare };
        let mut decision = decide(&facts, run.context.now(), false);
        // Servers are asked only where the rest is certain.
        if matches!(decision.obtain, Obtaining::Rest { .. }) && !entry.install.is_empty() {
            let placement = Placement::of(name, entry, &entry.names, generation);
            let lacking = async { Ok(deployment(&run.context, &run.store, &placement, &run.servers).await?) };
            decision.place = Some(guarded(lacking).await.ok()?).filter(|deployment| !deployment.is_done());
        }
        match decision {
            Decision { place: None, obtain: Obtaining::Rest { .. } } => {
                Some(KeepEntry::new(name, Some(decision), Ending::AtRest { validity: Some(validity) }))
            }
            _ => None,
        }
    }
}
