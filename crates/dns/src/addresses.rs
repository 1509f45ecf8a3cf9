//! Where a name leads: as a resolver says, and as every name server of its zone says.

use crate::exchange::{AskError, ask, ask_unchecked, parse_name};
use crate::propagation::{NameServer, find_name_servers};
use crate::zone::locate;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{RData, RecordType};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::OnceCell;

/// The name servers of zones, each found once, and those that do not answer.
#[derive(Default)]
pub struct KnownServers {
    zones: Mutex<BTreeMap<String, Arc<OnceCell<Vec<NameServer>>>>>,
    silent: Mutex<BTreeMap<SocketAddr, String>>,
}

impl KnownServers {
    async fn of(&self, resolver: SocketAddr, zone: &str) -> Result<Vec<NameServer>, AskError> {
        let known = {
            let mut zones = self.zones.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(zones.entry(zone.to_owned()).or_default())
        };
        known.get_or_try_init(|| find_name_servers(resolver, zone)).await.cloned()
    }

    /// Asks a name server for the addresses of a name. One that has not answered is not waited for again.
    async fn addresses(&self, server: SocketAddr, name: &str) -> Result<BTreeSet<IpAddr>, String> {
        let silent = || self.silent.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(why) = silent().get(&server).cloned() {
            return Err(why);
        }
        addresses(server, name).await.map_err(|error| {
            let why = error.to_string();
            if let AskError::NoAnswer { .. } = error {
                silent().insert(server, why.clone());
            }
            why
        })
    }
}

/// Where a name leads.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AddressesSeen {
    /// What the resolver says.
    pub resolved: BTreeSet<IpAddr>,
    /// Why it says nothing.
    pub unresolved: Option<String>,
    /// Whether it has an answer that it does not trust: the signatures of the zone do not fit (RFC 4035 section 5.5).
    pub is_bogus: bool,
    /// What each name server of the zone says, or why it says nothing; none where the zone was not found.
    pub servers: Vec<(String, Result<BTreeSet<IpAddr>, String>)>,
}

impl AddressesSeen {
    /// Returns the name servers that answer, by what they say.
    pub fn opinions(&self) -> BTreeMap<&BTreeSet<IpAddr>, Vec<&str>> {
        let mut opinions: BTreeMap<&BTreeSet<IpAddr>, Vec<&str>> = BTreeMap::new();
        for (host, said) in &self.servers {
            if let Ok(said) = said {
                opinions.entry(said).or_default().push(host);
            }
        }
        opinions
    }
}

/// Looks where a name leads, as a resolver says and as every name server of the zone says at which it ends.
pub async fn see_addresses(resolver: SocketAddr, name: &str, known: &KnownServers) -> AddressesSeen {
    let mut seen = AddressesSeen::default();
    match addresses(resolver, name).await {
        Ok(resolved) => seen.resolved = resolved,
        Err(error) => {
            seen.is_bogus = matches!(error, AskError::BadAnswer { .. }) && answers_unchecked(resolver, name).await;
            seen.unresolved = Some(error.to_string());
        }
    }
    // A resolver that does not trust the zone does not lead to its servers, either.
    let Ok(located) = locate(resolver, resolver, name).await else { return seen };
    let Ok(servers) = known.of(resolver, &located.zone.name).await else { return seen };
    for NameServer { host, addresses: at } in servers {
        let asked = at.iter().map(|address| known.addresses(*address, &located.name));
        // One address that answers speaks for its host; two that differ are both told.
        let mut said: Vec<Result<BTreeSet<IpAddr>, String>> = futures_util::future::join_all(asked).await;
        if said.iter().any(Result::is_ok) {
            said.retain(Result::is_ok);
        }
        said.dedup();
        if said.is_empty() {
            said.push(Err("it has no address".into()));
        }
        seen.servers.extend(said.into_iter().map(|said| (host.clone(), said)));
    }
    seen
}

/// Asks a server for both kinds of address.
async fn addresses(server: SocketAddr, name: &str) -> Result<BTreeSet<IpAddr>, AskError> {
    let name = parse_name(name)?;
    let (four, six) = tokio::join!(ask(server, &name, RecordType::A), ask(server, &name, RecordType::AAAA));
    let mut found = BTreeSet::new();
    for answer in [four?, six?] {
        match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => found.extend(addresses_in(&answer)),
            code => return Err(AskError::BadAnswer { server, what: code.to_string() }),
        }
    }
    Ok(found)
}

fn addresses_in(answer: &Message) -> impl Iterator<Item = IpAddr> + '_ {
    answer.answers.iter().filter_map(|record| match &record.data {
        RData::A(ip) => Some(ip.0.into()),
        RData::AAAA(ip) => Some(ip.0.into()),
        _ => None,
    })
}

/// Whether a resolver has an answer when it is told not to check signatures.
async fn answers_unchecked(resolver: SocketAddr, name: &str) -> bool {
    let Ok(name) = parse_name(name) else { return false };
    let answer = ask_unchecked(resolver, &name, RecordType::A).await;
    answer.is_ok_and(|answer| answer.metadata.response_code == ResponseCode::NoError)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn servers_that_say_the_same_are_of_one_opinion() {
        let (one, other) = (BTreeSet::from([IpAddr::from([192, 0, 2, 7])]), BTreeSet::new());
        let servers = vec![
            ("ns1".to_owned(), Ok(one.clone())),
            ("ns2".to_owned(), Ok(other.clone())),
            ("ns3".to_owned(), Err("no answer".to_owned())),
            ("ns4".to_owned(), Ok(one.clone())),
        ];
        let seen = AddressesSeen { servers, ..AddressesSeen::default() };
        assert_eq!(seen.opinions(), BTreeMap::from([(&one, vec!["ns1", "ns4"]), (&other, vec!["ns2"])]));
    }
}
