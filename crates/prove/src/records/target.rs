//! Where records go: the name to which CNAME records lead, its zone, and the servers that have it.

use crate::ProofError;
use eskort_core::context::Context;
use eskort_core::inventory::{DnsLook, DnsProof, RecordWriter};
use eskort_core::progress::Progress;
use eskort_core::record::{Record, RecordType};
use eskort_dns::{Located, NameServer, Zone, find_name_servers, first_that_answers, locate, system_servers, zone_of};
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;

/// A name server takes many questions at once for an attack.
const AT_ONCE: usize = 16;

/// A record, and the zone it belongs to.
#[derive(Clone, Debug)]
pub(crate) struct TargetedRecord {
    pub(crate) record: Record,
    pub(crate) zone: Zone,
}

/// Returns the first of the system's servers that answers; the first of all where none does. It is looked for once.
pub(crate) async fn system_server() -> SocketAddr {
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
pub(crate) async fn locate_all<'r>(
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
                RecordType::Txt | RecordType::Tlsa => locate(server, otherwise, &name).await,
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
async fn place(look: &DnsLook, records: &[Record]) -> Result<Vec<TargetedRecord>, ProofError> {
    let located = locate_all(look, records.iter()).await?;
    let placed = |record: &Record| {
        let found = &located[&(record.name.clone(), record.kind)];
        TargetedRecord { record: Record { name: found.name.clone(), ..record.clone() }, zone: found.zone.clone() }
    };
    Ok(records.iter().map(placed).collect())
}

/// Returns the records at the names where they go. A program needs no zone: where the inventory says who has to have its
/// records, and nobody can say where names lead, they go to these very names.
pub(crate) async fn place_for(dns: &DnsProof, records: &[Record]) -> Result<Vec<TargetedRecord>, ProofError> {
    let placed = place(&dns.look, records).await;
    let by_program = matches!(dns.writer, RecordWriter::Program { .. });
    if placed.is_ok() || !by_program || dns.look.name_servers.is_empty() {
        return placed;
    }
    let zone = |record: &Record| Zone {
        name: dns.look.zone.clone().unwrap_or_else(|| record.name.clone()),
        primary: String::new(),
    };
    Ok(records.iter().map(|record| TargetedRecord { record: record.clone(), zone: zone(record) }).collect())
}

/// Says where names lead elsewhere.
pub(crate) fn say_delegations(context: &Context, records: &[Record], placed: &[TargetedRecord]) {
    let mut said = BTreeSet::new();
    for (Record { name, .. }, TargetedRecord { record, .. }) in records.iter().zip(placed) {
        if *name != record.name && said.insert(name) {
            context.report(&Progress::Note(format!("{name} leads to {}: the record goes there", record.name)));
        }
    }
}

pub(crate) fn by_zone(placed: &[TargetedRecord]) -> BTreeMap<&Zone, Vec<Record>> {
    let mut zones: BTreeMap<&Zone, Vec<Record>> = BTreeMap::new();
    for TargetedRecord { record, zone } in placed {
        zones.entry(zone).or_default().push(record.clone());
    }
    zones
}

/// Returns the servers that must have the records: the inventory's, or all of the zones'.
pub(crate) async fn servers_to_look_at(
    look: &DnsLook,
    placed: &[TargetedRecord],
) -> Result<Vec<NameServer>, ProofError> {
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
