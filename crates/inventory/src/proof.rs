//! Reads the sections of proofs.

use crate::api::{RECORDS, parse_web_api};
use crate::fields::{Entry, check_address, duration, kind, named_section, program_rules, secret};
use crate::table::{Notes, Section};
use eskort_core::challenge::ChallengeKind;
use eskort_core::inventory::{CheckAddress, DnsLook, DnsProof, Proof, RecordWriter, TsigKey, USUAL_SPREAD, USUAL_TTL};
use eskort_core::names::Identifier;
use std::net::SocketAddr;

pub(crate) const HTTP_FOLDER: &[&str] = &["kind", "folder", "host", "check-address"];
pub(crate) const HTTP_LISTENER: &[&str] = &["kind", "listen", "check-address"];
pub(crate) const TLS_LISTENER: &[&str] = &["kind", "listen", "check-address"];
pub(crate) const DNS_UPDATE: &[&str] = &[
    "kind",
    "server",
    "key-file",
    "key-name",
    "key-algorithm",
    "key-secret-file",
    "key-secret-env",
    "zone",
    "name-servers",
    "ttl",
    "propagation-timeout",
    "challenge",
];
pub(crate) const WEB_API: &[&str] = &[
    "kind",
    "recipe",
    "address",
    "roots",
    "secret-file",
    "secret-env",
    "with",
    "zone",
    "server",
    "name-servers",
    "ttl",
    "propagation-timeout",
    "challenge",
];
pub(crate) const BY_HAND: &[&str] = &["kind", "server", "name-servers", "ttl", "challenge"];
pub(crate) const PROGRAM: &[&str] = &[
    "kind",
    "command",
    "host",
    "env",
    "user",
    "timeout",
    "server",
    "name-servers",
    "ttl",
    "propagation-timeout",
    "challenge",
];
pub(crate) const STANDING: &[&str] = &["kind", "wildcard", "until", "server", "name-servers", "ttl"];

const KINDS: &[&str] =
    &["http-folder", "http-listener", "tls-listener", "dns-update", "web-api", "program", "by-hand", "standing-record"];

pub(crate) fn parse_proof<'a>(entry: &'a Entry<'a>, hosts: &[&str], notes: &'a Notes<'a>) -> Option<Proof> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let kind = kind(entry, KINDS, notes)?;
    let (section, writer) = match kind {
        "http-folder" => return parse_http_folder(&open(HTTP_FOLDER), hosts),
        "http-listener" => {
            let section = open(HTTP_LISTENER);
            let check_address = check_address(&section);
            return Some(Proof::HttpListener { listen: listen(&section)?, check_address });
        }
        "tls-listener" => {
            let section = open(TLS_LISTENER);
            let check_address = check_address(&section);
            return Some(Proof::TlsListener { listen: listen(&section)?, check_address });
        }
        "dns-update" => {
            let section = open(DNS_UPDATE);
            (section, parse_key(&section).map(RecordWriter::Update))
        }
        "web-api" => {
            let section = open(WEB_API);
            (section, parse_web_api(&section, &RECORDS).map(RecordWriter::WebApi))
        }
        "program" => {
            let section = open(PROGRAM);
            if section.get("command").is_none() {
                section.missing("command", "command = [\"/usr/local/bin/records\"]");
            }
            let host = section.text("host").map(|text| named_section(&section, &text, hosts, "host"));
            let host = host.flatten().map(str::to_owned);
            let rules = program_rules(&section);
            (section, section.command("command").map(|command| RecordWriter::Program { command, host, rules }))
        }
        "by-hand" => (open(BY_HAND), Some(RecordWriter::Person)),
        _ => {
            let section = open(STANDING);
            let wants = "a day like \"2027-03-31\"";
            let until = section.parsed("until", wants, |text| {
                let day: jiff::civil::Date = text.parse().ok()?;
                day.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|z| z.timestamp())
            });
            (section, Some(RecordWriter::Standing { wildcard: section.flag("wildcard"), until }))
        }
    };
    let look = parse_look(&section, kind == "standing-record");
    Some(Proof::Dns(DnsProof { writer: writer?, look }))
}

fn parse_http_folder(section: &Section<'_>, known: &[&str]) -> Option<Proof> {
    if section.get("folder").is_none() {
        section.missing("folder", "folder = \"/srv/www/site\", the folder that the site is served from");
    }
    let mut hosts = Vec::new();
    for text in section.one_or_more("host") {
        let found = named_section(section, &text, known, "host");
        hosts.extend(found.map(str::to_owned));
    }
    Some(Proof::HttpFolder { folder: section.path("folder")?, hosts, check_address: check_address(section) })
}

fn parse_look(section: &Section<'_>, standing: bool) -> DnsLook {
    let wants = "one of \"dns-01\", \"dns-account-01\"";
    let chosen = section.parsed("challenge", wants, |text| match text {
        "dns-01" => Some(ChallengeKind::Dns01),
        "dns-account-01" => Some(ChallengeKind::DnsAccount01),
        _ => None,
    });
    // A zone may have a single label, unlike a name on a certificate.
    let zone = section.parsed("zone", "the name of a zone", |text| {
        let below = Identifier::parse(&format!("x.{text}")).ok()?;
        below.domain()?.strip_prefix("x.").map(str::to_owned)
    });
    DnsLook {
        server: section.parsed("server", "an address like \"192.0.2.53\" or \"192.0.2.53:5353\"", dns_address),
        zone,
        name_servers: name_servers(section),
        ttl: section.number("ttl", 1..=86_400, if standing { 3_600 } else { USUAL_TTL }),
        propagation_timeout: duration(section, "propagation-timeout", USUAL_SPREAD),
        challenges: match chosen {
            _ if standing => vec![ChallengeKind::DnsPersist01],
            Some(way) => vec![way],
            None => vec![ChallengeKind::Dns01, ChallengeKind::DnsAccount01],
        },
    }
}

fn parse_key(section: &Section<'_>) -> Option<TsigKey> {
    let named = ["key-name", "key-algorithm", "key-secret-file", "key-secret-env"];
    let parts: Vec<&str> = named.into_iter().filter(|key| section.get(key).is_some()).collect();
    match (section.path("key-file"), parts.first()) {
        (Some(path), None) => Some(TsigKey::File(path)),
        (None, None) => {
            section.missing("key-file", "key-file = \"zone.key\"");
            None
        }
        (Some(_), Some(part)) => {
            let at = section.get(part).map_or(section.span(), toml::Spanned::span);
            section.note(
                at,
                format!("`key-file` has everything; `{part}` says it again"),
                Some("keep one of the two".into()),
            );
            None
        }
        (None, Some(_)) => {
            if section.get("key-name").is_none() {
                section.missing("key-name", "key-name = \"eskort\", as the server calls the key");
            }
            let secret = secret(section, "key-secret");
            if secret.is_none() {
                section.missing("key-secret-file", "key-secret-file = \"zone.secret\"");
            }
            let known = ["hmac-sha256", "hmac-sha384", "hmac-sha512"];
            let wants = "one of \"hmac-sha256\", \"hmac-sha384\", \"hmac-sha512\"";
            let algorithm = section.parsed("key-algorithm", wants, |text| known.into_iter().find(|k| *k == text));
            let name = section.text("key-name")?.value.to_owned();
            Some(TsigKey::Named { name, algorithm: algorithm.unwrap_or(known[0]).to_owned(), secret: secret? })
        }
    }
}

/// Returns what `listen` says, if it says anything; `None` for a mistake.
fn listen(section: &Section<'_>) -> Option<Option<SocketAddr>> {
    match section.get("listen") {
        None => Some(None),
        Some(_) => section.parsed("listen", "an address with a port like \"0.0.0.0:80\"", |t| t.parse().ok()).map(Some),
    }
}

fn dns_address(text: &str) -> Option<SocketAddr> {
    text.parse().ok().map(|a: CheckAddress| a.socket(53))
}

fn name_servers(section: &Section<'_>) -> Vec<SocketAddr> {
    let mut found = Vec::new();
    for text in section.texts("name-servers").unwrap_or_default() {
        match dns_address(text.value) {
            Some(address) => found.push(address),
            None => section.note(text.span, format!("`name-servers` wants addresses, this is `{}`", text.value), None),
        }
    }
    found
}
