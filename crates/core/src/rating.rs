//! How good an endpoint is, as a number: a rubric that gives each finding its cost (docs/rating.md).

use crate::finding::{Finding, Severity};
use serde::Serialize;

/// The version of the rubric: the month in which a cost was changed last.
pub const RUBRIC_VERSION: &str = "2026-11";

/// What a finding costs.
#[derive(Clone, Copy, Debug)]
pub struct Rule {
    /// The finding's word.
    pub code: &'static str,
    /// So many points are taken away.
    pub cost: u32,
    /// No more points than this are left; 0 is fatal.
    pub cap: Option<u32>,
    /// Why.
    pub why: &'static str,
}

const fn costs(code: &'static str, cost: u32, why: &'static str) -> Rule {
    Rule { code, cost, cap: None, why }
}

const fn caps(code: &'static str, cost: u32, cap: u32, why: &'static str) -> Rule {
    Rule { code, cost, cap: Some(cap), why }
}

const fn fatal(code: &'static str, why: &'static str) -> Rule {
    Rule { code, cost: 100, cap: Some(0), why }
}

/// The rubric, the heaviest first.
pub const RUBRIC: &[Rule] = &[
    fatal("other-name", "visitors are warned: the certificate is for another name"),
    fatal("expired", "visitors are warned: it is too late"),
    fatal("not-yet-good", "visitors are warned: it is too early"),
    fatal("self-signed", "visitors are warned: nobody vouches for it"),
    fatal("unknown-root", "visitors are warned: they do not know who vouches for it"),
    fatal("no-intermediate", "many visitors are warned: they cannot see who vouches for it"),
    fatal("breaks-a-rule", "visitors are warned: the chain breaks a rule"),
    fatal("broken", "visitors are warned: the chain is broken"),
    fatal("intermediate-expired", "visitors are warned: it is too late for the chain"),
    fatal("too-weak", "visitors are warned: key or signature is too weak"),
    fatal("revoked", "visitors may be warned: it was revoked"),
    caps("ssl3", 40, 20, "what is sent can be read on the way"),
    caps("broken-ciphers", 40, 20, "what is sent can be read or changed on the way"),
    caps("tiny-prime", 40, 20, "what is sent can be read on the way"),
    caps("compression", 30, 30, "secrets can be guessed"),
    caps("zone-broken", 30, 39, "visitors whose resolver checks signatures do not find the site"),
    caps("not-stapled", 30, 39, "the certificate demands a stapled answer: some visitors are turned away"),
    caps("unsafe-renegotiation", 20, 69, "others can put words before a visitor's"),
    caps("not-named", 20, 69, "who goes by TLSA records is turned away"),
    caps("tls10", 10, 69, "forbidden since 2021"),
    caps("tls11", 10, 69, "forbidden since 2021"),
    caps("small-blocks", 10, 69, "long connections leak"),
    caps("small-prime", 10, 69, "within reach of those with much money"),
    caps("blocked-content", 10, 79, "browsers leave parts of the page out"),
    costs("not-logged", 10, "browsers turn away what a public authority issues unlogged"),
    costs("address-silent", 10, "some visitors wait before they get through"),
    caps("no-redirect", 10, 89, "who types the name stays on http"),
    costs("weak-curves", 10, "too small a curve can be agreed on"),
    costs("no-hsts", 8, "the first request of each visit can be led elsewhere"),
    costs("no-tls13", 8, "visitors are served slower and less safely than they could be"),
    costs("recordable", 8, "what is recorded today is read once the key is lost"),
    costs("staple-old", 5, "visitors are given an answer of yesterday"),
    costs("staple-unknown", 5, "visitors are given an answer that says nothing"),
    costs("staple-unreadable", 5, "visitors are given no answer"),
    costs("due", 5, "there is little time left when the renewal fails"),
    costs("log-proof-invalid", 5, "browsers do not count that promise of a log"),
    costs("form-over-http", 5, "what is filled in is sent in the clear"),
    costs("addresses-differ", 5, "visitors get one certificate or the other"),
    costs("insecure-cookie", 5, "the cookie is sent over http, too"),
    costs("upgradable-content", 5, "parts of the page depend on the browser's kindness"),
    costs("short-hsts", 4, "browsers forget soon that the site is https only"),
    costs("loses-path", 3, "who follows an old link arrives elsewhere"),
    costs("older-ciphers", 3, "ciphers that are easily put to use in a wrong way"),
    costs("sha1-signature", 3, "a digest that has been broken"),
    costs("takes-fallback", 3, "visitors can be led to an old version"),
    costs("old-for-mail", 3, "somebody between can lead mail to an old version"),
    costs("visitor-chooses", 2, "an old visitor picks a weak cipher"),
    costs("no-extended-secret", 2, "sessions can be mixed up by somebody between"),
    costs("temporary-redirect", 2, "browsers ask over http again each time"),
    costs("no-post-quantum", 2, "what is recorded today may be read some day"),
    costs("not-in-order", 2, "some old visitors do not find the chain"),
    costs("tlsa-unsigned", 1, "the records count for nobody"),
    costs("no-caa", 1, "any authority may issue for the domain"),
    costs("sent-twice", 1, "more is sent than is needed"),
    costs("root-sent", 1, "more is sent than is needed"),
    costs("not-needed", 1, "more is sent than is needed"),
];

/// The ranges, each from its least number of points on.
pub const RANGES: [(u32, &str); 4] = [(90, "strong"), (70, "sound"), (40, "weak"), (0, "unsafe")];

/// What one finding costs an endpoint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Deduction {
    /// The finding's word.
    pub code: &'static str,
    /// So many points are taken away.
    pub cost: u32,
    /// No more points than this are left.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cap: Option<u32>,
    /// Why.
    pub why: &'static str,
}

/// How good an endpoint is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Rating {
    /// From 0 to 100.
    pub points: u32,
    /// The word for its range.
    pub word: &'static str,
    /// The version of the rubric.
    pub rubric: &'static str,
    /// What costs how much, the heaviest first.
    pub deductions: Vec<Deduction>,
}

/// Rates an endpoint by what was found there. Each kind of finding counts once, however often it was found.
pub fn rate(findings: &[Finding]) -> Rating {
    let has =
        |rule: &&Rule| findings.iter().any(|finding| finding.severity > Severity::Good && finding.code == rule.code);
    let deductions: Vec<Deduction> = RUBRIC
        .iter()
        .filter(has)
        .map(|Rule { code, cost, cap, why }| Deduction { code, cost: *cost, cap: *cap, why })
        .collect();
    let cost: u32 = deductions.iter().map(|one| one.cost).sum();
    let cap = deductions.iter().filter_map(|one| one.cap).min().unwrap_or(100);
    let points = 100_u32.saturating_sub(cost).min(cap);
    Rating { points, word: word(points), rubric: RUBRIC_VERSION, deductions }
}

/// Returns the word for a number of points.
pub fn word(points: u32) -> &'static str {
    RANGES.iter().find(|(least, _)| points >= *least).map_or("", |(_, word)| word)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::finding::Topic;

    #[test]
    fn each_kind_of_finding_costs_once_and_caps_hold() {
        for (codes, points, word) in [
            (&[][..], 100, "strong"),
            (&["no-post-quantum"], 98, "strong"),
            (&["no-hsts", "no-hsts", "due"], 87, "sound"),
            (&["tls10"], 69, "weak"),
            (&["tls10", "tls11", "small-blocks"], 69, "weak"),
            (&["tls10", "tls11", "small-blocks", "no-hsts", "recordable"], 54, "weak"),
            (&["ssl3"], 20, "unsafe"),
            (&["ssl3", "broken-ciphers", "compression"], 0, "unsafe"),
            (&["expired"], 0, "unsafe"),
            (&["of no rule"], 100, "strong"),
        ] {
            let found: Vec<Finding> =
                codes.iter().map(|code| Finding::new(Severity::Notice, Topic::Protocol, "x").coded(code)).collect();
            let rating = rate(&found);
            assert_eq!((rating.points, rating.word), (points, word), "{codes:?}");
        }
        // What is as it should be costs nothing, whatever its word.
        assert_eq!(rate(&[Finding::new(Severity::Good, Topic::Protocol, "x").coded("expired")]).points, 100);
        let mut codes: Vec<&str> = RUBRIC.iter().map(|rule| rule.code).collect();
        codes.sort_unstable();
        codes.dedup();
        assert_eq!(codes.len(), RUBRIC.len());
    }
}
