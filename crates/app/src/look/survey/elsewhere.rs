//! Names that lead to another machine, or nowhere.

use super::report::SurveyedSite;
use crate::keep::resolver;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::ProgramRules;
use eskort_core::words;
use eskort_dns::{addresses_of, locate};
use eskort_host::{Machine, own_addresses};
use eskort_siteconf::{NamePattern, Site};
use eskort_talk::http::is_public;
use futures_util::future::join_all;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// More names than these are not asked for.
const MOST_NAMES: usize = 1_000;
/// No survey waits longer for name servers.
const PATIENCE: Duration = Duration::from_secs(2);

/// A machine, as the DNS may know it.
pub(super) struct Whereabouts {
    resolver: Option<SocketAddr>,
    addresses: BTreeSet<IpAddr>,
}

impl Whereabouts {
    pub(super) async fn of(machine: &Machine<'_>) -> Self {
        let addresses = match machine.host() {
            None => own_addresses(),
            Some(_) => {
                let words = ["hostname", "-I"].map(str::to_owned);
                let printed = machine.output(&words, b"", &ProgramRules::default()).await.unwrap_or_default();
                String::from_utf8_lossy(&printed).split_whitespace().filter_map(|word| word.parse().ok()).collect()
            }
        };
        Whereabouts { resolver: resolver().await, addresses }
    }

    /// Says which names of sites lead to other machines, or nowhere. Nothing where name servers do not answer in time.
    pub(super) async fn add(&self, sites: &[Site], surveyed: &mut [SurveyedSite]) {
        let Some(resolver) = self.resolver else { return };
        let named = |site: &Site| -> Vec<String> {
            let exact = site.names.iter().filter_map(|name| match &name.pattern {
                NamePattern::Exact(name) if name.contains('.') && name.parse::<IpAddr>().is_err() => Some(name.clone()),
                _ => None,
            });
            exact.collect()
        };
        let names: BTreeSet<String> = sites.iter().flat_map(named).take(MOST_NAMES).collect();
        let asked = names.into_iter().map(async |name| {
            let found = tokio::time::timeout(PATIENCE, ask(resolver, &name)).await;
            found.ok().flatten().map(|found| (name, found))
        });
        let known: BTreeMap<String, BTreeSet<IpAddr>> = join_all(asked).await.into_iter().flatten().collect();
        for (site, surveyed) in sites.iter().zip(surveyed) {
            let (mut nowhere, mut elsewhere) = (Vec::new(), BTreeMap::<String, Vec<String>>::new());
            for name in named(site) {
                let Some(found) = known.get(&name) else { continue };
                if found.is_empty() {
                    nowhere.push(name);
                } else if is_elsewhere(found, &self.addresses) {
                    let to: Vec<String> = found.iter().map(ToString::to_string).collect();
                    elsewhere.entry(words::list(&to)).or_default().push(name);
                }
            }
            let all = |names: &[String], one, many| {
                format!("{} {}", words::list(names), if names.len() == 1 { one } else { many })
            };
            let mut say = |text: String, advice| {
                surveyed.findings.push(Finding::new(Severity::Notice, Topic::Reach, text).with_advice(advice));
            };
            if !nowhere.is_empty() {
                let advice =
                    "visitors do not find it, and no authority can: add a record to its zone, or leave the name out";
                say(all(&nowhere, "resolves to no address", "resolve to no address"), advice);
            }
            for (to, names) in elsewhere {
                let advice = "visitors come to another machine, or through one that stands before this: a certificate is needed there";
                say(format!("{} {to}, which is not this machine", all(&names, "leads to", "lead to")), advice);
            }
        }
    }
}

/// Asks where a name leads; `None` where that is not known. A domain that is in no DNS at all may be known to others.
async fn ask(resolver: SocketAddr, name: &str) -> Option<BTreeSet<IpAddr>> {
    let found = addresses_of(resolver, name).await.ok()?;
    if found.is_empty() && !locate(resolver, resolver, name).await.ok()?.zone.name.contains('.') {
        return None;
    }
    Some(found)
}

/// Whether a name that leads to some addresses leads to another machine than the one with these. A machine without a public address may be
/// reached through one that it does not know.
fn is_elsewhere(found: &BTreeSet<IpAddr>, own: &BTreeSet<IpAddr>) -> bool {
    let is_here = |ip: &IpAddr| ip.is_loopback() || own.contains(ip);
    let could_be_known =
        |ip: &IpAddr| !is_public(*ip) || own.iter().any(|own| is_public(*own) && own.is_ipv4() == ip.is_ipv4());
    !own.is_empty() && !found.iter().any(is_here) && found.iter().all(could_be_known)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_leads_elsewhere_when_that_can_be_known() {
        let addresses =
            |text: &str| text.split_whitespace().map(|ip| ip.parse().unwrap()).collect::<BTreeSet<IpAddr>>();
        for (found, own, wanted) in [
            ("192.0.2.7", "192.0.2.7 10.0.0.1", false),
            ("192.0.2.7", "192.0.2.8", true),
            ("192.0.2.7 192.0.2.8", "192.0.2.8", false),
            ("192.0.2.7", "10.0.0.1", false),
            ("10.0.0.2", "10.0.0.1", true),
            ("10.0.0.2", "192.0.2.8", true),
            ("127.0.0.1", "192.0.2.8", false),
            ("2001:db8::7", "192.0.2.8", false),
            ("2001:db8::7", "192.0.2.8 2001:db8::8", true),
            ("192.0.2.7", "", false),
        ] {
            assert_eq!(is_elsewhere(&addresses(found), &addresses(own)), wanted, "{found}, {own}");
        }
    }
}
