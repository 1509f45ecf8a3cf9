//! What the domain of an endpoint says: who may issue for it (CAA), which keys it names (TLSA), whether its zone is signed (DNSSEC).

use crate::keep::resolver;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::pki::Certificate;
use eskort_core::record::{RecordType, tlsa_fits};
use eskort_core::words;
use eskort_dns::{KnownCaa, ZoneSignature, ask_records, zone_signature};
use std::net::{IpAddr, SocketAddr};
use tokio::sync::OnceCell;

/// Ends of names that lead nowhere but in a network of one's own (RFC 6762, RFC 8375, and `internal`, which is reserved for that).
const OWN: [&str; 3] = [".internal", ".local", ".home.arpa"];

/// The system's resolver and what it has said, for all looks of a run.
#[derive(Default)]
pub(super) struct Domains {
    resolver: OnceCell<Option<SocketAddr>>,
    caa: KnownCaa,
}

impl Domains {
    /// Returns what there is to say about the domain of a name; nothing where no resolver answers. `sent` are the certificates that an endpoint
    /// shows there. Where the inventory has records of its own to look at, TLSA is left to that.
    pub(super) async fn look(&self, name: &str, port: u16, sent: &[Certificate], with_tlsa: bool) -> Vec<Finding> {
        if name.parse::<IpAddr>().is_ok() || !name.contains('.') {
            return Vec::new();
        }
        let Some(resolver) = *self.resolver.get_or_init(resolver).await else { return Vec::new() };
        let (caa, signature, tlsa) =
            tokio::join!(self.caa.find(resolver, name), zone_signature(resolver, name), async {
                match with_tlsa {
                    true => ask_records(resolver, &format!("_{port}._tcp.{name}"), RecordType::Tlsa).await.ok(),
                    false => None,
                }
            });
        let mut found = Vec::new();
        // For names of one's own network no public authority issues.
        let is_public = !OWN.iter().any(|end| name.ends_with(end));
        // Who does not answer about one thing is said nothing of.
        match caa.ok().filter(|_| is_public) {
            Some(None) => {
                let text = format!("no CAA record of {name} says who may issue: any authority may");
                let advice = "add one for your authority; its documents say the name that belongs there";
                found.push(say(Severity::Better, "no-caa", text, advice));
            }
            Some(Some((at, records))) => {
                let issuers = records.iter().filter(|record| record.tag == "issue" || record.tag == "issuewild");
                let who = issuers.filter_map(|record| record.value.split(';').next()).map(str::trim);
                let mut who: Vec<&str> = who.filter(|who| !who.is_empty()).collect();
                who.sort_unstable();
                who.dedup();
                let text = match who[..] {
                    [] => format!("the CAA records of {at} let nobody issue"),
                    _ => format!("the CAA records of {at} let {} issue", words::list(&who)),
                };
                found.push(Finding::new(Severity::Good, Topic::Domain, text));
            }
            None => {}
        }
        let signature = signature.unwrap_or(ZoneSignature::Unsigned);
        match signature {
            ZoneSignature::Checked => {
                found.push(Finding::new(
                    Severity::Good,
                    Topic::Domain,
                    "its zone is signed, and the resolver has checked it (DNSSEC)",
                ));
            }
            ZoneSignature::Broken => {
                let text = "the signatures of its zone do not fit (DNSSEC): whoever checks them cannot find the name"
                    .to_owned();
                found.push(say(
                    Severity::Bad,
                    "zone-broken",
                    text,
                    "sign the zone again, or take the DS record out of the zone above",
                ));
            }
            ZoneSignature::Unsigned => {}
        }
        let tlsa = tlsa.map(|found| found.texts).unwrap_or_default();
        if !tlsa.is_empty() && !sent.is_empty() {
            found.push(judge_tlsa(&format!("_{port}._tcp.{name}"), &tlsa, sent, signature));
        }
        found
    }
}

fn say(severity: Severity, code: &'static str, text: String, advice: &str) -> Finding {
    Finding::new(severity, Topic::Domain, text).coded(code).with_advice(advice)
}

fn judge_tlsa(at: &str, texts: &[String], sent: &[Certificate], signature: ZoneSignature) -> Finding {
    let chain: Vec<(&[u8], &[u8])> = sent.iter().map(|one| (one.der(), one.public_key())).collect();
    if signature != ZoneSignature::Checked {
        let text = format!("there are TLSA records at {at}, and the zone is not signed: they count for nobody");
        let finding = Finding::new(Severity::Notice, Topic::Tlsa, text).coded("tlsa-unsigned");
        return finding.with_advice("sign the zone (DNSSEC), or take the records out");
    }
    if texts.iter().any(|text| tlsa_fits(text, &chain)) {
        return Finding::new(Severity::Good, Topic::Tlsa, format!("a TLSA record at {at} fits what is shown"));
    }
    let text = format!("no TLSA record at {at} fits what is shown: who goes by them turns away");
    let advice = "place a record for the key that is shown; `tlsa = true` in the inventory keeps them in step";
    Finding::new(Severity::Bad, Topic::Tlsa, text).coded("not-named").with_advice(advice)
}
