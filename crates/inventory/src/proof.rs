//! Reads the sections of proofs.

use crate::fields::{Entry, check_address, duration, kind, named_section, program_rules, secret};
use crate::recipe;
use crate::table::{Notes, Section, nearest};
use eskort_core::challenge::ChallengeKind;
use eskort_core::inventory::{
    CheckAddress, DnsLook, DnsProof, Proof, RecipeSource, RecordWriter, TsigKey, USUAL_SPREAD, USUAL_TTL, WebApi,
};
use eskort_core::names::Identifier;
use eskort_core::recipe::SHIPPED;
use std::net::SocketAddr;
use std::path::PathBuf;

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
            (section, parse_web_api(&section).map(RecordWriter::WebApi))
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

fn parse_web_api(section: &Section<'_>) -> Option<WebApi> {
    let recipe = match section.get("recipe").map(|value| value.get_ref().as_table().is_some()) {
        None => {
            section.missing("recipe", "recipe = \"powerdns\", or a file \"recipe.toml\"");
            None
        }
        Some(true) => {
            let (table, span) = section.table("recipe")?;
            let below = section.below(table, span, "this recipe", recipe::RECIPE);
            recipe::from_section(&below).map(|r| RecipeSource::Inline(Box::new(r)))
        }
        Some(false) => match section.text("recipe")? {
            text if text.value.ends_with(".toml") => Some(RecipeSource::File(PathBuf::from(text.value))),
            text => {
                let known: Vec<&str> = SHIPPED.iter().map(|(name, _)| *name).collect();
                let found = known.iter().find(|k| **k == text.value);
                if found.is_none() {
                    let advice = nearest(text.value, &known).unwrap_or_else(|| {
                        let known = known.join(", ");
                        format!("shipped are: {known}; a recipe of your own is a file whose name ends with `.toml`")
                    });
                    section.note(text.span, format!("no recipe `{}` is shipped", text.value), Some(advice));
                }
                found.map(|name| RecipeSource::Shipped((*name).to_owned()))
            }
        },
    };
    if section.get("address").is_none() {
        section.missing("address", "address = \"https://panel.lampholm.example\"");
    }
    let wants = "a URL that begins with https:// (http:// on this machine only)";
    let address = section.parsed("address", wants, |text| {
        let url = url::Url::parse(text).ok()?;
        let here = match url.host()? {
            url::Host::Ipv4(ip) => ip.is_loopback(),
            url::Host::Ipv6(ip) => ip.is_loopback(),
            url::Host::Domain(name) => name == "localhost",
        };
        let safe = url.scheme() == "https" || (url.scheme() == "http" && here);
        (safe && url.query().is_none()).then(|| url.as_str().trim_end_matches('/').to_owned())
    });
    let roots = section.path("roots");
    let secret = secret(section, "secret");
    Some(WebApi { recipe: recipe?, address: address?, roots, secret, with: section.words("with") })
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
