//! Reads the sections of authorities.

use crate::fields::{Entry, contact, days, duration, kind, renew_before, secret};
use crate::table::{Notes, Section};
use eskort_core::inventory::{
    AcmeAuthority, Authority, AuthorityKind, CsrAuthority, EstAuthority, ExternalAccount, Limit, Limits,
};
use jiff::SignedDuration;
use std::time::Duration;

pub(crate) const ACME: &[&str] = &[
    "kind",
    "directory",
    "rehearsal",
    "accept-terms",
    "contact",
    "api-roots",
    "visitor-roots",
    "top-issuer",
    "timeout",
    "renew-before",
    "external-key-id",
    "external-key-file",
    "most-names",
    "at-once",
    "limit-orders",
    "limit-per-domain",
    "limit-same-names",
    "limit-failures",
];
pub(crate) const CSR: &[&str] = &[
    "kind",
    "submit-to",
    "requests-folder",
    "answers-folder",
    "renew-before",
    "fetch-issuers",
    "visitor-roots",
    "most-names",
];
pub(crate) const EST: &[&str] = &[
    "kind",
    "address",
    "api-roots",
    "user",
    "password-file",
    "password-env",
    "client-certificate",
    "client-key",
    "fetch-issuers",
    "visitor-roots",
    "timeout",
    "renew-before",
    "most-names",
    "at-once",
];

/// RFC 7030 section 3.2.2.
const EST_PATH: &str = "/.well-known/est";
/// A person may be on holiday.
const USUAL_LEAD: SignedDuration = SignedDuration::from_hours(24 * 30);
/// Many clients at once look like an attack to an authority.
const USUAL_AT_ONCE: u32 = 8;
const MOST_AT_ONCE: u32 = 64;
const USUAL_TIMEOUT: Duration = Duration::from_secs(5 * 60);

pub(crate) fn parse_authority<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Authority> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let (section, kind) = match kind(entry, &["acme", "csr", "est"], notes)? {
        "acme" => {
            let section = open(ACME);
            let kind = parse_acme(&section).map(AuthorityKind::Acme);
            (section, kind)
        }
        "csr" => {
            let section = open(CSR);
            let kind = AuthorityKind::Csr(CsrAuthority {
                submit_to: section.text("submit-to").map(|t| t.value.to_owned()),
                requests_folder: section.path("requests-folder"),
                answers_folder: section.path("answers-folder"),
            });
            (section, Some(kind))
        }
        _ => {
            let section = open(EST);
            let kind = parse_est(&section).map(AuthorityKind::Est);
            (section, kind)
        }
    };
    let timeout = duration(&section, "timeout", USUAL_TIMEOUT);
    let most_names = section.get("most-names").map(|_| section.number("most-names", 1..=10_000, 1) as usize);
    // Over ACME the whole chain comes.
    let fetch_issuers = match section.get("fetch-issuers").map(|value| value.get_ref().as_array().is_some()) {
        Some(true) => section.texts("fetch-issuers").map(|hosts| hosts.iter().map(|h| h.value.to_owned()).collect()),
        Some(false) => section.flag("fetch-issuers").then(Vec::new),
        None => None,
    };
    // What a person carries has no limit.
    let at_once = match kind {
        Some(AuthorityKind::Csr(_)) => MOST_AT_ONCE as usize,
        _ => section.number("at-once", 1..=MOST_AT_ONCE, USUAL_AT_ONCE) as usize,
    };
    let limits = match &kind {
        Some(AuthorityKind::Acme(acme)) => limits(&section, acme),
        _ => Limits::default(),
    };
    let visitor_roots = section.path("visitor-roots");
    let person = matches!(kind, Some(AuthorityKind::Csr(_)));
    let renew_before = renew_before(&section).or(person.then_some(USUAL_LEAD));
    Some(Authority { kind: kind?, visitor_roots, timeout, renew_before, fetch_issuers, at_once, most_names, limits })
}

/// Reads how much is asked of an authority. One whose own TLS is checked against roots of one's own is one's own, too: it has no
/// limits unless some are named.
fn limits(section: &Section<'_>, acme: &AcmeAuthority) -> Limits {
    let usual = if acme.api_roots.is_some() { Limits::default() } else { Limits::CAREFUL };
    let read = |key: &'static str, usual| section.parsed(key, LIMIT, limit).unwrap_or(usual);
    Limits {
        orders: read("limit-orders", usual.orders),
        per_domain: read("limit-per-domain", usual.per_domain),
        same_names: read("limit-same-names", usual.same_names),
        failures: read("limit-failures", usual.failures),
    }
}

const LIMIT: &str = "a number and a time, like \"40 in 7d\" or \"5 in 1h\", or \"none\"";

fn limit(text: &str) -> Option<Option<Limit>> {
    if text == "none" {
        return Some(None);
    }
    let (most, within) = text.split_once(" in ")?;
    let most = most.trim().parse().ok().filter(|most| (1..=1_000_000).contains(most))?;
    Some(Some(Limit::new(most, days(within.trim())?)))
}

fn parse_acme(section: &Section<'_>) -> Option<AcmeAuthority> {
    if section.get("directory").is_none() {
        section.missing("directory", "directory = \"https://ca.example/directory\", with your authority's address");
    }
    let address = |key: &'static str| {
        section.parsed(key, "a URL that begins with https://", |text| {
            let url = url::Url::parse(text).ok()?;
            (url.scheme() == "https" && url.has_host()).then(|| url.to_string())
        })
    };
    let directory = address("directory");
    let external_account = match (section.text("external-key-id"), section.path("external-key-file")) {
        (Some(id), Some(key_file)) => Some(ExternalAccount { key_id: id.value.to_owned(), key_file }),
        (None, None) => None,
        (Some(_), None) => {
            section.missing("external-key-file", "external-key-file = \"authority.key\", a file with the key");
            None
        }
        (None, Some(_)) => {
            section.missing("external-key-id", "external-key-id = \"…\", as the authority gave it");
            None
        }
    };
    Some(AcmeAuthority {
        directory: directory?,
        rehearsal: address("rehearsal"),
        accept_terms: section.flag("accept-terms"),
        contact: contact(section),
        api_roots: section.path("api-roots"),
        top_issuer: section.text("top-issuer").map(|t| t.value.to_owned()),
        external_account,
    })
}

fn parse_est(section: &Section<'_>) -> Option<EstAuthority> {
    if section.get("address").is_none() {
        section.missing("address", "address = \"https://est.lampholm.internal\", with your authority's address");
    }
    let address = section.parsed("address", "a URL that begins with https://", |text| {
        let url = url::Url::parse(text).ok()?;
        let plain = url.scheme() == "https" && url.has_host() && url.query().is_none() && url.fragment().is_none();
        let text = url.as_str().trim_end_matches('/');
        // Servers for several authorities have a label behind the well-known path (RFC 7030 section 3.2.2).
        let whole = if text.contains(EST_PATH) { text.to_owned() } else { format!("{text}{EST_PATH}") };
        plain.then_some(whole)
    });
    let both = |first: &str, second: &str, given: (bool, bool)| match given {
        (true, false) => section.missing(second, &format!("{second} = \"…\", which goes with `{first}`")),
        (false, true) => section.missing(first, &format!("{first} = \"…\", which goes with `{second}`")),
        _ => {}
    };
    let (user, password) = (section.text("user").map(|t| t.value.to_owned()), secret(section, "password"));
    both("user", "password-file", (user.is_some(), password.is_some()));
    let (certificate, key) = (section.path("client-certificate"), section.path("client-key"));
    both("client-certificate", "client-key", (certificate.is_some(), key.is_some()));
    Some(EstAuthority {
        address: address?,
        api_roots: section.path("api-roots"),
        login: user.zip(password),
        client: certificate.zip(key),
    })
}
