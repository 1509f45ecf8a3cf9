//! Proofs as TXT records: put into their zone by dynamic updates, by a program, or by a person.

use crate::crash::crash_point;
use crate::{App, CommandError, Progress, ProofError, RecordToPlace, StepError, command};
use eskort_core::debt::Debt;
use eskort_core::inventory::{ByHand, DnsUpdate, Proof, ProofProgram};
use eskort_core::journey::ProofTask;
use eskort_core::pki::Secret;
use eskort_dns::{
    AskError, Behind, TextRecord, UpdateKey, add_records, find_name_servers, find_zone, follow, lagging,
    remove_records, system_servers,
};
use eskort_store::Store;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::Path;
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

/// What puts records into zones.
#[derive(Clone, Copy)]
pub(super) enum Writer<'a> {
    Update(&'a DnsUpdate),
    Program(&'a ProofProgram),
}

impl Writer<'_> {
    /// Returns the server that is asked for zones and name servers.
    fn server(&self) -> SocketAddr {
        match self {
            Writer::Update(update) => update.server,
            Writer::Program(program) => program.server.unwrap_or_else(system_server),
        }
    }

    fn zone(&self) -> Option<&str> {
        match self {
            Writer::Update(update) => update.zone.as_deref(),
            Writer::Program(_) => None,
        }
    }

    fn name_servers(&self) -> &[SocketAddr] {
        match self {
            Writer::Update(update) => &update.name_servers,
            Writer::Program(program) => &program.name_servers,
        }
    }

    fn settle(&self) -> Duration {
        match self {
            Writer::Update(update) => update.settle,
            Writer::Program(program) => program.settle,
        }
    }

    async fn write(&self, app: &App, what: What, records: &[TextRecord]) -> Result<(), ProofError> {
        match self {
            Writer::Update(update) => {
                let key = read_key(update)?;
                for (zone, records) in by_zone(update.server, self.zone(), records).await? {
                    let now = (app.now)();
                    match what {
                        What::Add => add_records(update.server, &zone, &key, &records, update.ttl, now).await?,
                        What::Remove => remove_records(update.server, &zone, &key, &records, now).await?,
                    }
                }
            }
            Writer::Program(program) => {
                for record in records {
                    tell_program(app, program, what, record).await?;
                }
            }
        }
        Ok(())
    }
}

#[derive(Clone, Copy)]
enum What {
    Add,
    Remove,
}

/// The exit code by which a program says that it is not done yet and wants to be run again: EX_TEMPFAIL.
const NOT_YET: i32 = 75;

/// Runs a program of the administrator's for one record, again as long as it says that it is not done yet.
async fn tell_program(app: &App, program: &ProofProgram, what: What, record: &TextRecord) -> Result<(), ProofError> {
    let what = match what {
        What::Add => "add",
        What::Remove => "remove",
    };
    let told = serde_json::json!({
        "version": 1, "what": what, "type": "TXT", "name": record.name, "text": record.text, "ttl": program.ttl,
    });
    let input = format!("{told}\n");
    let folder = app.inventory_path.parent().unwrap_or(Path::new("/"));
    let begun = Instant::now();
    loop {
        match command::run_with_input(&program.command, folder, input.as_bytes()).await {
            Err(CommandError::Failed { code: Some(NOT_YET), .. }) if begun.elapsed() < program.settle => {
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
            ended => return Ok(ended?),
        }
    }
}

fn system_server() -> SocketAddr {
    system_servers(&std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default())[0]
}

/// Adds the records, after they are written down as debts.
pub(super) async fn publish(
    app: &App,
    store: &Store,
    certificate: &str,
    proof: &str,
    writer: Writer<'_>,
    tasks: &[ProofTask],
) -> Result<(), StepError> {
    let records = records(writer.server(), tasks).await?;
    say_delegations(app, tasks, &records);
    let debt = |r: &TextRecord| Debt::Record { proof: proof.to_owned(), name: r.name.clone(), text: r.text.clone() };
    let debts: Vec<Debt> = records.iter().map(debt).collect();
    store.owe(certificate, &debts, (app.now)())?;
    crash_point("owed");
    writer.write(app, What::Add, &records).await?;
    crash_point("record-added");
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
pub(super) async fn await_everywhere(app: &App, writer: Writer<'_>, tasks: &[ProofTask]) -> Result<(), StepError> {
    let records = records(writer.server(), tasks).await?;
    let servers = servers_to_ask(writer.name_servers(), writer.server(), writer.zone(), &records).await?;
    let settle = writer.settle();
    match ask_until(app, &servers, &records, Some(settle)).await {
        Ok(()) => Ok(()),
        Err(behind) => Err(StepError::NotEverywhere { behind, of: servers.len(), after: settle }),
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
    let server = by_hand.server.unwrap_or_else(system_server);
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
    let writer = match app.inventory.proofs.get(proof) {
        Some(Proof::DnsUpdate(update)) => Writer::Update(update),
        Some(Proof::Program(program)) => Writer::Program(program),
        _ => return Err(ProofError::Gone { proof: proof.to_owned() }),
    };
    writer.write(app, What::Remove, &[record]).await
}
