//! Proofs as records: put into their zone by dynamic updates, an HTTP API, a program, or a person.

use super::remote;
use super::web_api::Api;
use crate::{ProofError, StepError};
use eskort_core::context::Context;
use eskort_core::debt::Debt;
use eskort_core::inventory::{DnsLook, DnsProof, ProgramRules, Proof, RecordWriter, TsigKey};
use eskort_core::pki::Secret;
use eskort_core::progress::{NameState, Progress};
use eskort_core::record::RecordToPlace;
use eskort_core::record::{Record, RecordType};
use eskort_dns::{
    Located, NameServer, Propagation, UpdateKey, Zone, add_records, find_addresses, find_name_servers,
    first_that_answers, locate, propagation, remove_records, system_servers, zone_of,
};
use eskort_host::HostError;
use eskort_host::crash_point;
use eskort_host::obeyed;
use eskort_host::read_secret;
use eskort_host::{CommandError, program};
use eskort_store::Store;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::Path;
use std::time::{Duration, Instant};

/// A name server takes many questions at once for an attack.
const AT_ONCE: usize = 16;

/// A record, and the zone it belongs to.
#[derive(Clone, Debug)]
struct Placed {
    record: Record,
    zone: Zone,
}

/// A record that has to go again.
pub(super) struct OwedRecord {
    pub(super) record: Record,
    /// What the API that placed it calls it.
    pub(super) id: Option<String>,
}

/// Returns the first of the system's servers that answers; the first of all where none does. It is looked for once.
async fn system_server() -> SocketAddr {
    static ANSWERS: tokio::sync::OnceCell<SocketAddr> = tokio::sync::OnceCell::const_new();
    let find = || async {
        let servers = system_servers(&std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default());
        first_that_answers(&servers).await.unwrap_or(servers[0])
    };
    *ANSWERS.get_or_init(find).await
}

/// Returns the server that is asked about zones and names.
async fn server_to_ask(look: &DnsLook) -> SocketAddr {
    match look.server {
        Some(server) => server,
        None => system_server().await,
    }
}

/// Returns where records go: a text to where its name leads by CNAME records, which an authority follows too; a CNAME record
/// to its very name.
async fn locate_all<'r>(
    look: &DnsLook,
    records: impl Iterator<Item = &'r Record>,
) -> Result<BTreeMap<(String, RecordType), Located>, ProofError> {
    let server = server_to_ask(look).await;
    let otherwise = if look.server.is_some() { system_server().await } else { server };
    let mut located = BTreeMap::new();
    let questions: BTreeSet<(String, RecordType)> = records.map(|r| (r.name.clone(), r.kind)).collect();
    for group in questions.into_iter().collect::<Vec<_>>().chunks(AT_ONCE) {
        let find = |(name, kind): (String, RecordType)| async move {
            let found = match kind {
                RecordType::Txt => locate(server, otherwise, &name).await,
                RecordType::Cname => {
                    zone_of(server, otherwise, &name).await.map(|zone| Located { name: name.clone(), zone })
                }
            };
            (found, (name, kind))
        };
        let finds: Vec<_> = group.iter().map(|question| tokio::spawn(find(question.clone()))).collect();
        for find in finds {
            let (found, question) = find.await.expect("a question does not panic");
            let mut found = found?;
            if let Some(zone) = look.zone.as_ref().filter(|zone| is_in(&found.name, zone)) {
                found.zone.name.clone_from(zone);
            }
            located.insert(question, found);
        }
    }
    Ok(located)
}

fn is_in(name: &str, zone: &str) -> bool {
    name.strip_suffix(zone).is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
}

/// Returns the records, each at the name where it goes.
async fn place(look: &DnsLook, records: &[Record]) -> Result<Vec<Placed>, ProofError> {
    let located = locate_all(look, records.iter()).await?;
    let placed = |record: &Record| {
        let found = &located[&(record.name.clone(), record.kind)];
        Placed { record: Record { name: found.name.clone(), ..record.clone() }, zone: found.zone.clone() }
    };
    Ok(records.iter().map(placed).collect())
}

/// Returns the records at the names where they go. A program needs no zone: where the inventory says who has to have its
/// records, and nobody can say where names lead, they go to these very names.
async fn place_for(dns: &DnsProof, records: &[Record]) -> Result<Vec<Placed>, ProofError> {
    let placed = place(&dns.look, records).await;
    let by_program = matches!(dns.writer, RecordWriter::Program { .. });
    if placed.is_ok() || !by_program || dns.look.name_servers.is_empty() {
        return placed;
    }
    let zone = |record: &Record| Zone {
        name: dns.look.zone.clone().unwrap_or_else(|| record.name.clone()),
        primary: String::new(),
    };
    Ok(records.iter().map(|record| Placed { record: record.clone(), zone: zone(record) }).collect())
}

/// Says where names lead elsewhere.
fn say_delegations(context: &Context, records: &[Record], placed: &[Placed]) {
    let mut said = BTreeSet::new();
    for (Record { name, .. }, Placed { record, .. }) in records.iter().zip(placed) {
        if *name != record.name && said.insert(name) {
            (context.watch)(&Progress::Note(format!("{name} leads to {}: the record goes there", record.name)));
        }
    }
}

/// Changes records at an API that replaces all values of a name and type at once.
async fn change_all(api: &Api<'_>, placed: &[&Placed], what: What) -> Result<(), ProofError> {
    let mut groups: BTreeMap<(&Zone, &str, RecordType), Vec<&Record>> = BTreeMap::new();
    for Placed { record, zone } in placed {
        groups.entry((zone, &record.name, record.kind)).or_default().push(record);
    }
    for ((zone, ..), records) in groups {
        api.change_all(&zone.name, &records, what).await?;
    }
    Ok(())
}

fn by_zone(placed: &[Placed]) -> BTreeMap<&Zone, Vec<Record>> {
    let mut zones: BTreeMap<&Zone, Vec<Record>> = BTreeMap::new();
    for Placed { record, zone } in placed {
        zones.entry(zone).or_default().push(record.clone());
    }
    zones
}

fn read_key(key: &TsigKey) -> Result<UpdateKey, ProofError> {
    match key {
        TsigKey::File(path) => {
            let fail = |why: String| ProofError::Key { key: path.display().to_string(), why };
            let text = obeyed::read_text(path).map_err(fail)?;
            UpdateKey::parse(&Secret::new(text)).map_err(|e| fail(e.to_string()))
        }
        TsigKey::Named { name, algorithm, secret } => {
            let secret = read_secret(secret)?;
            let key = UpdateKey::from_parts(name, algorithm, secret.reveal().trim());
            key.map_err(|e| ProofError::Key { key: name.clone(), why: e.to_string() })
        }
    }
}

/// Returns the server that takes updates of a zone: the inventory's, or the zone's primary.
async fn primary(look: &DnsLook, zone: &Zone) -> Result<SocketAddr, ProofError> {
    if let Some(server) = look.server {
        return Ok(server);
    }
    let found = find_addresses(system_server().await, &zone.primary).await;
    let missing = || ProofError::NoPrimary { zone: zone.name.clone(), primary: zone.primary.clone() };
    let first = *found.first().ok_or_else(missing)?;
    // One of several addresses may be of a family that this machine does not reach.
    Ok(if found.len() == 1 { first } else { first_that_answers(&found).await.unwrap_or(first) })
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum What {
    Add,
    Remove,
}

async fn update(
    context: &Context,
    key: &TsigKey,
    look: &DnsLook,
    what: What,
    placed: &[Placed],
) -> Result<(), ProofError> {
    let key = read_key(key)?;
    for (zone, records) in by_zone(placed) {
        let (server, now) = (primary(look, zone).await?, (context.now)());
        match what {
            What::Add => add_records(server, &zone.name, &key, &records, look.ttl, now).await?,
            What::Remove => remove_records(server, &zone.name, &key, &records, now).await?,
        }
    }
    Ok(())
}

/// The exit code by which a program says that it is not done yet and wants to be run again: EX_TEMPFAIL.
const NOT_YET: i32 = 75;

/// Runs a program of the administrator's for one record, again as long as it says that it is not done yet.
async fn tell_program(
    context: &Context,
    (words, host, rules): (&[String], Option<&String>, &ProgramRules),
    look: &DnsLook,
    what: What,
    record: &Record,
) -> Result<(), ProofError> {
    let what = if what == What::Add { "add" } else { "remove" };
    let told = serde_json::json!({
        "version": 1, "what": what, "type": record.kind, "name": record.name, "text": record.text, "ttl": look.ttl,
    });
    let input = format!("{told}\n");
    let folder = context.inventory_path.parent().unwrap_or(Path::new("/"));
    let begun = Instant::now();
    loop {
        let ended = match host {
            None => program::run_with_input(words, folder, rules, input.as_bytes()).await.map_err(ProofError::Program),
            Some(host) => {
                let mut session = remote::open(context, host).await?;
                let ended = session.run(words, input.as_bytes()).await;
                session.close().await;
                ended.map_err(ProofError::Host)
            }
        };
        let code = match &ended {
            Err(ProofError::Program(CommandError::Failed { code, .. }))
            | Err(ProofError::Host(HostError::Command { code, .. })) => *code,
            _ => None,
        };
        if code != Some(NOT_YET) || begun.elapsed() >= look.settle {
            return ended;
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

/// Adds the records, after they are written down as debts.
pub(crate) async fn publish(
    (context, store, certificate): (&Context, &Store, &str),
    proof: &str,
    dns: &DnsProof,
    records: &[Record],
) -> Result<(), StepError> {
    if matches!(dns.writer, RecordWriter::Person | RecordWriter::Standing { .. }) {
        // The person does it, and is told when the look finds nothing.
        return Ok(());
    }
    // What can be seen to be wrong beforehand leaves no debts.
    let api = match &dns.writer {
        RecordWriter::WebApi(settings) => Some(Api::open(settings, dns.look.ttl)?),
        RecordWriter::Update(key) => read_key(key).map(|_| None)?,
        RecordWriter::Program { .. } | RecordWriter::Person | RecordWriter::Standing { .. } => None,
    };
    let placed = place_for(dns, records).await?;
    say_delegations(context, records, &placed);
    // A record that an earlier run placed is owed with the name that the API gave it.
    let known = store.debts()?;
    let debt = |record: &Record, id| Debt::Record { proof: proof.to_owned(), record: record.clone(), id };
    let has_id = |r: &Record| {
        known.iter().any(|row| match &row.debt {
            Debt::Record { record, id: Some(_), .. } => record == r,
            _ => false,
        })
    };
    let mut missing: Vec<&Placed> = placed.iter().filter(|p| !has_id(&p.record)).collect();
    let debts: Vec<Debt> = missing.iter().map(|p| debt(&p.record, None)).collect();
    store.owe(certificate, &debts, (context.now)())?;
    crash_point("owed");
    match &dns.writer {
        RecordWriter::Update(key) => update(context, key, &dns.look, What::Add, &placed).await?,
        RecordWriter::Program { command, host, rules } => {
            for Placed { record, .. } in &placed {
                let told = tell_program(context, (command, host.as_ref(), rules), &dns.look, What::Add, record).await;
                // One that did not even begin has placed nothing.
                if let Err(ProofError::Program(error)) = &told
                    && error.never_began()
                {
                    store.strike(&debts)?;
                }
                told?;
            }
        }
        RecordWriter::WebApi(_) => {
            let api = api.expect("it was opened for this writer");
            if api.replaces_all() {
                change_all(&api, &missing, What::Add).await?;
                missing.clear();
            }
            for Placed { record, zone } in missing {
                if let Some(id) = api.add(&zone.name, record).await? {
                    store.amend_debt(&debt(record, Some(id)))?;
                }
            }
        }
        RecordWriter::Person | RecordWriter::Standing { .. } => {}
    }
    crash_point("record-added");
    Ok(())
}

/// Removes records that a proof of the inventory placed.
pub(super) async fn take_away(context: &Context, proof: &str, owed: &[OwedRecord]) -> Result<(), ProofError> {
    let Some(Proof::Dns(dns)) = context.inventory.proofs.get(proof) else {
        return Err(ProofError::Gone { proof: proof.to_owned() });
    };
    // Where each stands was found out when it was placed; its zone is looked for again.
    let placed = || async {
        let located = locate_all(&dns.look, owed.iter().map(|owed| &owed.record)).await?;
        let placed = |owed: &OwedRecord| {
            let zone = located[&(owed.record.name.clone(), owed.record.kind)].zone.clone();
            Placed { record: owed.record.clone(), zone }
        };
        Ok::<Vec<Placed>, ProofError>(owed.iter().map(placed).collect())
    };
    match &dns.writer {
        RecordWriter::Person | RecordWriter::Standing { .. } => Err(ProofError::Gone { proof: proof.to_owned() }),
        RecordWriter::Program { command, host, rules } => {
            for OwedRecord { record, .. } in owed {
                tell_program(context, (command, host.as_ref(), rules), &dns.look, What::Remove, record).await?;
            }
            Ok(())
        }
        RecordWriter::Update(key) => update(context, key, &dns.look, What::Remove, &placed().await?).await,
        RecordWriter::WebApi(settings) => {
            let placed = placed().await?;
            let api = Api::open(settings, dns.look.ttl)?;
            if api.replaces_all() {
                return change_all(&api, &placed.iter().collect::<Vec<_>>(), What::Remove).await;
            }
            for (Placed { record, zone }, OwedRecord { id, .. }) in placed.iter().zip(owed) {
                api.remove(&zone.name, record, id.as_deref()).await?;
            }
            Ok(())
        }
    }
}

/// Returns the servers that must have the records: the inventory's, or all of the zones'.
async fn servers_to_look_at(look: &DnsLook, placed: &[Placed]) -> Result<Vec<NameServer>, ProofError> {
    let server = server_to_ask(look).await;
    let mut servers: BTreeSet<NameServer> = look.name_servers.iter().copied().map(NameServer::from).collect();
    if servers.is_empty() {
        for zone in by_zone(placed).keys() {
            servers.extend(find_name_servers(server, &zone.name).await?);
        }
    }
    if servers.is_empty() {
        servers.insert(server.into());
    }
    Ok(servers.into_iter().collect())
}

/// Looks at every name server until all of them have every record. A person's records are not waited for.
pub(crate) async fn look(context: &Context, dns: &DnsProof, wanted: &[Record]) -> Result<(), StepError> {
    let placed = place_for(dns, wanted).await?;
    let servers = servers_to_look_at(&dns.look, &placed).await?;
    let records: Vec<Record> = placed.iter().map(|p| p.record.clone()).collect();
    let settle = dns.look.settle;
    if matches!(dns.writer, RecordWriter::Person | RecordWriter::Standing { .. }) {
        say_delegations(context, wanted, &placed);
        let found = propagation(&servers, &records, (context.now)()).await;
        if found.is_everywhere() {
            return Ok(());
        }
        let standing = matches!(dns.writer, RecordWriter::Standing { .. });
        // What is everywhere already need not be placed again; the same record may answer several tasks.
        let everywhere = |name: &String| !found.have.is_empty() && found.behind.iter().all(|b| !b.names.contains(name));
        let lacking = |p: &&Placed| !everywhere(&p.record.name);
        let mut to_place: Vec<RecordToPlace> = Vec::new();
        for Placed { record, zone } in placed.iter().filter(lacking) {
            let one = RecordToPlace {
                record: record.clone(),
                zone: zone.name.clone(),
                ttl: dns.look.ttl,
                for_good: standing,
            };
            if !to_place.contains(&one) {
                to_place.push(one);
            }
        }
        return Err(StepError::AwaitsPerson { to_place });
    }
    match ask_until(context, &servers, &records, settle).await {
        Ok(found) => {
            for (host, why) in found.silent {
                let text = format!("name server {host} was left out: {why}");
                (context.watch)(&Progress::Note(text));
            }
            Ok(())
        }
        Err(found) => Err(StepError::NotEverywhere { found, of: servers.len(), after: settle }),
    }
}

/// Asks until all servers that answer have all records, or until `settle` is over; the error is what was found then. A server that is
/// silent while another answers is not asked again.
async fn ask_until(
    context: &Context,
    servers: &[NameServer],
    records: &[Record],
    settle: Duration,
) -> Result<Propagation, Propagation> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(200);
    let names: BTreeSet<&String> = records.iter().map(|r| &r.name).collect();
    let mut asked = servers.to_vec();
    let mut silent = Vec::new();
    loop {
        let mut found = propagation(&asked, records, (context.now)()).await;
        if found.silent.len() < asked.len() {
            asked.retain(|server| found.silent.iter().all(|(host, _)| *host != server.host));
            silent.append(&mut found.silent);
        }
        found.silent.extend(silent.iter().cloned());
        if found.is_everywhere() {
            return Ok(found);
        }
        let left = settle.saturating_sub(begun.elapsed());
        if left.is_zero() {
            return Err(found);
        }
        let state = |name: &&String| {
            let lack = found.behind.iter().filter(|b| b.names.contains(name)).count() + found.silent.len();
            let state = format!("on {} of {} name servers", servers.len().saturating_sub(lack), servers.len());
            NameState { name: (*name).clone(), state, since: Some(begun) }
        };
        (context.watch)(&Progress::Names(names.iter().map(state).collect()));
        // A server that remembers "there is none" says the same until it has forgotten: asking sooner is no use.
        let forgets = found.behind.iter().map(|b| b.remembers_for).min().flatten().unwrap_or_default();
        let next = pause.max(forgets).min(left);
        tokio::time::sleep(next).await;
        pause = (pause * 2).min(Duration::from_secs(10));
    }
}
