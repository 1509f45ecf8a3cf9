//! Ways to prove control of a name.

use super::{CheckAddress, ProgramRules};
use crate::challenge::ChallengeKind;
use crate::recipe::Recipe;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

/// How long it may take until every name server has a record, unless the inventory says otherwise.
pub const USUAL_SPREAD: Duration = Duration::from_secs(2 * 60);
/// The time to live of a record in seconds, unless the inventory says otherwise.
pub const USUAL_TTL: u32 = 60;

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
            propagation_timeout: USUAL_SPREAD,
            challenges: vec![ChallengeKind::Dns01],
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
    pub propagation_timeout: Duration,
    /// The challenges that it may answer, the preferred first.
    pub challenges: Vec<ChallengeKind>,
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

/// An HTTP API, and the recipe with which it is talked to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WebApi<R = Recipe> {
    /// How it is talked to.
    pub recipe: RecipeSource<R>,
    /// The first part of its addresses.
    pub address: String,
    /// PEM file with roots that its certificate is checked against, beside the system's.
    pub roots: Option<PathBuf>,
    /// The secret that it wants.
    pub secret: Option<SecretSource>,
    /// Values for the recipe's own slots.
    pub with: BTreeMap<String, String>,
}

impl<R> WebApi<R> {
    pub(super) fn paths_mut(&mut self) -> impl Iterator<Item = &mut PathBuf> {
        let recipe = match &mut self.recipe {
            RecipeSource::File(path) => Some(path),
            RecipeSource::Shipped(_) | RecipeSource::Inline(_) => None,
        };
        let secret = self.secret.as_mut().and_then(SecretSource::path_mut);
        recipe.into_iter().chain(secret).chain(&mut self.roots)
    }
}

/// Where a recipe is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RecipeSource<R = Recipe> {
    /// Shipped with the program, by name.
    Shipped(String),
    /// In a file.
    File(PathBuf),
    /// In the inventory itself.
    Inline(Box<R>),
}

/// Where a secret is read from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecretSource {
    /// A file; its last line end does not count.
    File(PathBuf),
    /// A variable of the environment.
    Env(String),
}

impl std::fmt::Display for SecretSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            SecretSource::File(path) => write!(f, "the file {}", path.display()),
            SecretSource::Env(name) => write!(f, "the variable {name}"),
        }
    }
}

impl SecretSource {
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

    /// Returns the challenges of proving, the preferred first: they decide on the kind of challenge.
    pub fn challenges(&self) -> &[ChallengeKind] {
        match self {
            Proof::HttpFolder { .. } | Proof::HttpListener { .. } => &[ChallengeKind::Http01],
            Proof::TlsListener { .. } => &[ChallengeKind::TlsAlpn01],
            Proof::Dns(dns) => &dns.look.challenges,
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
                RecordWriter::WebApi(api) => api.paths_mut().collect(),
                RecordWriter::Program { .. } | RecordWriter::Person | RecordWriter::Standing { .. } => Vec::new(),
            },
        }
    }
}
