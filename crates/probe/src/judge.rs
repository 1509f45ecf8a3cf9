//! Judges what an endpoint showed: names, dates, chain, trust, and whether it is what was installed.

use crate::{Observation, Trust};
use eskort_core::finding::{Finding, Weight};
use eskort_core::pki::Certificate;
use eskort_core::renewal::Validity;
use eskort_core::words;
use jiff::{SignedDuration, Timestamp};
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
///
/// `lead` is how long before its end a renewal has to begin at the latest, as far as that is known.
pub fn judge(
    seen: &Observation,
    trust: &Trust,
    expected: Option<&Expected>,
    lead: SignedDuration,
    now: Timestamp,
) -> Vec<Finding> {
    let leaf = &seen.sent[0];
    let mut findings = vec![names(leaf, &seen.name), dates(leaf, lead, now), chain(&seen.sent)];
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

fn dates(leaf: &Certificate, lead: SignedDuration, now: Timestamp) -> Finding {
    let validity = Validity { not_before: leaf.not_before, not_after: leaf.not_after };
    let left = words::duration(leaf.not_after.duration_since(now));
    if now < leaf.not_before {
        let text = format!("not good before {}", words::instant(leaf.not_before));
        return Finding::new(Weight::Bad, "dates", text).with_advice("check this machine's clock");
    }
    if now > leaf.not_after {
        return Finding::new(Weight::Bad, "dates", format!("expired {left} ago")).with_advice("run `eskort keep`");
    }
    if validity.is_due(lead, now) {
        return Finding::new(Weight::Notice, "dates", format!("{left} left; renewal is due"))
            .with_advice("run `eskort keep`");
    }
    let renew_at = validity.renew_at_with(lead);
    let renewal = words::by_when(renew_at, renew_at.duration_since(now));
    let until = words::by_when(leaf.not_after, leaf.not_after.duration_since(now));
    Finding::new(Weight::Good, "dates", format!("{left} left, until {until}; renewal on {renewal}"))
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

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::pki::{Chain, KeyKind, PrivateKey};
    use eskort_practice::Issuer;

    const DAY: SignedDuration = SignedDuration::from_hours(24);

    /// Says what is found, a line each, of an endpoint that sends `sent`.
    fn said(sent: &[Certificate], name: &str, trust: &Trust, expected: Option<&Expected>, now: Timestamp) -> String {
        let address = ([127, 0, 0, 1], 443).into();
        let seen = Observation { name: name.into(), address, sent: sent.to_vec(), protocol: "TLS 1.3" };
        let line = |f: Finding| format!("{:?} {}: {} ({})", f.weight, f.topic, f.text, f.advice.unwrap_or_default());
        judge(&seen, trust, expected, SignedDuration::ZERO, now).into_iter().map(line).collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn each_fault_of_an_endpoint_is_told_from_the_others() {
        let now: Timestamp = "2026-03-02T10:00:00Z".parse().unwrap();
        let issuer = Issuer::new(now);
        let key = PrivateKey::generate(KeyKind::P256).unwrap().public_key_der();
        let leaf = issuer.issue(&["www.lampholm.example".into()], &key, now - DAY * 10, DAY * 90);
        let chain = Chain::from_pem(&issuer.chain_pem(&leaf, false)).unwrap();
        let crossed = Chain::from_pem(&issuer.chain_pem(&leaf, true)).unwrap();
        let roots = Certificate::all_from_pem(&issuer.root_pem()).unwrap();
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), issuer.root_pem()).unwrap();
        let mut trust = Trust::nobody();
        trust.add_file(file.path()).unwrap();

        let whole = chain.certificates();
        let with_root = [whole, &roots].concat();
        let turned = [whole[0].clone(), roots[0].clone(), whole[1].clone()];
        let this = Some(Expected { newest: (2, leaf.fingerprint().to_string()), earlier: vec![] });
        let older = Some(Expected { newest: (2, "other".into()), earlier: vec![(1, leaf.fingerprint().to_string())] });
        let foreign = Some(Expected { newest: (2, "other".into()), earlier: vec![] });
        let www = "www.lampholm.example";
        let late = now + DAY * 60;
        type Row<'a> = (&'a [Certificate], &'a str, &'a Option<Expected>, Timestamp, &'a str);
        let table: [Row<'_>; 14] = [
            (whole, www, &this, now, "Good names: the certificate is for www.lampholm.example"),
            (whole, www, &this, now, "Good dates: 80 days left, until 2026-05-21; renewal on 2026-04-21"),
            (whole, www, &this, now, "Good chain: leaf and 1 intermediate, up to `Lampholm Practice Root`"),
            (whole, www, &this, now, "Good trust: leads to a trusted root"),
            (whole, www, &this, now, "Good installed: generation 2, as installed"),
            (whole, "shop.lampholm.example", &None, now, "Bad names: the certificate is not for shop.lampholm.example"),
            (whole, www, &None, late, "Notice dates: 20 days left; renewal is due (run `eskort keep`)"),
            (whole, www, &None, now + DAY * 85, "Bad dates: expired 5 days ago"),
            (
                whole,
                www,
                &None,
                now - DAY * 20,
                "Bad dates: not good before 2026-02-20 10:00 UTC (check this machine's",
            ),
            (&whole[..1], www, &None, now, "Bad trust: no intermediate is sent"),
            (&with_root, www, &None, now, "Notice chain: the root `Lampholm Practice Root` is sent along"),
            (&turned, www, &None, now, "Notice chain: after `` comes `Lampholm Practice Root`, not its issuer"),
            (whole, www, &older, now, "Bad installed: still generation 1, not 2"),
            (crossed.certificates(), www, &foreign, now, "Bad trust: `Lampholm Practice Old Root` is no root"),
        ];
        for (sent, name, expected, at, wanted) in table {
            let all = said(sent, name, &trust, expected.as_ref(), at);
            assert!(all.contains(wanted), "{wanted}\n-- not in\n{all}");
        }
        let all = said(whole, www, &trust, foreign.as_ref(), now);
        assert!(all.contains("Bad installed: another certificate"), "{all}");
        let own = said(&roots, www, &Trust::nobody(), None, now);
        assert!(own.contains("Bad trust: self-signed"), "{own}");
    }

    #[test]
    fn a_file_without_roots_is_refused() {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "no certificate").unwrap();
        assert!(Trust::nobody().add_file(file.path()).unwrap_err().to_string().contains("no certificate in it"));
        assert!(Trust::nobody().add_file(std::path::Path::new("/nowhere")).is_err());
    }
}
