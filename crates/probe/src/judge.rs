//! Judges what an endpoint showed: names, dates, chain, trust, and whether it is what was installed.

use crate::{Observation, Trust};
use eskort_core::finding::{Finding, Weight};
use eskort_core::pki::Certificate;
use eskort_core::renewal::Validity;
use eskort_core::words;
use jiff::Timestamp;
use webpki::Error as ChainError;

/// What should be served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expected {
    /// The newest generation and its fingerprint.
    pub newest: (u32, String),
    /// Earlier generations and their fingerprints.
    pub earlier: Vec<(u32, String)>,
}

/// Returns what there is to say about an endpoint, one finding for each topic.
pub fn judge(seen: &Observation, trust: &Trust, expected: Option<&Expected>, now: Timestamp) -> Vec<Finding> {
    let leaf = &seen.sent[0];
    let mut findings = vec![names(leaf, &seen.name), dates(leaf, now), chain(&seen.sent)];
    findings.push(trusted(trust.verify(&seen.sent, now), &seen.sent));
    findings.extend(expected.map(|e| installed(leaf, e)));
    findings.push(Finding::new(Weight::Good, "protocol", seen.protocol));
    findings
}

fn names(leaf: &Certificate, name: &str) -> Finding {
    if leaf.covers(name) {
        let text = format!("the certificate is for {}", words::list(&leaf.names));
        return Finding::new(Weight::Good, "names", text);
    }
    let has = if leaf.names.is_empty() { "no name at all".to_owned() } else { words::list(&leaf.names) };
    Finding::new(Weight::Bad, "names", format!("the certificate is not for {name}; it is for {has}"))
        .with_advice(format!("put a certificate that has {name} on this endpoint"))
}

fn dates(leaf: &Certificate, now: Timestamp) -> Finding {
    let validity = Validity { not_before: leaf.not_before, not_after: leaf.not_after };
    let left = words::duration(leaf.not_after.duration_since(now));
    if now < leaf.not_before {
        let text = format!("not good before {}", words::instant(leaf.not_before));
        return Finding::new(Weight::Bad, "dates", text).with_advice("check this machine's clock");
    }
    if now > leaf.not_after {
        return Finding::new(Weight::Bad, "dates", format!("expired {left} ago")).with_advice("run `eskort keep`");
    }
    if validity.is_due(now) {
        return Finding::new(Weight::Notice, "dates", format!("{left} left; renewal is due"))
            .with_advice("run `eskort keep`");
    }
    let renewal = words::day(validity.renew_at());
    Finding::new(
        Weight::Good,
        "dates",
        format!("{left} left, until {}; renewal on {renewal}", words::day(leaf.not_after)),
    )
}

fn chain(sent: &[Certificate]) -> Finding {
    if let Some(pair) = sent.windows(2).find(|pair| !pair[0].names_issuer(&pair[1])) {
        let text =
            format!("after `{}` comes `{}`, not its issuer `{}`", pair[0].subject, pair[1].subject, pair[0].issuer);
        return Finding::new(Weight::Notice, "chain", text)
            .with_advice("put leaf and intermediates in order, each followed by its issuer");
    }
    let top = &sent[sent.len() - 1];
    if sent.len() > 1 && top.is_self_issued() {
        return Finding::new(
            Weight::Notice,
            "chain",
            format!("the root `{}` is sent along; visitors have it", top.subject),
        )
        .with_advice("leave the root out of the bundle");
    }
    let between = words::count(sent.len() as u64 - 1, "intermediate");
    Finding::new(Weight::Good, "chain", format!("leaf and {between}, up to `{}`", top.issuer))
}

fn trusted(verified: Result<(), ChainError>, sent: &[Certificate]) -> Finding {
    let leaf = &sent[0];
    let bad = |text: String, advice: &str| Finding::new(Weight::Bad, "trust", text).with_advice(advice);
    match verified {
        Ok(()) => Finding::new(Weight::Good, "trust", "leads to a trusted root"),
        Err(ChainError::UnknownIssuer) if leaf.is_self_issued() => {
            bad("self-signed: nobody but this server vouches for it".into(), "install one from an authority")
        }
        Err(ChainError::UnknownIssuer) if sent.len() == 1 => bad(
            format!("no intermediate is sent, and `{}` is no root that visitors have", leaf.issuer),
            "serve bundle.pem (leaf and intermediates), not certificate.pem",
        ),
        Err(ChainError::UnknownIssuer) => bad(
            format!("`{}` is no root that is trusted here", sent[sent.len() - 1].issuer),
            "for a private authority set `visitor-roots` in the inventory",
        ),
        Err(ChainError::CaUsedAsEndEntity) => {
            bad("self-signed: the usual placeholder certificate".into(), "install one from an authority")
        }
        Err(ChainError::CertExpired { .. } | ChainError::CertNotValidYet { .. }) => {
            bad("not trusted because of its dates, or those of an intermediate".into(), "run `eskort keep`")
        }
        Err(other) => bad(format!("not trusted: {other}"), "look at the chain with `eskort show`"),
    }
}

fn installed(leaf: &Certificate, expected: &Expected) -> Finding {
    let served = leaf.fingerprint().to_string();
    let (newest, fingerprint) = &expected.newest;
    if served == *fingerprint {
        return Finding::new(Weight::Good, "installed", format!("generation {newest}, as installed"));
    }
    let advice = "run `eskort keep`; if it stays so, reload the server";
    match expected.earlier.iter().find(|(_, f)| *f == served) {
        Some((number, _)) => Finding::new(Weight::Bad, "installed", format!("still generation {number}, not {newest}"))
            .with_advice(advice),
        None => {
            let text =
                format!("another certificate (`{}` by `{}`), not generation {newest}", leaf.subject, leaf.issuer);
            Finding::new(Weight::Bad, "installed", text).with_advice(advice)
        }
    }
}
