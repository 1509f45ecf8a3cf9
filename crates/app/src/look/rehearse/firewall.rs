//! Whether packet filters let visitors in. Their rules are read, by the programs of the machine, and never changed.

use super::{Rehearsed, Rehearsing, Trial, Tried};
use eskort_core::firewall::{Listing, Verdict, Visitor, judge};
use eskort_core::inventory::{CertificateEntry, ProgramRules, Proof};
use eskort_core::words;
use eskort_host::Machine;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::sync::Mutex;

/// Ports that visitors come to, each with its machine; `None` is this one.
pub(super) type Doors = BTreeSet<(Option<String>, u16)>;

/// The rules of each machine, read when they are first needed.
#[derive(Default)]
pub(super) struct PacketFilters(Mutex<BTreeMap<Option<String>, Rules>>);

/// What the programs of a machine print about its packet filters.
#[derive(Clone, Default)]
struct Rules {
    nft: String,
    iptables: String,
    ip6tables: String,
}

impl Rules {
    async fn of(machine: &Machine<'_>) -> Self {
        let rules = ProgramRules { timeout: Duration::from_secs(10), ..ProgramRules::default() };
        // Who is not root may not see them, and most machines lack one or the other.
        let printed = async |words: &[&str]| {
            let words: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
            let output = machine.output(&words, b"", &rules).await.unwrap_or_default();
            String::from_utf8_lossy(&output).into_owned()
        };
        let (nft, iptables, ip6tables) = tokio::join!(
            printed(&["/usr/sbin/nft", "-j", "list", "ruleset"]),
            printed(&["/usr/sbin/iptables-save"]),
            printed(&["/usr/sbin/ip6tables-save"])
        );
        Rules { nft, iptables, ip6tables }
    }
}

impl Rehearsing<'_> {
    /// Returns the ports that the proofs of a certificate wait at.
    pub(super) fn doors(&self, entry: &CertificateEntry) -> Doors {
        let (context, mut doors) = (self.around.context, Doors::new());
        for name in &entry.names {
            let port = |listen: &Option<SocketAddr>, usual| match listen {
                Some(listen) if listen.ip().is_loopback() => None,
                listen => Some(listen.map_or(usual, |listen| listen.port())),
            };
            match context.inventory.proof_of(entry, name) {
                Some((_, proof @ Proof::HttpFolder { hosts, .. })) => {
                    let port = proof.check_address().and_then(|address| address.port).unwrap_or(80);
                    let here = hosts.is_empty().then_some(None);
                    doors.extend(hosts.iter().cloned().map(Some).chain(here).map(|host| (host, port)));
                }
                Some((_, Proof::HttpListener { listen, .. })) => {
                    doors.extend(port(listen, 80).map(|port| (None, port)))
                }
                Some((_, Proof::TlsListener { listen, .. })) => {
                    doors.extend(port(listen, 443).map(|port| (None, port)))
                }
                Some((_, Proof::Dns(_))) | None => {}
            }
        }
        doors
    }

    /// Reads the rules of the machines that doors are on, as far as they are not known.
    pub(super) async fn read_filters(&self, doors: &Doors) {
        let mut known = self.filters.0.lock().await;
        for (host, _) in doors {
            if !known.contains_key(host) {
                let machine = self.around.machines.at(self.around.context, host.as_deref());
                known.insert(host.clone(), Rules::of(&machine).await);
            }
        }
    }

    /// Looks whether the packet filters let visitors in where proofs and servers wait for them.
    pub(super) async fn firewalls(&self, doors: &Doors) -> Vec<Rehearsed> {
        self.read_filters(doors).await;
        let known = self.filters.0.lock().await;
        let hosts: BTreeSet<&Option<String>> = doors.iter().map(|(host, _)| host).collect();
        let mut trials = Vec::new();
        for host in hosts {
            let rules = &known[host];
            let ports = doors.iter().filter(|(at, _)| at == host).map(|(_, port)| *port);
            let of = host.as_deref().unwrap_or("this machine");
            trials.extend(
                judged(rules, self.leads_to_ipv6.load(Ordering::Relaxed), ports)
                    .map(|tried| Rehearsed::of(Trial::Firewall, of, tried)),
            );
        }
        trials
    }
}

/// Says what a packet filter does with visitors at some ports; nothing where there is none, or where it cannot be read.
fn judged(rules: &Rules, ipv6: bool, ports: impl Iterator<Item = u16>) -> Option<Tried> {
    let listing = Listing { nft: &rules.nft, iptables: &rules.iptables, ip6tables: &rules.ip6tables };
    let (mut open, mut wrong) = (BTreeSet::new(), Vec::new());
    for port in ports {
        for v6 in [false, true].into_iter().take(if ipv6 { 2 } else { 1 }) {
            let family = if v6 { "IPv6" } else { "IPv4" };
            match judge(&listing, Visitor { v6, port }) {
                None => {}
                Some(Verdict::Open) => drop(open.insert(port)),
                Some(Verdict::Closed { by }) => {
                    wrong.push(format!("it keeps visitors out of port {port} over {family}, by {by}"))
                }
                Some(Verdict::Unclear { by }) => wrong.push(format!(
                    "whether it lets visitors in to port {port} over {family} cannot be told, because of {by}"
                )),
            }
        }
    }
    if !wrong.is_empty() {
        let advice = "let the port in from everywhere, or be sure that what stands before this machine may come in: the rules are only read here";
        return Some(Tried::Risky { text: wrong.join("; "), advice: advice.into() });
    }
    let ports: Vec<String> = open.iter().map(ToString::to_string).collect();
    let words = words::list(&ports);
    (!open.is_empty())
        .then(|| Tried::Good(format!("it lets visitors in at port{} {words}", if open.len() == 1 { "" } else { "s" })))
}
