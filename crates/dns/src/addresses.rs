//! Where a name leads: as a resolver says, and as every name server of its zone says.

use crate::exchange::{AskError, ask, ask_unchecked, parse_name};
use crate::propagation::{NameServer, find_name_servers};
use crate::zone::locate;
use eskort_core::boxed;
use eskort_core::registered_domain;
use futures_util::future::join_all;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{RData, RecordType};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::OnceCell;

/// The name servers of zones, each found once, and those that do not answer.
#[derive(Default)]
pub struct KnownServers {
    zones: Mutex<BTreeMap<String, Arc<OnceCell<String>>>>,
    servers: Mutex<BTreeMap<String, Arc<OnceCell<Vec<NameServer>>>>>,
    silent: Mutex<BTreeMap<SocketAddr, String>>,
}

/// What a name server says of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Said {
    addresses: BTreeSet<IpAddr>,
    /// Whether the server speaks for the name itself: it refers to no other server, and to no other name.
    for_itself: bool,
}

/// What each name server says, or why it says nothing.
type AllSaid = Vec<(String, Result<Said, String>)>;

fn cell<T>(of: &Mutex<BTreeMap<String, Arc<OnceCell<T>>>>, name: &str) -> Arc<OnceCell<T>> {
    Arc::clone(of.lock().unwrap_or_else(PoisonError::into_inner).entry(name.to_owned()).or_default())
}

impl KnownServers {
    /// Returns the name of the zone that a name lies in.
    async fn zone(&self, resolver: SocketAddr, name: &str) -> Result<String, AskError> {
        let found = async || Ok(locate(resolver, resolver, name).await?.zone.name);
        cell(&self.zones, name).get_or_try_init(found).await.cloned()
    }

    async fn of(&self, resolver: SocketAddr, zone: &str) -> Result<Vec<NameServer>, AskError> {
        cell(&self.servers, zone).get_or_try_init(|| find_name_servers(resolver, zone)).await.cloned()
    }

    /// Asks a name server for the addresses of a name. One that has not answered is not waited for again.
    async fn addresses(&self, server: SocketAddr, name: &str) -> Result<Said, String> {
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

    /// Asks all servers of a zone for the addresses of a name.
    async fn all_say(&self, resolver: SocketAddr, zone: &str, name: &str) -> Result<AllSaid, AskError> {
        let servers = self.of(resolver, zone).await?;
        let asked = servers.iter().map(async |NameServer { host, addresses: at }| {
            // One address that answers speaks for its host; two that differ are both told.
            let mut said = join_all(at.iter().map(|address| self.addresses(*address, name))).await;
            if said.iter().any(Result::is_ok) {
                said.retain(Result::is_ok);
            }
            said.dedup();
            if said.is_empty() {
                said.push(Err("it has no address".into()));
            }
            said.into_iter().map(|said| (host.clone(), said)).collect::<Vec<_>>()
        });
        Ok(join_all(asked).await.into_iter().flatten().collect())
    }

    /// Asks all servers for the addresses of a name that speak for it, wherever CNAME records lead.
    async fn everywhere(&self, resolver: SocketAddr, name: &str) -> Result<AllSaid, AskError> {
        // Most names lie in the zone of the name above, which is known: its servers say themselves whether they speak for the name.
        if let Some((_, above)) = name.split_once('.')
            && registered_domain(name).as_deref() != Some(name)
            && let Ok(zone) = self.zone(resolver, above).await
        {
            let said = self.all_say(resolver, &zone, name).await?;
            if said.iter().any(|(_, said)| said.is_ok())
                && said.iter().all(|(_, said)| said.as_ref().is_ok_and(|said| said.for_itself) || said.is_err())
            {
                return Ok(said);
            }
        }
        // A resolver that does not trust the zone does not lead to its servers, either.
        let located = locate(resolver, resolver, name).await?;
        self.all_say(resolver, &located.zone.name, &located.name).await
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
#[boxed]
pub async fn see_addresses(resolver: SocketAddr, name: &str, known: &KnownServers) -> AddressesSeen {
    let mut seen = AddressesSeen::default();
    let (resolved, servers) = tokio::join!(addresses(resolver, name), known.everywhere(resolver, name));
    match resolved {
        Ok(said) => seen.resolved = said.addresses,
        Err(error) => {
            seen.is_bogus = matches!(error, AskError::BadAnswer { .. }) && answers_unchecked(resolver, name).await;
            seen.unresolved = Some(error.to_string());
        }
    }
    let addresses = |(host, said): (String, Result<Said, String>)| (host, said.map(|said| said.addresses));
    seen.servers = servers.unwrap_or_default().into_iter().map(addresses).collect();
    seen
}

/// Returns where a name leads, as a resolver says; nothing for a name that leads nowhere.
///
/// # Errors
/// When it does not answer, or answers with an error.
#[boxed]
pub async fn addresses_of(resolver: SocketAddr, name: &str) -> Result<BTreeSet<IpAddr>, AskError> {
    addresses(resolver, name).await.map(|said| said.addresses)
}

/// Asks a server for both kinds of address.
async fn addresses(server: SocketAddr, name: &str) -> Result<Said, AskError> {
    let name = parse_name(name)?;
    let (four, six) = tokio::join!(ask(server, &name, RecordType::A), ask(server, &name, RecordType::AAAA));
    let mut said = Said { addresses: BTreeSet::new(), for_itself: true };
    for answer in [four?, six?] {
        match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => said.addresses.extend(addresses_in(&answer)),
            code => return Err(AskError::BadAnswer { server, what: code.to_string() }),
        }
        let leads_on = answer.answers.iter().any(|record| record.record_type() == RecordType::CNAME);
        said.for_itself &= answer.metadata.authoritative && !leads_on;
    }
    Ok(said)
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
