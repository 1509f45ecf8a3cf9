//! Proofs as TXT records, put into their zone by dynamic updates.

use crate::crash::crash_point;
use crate::{App, Progress, ProofError, StepError};
use eskort_core::debt::Debt;
use eskort_core::inventory::{DnsUpdate, Proof};
use eskort_core::journey::ProofTask;
use eskort_core::pki::Secret;
use eskort_dns::{AskError, TextRecord, UpdateKey, add_records, find_name_servers, find_zone, lagging, remove_records};
use eskort_store::Store;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

fn record(task: &ProofTask) -> TextRecord {
    let (name, text) = task.record();
    TextRecord { name, text }
}

fn read_key(update: &DnsUpdate) -> Result<UpdateKey, ProofError> {
    let fail = |why: String| ProofError::Key { path: update.key_file.clone(), why };
    let text = std::fs::read_to_string(&update.key_file).map_err(|e| fail(e.to_string()))?;
    UpdateKey::parse(&Secret::new(text)).map_err(|e| fail(e.to_string()))
}

/// Puts the records into zones: the inventory's, or for each name the one that the server names.
async fn by_zone(update: &DnsUpdate, records: &[TextRecord]) -> Result<BTreeMap<String, Vec<TextRecord>>, AskError> {
    let mut zones: BTreeMap<String, Vec<TextRecord>> = BTreeMap::new();
    for record in records {
        let known = zones.keys().find(|zone| record.name.ends_with(&format!(".{zone}")) && update.zone.is_none());
        let zone = match (&update.zone, known) {
            (Some(zone), _) => zone.clone(),
            // A zone below one that is known is found by asking; records side by side need not be asked for each.
            (None, Some(zone)) if same_parent(zones.get(zone), record) => zone.clone(),
            (None, _) => find_zone(update.server, &record.name).await?,
        };
        zones.entry(zone).or_default().push(record.clone());
    }
    Ok(zones)
}

/// Whether a record lies beside one that is in the zone: below the same name there can be no cut between them.
fn same_parent(known: Option<&Vec<TextRecord>>, record: &TextRecord) -> bool {
    known.into_iter().flatten().any(|k| k.name == record.name)
}

/// Adds the records, after they are written down as debts.
pub(super) async fn publish(
    app: &App,
    store: &Store,
    certificate: &str,
    proof: &str,
    update: &DnsUpdate,
    tasks: &[ProofTask],
) -> Result<(), StepError> {
    let key = read_key(update)?;
    let records: Vec<TextRecord> = tasks.iter().map(record).collect();
    let zones = by_zone(update, &records).await.map_err(ProofError::from)?;
    let debt = |r: &TextRecord| Debt::Record { proof: proof.to_owned(), name: r.name.clone(), text: r.text.clone() };
    let debts: Vec<Debt> = records.iter().map(debt).collect();
    store.owe(certificate, &debts, (app.now)())?;
    crash_point("owed");
    for (zone, records) in zones {
        let added = add_records(update.server, &zone, &key, &records, update.ttl, (app.now)()).await;
        added.map_err(ProofError::from)?;
        crash_point("record-added");
    }
    Ok(())
}

/// Asks every name server until all of them have every record.
pub(super) async fn await_everywhere(app: &App, update: &DnsUpdate, tasks: &[ProofTask]) -> Result<(), StepError> {
    let records: Vec<TextRecord> = tasks.iter().map(record).collect();
    let mut servers = BTreeSet::new();
    servers.extend(&update.name_servers);
    if servers.is_empty() {
        for zone in by_zone(update, &records).await.map_err(ProofError::from)?.keys() {
            servers.extend(find_name_servers(update.server, zone).await.map_err(ProofError::from)?);
        }
    }
    if servers.is_empty() {
        servers.insert(update.server);
    }
    let servers: Vec<_> = servers.into_iter().collect();
    let begun = Instant::now();
    let mut pause = Duration::from_millis(200);
    let mut last = None;
    loop {
        let behind = lagging(&servers, &records).await;
        if behind.is_empty() {
            return Ok(());
        }
        if begun.elapsed() > update.settle {
            return Err(StepError::NotEverywhere { behind, of: servers.len(), after: update.settle });
        }
        let have = servers.len() - behind.len();
        if last.replace(have) != Some(have) {
            (app.watch)(&Progress::Spreading { have, of: servers.len() });
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(10));
    }
}

/// Removes one record.
pub(super) async fn take_away(app: &App, proof: &str, record: TextRecord) -> Result<(), ProofError> {
    let Some(Proof::DnsUpdate(update)) = app.inventory.proofs.get(proof) else {
        return Err(ProofError::Gone { proof: proof.to_owned() });
    };
    let key = read_key(update)?;
    for (zone, records) in by_zone(update, &[record]).await? {
        remove_records(update.server, &zone, &key, &records, (app.now)()).await?;
    }
    Ok(())
}
