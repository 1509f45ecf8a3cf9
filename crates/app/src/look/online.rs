//! What a look at one endpoint does not show: whether its authority has revoked the certificate, and whether the name's other addresses
//! show the same.

use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::CheckAddress;
use eskort_core::pki::{Certificate, OcspQuestion, OcspStatus, RevocationList, RevokedEntry};
use eskort_core::words;
use eskort_probe::{ObserveError, addresses_of, observe};
use eskort_talk::{ask_responder, fetch_revocation_list};
use futures_util::future::join_all;
use std::io::ErrorKind;
use std::net::SocketAddr;

/// No more addresses of a name are looked at.
const MOST_ADDRESSES: usize = 16;

/// Asks the authority of a certificate whether it has revoked it: by its list, else by OCSP. `authority` is the one of the inventory that has
/// issued it, where that is known: only then hosts of this machine or network may be asked.
pub(super) async fn revocation(context: &Context, authority: Option<&str>, sent: &[Certificate]) -> Finding {
    let known = authority.and_then(|name| context.inventory.authorities.get(name));
    let (hosts, own) = known.map_or((&[][..], false), |authority| authority.reach());
    let [leaf, rest @ ..] = sent else { return unknown("it sent no certificate") };
    let Some(issuer) = rest.iter().find(|one| leaf.names_issuer(one) && leaf.is_signed_by(one)) else {
        return unknown("its issuer is not sent along");
    };
    let found = if let Some(address) = leaf.list_addresses().into_iter().next() {
        let list = fetch_revocation_list(&address, hosts, own).await;
        list.and_then(|list| RevocationList::read(&list, issuer.public_key()).map_err(|error| error.to_string()))
            .map(|list| list.of(&leaf.serial))
    } else if let (Some(address), Some(question)) =
        (leaf.responder_addresses().into_iter().next(), OcspQuestion::about(leaf, issuer))
    {
        let answer = ask_responder(&address, &question, hosts, own).await;
        answer.and_then(|answer| match question.read(&answer, context.now()) {
            Ok(OcspStatus::Unknown | OcspStatus::Unreadable) => Err("the responder does not know it".to_owned()),
            Ok(status) => Ok(status.revoked()),
            Err(error) => Err(error.to_string()),
        })
    } else {
        return Finding::new(
            Severity::Good,
            Topic::Revocation,
            "it names neither a list of revoked certificates nor a responder",
        );
    };
    match found {
        Ok(None) => Finding::new(Severity::Good, Topic::Revocation, "its authority says that it is not revoked"),
        Ok(Some(RevokedEntry { at, .. })) => {
            let text = format!("its authority has revoked it on {}", words::day(at));
            let advice = "get a new one with `eskort keep`; with a new key if the old one was compromised";
            Finding::new(Severity::Bad, Topic::Revocation, text).coded("revoked").with_advice(advice)
        }
        Err(what) => unknown(&what),
    }
}

fn unknown(what: &str) -> Finding {
    let text = format!("whether it is revoked could not be found out: {}", words::printable(what, 200));
    Finding::new(Severity::Notice, Topic::Revocation, text).coded("revocation-unknown")
}

/// Looks whether the other addresses of a name show the same certificate as the one that was looked at.
pub(super) async fn other_addresses(name: &str, port: u16, seen: SocketAddr, leaf: &Certificate) -> Vec<Finding> {
    let others = addresses_of(name, port).await.unwrap_or_default();
    let others: Vec<SocketAddr> = others.into_iter().filter(|other| *other != seen).take(MOST_ADDRESSES).collect();
    if others.is_empty() {
        return Vec::new();
    }
    let look = |other: &SocketAddr| {
        let (at, other) = (CheckAddress { ip: other.ip(), port: Some(other.port()) }, *other);
        async move { (other, observe(name, port, Some(at)).await) }
    };
    let (mut found, mut same) = (Vec::new(), 1_u64);
    for (other, shown) in join_all(others.iter().map(look)).await {
        let notice = |code, text: String, advice: &str| {
            Finding::new(Severity::Notice, Topic::Reach, text).coded(code).with_advice(advice)
        };
        match shown {
            Ok(shown) if shown.sent[0] == *leaf => same += 1,
            Ok(shown) => {
                let title = words::printable(&shown.sent[0].subject_or_title(), 80);
                let until = words::day(shown.sent[0].not_after);
                let text = format!("{} shows another certificate: `{title}`, good until {until}", other.ip());
                found.push(notice(
                    "addresses-differ",
                    text,
                    "is it one server of several that has not got the new one?",
                ));
            }
            // Where this machine has no way to, nothing is known.
            Err(ObserveError::NoConnection { source, .. })
                if matches!(
                    source.kind(),
                    ErrorKind::NetworkUnreachable | ErrorKind::AddrNotAvailable | ErrorKind::HostUnreachable
                ) => {}
            Err(error) => {
                let text = format!("another address of the name does not answer: {error}");
                found.push(notice(
                    "address-silent",
                    text,
                    "take it out of the name's records, or start the server there",
                ));
            }
        }
    }
    if found.is_empty() && same > 1 {
        let text = format!("{} of the name show the same", words::count(same, "address"));
        found.push(Finding::new(Severity::Good, Topic::Reach, text));
    }
    found
}
