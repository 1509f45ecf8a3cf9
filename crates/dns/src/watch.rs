//! Whether every name server of a zone has a record.

use crate::ask::{AskError, ask, ask_records, parse_name};
use eskort_core::record::{self, Record};
use hickory_proto::rr::{RData, RecordType};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::Duration;

/// A name server takes many questions at once for an attack.
const AT_ONCE: usize = 16;

/// A name server that does not have all records yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Behind {
    /// The server.
    pub server: SocketAddr,
    /// What it lacks or says instead.
    pub what: String,
    /// The names at which it lacks something.
    pub names: Vec<String>,
    /// How long it goes on saying what it said before, when it is one that remembers the answers of others.
    pub remembers_for: Option<Duration>,
}

/// Returns every address of every name server of a zone, as one of them names them.
///
/// # Errors
/// When the server does not answer.
pub async fn find_name_servers(server: SocketAddr, zone: &str) -> Result<Vec<SocketAddr>, AskError> {
    let answer = ask(server, &parse_name(zone)?, RecordType::NS).await?;
    let mut found = BTreeSet::new();
    for record in answer.answers {
        let RData::NS(ns) = record.data else { continue };
        found.extend(find_addresses(server, &ns.0.to_ascii()).await);
    }
    Ok(found.into_iter().collect())
}

/// Returns the addresses of a name server's host: as the system resolves it, or else as a server knows it.
pub async fn find_addresses(server: SocketAddr, host: &str) -> Vec<SocketAddr> {
    let host = host.trim_end_matches('.');
    if let Ok(addresses) = tokio::net::lookup_host((host, 53)).await {
        return addresses.collect();
    }
    let Ok(name) = parse_name(host) else { return Vec::new() };
    let mut found = Vec::new();
    for kind in [RecordType::A, RecordType::AAAA] {
        let Ok(answer) = ask(server, &name, kind).await else { continue };
        found.extend(answer.answers.iter().filter_map(|record| match &record.data {
            RData::A(ip) => Some(SocketAddr::new(ip.0.into(), 53)),
            RData::AAAA(ip) => Some(SocketAddr::new(ip.0.into(), 53)),
            _ => None,
        }));
    }
    found
}

/// Asks every server for every record, and returns the servers that do not have them all.
pub async fn lagging(servers: &[SocketAddr], records: &[Record], now: Timestamp) -> Vec<Behind> {
    let looks: Vec<_> = servers.iter().map(|server| tokio::spawn(lacks(*server, records.to_vec(), now))).collect();
    let mut behind = Vec::new();
    for look in looks {
        behind.extend(look.await.expect("a look does not panic"));
    }
    behind
}

async fn lacks(server: SocketAddr, records: Vec<Record>, now: Timestamp) -> Option<Behind> {
    let mut wanted: BTreeMap<(&String, record::RecordType), Vec<&Record>> = BTreeMap::new();
    for record in &records {
        wanted.entry((&record.name, record.kind)).or_default().push(record);
    }
    let mut behind = Behind { server, what: String::new(), names: Vec::new(), remembers_for: None };
    let questions: Vec<(&String, record::RecordType)> = wanted.keys().copied().collect();
    for group in questions.chunks(AT_ONCE) {
        let ask = |name: String, kind| async move { ask_records(server, &name, kind).await };
        let asked: Vec<_> = group.iter().map(|(name, kind)| tokio::spawn(ask((*name).clone(), *kind))).collect();
        for ((name, kind), answer) in group.iter().zip(asked) {
            let word = kind.word();
            let what = match answer.await.expect("a question does not panic") {
                Err(error) => error.to_string(),
                Ok(found) => {
                    let lacking = |r: &&&Record| !r.is_answered_by(&found.texts, now);
                    let missing = wanted[&(*name, *kind)].iter().filter(lacking).count();
                    if missing == 0 {
                        continue;
                    }
                    behind.remembers_for = behind.remembers_for.max(found.remembers_none_for);
                    match (found.texts.len(), found.remembers_none_for) {
                        (0, Some(time)) => {
                            format!("no {word} record at {name}, and it remembers that for {} seconds", time.as_secs())
                        }
                        (0, None) => format!("no {word} record at {name}"),
                        (n, _) => format!("{n} {word} records at {name}, and {missing} missing"),
                    }
                }
            };
            behind.names.push((*name).clone());
            if behind.what.is_empty() {
                behind.what = what;
            }
        }
        // A server that does not answer at all need not be asked for the rest.
        if behind.what.starts_with("no answer") {
            behind.names = questions.iter().map(|(name, _)| (*name).clone()).collect();
            break;
        }
    }
    (!behind.names.is_empty()).then_some(behind)
}
