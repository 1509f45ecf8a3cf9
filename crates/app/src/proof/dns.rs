//! Proofs as TXT records: put into their zone by dynamic updates, or by a person.

use crate::crash::crash_point;
use crate::{App, Progress, ProofError, RecordToPlace, StepError};
use eskort_core::debt::Debt;
use eskort_core::inventory::{ByHand, DnsUpdate, Proof};
use eskort_core::journey::ProofTask;
use eskort_core::pki::Secret;
use eskort_dns::{
    AskError, Behind, TextRecord, UpdateKey, add_records, find_name_servers, find_zone, follow, lagging,
    remove_records, system_servers,
};
use eskort_store::Store;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::{Duration, Instant};

/// Returns the records that answer the tasks, each where its name leads by CNAME records: an authority follows them too.
async fn records(server: SocketAddr, tasks: &[ProofTask]) -> Result<Vec<TextRecord>, ProofError> {
    let names: BTreeSet<String> = tasks.iter().map(|task| task.record().0).collect();
    let mut targets: BTreeMap<String, String> = BTreeMap::new();
    // A few at a time: a name server takes many questions at once for an attack.
    for group in names.into_iter().collect::<Vec<_>>().chunks(16) {
        let look = |name: String| async move { (follow(server, &name).await, name) };
        let looks: Vec<_> = group.iter().map(|name| tokio::spawn(look(name.clone()))).collect();
        for look in looks {
            let (target, name) = look.await.expect("a look does not panic");
            targets.insert(name, target?);
        }
    }
    let record = |task: &ProofTask| {
        let (name, text) = task.record();
        TextRecord { name: targets[&name].clone(), text }
    };
    Ok(tasks.iter().map(record).collect())
}

/// Says where names lead elsewhere.
fn say_delegations(app: &App, tasks: &[ProofTask], records: &[TextRecord]) {
    let mut said = BTreeSet::new();
    for (task, record) in tasks.iter().zip(records) {
        let (name, _) = task.record();
        if name != record.name && said.insert(name.clone()) {
            (app.watch)(&Progress::Note(format!("{name} leads to {}: the record goes there", record.name)));
        }
    }
}

fn read_key(update: &DnsUpdate) -> Result<UpdateKey, ProofError> {
    let fail = |why: String| ProofError::Key { path: update.key_file.clone(), why };
    let text = std::fs::read_to_string(&update.key_file).map_err(|e| fail(e.to_string()))?;
    UpdateKey::parse(&Secret::new(text)).map_err(|e| fail(e.to_string()))
}

/// Puts the records into zones: the one of the inventory, or for each name the one that the server names.
async fn by_zone(
    server: SocketAddr,
    zone: Option<&str>,
    records: &[TextRecord],
) -> Result<BTreeMap<String, Vec<TextRecord>>, AskError> {
    let mut zone_of: BTreeMap<&String, String> = BTreeMap::new();
    let mut zones: BTreeMap<String, Vec<TextRecord>> = BTreeMap::new();
    for record in records {
        let zone = match (zone, zone_of.get(&record.name)) {
            (Some(zone), _) => zone.to_owned(),
            (None, Some(zone)) => zone.clone(),
            (None, None) => find_zone(server, &record.name).await?,
        };
        zone_of.insert(&record.name, zone.clone());
        zones.entry(zone).or_default().push(record.clone());
    }
    Ok(zones)
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
    let records = records(update.server, tasks).await?;
    say_delegations(app, tasks, &records);
    let zones = by_zone(update.server, update.zone.as_deref(), &records).await.map_err(ProofError::from)?;
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

/// Returns the servers that must have the records: the inventory's, or all of the zones'.
async fn servers_to_ask(
    listed: &[SocketAddr],
    server: SocketAddr,
    zone: Option<&str>,
    records: &[TextRecord],
) -> Result<Vec<SocketAddr>, ProofError> {
    let mut servers: BTreeSet<SocketAddr> = listed.iter().copied().collect();
    if servers.is_empty() {
        for zone in by_zone(server, zone, records).await?.keys() {
            servers.extend(find_name_servers(server, zone).await?);
        }
    }
    if servers.is_empty() {
        servers.insert(server);
    }
    Ok(servers.into_iter().collect())
}

/// Asks every name server until all of them have every record.
pub(super) async fn await_everywhere(app: &App, update: &DnsUpdate, tasks: &[ProofTask]) -> Result<(), StepError> {
    let records = records(update.server, tasks).await?;
    let servers = servers_to_ask(&update.name_servers, update.server, update.zone.as_deref(), &records).await?;
    match ask_until(app, &servers, &records, Some(update.settle)).await {
        Ok(()) => Ok(()),
        Err(behind) => Err(StepError::NotEverywhere { behind, of: servers.len(), after: update.settle }),
    }
}

/// Asks until all servers have all records, or until `settle` is over; then returns who is behind.
async fn ask_until(
    app: &App,
    servers: &[SocketAddr],
    records: &[TextRecord],
    settle: Option<Duration>,
) -> Result<(), Vec<Behind>> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(200);
    let mut last = None;
    loop {
        let behind = lagging(servers, records).await;
        if behind.is_empty() {
            return Ok(());
        }
        if settle.is_some_and(|settle| begun.elapsed() >= settle) {
            return Err(behind);
        }
        let have = servers.len() - behind.len();
        if last.replace(have) != Some(have) {
            (app.watch)(&Progress::Spreading { have, of: servers.len() });
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(10));
    }
}

/// Looks whether a person has placed the records. When not, they are what the person is told; with `wait` it asks until they
/// are there.
pub(super) async fn await_person(
    app: &App,
    by_hand: &ByHand,
    tasks: &[ProofTask],
    wait: bool,
) -> Result<(), StepError> {
    let server = match by_hand.server {
        Some(server) => server,
        None => system_servers(&std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default())[0],
    };
    let records = records(server, tasks).await?;
    say_delegations(app, tasks, &records);
    let servers = servers_to_ask(&by_hand.name_servers, server, None, &records).await?;
    if lagging(&servers, &records).await.is_empty() {
        return Ok(());
    }
    let zones = by_zone(server, None, &records).await.unwrap_or_default();
    let order = |(zone, records): (&String, &Vec<TextRecord>)| {
        let one = |r: &TextRecord| RecordToPlace { record: r.clone(), zone: zone.clone(), ttl: by_hand.ttl };
        records.iter().map(one).collect::<Vec<_>>()
    };
    let to_place: Vec<RecordToPlace> = zones.iter().flat_map(order).collect();
    if !wait {
        return Err(StepError::AwaitsPerson { to_place });
    }
    (app.watch)(&Progress::AwaitsPerson(to_place));
    let _ = ask_until(app, &servers, &records, None).await;
    Ok(())
}

/// Removes one record.
pub(super) async fn take_away(app: &App, proof: &str, record: TextRecord) -> Result<(), ProofError> {
    let Some(Proof::DnsUpdate(update)) = app.inventory.proofs.get(proof) else {
        return Err(ProofError::Gone { proof: proof.to_owned() });
    };
    let key = read_key(update)?;
    for (zone, records) in by_zone(update.server, update.zone.as_deref(), &[record]).await? {
        remove_records(update.server, &zone, &key, &records, (app.now)()).await?;
    }
    Ok(())
}
