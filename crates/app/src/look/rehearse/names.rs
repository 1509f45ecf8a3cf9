//! Where names lead, and whether their domains let an authority issue.

use super::authority::Issuer;
use super::{Rehearsed, Rehearsing, Trial, Tried};
use crate::keep::{Caa, look_at_caa};
use eskort_core::caa::Issuance;
use eskort_core::inventory::{CertificateEntry, Proof};
use eskort_core::names::Identifier;
use eskort_core::words;
use eskort_dns::{AddressesSeen, see_addresses};
use futures_util::future::join_all;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering;

impl Rehearsing<'_> {
    /// Looks where each name leads, and whether its domain lets the authority issue.
    pub(super) async fn names(&self, entry: &CertificateEntry, issuer: Option<&Issuer>) -> Vec<Rehearsed> {
        let all = join_all(entry.names.iter().map(|name| self.name(entry, name, issuer))).await;
        all.into_iter().flatten().collect()
    }

    async fn name(&self, entry: &CertificateEntry, name: &Identifier, issuer: Option<&Issuer>) -> Vec<Rehearsed> {
        let proof = self.around.context.inventory.proof_of(entry, name).map(|(_, proof)| proof);
        if name.address().is_some() {
            return Vec::new();
        }
        let text = name.to_string();
        // Who proves control over DNS, or to a person, need not have a site yet.
        let is_reached =
            matches!(proof, Some(Proof::HttpFolder { .. } | Proof::HttpListener { .. } | Proof::TlsListener { .. }));
        let led = async { if is_reached { self.address(&text, proof).await } else { Vec::new() } };
        let (led, issuance) = tokio::join!(led, self.issuance(name, proof, issuer));
        let led = led.into_iter().map(|tried| Rehearsed::of(Trial::Address, &text, tried));
        led.chain(issuance.map(|tried| Rehearsed::of(Trial::Caa, &text, tried))).collect()
    }

    /// Looks whether a name's domain lets the authority issue; `None` where it says nothing about that.
    async fn issuance(&self, name: &Identifier, proof: Option<&Proof>, issuer: Option<&Issuer>) -> Option<Tried> {
        let (Issuer { identities, account }, proof) = (issuer?, proof?);
        let method = proof.challenges().first().map_or("", |kind| kind.word());
        let issuance = Issuance { identities, wildcard: name.is_wildcard(), account: account.as_deref(), method };
        Some(match look_at_caa(&name.to_string(), &issuance, self.resolver?, &self.caa).await? {
            Caa::Allows(text) => Tried::Good(text),
            Caa::Unclear { text, advice } => Tried::Risky { text, advice },
            Caa::Forbids { text, advice } => Tried::Fatal { text, advice },
        })
    }

    /// Looks where a name leads, as this machine and as all name servers see it.
    async fn address(&self, name: &str, proof: Option<&Proof>) -> Vec<Tried> {
        let instead = proof.and_then(Proof::check_address).is_some();
        let all = |found: BTreeSet<IpAddr>| words::list(&found.iter().map(ToString::to_string).collect::<Vec<_>>());
        // A task of its own: many names are many questions, and there are several processors.
        let seen = self.resolver.map(|resolver| {
            let (name, servers) = (name.to_owned(), Arc::clone(&self.servers));
            tokio::spawn(async move { see_addresses(resolver, &name, &servers).await })
        });
        let seen = match seen {
            Some(seen) => Some(seen.await.expect("a look does not panic")),
            None => None,
        };
        let mut tried = seen.as_ref().map(disagreements).unwrap_or_default();
        let is_bogus = seen.as_ref().is_some_and(|seen| seen.is_bogus);
        let leads_nowhere = seen.as_ref().is_some_and(|seen| seen.unresolved.is_none() && seen.resolved.is_empty());
        let resolved = seen.map(|seen| seen.resolved).unwrap_or_default();
        if resolved.iter().any(IpAddr::is_ipv6) {
            self.leads_to_ipv6.store(true, Ordering::Relaxed);
        }
        let table = self.hosts.get(name).filter(|known| !resolved.is_empty() && **known != resolved);
        // The system knows more than the DNS: its own table, and other sources.
        let here = match resolved.is_empty() && !is_bogus {
            true => {
                tokio::net::lookup_host((name, 0)).await.map(|found| found.map(|a| a.ip()).collect::<BTreeSet<_>>())
            }
            false => Ok(resolved),
        };
        tried.push(match here {
            _ if is_bogus => Tried::Fatal {
                text: "its DNSSEC signatures do not fit: the resolver has an answer, and does not trust it".into(),
                advice: "sign the zone anew, or mend the DS record at its parent: authorities check them, too".into(),
            },
            Ok(found) if let Some(table) = table => {
                let table = all(table.clone());
                Tried::Good(format!("it resolves to {}; for this machine alone to {table} (/etc/hosts)", all(found)))
            }
            Ok(found) if leads_nowhere && !found.is_empty() => Tried::Risky {
                text: format!("only this machine knows its addresses ({}): the DNS has none", all(found)),
                advice: "add an A or AAAA record to its zone".into(),
            },
            Ok(found) => Tried::Good(format!("it resolves to {}", all(found))),
            Err(_) if instead => Tried::Risky {
                text: "it resolves to no address from here; the inventory names another to look at".into(),
                advice: "the authority has to find it: ask a resolver outside".into(),
            },
            Err(error) => Tried::Fatal {
                text: format!("it resolves to no address: {error}"),
                advice: "add an A or AAAA record to its zone, or leave the name out".into(),
            },
        });
        tried
    }
}

/// Says where the name servers of a zone do not agree, or do not answer: an authority may ask any of them.
fn disagreements(seen: &AddressesSeen) -> Vec<Tried> {
    let mut tried = Vec::new();
    let opinions = seen.opinions();
    if opinions.len() > 1 {
        let opinion = |(said, hosts): (&&BTreeSet<IpAddr>, &Vec<&str>)| {
            let said: Vec<String> = said.iter().map(ToString::to_string).collect();
            let said = if said.is_empty() { "no address".to_owned() } else { words::list(&said) };
            format!("{said} by {}", words::list(hosts))
        };
        let opinions: Vec<String> = opinions.iter().map(opinion).collect();
        tried.push(Tried::Risky {
            text: format!("the name servers of its zone disagree: {}", opinions.join("; ")),
            advice: "an authority may ask any of them: look why some have another version of the zone".into(),
        });
    }
    let silent = |(host, said): &(String, Result<_, String>)| Some(format!("{host} ({})", said.as_ref().err()?));
    let silent: Vec<String> = seen.servers.iter().filter_map(silent).collect();
    if !silent.is_empty() {
        tried.push(Tried::Risky {
            text: format!("not all name servers of its zone answer: {}", words::list(&silent)),
            advice: "an authority may ask any of them: mend them, or take them out of the zone's NS records".into(),
        });
    }
    tried
}
