//! Records that name the key that a service has (TLSA, RFC 6698): those of a new key are there before it is served, for as long as others may
//! remember what was there before (RFC 7671 section 8.1); those of the old key go after it.

use crate::StepError;
use eskort_core::context::Context;
use eskort_core::inventory::{CertificateEntry, Proof};
use eskort_core::pki::Chain;
use eskort_core::progress::Progress;
use eskort_core::record::{Record, RecordToPlace, tlsa_record};
use eskort_core::words;
use eskort_host::crash_point;
use eskort_install::{Facts as ServerFacts, Placement, endpoints};
use eskort_prove::{ProofContext, look_at_records, pay_debts_of, publish_records};
use eskort_store::{Store, StoreError, TlsaRow};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};

/// So begins for whom records are owed.
const OWNER: &str = "[key of ";

/// Whether a generation may be installed.
pub(crate) enum Readiness {
    /// It may.
    Ready,
    /// Not before this: others may remember the records of before.
    Waits(Timestamp),
    /// A person has to place these records first.
    Place(Vec<RecordToPlace>),
}

/// A certificate whose keys are named by records.
pub(crate) struct Tlsa<'a> {
    pub(crate) around: ProofContext<'a>,
    pub(crate) servers: &'a ServerFacts,
    pub(crate) name: &'a str,
    pub(crate) entry: &'a CertificateEntry,
}

/// Returns whether records name the keys of a certificate.
pub(crate) fn is_wanted(entry: &CertificateEntry) -> bool {
    entry.install.iter().any(|install| install.tlsa.is_some())
}

/// Returns for whom the records of a generation are owed. No certificate has such a name, so that no run takes them away.
fn owner(name: &str, generation: u32) -> String {
    format!("{OWNER}{name}, generation {generation}]")
}

/// Finds the records that name no key of a certificate of the inventory any more, and forgets them. Returns for whom they are owed; what could not
/// be taken away by an earlier run is among them.
pub(super) async fn forget_unwanted(context: &Context, store: &Store) -> Result<BTreeSet<String>, StoreError> {
    let debts = store.debts().await?.into_iter().map(|row| row.certificate);
    let mut owed: BTreeSet<String> = debts.filter(|whose| whose.starts_with(OWNER)).collect();
    if owed.is_empty() {
        return Ok(owed);
    }
    let wanted = context.inventory.certificates.iter().filter(|(_, entry)| is_wanted(entry));
    let wanted: Vec<&str> = wanted.map(|(name, _)| name.as_str()).collect();
    for name in store.with_tlsa().await?.iter().filter(|name| !wanted.contains(&name.as_str())) {
        for row in store.tlsa(name).await? {
            store.forget_tlsa(name, row.generation).await?;
        }
    }
    for name in wanted {
        let mut generations: Vec<u32> = store.tlsa(name).await?.iter().map(|row| row.generation).collect();
        // Those of the newest may be about to be placed.
        generations.extend(store.newest(name).await?.map(|newest| newest.number));
        for generation in generations {
            owed.remove(&owner(name, generation));
        }
    }
    Ok(owed)
}

impl Tlsa<'_> {
    fn context(&self) -> &Context {
        self.around.context
    }

    fn store(&self) -> &Store {
        self.around.store
    }

    /// Looks whether a generation may be installed, and publishes its records where they are not there yet. The first of a certificate is installed
    /// before its records: a record without its key would turn visitors away.
    pub(crate) async fn before_install(&self, generation: u32) -> Result<Readiness, StepError> {
        if !is_wanted(self.entry) {
            return Ok(Readiness::Ready);
        }
        let rows = self.store().tlsa(self.name).await?;
        let row = match rows.iter().find(|row| row.generation == generation) {
            Some(row) => row.clone(),
            None if rows.is_empty() => return Ok(Readiness::Ready),
            None => match self.publish(generation, &rows).await? {
                Ok(row) => row,
                Err(to_place) => return Ok(Readiness::Place(to_place)),
            },
        };
        let from = row.known_from();
        Ok(if self.context().now() >= from { Readiness::Ready } else { Readiness::Waits(from) })
    }

    /// Brings the records in line with what is served: those of this generation are there, and no others.
    pub(crate) async fn after_install(&self, generation: u32) -> Result<(), StepError> {
        if !is_wanted(self.entry) && self.store().tlsa(self.name).await?.is_empty() {
            return Ok(());
        }
        let (rows, is_wanted) = (self.store().tlsa(self.name).await?, is_wanted(self.entry));
        let has = rows.iter().any(|row| row.generation == generation);
        if is_wanted && !has && self.publish(generation, &rows).await?.is_err() {
            let text = "a person has to place TLSA records for the key that is served: `eskort check` names them";
            self.context().report(&Progress::Note(text.into()));
        }
        for row in rows.iter().filter(|row| !is_wanted || row.generation != generation) {
            let owner = owner(self.name, row.generation);
            pay_debts_of(&self.around, &owner).await?;
            crash_point("tlsa-removed");
            self.store().forget_tlsa(self.name, row.generation).await?;
        }
        Ok(())
    }

    /// Does so where that was not done yet, or was cut short.
    pub(crate) async fn settle(&self, generation: u32) -> Result<(), StepError> {
        let rows = self.store().tlsa(self.name).await?;
        let is_settled = matches!(&rows[..], [only] if only.generation == generation);
        if is_settled || !is_wanted(self.entry) { Ok(()) } else { self.after_install(generation).await }
    }

    /// Publishes the records of a generation and waits until every name server has them; the error are those that a person has to place.
    async fn publish(
        &self,
        generation: u32,
        known: &[TlsaRow],
    ) -> Result<Result<TlsaRow, Vec<RecordToPlace>>, StepError> {
        let (mut to_place, mut ttl, mut digest) = (Vec::new(), 0, String::new());
        let records = self.records(generation).await?;
        if records.is_empty() {
            let text = "no TLSA record is placed: it is not known at which port it is served; `check-address` of its server says it";
            self.context().report(&Progress::Note(text.into()));
        }
        for (proof, records) in records {
            let Some(Proof::Dns(dns)) = self.context().inventory.proofs.get(&proof) else { continue };
            let owner = owner(self.name, generation);
            publish_records((&self.around, &owner), &proof, dns, &records).await?;
            let lacking = look_at_records(self.context(), dns, &records).await?;
            if !lacking.is_empty() {
                to_place.extend(lacking);
                continue;
            }
            ttl = ttl.max(dns.look.ttl);
            digest = records.first().map(|record| record.text.clone()).unwrap_or(digest);
            let names: Vec<&String> = records.iter().map(|record| &record.name).collect();
            let text = format!("TLSA records of generation {generation} are at {}", words::list(&names));
            self.context().report(&Progress::Note(text));
        }
        if !to_place.is_empty() {
            return Ok(Err(to_place));
        }
        // The same key has the same records: nobody remembers others.
        let is_same = known.iter().any(|row| row.digest == digest);
        let before = SignedDuration::from_secs(if is_same { i64::from(ttl) } else { 0 });
        let published = self.context().now() - before;
        let row = TlsaRow { generation, digest, published, ttl };
        crash_point("tlsa-published");
        self.store().save_tlsa(self.name, &row).await?;
        Ok(Ok(row))
    }

    /// Returns the records that name the key of a generation, by the proof that places them.
    async fn records(&self, generation: u32) -> Result<BTreeMap<String, Vec<Record>>, StepError> {
        let Tlsa { servers, name, entry, .. } = self;
        let folder = self.store().generation_folder(name, generation);
        let Some(bundle) = folder.bundle()? else { return Ok(BTreeMap::new()) };
        let chain = Chain::from_pem(&bundle)?;
        let placement = Placement::of(name, entry, &entry.names, generation);
        let mut records: BTreeMap<String, Vec<Record>> = BTreeMap::new();
        for install in &entry.install {
            let Some(proof) = &install.tlsa else { continue };
            let there = placement.on(|server| server == install.server);
            for endpoint in endpoints(self.context(), self.store(), &there, servers).await? {
                let record = tlsa_record(&endpoint.name, endpoint.port, chain.leaf().public_key());
                let found = records.entry(proof.clone()).or_default();
                if endpoint.name.parse::<std::net::IpAddr>().is_err() && !found.contains(&record) {
                    found.push(record);
                }
            }
        }
        Ok(records)
    }
}
