//! Whether the name servers of a zone have a record.

use crate::exchange::{AskError, ask, ask_ahead, parse_name};
use crate::lookup::{Found, ask_records};
use eskort_core::boxed;
use eskort_core::record::{self, Record};
use futures_util::future::join_all;
use hickory_proto::rr::{RData, RecordType};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::Duration;

/// A name server takes many questions at once for an attack.
const AT_ONCE: usize = 16;

/// A name server of a zone, at all its addresses.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct NameServer {
    /// Its host name; its address where it has none here.
    pub host: String,
    /// Where it is asked.
    pub addresses: Vec<SocketAddr>,
}

impl From<SocketAddr> for NameServer {
    fn from(address: SocketAddr) -> Self {
        NameServer { host: address.to_string(), addresses: vec![address] }
    }
}

/// A name server that does not have all records yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StaleServer {
    /// The address that was asked.
    pub server: SocketAddr,
    /// What it lacks or says instead.
    pub what: String,
    /// The names at which it lacks something.
    pub names: Vec<String>,
    /// How long it goes on saying what it said before, when it is one that remembers the answers of others.
    pub remembers_for: Option<Duration>,
}

/// What the name servers of a zone say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Propagation {
    /// Those that have all records, at every address that answers.
    pub have: Vec<String>,
    /// Those that lack something.
    pub lacking: Vec<StaleServer>,
    /// Those that cannot be reached from here, which says nothing about what they have: the host, and why.
    pub silent: Vec<(String, String)>,
}

impl Propagation {
    /// Whether an authority will find the records: at least one server has them, and none that answers lacks any.
    pub fn is_everywhere(&self) -> bool {
        self.lacking.is_empty() && !self.have.is_empty()
    }

    /// Puts the verdict on a server's addresses to the others.
    fn add(&mut self, host: &str, seen: Vec<ServerState>) {
        let mut why = None;
        let mut has = false;
        let mut stale = Vec::new();
        for seen in seen {
            match seen {
                ServerState::Has => has = true,
                ServerState::StaleServer(one) => stale.push(one),
                ServerState::Silent(what) => why = why.or(Some(what)),
            }
        }
        match (stale.is_empty(), has, why) {
            (false, ..) => self.lacking.extend(stale),
            (true, true, _) => self.have.push(host.to_owned()),
            (true, false, why) => {
                self.silent.push((host.to_owned(), why.unwrap_or_else(|| "it has no address".into())))
            }
        }
    }
}

/// What one address of a name server says.
#[derive(Debug)]
enum ServerState {
    Has,
    StaleServer(StaleServer),
    Silent(String),
}

/// Returns every name server of a zone, as one of them names them.
///
/// # Errors
/// When the server does not answer.
#[boxed]
pub async fn find_name_servers(server: SocketAddr, zone: &str) -> Result<Vec<NameServer>, AskError> {
    let answer = ask_ahead(server, &parse_name(zone)?, RecordType::NS).await?;
    let host = |record: hickory_proto::rr::Record| match record.data {
        RData::NS(ns) => Some(ns.0.to_ascii().trim_end_matches('.').to_ascii_lowercase()),
        _ => None,
    };
    let hosts: BTreeSet<String> = answer.answers.into_iter().filter_map(host).collect();
    let found = hosts.into_iter().map(async |host| {
        let addresses = find_addresses(server, &host).await;
        NameServer { host, addresses }
    });
    Ok(join_all(found).await)
}

/// Returns the addresses of a name server's host: as the system resolves it, or else as a server knows it.
#[boxed]
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

/// Asks every address of every server for every record.
#[boxed]
pub async fn propagation(servers: &[NameServer], records: &[Record], now: Timestamp) -> Propagation {
    let look = |address: SocketAddr| tokio::spawn(look_at(address, records.to_vec(), now));
    let looks: Vec<(&str, Vec<_>)> =
        servers.iter().map(|s| (s.host.as_str(), s.addresses.iter().map(|address| look(*address)).collect())).collect();
    let mut found = Propagation::default();
    for (host, looks) in looks {
        let mut seen = Vec::new();
        for look in looks {
            seen.push(look.await.expect("a look does not panic"));
        }
        found.add(host, seen);
    }
    found
}

async fn look_at(server: SocketAddr, records: Vec<Record>, now: Timestamp) -> ServerState {
    let mut wanted: BTreeMap<(&String, record::RecordType), Vec<&Record>> = BTreeMap::new();
    for record in &records {
        wanted.entry((&record.name, record.kind)).or_default().push(record);
    }
    let mut stale = StaleServer { server, what: String::new(), names: Vec::new(), remembers_for: None };
    let questions: Vec<(&String, record::RecordType)> = wanted.keys().copied().collect();
    for group in questions.chunks(AT_ONCE) {
        let ask = |name: String, kind| async move { ask_records(server, &name, kind).await };
        let asked: Vec<_> = group.iter().map(|(name, kind)| tokio::spawn(ask((*name).clone(), *kind))).collect();
        for ((name, kind), answer) in group.iter().zip(asked) {
            let what = match answer.await.expect("a question does not panic") {
                // A server that does not answer at all need not be asked for the rest.
                Err(error @ AskError::NoAnswer { .. }) => return ServerState::Silent(error.to_string()),
                Err(error) => error.to_string(),
                Ok(found) => {
                    stale.remembers_for = stale.remembers_for.max(found.remembers_none_for);
                    match lacks(&found, name, *kind, &wanted[&(*name, *kind)], now) {
                        Some(what) => what,
                        None => continue,
                    }
                }
            };
            stale.names.push((*name).clone());
            if stale.what.is_empty() {
                stale.what = what;
            }
        }
    }
    if stale.names.is_empty() { ServerState::Has } else { ServerState::StaleServer(stale) }
}

/// Says what an answer lacks of the records wanted at a name.
fn lacks(found: &Found, name: &str, kind: record::RecordType, wanted: &[&Record], now: Timestamp) -> Option<String> {
    let word = kind.word();
    let missing = wanted.iter().filter(|r| !r.is_answered_by(&found.texts, now)).count();
    Some(match (missing, found.texts.len(), found.remembers_none_for) {
        (0, ..) => return None,
        (_, 0, Some(time)) => {
            format!("no {word} record at {name}, and it remembers that for {} seconds", time.as_secs())
        }
        (_, 0, None) => format!("no {word} record at {name}"),
        (_, n, _) => format!("{n} {word} records at {name}, and {missing} missing"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_is_judged_by_the_addresses_that_answer() {
        let server: SocketAddr = "192.0.2.53:53".parse().unwrap();
        let stale = || {
            ServerState::StaleServer(StaleServer {
                server,
                what: "none".into(),
                names: vec!["a".into()],
                remembers_for: None,
            })
        };
        let silent = || ServerState::Silent("network is unreachable".into());
        let one = |seen: Vec<Vec<ServerState>>| {
            let mut all = Propagation::default();
            seen.into_iter().enumerate().for_each(|(n, seen)| all.add(&format!("ns{n}"), seen));
            (all.have.len(), all.lacking.len(), all.silent.len(), all.is_everywhere())
        };
        for (seen, wanted) in [
            (vec![vec![ServerState::Has], vec![ServerState::Has, ServerState::Has]], (2, 0, 0, true)),
            (vec![vec![ServerState::Has, silent()]], (1, 0, 0, true)),
            (vec![vec![ServerState::Has], vec![silent()]], (1, 0, 1, true)),
            (vec![vec![ServerState::Has, stale()]], (0, 1, 0, false)),
            (vec![vec![ServerState::Has], vec![stale()]], (1, 1, 0, false)),
            (vec![vec![silent()], vec![silent()]], (0, 0, 2, false)),
            (vec![vec![], vec![ServerState::Has]], (1, 0, 1, true)),
            (vec![], (0, 0, 0, false)),
        ] {
            assert_eq!(one(seen), wanted);
        }
    }
}
