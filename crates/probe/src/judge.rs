//! Judges what an endpoint showed: names, dates, chain, trust, and whether it is what was installed.

use crate::{Observation, Trust};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::pki::{AssembledChain, Certificate, OcspStatus, assemble, parse_staple};
use eskort_core::renewal::{Timing, Validity};
use eskort_core::words;
use jiff::{SignedDuration, Timestamp};
use webpki::Error as ChainError;

/// A generation that came before that should be everywhere.
const LONG_AGO: SignedDuration = SignedDuration::from_hours(1);

/// What should be served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expected {
    /// The newest generation and its fingerprint.
    pub newest: (u32, String),
    /// When that came.
    pub came: Option<Timestamp>,
    /// Earlier generations and their fingerprints.
    pub earlier: Vec<(u32, String)>,
}

/// Returns what there is to say about an endpoint, at least one finding for each topic.
///
/// `timing` is what the inventory says of its renewal, as far as that is known.
pub fn judge(
    seen: &Observation,
    trust: &Trust,
    expected: Option<&Expected>,
    timing: &Timing,
    now: Timestamp,
) -> Vec<Finding> {
    let leaf = &seen.sent[0];
    let mut findings = vec![names(leaf, &seen.name), dates(leaf, timing, now)];
    findings.extend(trust.once(&seen.sent, now, || {
        let built = assemble(leaf.clone(), &seen.sent[1..], &trust.anchors(), now);
        let mut findings = chain(&seen.sent, &built, trust, now);
        findings.extend(trusted(trust, &seen.sent, now));
        findings.extend(weak(&seen.sent));
        findings
    }));
    findings.extend(revocation(leaf, &seen.staple, now));
    findings.extend(expected.map(|e| installed(leaf, e, now)));
    let begun = seen.begun.map(|kind| format!(", begun by {}", kind.words())).unwrap_or_default();
    findings.push(Finding::new(Severity::Good, Topic::Protocol, format!("{}{begun}", seen.protocol)));
    findings
}

fn names(leaf: &Certificate, name: &str) -> Finding {
    if leaf.covers(name) {
        let text = format!("the certificate is for {}", words::list(&leaf.names));
        return Finding::new(Severity::Good, Topic::Names, text);
    }
    let has = if leaf.names.is_empty() { "no name at all".to_owned() } else { words::list(&leaf.names) };
    Finding::new(Severity::Bad, Topic::Names, format!("the certificate is not for {name}; it is for {has}"))
        .coded("other-name")
        .with_advice(format!("put a certificate that has {name} on this endpoint"))
}

fn dates(leaf: &Certificate, timing: &Timing, now: Timestamp) -> Finding {
    let validity = Validity { not_before: leaf.not_before, not_after: leaf.not_after };
    let left = words::duration(leaf.not_after.duration_since(now));
    if now < leaf.not_before {
        let text = format!("not good before {}", words::instant(leaf.not_before));
        return Finding::new(Severity::Bad, Topic::Dates, text)
            .coded("not-yet-good")
            .with_advice("check this machine's clock");
    }
    if now > leaf.not_after {
        return Finding::new(Severity::Bad, Topic::Dates, format!("expired {left} ago"))
            .coded("expired")
            .with_advice("run `eskort keep`");
    }
    let renew_at = timing.renew_at(&validity);
    if now >= renew_at {
        return Finding::new(Severity::Notice, Topic::Dates, format!("{left} left; renewal is due"))
            .coded("due")
            .with_advice("run `eskort keep`");
    }
    let renewal = words::by_when(renew_at, renew_at.duration_since(now));
    let until = words::by_when(leaf.not_after, leaf.not_after.duration_since(now));
    Finding::new(Severity::Good, Topic::Dates, format!("{left} left, until {until}; renewal on {renewal}"))
}

/// Tells everything that is the matter with what is sent beside the leaf.
fn chain(sent: &[Certificate], built: &AssembledChain, trust: &Trust, now: Timestamp) -> Vec<Finding> {
    let notice = |code, text: String, advice: &str| {
        Finding::new(Severity::Notice, Topic::Chain, text).coded(code).with_advice(advice)
    };
    let title = |c: &Certificate| c.subject_or_title().to_owned();
    let mut found = Vec::new();
    let way = built.chain.certificates();
    let anchors = trust.anchors();
    for (n, one) in sent.iter().enumerate().skip(1) {
        let is_needed = way.contains(one);
        if sent[..n].contains(one) {
            let text = format!("`{}` is sent more than once", title(one));
            found.push(notice("sent-twice", text, "leave the second one out of the bundle"));
        } else if one.is_self_issued() && !is_needed {
            let visitors =
                if anchors.has(one.subject_der(), one.public_key()) { "; visitors have it already" } else { "" };
            let text = format!("the root `{}` is sent along{visitors}", title(one));
            found.push(notice("root-sent", text, "leave the root out of the bundle"));
        } else if !is_needed && !leads_on(one, way, sent) {
            let text = format!("`{}` is sent, and has nothing to do with this certificate", title(one));
            found.push(notice("not-needed", text, "leave it out of the bundle"));
        }
    }
    let order: Vec<usize> = way.iter().filter_map(|c| sent.iter().position(|one| one == c)).collect();
    if !order.is_sorted() {
        let names = words::list(&way[1..].iter().map(|c| format!("`{}`", title(c))).collect::<Vec<_>>());
        let text = format!("the intermediates are not in order; it is {names}");
        found.push(notice("not-in-order", text, "put leaf and intermediates in order, each followed by its issuer"));
    }
    for one in way[1..].iter().filter(|c| c.not_after <= now) {
        let text = format!("the intermediate `{}` expired on {}", title(one), words::day(one.not_after));
        let advice = "serve the newer one of this authority: ask it for the chain again";
        found.push(Finding::new(Severity::Bad, Topic::Chain, text).coded("intermediate-expired").with_advice(advice));
    }
    if let Some(fault) = &built.fault {
        let advice = "ask the authority for the chain again";
        found.push(Finding::new(Severity::Bad, Topic::Chain, fault.to_string()).coded("broken").with_advice(advice));
    }
    // One that somebody has made for themselves has no chain.
    if found.is_empty() && !sent[0].is_self_issued() {
        let between = words::count(way.len() as u64 - 1, "intermediate");
        let text = format!("leaf and {between}, up to `{}`", built.chain.top_issuer());
        found.push(Finding::new(Severity::Good, Topic::Chain, text));
    }
    found
}

/// Whether a certificate is another way up from the same chain, for visitors who trust other roots.
fn leads_on(one: &Certificate, way: &[Certificate], sent: &[Certificate]) -> bool {
    let by_it = |c: &Certificate| c.names_issuer(one) && c.is_signed_by(one);
    way.iter().any(by_it)
        || sent
            .iter()
            .skip(1)
            .any(|c| c != one && !c.is_self_issued() && by_it(c) && way.iter().any(|w| w.names_issuer(c)))
}

/// Whether visitors trust what is sent; dates are told elsewhere.
fn trusted(trust: &Trust, sent: &[Certificate], now: Timestamp) -> Option<Finding> {
    let leaf = &sent[0];
    let bad = |code, text: String, advice: &str| {
        Some(Finding::new(Severity::Bad, Topic::Trust, text).coded(code).with_advice(advice))
    };
    // Somebody who is too early or too late is told that once.
    let at = now.clamp(leaf.not_before, leaf.not_after.max(leaf.not_before));
    match trust.verify(sent, at) {
        Ok(()) => Some(Finding::new(Severity::Good, Topic::Trust, "leads to a trusted root")),
        Err(_) if leaf.is_self_issued() && trust.has(leaf) => Some(Finding::new(
            Severity::Good,
            Topic::Trust,
            "self-signed, and itself one of the roots that are trusted here",
        )),
        Err(ChainError::UnknownIssuer) if leaf.is_self_issued() => {
            bad("self-signed", "self-signed: no authority vouches for it".into(), "install one from an authority")
        }
        Err(ChainError::UnknownIssuer) if !sent[1..].iter().any(|c| leaf.names_issuer(c)) => bad(
            "no-intermediate",
            format!("no intermediate is sent, and `{}` is not a root that is trusted here", leaf.issuer),
            "serve bundle.pem (leaf and intermediates), not certificate.pem",
        ),
        Err(ChainError::UnknownIssuer) => bad(
            "unknown-root",
            format!("`{}` is not a root that is trusted here", top_issuer(sent)),
            "for a private authority set `visitor-roots` in the inventory, or give `--roots`",
        ),
        Err(ChainError::CaUsedAsEndEntity) => {
            bad("self-signed", "self-signed: the usual placeholder certificate".into(), "install one from an authority")
        }
        // The intermediate that has run out is named with the chain.
        Err(ChainError::CertExpired { .. } | ChainError::CertNotValidYet { .. }) => None,
        Err(other) => {
            bad("breaks-a-rule", format!("not trusted: {}", rule(&other)), "look at the chain with `eskort show FILE`")
        }
    }
}

/// Returns whom the last certificate names that leads on from the leaf.
fn top_issuer(sent: &[Certificate]) -> &str {
    let mut at = &sent[0];
    // No longer than what is sent: two may name each other.
    for _ in 1..sent.len() {
        match sent.iter().find(|c| *c != at && at.names_issuer(c) && !at.is_self_issued()) {
            Some(next) => at = next,
            None => break,
        }
    }
    &at.issuer
}

/// Says which rule a chain breaks.
fn rule(error: &ChainError) -> &'static str {
    match error {
        ChainError::InvalidSignatureForPublicKey => "a signature in the chain is not valid",
        ChainError::PathLenConstraintViolated => "an authority in the chain may not have others below it",
        ChainError::NameConstraintViolation => "an authority in the chain may not issue for these names",
        ChainError::EndEntityUsedAsCa => "what has signed it is not a certificate authority",
        ChainError::RequiredEkuNotFoundContext(_) => "it is not for servers",
        ChainError::UnsupportedCriticalExtension => "it has a critical extension that visitors do not know",
        ChainError::MaximumSignatureChecksExceeded | ChainError::MaximumPathBuildCallsExceeded => {
            "too many certificates sign each other"
        }
        ChainError::SignatureAlgorithmMismatch
        | ChainError::UnsupportedSignatureAlgorithmContext(_)
        | ChainError::UnsupportedSignatureAlgorithmForPublicKeyContext(_) => {
            "a signature algorithm that visitors do not accept"
        }
        _ => "the chain is not as RFC 5280 wants it",
    }
}

/// Tells keys and signatures that visitors do not take any more.
fn weak(sent: &[Certificate]) -> Vec<Finding> {
    let of = |one: &Certificate| {
        let title = one.subject_or_title().to_owned();
        one.weaknesses().into_iter().map(move |what| {
            Finding::new(Severity::Bad, Topic::Strength, format!("`{title}` has {what}: visitors refuse that"))
                .coded("too-weak")
                .with_advice("get a certificate with a key of today: `key = \"p256\"`")
        })
    };
    sent.iter().filter(|c| !c.is_self_issued() || sent.len() == 1).flat_map(of).collect()
}

/// Tells what a stapled answer says, and whether one is missing.
fn revocation(leaf: &Certificate, staple: &[u8], now: Timestamp) -> Option<Finding> {
    let bad = |code, text: String, advice: &str| {
        Some(Finding::new(Severity::Bad, Topic::Revocation, text).coded(code).with_advice(advice))
    };
    if staple.is_empty() {
        let text = "the certificate says that its servers have to staple, and this one does not".to_owned();
        return if leaf.must_staple { bad("not-stapled", text, "turn stapling on in the server") } else { None };
    }
    match parse_staple(staple, &leaf.serial) {
        OcspStatus::Revoked { at, reason } => {
            let why = match reason {
                Some(1) => " (its key was compromised)",
                Some(4) => " (another one has taken its place)",
                Some(5) => " (its site was given up)",
                _ => "",
            };
            let text = format!("the stapled OCSP response says that it was revoked on {}{why}", words::day(at));
            bad("revoked", text, "get a new one with `eskort keep`; with a new key if the old one was compromised")
        }
        OcspStatus::Good { next: Some(next) } if next <= now => bad(
            "staple-old",
            format!("the stapled OCSP response expired on {}", words::instant(next)),
            "find out why the server does not refresh it",
        ),
        OcspStatus::Good { .. } => {
            Some(Finding::new(Severity::Good, Topic::Revocation, "the stapled OCSP response says that it is good"))
        }
        OcspStatus::Unknown => bad(
            "staple-unknown",
            "the stapled OCSP response does not know this certificate".into(),
            "reload the server",
        ),
        OcspStatus::Unreadable => bad(
            "staple-unreadable",
            "what is stapled is not an OCSP response".into(),
            "turn stapling off, or repair it",
        ),
    }
}

fn installed(leaf: &Certificate, expected: &Expected, now: Timestamp) -> Finding {
    let served = leaf.fingerprint().to_string();
    let (newest, fingerprint) = &expected.newest;
    if served == *fingerprint {
        return Finding::new(Severity::Good, Topic::Installed, format!("generation {newest}, as installed"));
    }
    let advice = "run `eskort keep`; if it stays so, reload the server";
    match expected.earlier.iter().find(|(_, f)| *f == served) {
        Some((number, _)) => {
            let age = expected.came.map(|came| now.duration_since(came)).filter(|age| *age >= LONG_AGO);
            let came = age.map(|age| format!(", which came {} ago", words::duration(age))).unwrap_or_default();
            Finding::new(Severity::Bad, Topic::Installed, format!("still generation {number}, not {newest}{came}"))
                .coded("earlier-generation")
                .with_advice(advice)
        }
        None => {
            let text =
                format!("another certificate (`{}` by `{}`), not generation {newest}", leaf.subject, leaf.issuer);
            Finding::new(Severity::Bad, Topic::Installed, text).coded("another-certificate").with_advice(advice)
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
        let sent = sent.to_vec();
        let seen =
            Observation { name: name.into(), address, sent, protocol: "TLS 1.3", begun: None, staple: Vec::new() };
        let line =
            |f: Finding| format!("{:?} {}: {} ({})", f.severity, f.topic.word(), f.text, f.advice.unwrap_or_default());
        judge(&seen, trust, expected, &Timing::default(), now).into_iter().map(line).collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn each_fault_of_an_endpoint_is_told_from_the_others() {
        let now: Timestamp = "2026-03-02T10:00:00Z".parse().unwrap();
        let issuer = Issuer::new(now);
        let key = PrivateKey::generate(KeyKind::P256).unwrap().public_key_der();
        let leaf = issuer.issue(&["www.lampholm.example".parse().unwrap()], &key, now - DAY * 10, DAY * 90);
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
        let this = Some(Expected { newest: (2, leaf.fingerprint().to_string()), came: None, earlier: vec![] });
        let older = Some(Expected {
            newest: (2, "other".into()),
            came: Some(now - DAY * 3),
            earlier: vec![(1, leaf.fingerprint().to_string())],
        });
        let foreign = Some(Expected { newest: (2, "other".into()), came: None, earlier: vec![] });
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
            (
                &turned,
                www,
                &None,
                now,
                "Notice chain: the root `Lampholm Practice Root` is sent along; visitors have it already",
            ),
            (whole, www, &older, now, "Bad installed: still generation 1, not 2"),
            (
                crossed.certificates(),
                www,
                &foreign,
                now,
                "Bad trust: `Lampholm Practice Old Root` is not a root that is trusted here",
            ),
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
