//! What is worth knowing about the names of a new certificate.

use crate::look::survey::report::SurveyedServer;
use eskort_core::inventory::Inventory;
use eskort_core::names::Identifier;
use eskort_core::words;
use jiff::Timestamp;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// From so many names below one domain on, a wildcard is worth a thought.
const MANY_NAMES: usize = 5;
/// The servers that mail comes to.
const MAIL: [&str; 3] = ["postfix", "dovecot", "exim"];

/// Something worth knowing about what is added.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Advice {
    /// What it is.
    pub text: String,
    /// Why.
    pub why: String,
}

pub(super) fn left_out(name: &str) -> String {
    format!("{name} was left out")
}

/// Says what people often mean, too, and what is there already.
pub(super) fn advise_on_names(
    names: &[Identifier],
    inventory: &Inventory,
    servers: &[SurveyedServer],
    now: Timestamp,
    advice: &mut Vec<Advice>,
) {
    let covered = |wanted: &str| names.iter().any(|name| name.covers(wanted));
    for name in names.iter().filter(|name| name.address().is_none() && !name.is_wildcard()) {
        let text = name.to_string();
        let parent = text.split_once('.').map_or("", |(_, parent)| parent);
        let other = match text.strip_prefix("www.") {
            Some(bare) => Some(bare.to_owned()),
            None if eskort_core::is_public_suffix(parent) => Some(format!("www.{text}")),
            None => None,
        };
        let was_left_out = |other: &String| advice.iter().any(|said| said.text == left_out(other));
        if let Some(other) = other.filter(|other| !covered(other) && !was_left_out(other)) {
            let why = format!("visitors who come to it over https are warned; name it, too, if {text} has it");
            advice.push(Advice { text: format!("{other} is not among the names"), why });
        }
    }
    for name in names.iter().filter(|name| name.is_wildcard()) {
        let base = name.base();
        if !covered(&base) {
            let text = format!("{base} is not among the names");
            advice.push(Advice { text, why: format!("{name} is not good for it") });
        }
    }
    for (certificate, entry) in &inventory.certificates {
        let both: Vec<String> =
            names.iter().filter(|name| entry.names.contains(name)).map(ToString::to_string).collect();
        if !both.is_empty() {
            let text = format!("{} is on the certificate `{certificate}`, too", words::list(&both));
            advice.push(Advice {
                text,
                why: "two certificates for one name cost twice, and one of them is not shown".into(),
            });
        }
    }
    for name in names {
        if let Some(own) = name.in_own_letters() {
            advice.push(Advice {
                text: format!("{name} is {}", words::printable(&own, 300)),
                why: "its spelling in the DNS, and its own letters".into(),
            });
        }
    }
    advise_on_wildcards(names, advice);
    advise_on_mail(names, servers, advice);
    // Those of the inventory are told of above.
    let is_new = |name: &&Identifier| !inventory.certificates.values().any(|entry| entry.names.contains(name));
    let new: Vec<Identifier> = names.iter().filter(is_new).cloned().collect();
    advise_on_certificates(&new, servers, now, advice);
}

/// Says where one wildcard would do for many names.
fn advise_on_wildcards(names: &[Identifier], advice: &mut Vec<Advice>) {
    let mut below: BTreeMap<&str, usize> = BTreeMap::new();
    for name in names.iter().filter(|name| !name.is_wildcard()) {
        if let Some((_, parent)) = name.domain().and_then(|name| name.split_once('.')) {
            *below.entry(parent).or_default() += 1;
        }
    }
    for (parent, count) in below {
        let star = format!("*.{parent}");
        let has_it = names.iter().any(|name| name.to_string() == star);
        if count >= MANY_NAMES && !has_it && !eskort_core::is_public_suffix(parent) {
            let text = format!("{star} would be good for {count} of these names, and for others to come");
            let why = format!("it needs a proof over DNS, and is not good for {parent} itself");
            advice.push(Advice { text, why });
        }
    }
}

/// Says which names of this machine's mail servers could be on the certificate, too.
fn advise_on_mail(names: &[Identifier], servers: &[SurveyedServer], advice: &mut Vec<Advice>) {
    let domain = |name: &Identifier| eskort_core::registered_domain(name.domain()?);
    let domains: BTreeSet<String> = names.iter().filter_map(domain).collect();
    let mut told = BTreeSet::new();
    for server in servers.iter().filter(|server| MAIL.contains(&server.server)) {
        let written = server.sites.iter().flat_map(|site| &site.names);
        for name in written.filter_map(|name| Identifier::parse(name).ok()).filter(|name| !name.is_wildcard()) {
            let text = name.to_string();
            let ours = domain(&name).is_some_and(|of| domains.contains(&of));
            if ours && !names.iter().any(|name| name.covers(&text)) && told.insert(name) {
                let why = format!("this machine's {} goes by it: one certificate can serve both", server.server);
                advice.push(Advice { text: format!("{text} is not among the names"), why });
            }
        }
    }
}

/// Says for which names a server of this machine has a good certificate already.
fn advise_on_certificates(names: &[Identifier], servers: &[SurveyedServer], now: Timestamp, advice: &mut Vec<Advice>) {
    let mut told = BTreeSet::new();
    for certificate in servers.iter().flat_map(|server| &server.sites).flat_map(|site| &site.certificates) {
        let Some(validity) = certificate.validity.filter(|validity| validity.not_after > now) else { continue };
        let on_it: Vec<Identifier> = certificate.names.iter().filter_map(|name| Identifier::parse(name).ok()).collect();
        let both: Vec<String> = names.iter().map(ToString::to_string).collect();
        let both: Vec<String> = both.into_iter().filter(|name| on_it.iter().any(|other| other.covers(name))).collect();
        if !both.is_empty() && told.insert(&certificate.fingerprint) {
            let (be, until) = (if both.len() == 1 { "has" } else { "have" }, words::day(validity.not_after));
            let issuer = words::printable(certificate.issuer.as_deref().unwrap_or("somebody"), 80);
            let text = format!(
                "{} {be} a certificate on this machine already, by {issuer}, until {until}",
                words::list(&both)
            );
            let why =
                "`eskort adopt` takes it in, if its key is here: the new one is due only when that one ends".into();
            advice.push(Advice { text, why });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn advised(names: &[&str], servers: &[SurveyedServer]) -> Vec<String> {
        let names: Vec<Identifier> = names.iter().map(|name| name.parse().unwrap()).collect();
        let mut advice = Vec::new();
        advise_on_names(&names, &Inventory::default(), servers, Timestamp::UNIX_EPOCH, &mut advice);
        advice.into_iter().map(|advice| advice.text).collect()
    }

    #[test]
    fn what_names_suggest_is_said() {
        let many = ["a", "b", "c", "d", "e"].map(|label| format!("{label}.lampholm.example"));
        let many: Vec<&str> = many.iter().map(String::as_str).collect();
        let table: [(&[&str], &[&str]); 6] = [
            (&["lampholm.example"], &["www.lampholm.example is not among the names"]),
            (&["www.lampholm.example"], &["lampholm.example is not among the names"]),
            (&["*.lampholm.example"], &["lampholm.example is not among the names"]),
            (&many, &["*.lampholm.example would be good for 5 of these names, and for others to come"]),
            (&many[1..], &[]),
            (&["x.xn--bcher-kva.example"], &["x.xn--bcher-kva.example is x.bücher.example"]),
        ];
        for (names, wanted) in table {
            assert_eq!(advised(names, &[]), wanted, "{names:?}");
        }
    }
}
