//! Ways to prove control of a name.

use super::read::{Entry, duration, kind, program_rules};
use super::recipe;
use super::section::{Notes, Section};
use super::{CheckAddress, Identifier, ProgramRules};
use crate::journey::Way;
use crate::recipe::Recipe;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

pub(super) const HTTP_FOLDER: &[&str] = &["kind", "folder", "host", "check-address"];
pub(super) const HTTP_LISTENER: &[&str] = &["kind", "listen", "check-address"];
pub(super) const TLS_LISTENER: &[&str] = &["kind", "listen", "check-address"];
pub(super) const DNS_UPDATE: &[&str] = &[
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
    "settle",
    "challenge",
];
pub(super) const WEB_API: &[&str] = &[
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
    "settle",
    "challenge",
];
pub(super) const BY_HAND: &[&str] = &["kind", "server", "name-servers", "ttl", "challenge"];
pub(super) const PROGRAM: &[&str] =
    &["kind", "command", "host", "env", "user", "timeout", "server", "name-servers", "ttl", "settle", "challenge"];
pub(super) const STANDING: &[&str] = &["kind", "wildcard", "until", "server", "name-servers", "ttl"];

const KINDS: &[&str] =
    &["http-folder", "http-listener", "tls-listener", "dns-update", "web-api", "program", "by-hand", "standing-record"];

const USUAL_SPREAD: Duration = Duration::from_secs(2 * 60);
const USUAL_TTL: u32 = 60;

/// A way to prove control of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Proof {
    /// A file in the folder that the site is served from.
    HttpFolder {
        /// The site's document root, here or on the hosts.
        folder: PathBuf,
        /// The machines that the site is served from, all of them; empty for this one.
        hosts: Vec<String>,
        /// Where the self-check connects to.
        check_address: Option<CheckAddress>,
    },
    /// A listener of our own while the authority looks.
    HttpListener {
        /// The address to listen on; `None` for the usual port on all addresses of both families.
        listen: Option<SocketAddr>,
        /// Where the self-check connects to.
        check_address: Option<CheckAddress>,
    },
    /// A TLS listener of our own while the authority looks.
    TlsListener {
        /// The address to listen on; `None` for the usual port on all addresses of both families.
        listen: Option<SocketAddr>,
        /// Where the self-check connects to.
        check_address: Option<CheckAddress>,
    },
    /// A TXT record.
    Dns(DnsProof),
}

/// A TXT record: who places it, and how it is looked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DnsProof {
    /// Who places and removes it.
    pub writer: RecordWriter,
    /// How it is looked for.
    pub look: DnsLook,
}

impl DnsProof {
    /// Returns the proof where a person places the record and the inventory says nothing of it.
    pub fn by_hand() -> Self {
        let look = DnsLook {
            server: None,
            zone: None,
            name_servers: Vec::new(),
            ttl: USUAL_TTL,
            settle: USUAL_SPREAD,
            ways: vec![Way::Dns],
        };
        DnsProof { writer: RecordWriter::Person, look }
    }
}

/// Who places and removes records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RecordWriter {
    /// A dynamic update (RFC 2136) with this key.
    Update(TsigKey),
    /// An HTTP API.
    WebApi(WebApi),
    /// A program of the administrator's.
    Program {
        /// Its command line.
        command: Vec<String>,
        /// The machine it runs on; `None` for this one.
        host: Option<String>,
        /// How it is run on this machine.
        rules: ProgramRules,
    },
    /// A person, for each journey.
    Person,
    /// A person, once for all journeys.
    Standing {
        /// Whether the record is to count for names below as well.
        wildcard: bool,
        /// When it is to end.
        until: Option<Timestamp>,
    },
}

/// How a zone is found, and when a record counts as being everywhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DnsLook {
    /// The server that is asked for the zone and its name servers, and takes dynamic updates; `None` for the system's, and
    /// the primary that the zone names.
    pub server: Option<SocketAddr>,
    /// The zone; `None` to ask.
    pub zone: Option<String>,
    /// The servers that must have a record before the authority is asked; empty for the zone's own.
    pub name_servers: Vec<SocketAddr>,
    /// The records' time to live in seconds.
    pub ttl: u32,
    /// How long it may take until every name server has a record.
    pub settle: Duration,
    /// The challenges that it may answer, the preferred first.
    pub ways: Vec<Way>,
}

/// The key of dynamic updates (RFC 8945).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TsigKey {
    /// A file in BIND's syntax.
    File(PathBuf),
    /// Its parts.
    Named {
        /// Its name.
        name: String,
        /// Its algorithm's name.
        algorithm: String,
        /// Its secret in base64.
        secret: SecretSource,
    },
}

/// An HTTP API that places records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WebApi {
    /// How it is talked to.
    pub recipe: RecipeSource,
    /// The first part of its addresses.
    pub address: String,
    /// PEM file with roots that its certificate is checked against, beside the system's.
    pub roots: Option<PathBuf>,
    /// The secret that it wants.
    pub secret: Option<SecretSource>,
    /// Values for the recipe's own slots.
    pub with: BTreeMap<String, String>,
}

/// Where a recipe is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RecipeSource {
    /// Shipped with the program, by name.
    Shipped(String),
    /// In a file.
    File(PathBuf),
    /// In the inventory itself.
    Inline(Box<Recipe>),
}

/// Where a secret is read from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecretSource {
    /// A file; its last line end does not count.
    File(PathBuf),
    /// A variable of the environment.
    Env(String),
}

impl SecretSource {
    /// Reads `KEY-file` or `KEY-env`.
    pub(super) fn read(section: &Section<'_>, key: &str) -> Option<Self> {
        match (section.path(&format!("{key}-file")), section.text(&format!("{key}-env"))) {
            (Some(path), None) => Some(SecretSource::File(path)),
            (None, Some(name)) => Some(SecretSource::Env(name.value.to_owned())),
            (None, None) => None,
            (Some(path), Some(second)) => {
                let what = format!("`{key}-file` and `{key}-env` both say where the secret is");
                section.note(second.span, what, Some("keep one of the two".into()));
                Some(SecretSource::File(path))
            }
        }
    }

    pub(super) fn path_mut(&mut self) -> Option<&mut PathBuf> {
        match self {
            SecretSource::File(path) => Some(path),
            SecretSource::Env(_) => None,
        }
    }
}

impl Proof {
    /// Returns where the self-check connects to, when the inventory says so.
    pub fn check_address(&self) -> Option<CheckAddress> {
        match self {
            Proof::HttpFolder { check_address, .. }
            | Proof::HttpListener { check_address, .. }
            | Proof::TlsListener { check_address, .. } => *check_address,
            Proof::Dns(_) => None,
        }
    }

    /// Returns the ways of proving, the preferred first: they decide on the kind of challenge.
    pub fn ways(&self) -> &[Way] {
        match self {
            Proof::HttpFolder { .. } | Proof::HttpListener { .. } => &[Way::Http],
            Proof::TlsListener { .. } => &[Way::Tls],
            Proof::Dns(dns) => &dns.look.ways,
        }
    }

    /// Returns whether a person has to place something.
    pub fn awaits_person(&self) -> bool {
        matches!(self, Proof::Dns(DnsProof { writer: RecordWriter::Person | RecordWriter::Standing { .. }, .. }))
    }

    /// Returns the word for the kind of proof.
    pub fn kind(&self) -> &'static str {
        match self {
            Proof::HttpFolder { .. } => "http-folder",
            Proof::HttpListener { .. } => "http-listener",
            Proof::TlsListener { .. } => "tls-listener",
            Proof::Dns(dns) => match dns.writer {
                RecordWriter::Update(_) => "dns-update",
                RecordWriter::WebApi(_) => "web-api",
                RecordWriter::Program { .. } => "program",
                RecordWriter::Person => "by-hand",
                RecordWriter::Standing { .. } => "standing-record",
            },
        }
    }

    /// Returns the local paths in it.
    pub(super) fn paths_mut(&mut self) -> Vec<&mut PathBuf> {
        match self {
            Proof::HttpFolder { folder, hosts, .. } if hosts.is_empty() => vec![folder],
            Proof::HttpFolder { .. } | Proof::HttpListener { .. } | Proof::TlsListener { .. } => Vec::new(),
            Proof::Dns(dns) => match &mut dns.writer {
                RecordWriter::Update(TsigKey::File(path)) => vec![path],
                RecordWriter::Update(TsigKey::Named { secret, .. }) => secret.path_mut().into_iter().collect(),
                RecordWriter::WebApi(api) => {
                    let recipe = match &mut api.recipe {
                        RecipeSource::File(path) => Some(path),
                        RecipeSource::Shipped(_) | RecipeSource::Inline(_) => None,
                    };
                    let secret = api.secret.as_mut().and_then(SecretSource::path_mut);
                    recipe.into_iter().chain(secret).chain(&mut api.roots).collect()
                }
                RecordWriter::Program { .. } | RecordWriter::Person | RecordWriter::Standing { .. } => Vec::new(),
            },
        }
    }
}

pub(super) fn read_proof<'a>(entry: &'a Entry<'a>, hosts: &[&str], notes: &'a Notes<'a>) -> Option<Proof> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let kind = kind(entry, KINDS, notes)?;
    let (section, writer) = match kind {
        "http-folder" => return read_http_folder(&open(HTTP_FOLDER), hosts),
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
            (section, read_key(&section).map(RecordWriter::Update))
        }
        "web-api" => {
            let section = open(WEB_API);
            (section, read_web_api(&section).map(RecordWriter::WebApi))
        }
        "program" => {
            let section = open(PROGRAM);
            if section.get("command").is_none() {
                section.missing("command", "command = [\"/usr/local/bin/records\"]");
            }
            let host = section.text("host").map(|text| super::read::named_section(&section, &text, hosts, "host"));
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
    let look = read_look(&section, kind == "standing-record");
    Some(Proof::Dns(DnsProof { writer: writer?, look }))
}

fn read_http_folder(section: &Section<'_>, known: &[&str]) -> Option<Proof> {
    if section.get("folder").is_none() {
        section.missing("folder", "folder = \"/srv/www/site\", the folder that the site is served from");
    }
    let mut hosts = Vec::new();
    for text in section.one_or_more("host") {
        let found = super::read::named_section(section, &text, known, "host");
        hosts.extend(found.map(str::to_owned));
    }
    Some(Proof::HttpFolder { folder: section.path("folder")?, hosts, check_address: check_address(section) })
}

fn read_look(section: &Section<'_>, standing: bool) -> DnsLook {
    let wants = "one of \"dns-01\", \"dns-account-01\"";
    let chosen = section.parsed("challenge", wants, |text| match text {
        "dns-01" => Some(Way::Dns),
        "dns-account-01" => Some(Way::DnsAccount),
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
        settle: duration(section, "settle", USUAL_SPREAD),
        ways: match chosen {
            _ if standing => vec![Way::DnsPersist],
            Some(way) => vec![way],
            None => vec![Way::Dns, Way::DnsAccount],
        },
    }
}

fn read_key(section: &Section<'_>) -> Option<TsigKey> {
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
            let secret = SecretSource::read(section, "key-secret");
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

fn read_web_api(section: &Section<'_>) -> Option<WebApi> {
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
                let known: Vec<&str> = crate::recipe::SHIPPED.iter().map(|(name, _)| *name).collect();
                let found = known.iter().find(|k| **k == text.value);
                if found.is_none() {
                    let advice = super::section::nearest(text.value, &known).unwrap_or_else(|| {
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
    let wants = "an address that begins with https:// (http:// on this machine only)";
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
    let secret = SecretSource::read(section, "secret");
    Some(WebApi { recipe: recipe?, address: address?, roots, secret, with: section.words("with") })
}

fn check_address(section: &Section<'_>) -> Option<CheckAddress> {
    super::read::check_address(section)
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
