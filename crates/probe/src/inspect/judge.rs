//! Judges what an endpoint agrees to.

use super::{Inspection, OtherName};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::words;
use eskort_handshake::{Grade, Suite, Version};

/// What to write to be rid of what is old.
const LEVEL: &str =
    "turn off what is old; where the server is in the inventory, `tls = \"usual\"` of the install entry does it";

/// Returns what there is to say about what an endpoint agrees to.
pub fn judge_inspection(seen: &Inspection) -> Vec<Finding> {
    let mut findings = versions(seen);
    findings.extend(ciphers(seen));
    findings.extend(exchange(seen));
    findings.extend(sessions(seen));
    findings.extend(other_names(seen));
    findings
}

fn say(severity: Severity, topic: Topic, code: &'static str, text: String, advice: &str) -> Finding {
    Finding::new(severity, topic, text).coded(code).with_advice(advice)
}

fn versions(seen: &Inspection) -> Vec<Finding> {
    let mut found = Vec::new();
    for (version, code, severity, why) in [
        (Version::Ssl3, "ssl3", Severity::Bad, "anybody on the way can read it (RFC 7568)"),
        (Version::Tls10, "tls10", Severity::Notice, "it is forbidden (RFC 8996), and browsers refuse it"),
        (Version::Tls11, "tls11", Severity::Notice, "it is forbidden (RFC 8996), and browsers refuse it"),
    ] {
        if seen.speaks(version) && (!seen.is_opportunistic || version == Version::Ssl3) {
            found.push(say(severity, Topic::Protocol, code, format!("{version} is spoken: {why}"), LEVEL));
        }
    }
    let old: Vec<Version> =
        [Version::Tls10, Version::Tls11].into_iter().filter(|old| seen.is_opportunistic && seen.speaks(*old)).collect();
    if !old.is_empty() {
        let text = format!("{} for mail between servers: better than none, and old", words::list(&old));
        found.push(say(
            Severity::Better,
            Topic::Protocol,
            "old-for-mail",
            text,
            "turn off what is old once hardly anybody uses it",
        ));
    }
    if seen.unanswered > 0 {
        let text = format!(
            "{} of {} had no answer: what is said here may not be all",
            seen.unanswered,
            words::count(u64::from(seen.handshakes), "handshake")
        );
        let advice = "it may limit how many may ask at once: try again later";
        found.push(say(Severity::Notice, Topic::Reach, "unanswered", text, advice));
    }
    if !seen.speaks(Version::Tls13) && !seen.versions.is_empty() && seen.unanswered == 0 {
        let text = "TLS 1.3 is not spoken: it is quicker and safer".to_owned();
        found.push(say(Severity::Better, Topic::Protocol, "no-tls13", text, "turn TLS 1.3 on in the server"));
    }
    found
}

/// Names some suites, and how many more there are.
fn name(suites: &[Suite]) -> String {
    let shown: Vec<String> = suites.iter().take(3).map(ToString::to_string).collect();
    let more = suites.len().saturating_sub(3);
    if more == 0 { words::list(&shown) } else { format!("{} and {more} more", shown.join(", ")) }
}

fn ciphers(seen: &Inspection) -> Vec<Finding> {
    let mut all: Vec<Suite> = seen.versions.iter().flat_map(|spoken| spoken.suites.iter().copied()).collect();
    all.sort_unstable();
    all.dedup();
    let mut found = Vec::new();
    for (grade, code, severity, why) in [
        (Grade::Broken, "broken-ciphers", Severity::Bad, "anybody on the way can read or change what they protect"),
        (Grade::SmallBlocks, "small-blocks", Severity::Notice, "with blocks of 64 bits long connections leak"),
        (Grade::Recordable, "recordable", Severity::Better, "whoever gets the key reads what was recorded before"),
        (Grade::Older, "older-ciphers", Severity::Better, "of before authenticated encryption"),
    ] {
        // Who sends mail does not look at the certificate in any case.
        let is_taken = |suite: &Suite| seen.is_opportunistic && suite.is_anonymous();
        let these: Vec<Suite> =
            all.iter().copied().filter(|suite| suite.grade() == grade && !is_taken(suite)).collect();
        if !these.is_empty() {
            found.push(say(severity, Topic::Ciphers, code, format!("{}: {why}", name(&these)), LEVEL));
        }
    }
    let weak = |spoken: &&super::Spoken| {
        !spoken.server_chooses && spoken.suites.iter().any(|suite| suite.grade() > Grade::Older)
    };
    if let Some(spoken) = seen.versions.iter().find(weak) {
        let text = format!("in {} the visitor chooses the cipher, weak ones among them", spoken.version);
        let advice = "turn the weak ones off, or let the server choose";
        found.push(say(Severity::Better, Topic::Ciphers, "visitor-chooses", text, advice));
    }
    if found.is_empty() && !all.is_empty() {
        let text = format!("{}, all modern", words::count(all.len() as u64, "cipher suite"));
        found.push(Finding::new(Severity::Good, Topic::Ciphers, text));
    }
    found
}

fn exchange(seen: &Inspection) -> Vec<Finding> {
    let mut found = Vec::new();
    match seen.prime_bits {
        Some(bits @ ..1024) => {
            let text = format!("Diffie-Hellman with a prime of {bits} bits: it can be broken on the way");
            found.push(say(Severity::Bad, Topic::Exchange, "tiny-prime", text, "use one of RFC 7919, or curves alone"));
        }
        Some(bits @ ..2048) => {
            let text = format!("Diffie-Hellman with a prime of {bits} bits; 2048 are the least today");
            found.push(say(
                Severity::Notice,
                Topic::Exchange,
                "small-prime",
                text,
                "use one of RFC 7919, or curves alone",
            ));
        }
        _ => {}
    }
    let weak: Vec<String> = seen.curves.iter().filter(|group| group.is_weak()).map(ToString::to_string).collect();
    if !weak.is_empty() {
        let text = format!("{} can be agreed on: too small", words::list(&weak));
        found.push(say(
            Severity::Notice,
            Topic::Exchange,
            "weak-curves",
            text,
            "leave x25519, secp256r1 and secp384r1",
        ));
    }
    if seen.signs_with_sha1 {
        let text = "what is agreed on can be signed with SHA-1".to_owned();
        found.push(say(
            Severity::Better,
            Topic::Exchange,
            "sha1-signature",
            text,
            "turn SHA-1 off in the server's TLS library",
        ));
    }
    let hybrids: Vec<String> =
        seen.groups.iter().filter(|group| group.is_post_quantum()).map(ToString::to_string).collect();
    if seen.versions.is_empty() {
        return found;
    }
    found.push(if hybrids.is_empty() {
        let text = "no post-quantum group: what is recorded today may be read some day".to_owned();
        let advice = "X25519MLKEM768 comes with OpenSSL 3.5 and others of 2025";
        say(Severity::Better, Topic::Exchange, "no-post-quantum", text, advice)
    } else {
        let text = format!("{}, also safe from quantum computers", words::list(&hybrids));
        Finding::new(Severity::Good, Topic::Exchange, text)
    });
    found
}

fn sessions(seen: &Inspection) -> Vec<Finding> {
    let mut found = Vec::new();
    if seen.compresses {
        let text = "it compresses: secrets can be guessed by the length of what is sent".to_owned();
        found.push(say(Severity::Bad, Topic::Sessions, "compression", text, "turn TLS compression off"));
    }
    if seen.renegotiates_safely == Some(false) {
        let text = "it does not renegotiate safely (RFC 5746): others can put words before a visitor's".to_owned();
        found.push(say(
            Severity::Notice,
            Topic::Sessions,
            "unsafe-renegotiation",
            text,
            "its TLS library is from before 2010: replace it",
        ));
    }
    if seen.has_extended_secret == Some(false) {
        let text = "secrets are not bound to the whole handshake (RFC 7627)".to_owned();
        found.push(say(
            Severity::Better,
            Topic::Sessions,
            "no-extended-secret",
            text,
            "its TLS library is old: replace it",
        ));
    }
    // With TLS 1.2 and 1.3 alone the version cannot be turned down unseen (RFC 8446 section 4.1.3).
    let is_old = seen.versions.iter().any(|spoken| spoken.version < Version::Tls12);
    if seen.refuses_fallback == Some(false) && is_old {
        let text = "who is made to fall back to an older version is not refused (RFC 7507)".to_owned();
        found.push(say(Severity::Better, Topic::Sessions, "takes-fallback", text, LEVEL));
    }
    found
}

fn other_names(seen: &Inspection) -> Option<Finding> {
    let without = match &seen.without_name {
        OtherName::Same => "who asks for no name gets the same certificate".to_owned(),
        OtherName::Another { title } => {
            format!("who asks for no name gets the one for `{}`", words::printable(title, 80))
        }
        OtherName::Refused => "who asks for no name is refused".to_owned(),
        OtherName::Unknown => return None,
    };
    let unknown = match &seen.unknown_name {
        OtherName::Same => ", as for names that nobody has".to_owned(),
        OtherName::Another { title } => format!("; for an unknown name the one for `{}`", words::printable(title, 80)),
        OtherName::Refused => "; an unknown name is refused".to_owned(),
        OtherName::Unknown => String::new(),
    };
    Some(Finding::new(Severity::Good, Topic::OtherNames, without + &unknown))
}

#[cfg(test)]
mod tests {
    use super::super::Spoken;
    use super::*;
    use eskort_handshake::Group;

    fn spoken(version: Version, suites: &[u16]) -> Spoken {
        Spoken { version, suites: suites.iter().map(|code| Suite(*code)).collect(), server_chooses: true }
    }

    /// One without a fault.
    fn sound() -> Inspection {
        Inspection {
            versions: vec![spoken(Version::Tls12, &[0xc02b]), spoken(Version::Tls13, &[0x1301])],
            groups: vec![Group(0x11ec), Group(29)],
            curves: vec![Group(29)],
            renegotiates_safely: Some(true),
            has_extended_secret: Some(true),
            refuses_fallback: Some(false),
            without_name: OtherName::Same,
            unknown_name: OtherName::Refused,
            ..Inspection::default()
        }
    }

    #[test]
    fn each_fault_has_its_word_and_what_is_sound_has_none() {
        let all = judge_inspection(&sound());
        assert!(all.iter().all(|finding| finding.severity == Severity::Good), "{all:?}");
        type Change = fn(&mut Inspection);
        let table: [(Change, &[&str]); 17] = [
            (|i| i.versions.insert(0, spoken(Version::Ssl3, &[0x0035])), &["ssl3", "recordable", "takes-fallback"]),
            (
                |i| i.versions.insert(0, spoken(Version::Tls10, &[0xc009])),
                &["tls10", "older-ciphers", "takes-fallback"],
            ),
            (
                |i| i.versions.insert(0, spoken(Version::Tls11, &[0xc009])),
                &["tls11", "older-ciphers", "takes-fallback"],
            ),
            (|i| drop(i.versions.pop()), &["no-tls13"]),
            (|i| i.versions[0].suites.push(Suite(0x0005)), &["broken-ciphers"]),
            (|i| i.versions[0].suites.push(Suite(0xc012)), &["small-blocks"]),
            (
                |i| {
                    i.versions[0].suites.push(Suite(0x009c));
                    i.versions[0].server_chooses = false;
                },
                &["recordable", "visitor-chooses"],
            ),
            (|i| i.prime_bits = Some(768), &["tiny-prime"]),
            (|i| i.prime_bits = Some(1024), &["small-prime"]),
            (|i| i.prime_bits = Some(2048), &[]),
            (|i| i.curves.push(Group(19)), &["weak-curves"]),
            (|i| i.signs_with_sha1 = true, &["sha1-signature"]),
            (|i| i.groups.retain(|group| group.0 == 29), &["no-post-quantum"]),
            (|i| i.compresses = true, &["compression"]),
            (
                |i| {
                    i.is_opportunistic = true;
                    i.versions.insert(0, spoken(Version::Tls10, &[0x0034, 0xc009]));
                },
                &["old-for-mail", "older-ciphers", "takes-fallback"],
            ),
            (
                |i| {
                    i.versions.truncate(1);
                    i.unanswered = 1;
                },
                &["unanswered"],
            ),
            (
                |i| {
                    i.renegotiates_safely = Some(false);
                    i.has_extended_secret = Some(false);
                },
                &["unsafe-renegotiation", "no-extended-secret"],
            ),
        ];
        for (change, wanted) in table {
            let mut seen = sound();
            change(&mut seen);
            let found: Vec<&str> = judge_inspection(&seen)
                .into_iter()
                .filter(|finding| finding.severity > Severity::Good)
                .map(|finding| finding.code)
                .collect();
            assert_eq!(found, wanted);
        }
        assert_eq!(judge_inspection(&Inspection::default()), []);
    }
}
