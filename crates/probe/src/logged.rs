//! Judges whether a certificate was logged for all to see (Certificate Transparency), as browsers want it of public authorities.

use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::pki::{Certificate, LogKeys, LogProof, ProofCheck};
use eskort_core::words;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;

/// Browsers want the promises of so many logs at least.
const LEAST: usize = 2;
/// So far clocks may be apart.
const SLACK: SignedDuration = SignedDuration::from_hours(1);

/// Returns what there is to say about the proofs of a certificate: those in it, in the answer stapled to it, and in the handshake. `keys` are
/// the logs that are known; without any their signatures are not checked. `is_public` says whether roots that are known everywhere vouch for it.
pub fn judge_logged(
    sent: &[Certificate],
    staple: &[u8],
    handshake: &[u8],
    keys: &LogKeys,
    is_public: bool,
    now: Timestamp,
) -> Vec<Finding> {
    let Some(leaf) = sent.first() else { return Vec::new() };
    let mut proofs = LogProof::in_certificate(leaf);
    proofs.extend(LogProof::in_staple(staple));
    proofs.extend(LogProof::in_handshake(handshake));
    let say = |severity, code, text: String, advice: &str| {
        Finding::new(severity, Topic::Transparency, text).coded(code).with_advice(advice)
    };
    let few =
        "browsers turn away what a public authority issues without two of them; one of an office's own needs none";
    if proofs.is_empty() {
        let text = "no log vouches that it has the certificate (SCT)".to_owned();
        return if is_public { vec![say(Severity::Notice, "not-logged", text, few)] } else { Vec::new() };
    }
    let mut found = Vec::new();
    let issuer = sent.iter().skip(1).find(|one| leaf.names_issuer(one) && leaf.is_signed_by(one));
    let (mut by, mut unknown, mut logs) = (BTreeSet::new(), 0_u64, BTreeSet::new());
    for proof in &proofs {
        let early = proof.at > now + SLACK;
        match issuer.filter(|_| keys.count() > 0).map(|issuer| proof.check(leaf, issuer, keys)) {
            Some(ProofCheck::Invalid(name)) => {
                let text =
                    format!("what should be the promise of log `{name}` is not by it, or is for another certificate");
                found.push(say(
                    Severity::Notice,
                    "log-proof-invalid",
                    text,
                    "ask the authority for the certificate again",
                ));
            }
            _ if early => {
                let text = format!("a log promises it for {}, which is still to come", words::instant(proof.at));
                found.push(say(Severity::Notice, "log-proof-invalid", text, "check this machine's clock"));
            }
            Some(ProofCheck::UnknownLog) => unknown += 1,
            Some(ProofCheck::By(name)) => {
                by.insert(format!("`{name}`"));
                logs.insert(proof.log);
            }
            None => drop(logs.insert(proof.log)),
        }
    }
    if unknown > 0 {
        let text = format!("{} by logs that are not in the list", words::count(unknown, "promise"));
        found.push(Finding::new(Severity::Good, Topic::Transparency, text));
    }
    let count = words::count(logs.len() as u64, "log");
    if logs.len() + usize::try_from(unknown).unwrap_or(0) < LEAST && is_public {
        found.push(say(
            Severity::Notice,
            "not-logged",
            format!("only {count} vouches that it has the certificate (SCT)"),
            few,
        ));
    } else if !logs.is_empty() {
        let vouch = if logs.len() == 1 { "vouches" } else { "vouch" };
        let who = match by.is_empty() {
            true => format!("{count} {vouch} that the certificate is public (SCT); their signatures were not checked"),
            false => format!(
                "{count} {vouch} that the certificate is public (SCT): {}",
                words::list(&by.into_iter().collect::<Vec<_>>())
            ),
        };
        found.push(Finding::new(Severity::Good, Topic::Transparency, who));
    }
    found
}
