//! Finds out all that a TLS endpoint would agree to, with first messages of our own: each handshake ends when the server has said what it
//! chooses, before anything is encrypted. One goes on as far as the certificates, where a server speaks TLS 1.3 alone.

mod encrypted;
mod judge;

pub use judge::judge_inspection;

use crate::approach::StartTls;
use crate::observe::{Signatures, full_handshake};
use encrypted::{Opener, Part};
use eskort_core::boxed;
use eskort_core::pki::{Certificate, key_words};
use eskort_handshake::{
    ClientHello, EncryptedReader, Exchange, Flight, Group, KeyExchange, RecordHead, ServerHello, ServerReader, Shown,
    Suite, Version, take_record,
};
use serde::Serialize;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::net::SocketAddr;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use tokio::time::timeout;

/// So many handshakes with one endpoint are under way at once; fewer where words come before TLS: mail servers count connections.
const AT_ONCE: usize = 4;
const AT_ONCE_BEGUN: usize = 2;
/// How long a server may take to say what it chooses.
const LONGEST: Duration = Duration::from_secs(5);
/// No server chooses more often.
const MOST_CHOICES: usize = 120;
/// A name that nobody has (RFC 6761 section 6.4).
const NOBODY: &str = "nobody.eskort.invalid";
const PROTOCOLS: [&str; 2] = ["h2", "http/1.1"];

/// What an endpoint agrees to.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Inspection {
    /// Whether those who come send in the clear where they cannot agree on TLS (mail between servers, RFC 7435): there weak is better than none.
    pub is_opportunistic: bool,
    /// The versions, the oldest first, each with its cipher suites.
    pub versions: Vec<Spoken>,
    /// The groups of TLS 1.3, the most wanted first.
    pub groups: Vec<Group>,
    /// The curves of the versions before, the most wanted first.
    pub curves: Vec<Group>,
    /// The bits of the smallest prime for Diffie-Hellman.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub prime_bits: Option<usize>,
    /// Whether what is signed in a handshake of TLS 1.2 was ever signed with SHA-1.
    pub signs_with_sha1: bool,
    /// Whether it compresses.
    pub compresses: bool,
    /// Whether it renegotiates in a safe way; not known where only TLS 1.3 is spoken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub renegotiates_safely: Option<bool>,
    /// Whether secrets are bound to the whole handshake; not known where only TLS 1.3 is spoken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub has_extended_secret: Option<bool>,
    /// Whether sessions before TLS 1.3 can be resumed, by a ticket or a number.
    pub resumes: bool,
    /// Whether it refuses those who were made to fall back to an older version; not known where it speaks only one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refuses_fallback: Option<bool>,
    /// The application protocol that it chooses when offered HTTP/2 and HTTP/1.1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub protocol: Option<String>,
    /// The kinds of key that it has certificates for.
    pub keys: Vec<String>,
    /// The promises of logs that it sends in the handshake.
    #[serde(skip)]
    pub log_proofs: Vec<u8>,
    /// What it shows to who asks for no name.
    pub without_name: OtherName,
    /// What it shows to who asks for a name that nobody has.
    pub unknown_name: OtherName,
    /// How many handshakes all this took.
    pub handshakes: u32,
    /// How many of them had no answer, when tried again neither: what would have been found by them is not known.
    pub unanswered: u32,
}

/// A version that is spoken.
#[derive(Clone, Debug, Serialize)]
pub struct Spoken {
    /// Which.
    pub version: Version,
    /// Its cipher suites, in the order in which the server chooses them.
    pub suites: Vec<Suite>,
    /// Whether the server chooses; otherwise the visitor does.
    pub server_chooses: bool,
}

/// What is shown to who asks for another name, or for none.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum OtherName {
    /// The same certificate.
    Same,
    /// Another one.
    Another {
        /// Its first name, or its subject.
        title: String,
    },
    /// It refuses.
    Refused,
    /// That could not be found out.
    #[default]
    Unknown,
}

impl Inspection {
    /// Whether a version is spoken.
    pub fn speaks(&self, version: Version) -> bool {
        self.versions.iter().any(|spoken| spoken.version == version)
    }
}

/// An endpoint that is inspected.
struct Endpoint<'a> {
    name: &'a str,
    address: SocketAddr,
    begun: Option<StartTls>,
    permits: Semaphore,
    count: AtomicU32,
    unanswered: AtomicU32,
    /// Begins what is random; it need not be secret, since nothing is ever agreed on.
    random: RandomState,
}

/// What a visitor offers in one handshake.
struct Offer<'a> {
    version: Version,
    suites: &'a [Suite],
    groups: &'a [Group],
    name: Option<&'a str>,
    is_fallback: bool,
}

/// What was learned of the versions before TLS 1.3.
#[derive(Default)]
struct Before {
    spoken: Option<Spoken>,
    flights: Vec<Flight>,
}

/// Finds out what an endpoint agrees to; `leaf` is the certificate that it shows to who asks for `name`.
#[boxed]
pub async fn inspect(
    (name, port): (&str, u16),
    address: SocketAddr,
    begun: Option<StartTls>,
    leaf: Option<&Certificate>,
) -> Inspection {
    let permits = Semaphore::new(if begun.is_some() { AT_ONCE_BEGUN } else { AT_ONCE });
    let (count, unanswered, random) = (AtomicU32::new(0), AtomicU32::new(0), RandomState::new());
    let endpoint = Endpoint { name, address, begun, permits, count, unanswered, random };
    let (ssl3, tls10, tls11, tls12, newest, groups) = tokio::join!(
        endpoint.before(Version::Ssl3),
        endpoint.before(Version::Tls10),
        endpoint.before(Version::Tls11),
        endpoint.before(Version::Tls12),
        endpoint.newest(),
        endpoint.groups(),
    );
    // Those who hand in mail on another port log in, and insist on TLS.
    let is_opportunistic = begun == Some(StartTls::Smtp) && port == 25;
    let mut found = Inspection { is_opportunistic, groups, ..Inspection::default() };
    let mut keys = Vec::new();
    for Before { spoken, flights } in [ssl3, tls10, tls11, tls12] {
        for flight in &flights {
            let key = flight.certificates.first().and_then(|der| Certificate::from_der(der).ok());
            if let Some(kind) = key.map(|leaf| key_words(leaf.public_key())).filter(|kind| !keys.contains(kind)) {
                keys.push(kind);
            }
            if let Some(KeyExchange::Prime(bits)) = flight.key_exchange {
                found.prime_bits = Some(found.prime_bits.map_or(bits, |least| least.min(bits)));
            }
            found.signs_with_sha1 |= flight.signature.is_some_and(|algorithm| algorithm >> 8 == 2);
            let Some(hello) = &flight.hello else { continue };
            if flight.certificates.first().is_some_and(|der| leaf.is_some_and(|leaf| leaf.der() == der)) {
                hello.log_proofs().clone_into(&mut found.log_proofs);
            }
            found.compresses |= hello.compression != 0;
            found.resumes |= hello.has_session || hello.gives_tickets();
        }
        let hellos = || flights.iter().filter_map(|flight| flight.hello.as_ref());
        if let Some(spoken) = spoken {
            found.renegotiates_safely =
                Some(found.renegotiates_safely != Some(false) && hellos().all(ServerHello::renegotiates_safely));
            // SSL 3.0 knows no extensions.
            if spoken.version > Version::Ssl3 {
                found.has_extended_secret =
                    Some(found.has_extended_secret != Some(false) && hellos().all(ServerHello::has_extended_secret));
            }
            found.versions.push(spoken);
        }
    }
    found.keys = keys;
    found.versions.extend(newest);
    if found.versions.len() == 1 && found.speaks(Version::Tls13) {
        found.keys = endpoint.keys_of_tls13().await;
        let shown = endpoint.shown_encrypted(&found.groups).await.unwrap_or_default();
        if shown.certificates.first().is_some_and(|der| leaf.is_some_and(|leaf| leaf.der() == der)) {
            found.log_proofs = shown.log_proofs;
        }
    }
    let (curves, fallback, without, unknown, protocol) = tokio::join!(
        endpoint.curves(&found),
        endpoint.refuses_fallback(&found),
        endpoint.shown(&found, None, leaf),
        endpoint.shown(&found, Some(NOBODY), leaf),
        endpoint.protocol(),
    );
    (found.curves, found.refuses_fallback, found.protocol) = (curves, fallback, protocol);
    (found.without_name, found.unknown_name) = (without, unknown);
    found.handshakes = endpoint.count.load(Ordering::Relaxed);
    found.unanswered = endpoint.unanswered.load(Ordering::Relaxed);
    found
}

/// Returns the cipher suites of a version before TLS 1.3, those of today first: what the visitor wants counts where the server does not choose.
fn known_suites(version: Version) -> Vec<Suite> {
    static KNOWN: LazyLock<Vec<Suite>> = LazyLock::new(|| {
        let mut suites: Vec<Suite> = Suite::all().filter(|suite| !suite.is_tls13()).collect();
        suites.sort_by_cached_key(|suite| suite.grade());
        suites
    });
    static OLD: LazyLock<Vec<Suite>> =
        LazyLock::new(|| KNOWN.iter().copied().filter(|suite| suite.is_before_tls12()).collect());
    if version == Version::Tls12 { KNOWN.clone() } else { OLD.clone() }
}

fn curves() -> Vec<Group> {
    Group::curves().collect()
}

impl Endpoint<'_> {
    fn random(&self) -> [u8; 32] {
        let mut bytes = [0; 32];
        for (n, part) in bytes.chunks_mut(8).enumerate() {
            let mut hasher = self.random.build_hasher();
            hasher.write_u32(self.count.load(Ordering::Relaxed));
            hasher.write_usize(n);
            part.copy_from_slice(&hasher.finish().to_be_bytes());
        }
        bytes
    }

    /// Returns the name to ask for; addresses are none (RFC 6066 section 3).
    fn asked_name(&self) -> Option<&str> {
        Some(self.name).filter(|name| name.parse::<std::net::IpAddr>().is_err())
    }

    /// Makes one handshake, as far as the server says what it chooses; tries again when there is no answer in time. One that closes the
    /// connection refuses.
    async fn greet(&self, offer: &Offer<'_>) -> Flight {
        for _ in 0..2 {
            if let Some(flight) = self.greet_once(offer).await {
                return flight;
            }
        }
        self.unanswered.fetch_add(1, Ordering::Relaxed);
        Flight::default()
    }

    async fn greet_once(&self, offer: &Offer<'_>) -> Option<Flight> {
        let _permit = self.permits.acquire().await.expect("it is never closed");
        self.count.fetch_add(1, Ordering::Relaxed);
        let Offer { version, suites, groups, name, is_fallback } = *offer;
        let compression = version < Version::Tls13;
        let random = self.random();
        let hello = ClientHello { version, suites, groups, name, is_fallback, compression, random, key: None };
        let talk = async {
            let mut stream = self.connect().await?;
            stream.write_all(&hello.to_record()).await.ok()?;
            let (mut reader, mut buffer) = (ServerReader::default(), vec![0; 16 * 1024]);
            loop {
                let read = stream.read(&mut buffer).await.unwrap_or(0);
                match reader.take(&buffer[..read]) {
                    Ok(done) if done || read == 0 => return Some(reader.finish()),
                    Ok(_) => {}
                    Err(_) => return Some(Flight::default()),
                }
            }
        };
        timeout(LONGEST, talk).await.ok().flatten()
    }

    /// Finds out which cipher suites of a version before TLS 1.3 are agreed to.
    async fn before(&self, version: Version) -> Before {
        let (mut rest, curves) = (known_suites(version), curves());
        let mut found = Before::default();
        let mut suites: Vec<Suite> = Vec::new();
        while suites.len() < MOST_CHOICES {
            let offer = Offer { version, suites: &rest, groups: &curves, name: self.asked_name(), is_fallback: false };
            let flight = self.greet(&offer).await;
            let Some(hello) = flight.hello.as_ref().filter(|hello| hello.version == version) else { break };
            let Some(at) = rest.iter().position(|suite| *suite == hello.suite) else { break };
            suites.push(rest.remove(at));
            found.flights.push(flight);
        }
        if let [first, second, ..] = suites[..] {
            let turned = [second, first];
            let offer =
                Offer { version, suites: &turned, groups: &curves, name: self.asked_name(), is_fallback: false };
            let chosen = self.greet(&offer).await.hello.map(|hello| hello.suite);
            found.spoken = Some(Spoken { version, server_chooses: chosen == Some(first), suites });
        } else if !suites.is_empty() {
            found.spoken = Some(Spoken { version, server_chooses: true, suites });
        }
        found
    }

    /// Finds out which cipher suites of TLS 1.3 are agreed to.
    async fn newest(&self) -> Option<Spoken> {
        let version = Version::Tls13;
        let groups: Vec<Group> = Group::of_tls13().collect();
        let mut rest: Vec<Suite> = Suite::all().filter(|suite| suite.is_tls13()).collect();
        let mut suites: Vec<Suite> = Vec::new();
        let ask = async |suites: &[Suite]| {
            let offer = Offer { version, suites, groups: &groups, name: self.asked_name(), is_fallback: false };
            self.greet(&offer).await.hello.filter(|hello| hello.version == version).map(|hello| hello.suite)
        };
        while let Some(chosen) = ask(&rest).await {
            let Some(at) = rest.iter().position(|suite| *suite == chosen) else { break };
            suites.push(rest.remove(at));
        }
        let server_chooses = match suites[..] {
            [first, second, ..] => ask(&[second, first]).await == Some(first),
            [_] => true,
            [] => return None,
        };
        Some(Spoken { version, suites, server_chooses })
    }

    /// Finds out which groups of TLS 1.3 are agreed to: a visitor without a key is told which one the server would like.
    async fn groups(&self) -> Vec<Group> {
        let suites: Vec<Suite> = Suite::all().filter(|suite| suite.is_tls13()).collect();
        let mut rest: Vec<Group> = Group::of_tls13().collect();
        let mut found = Vec::new();
        while !rest.is_empty() {
            let offer = Offer {
                version: Version::Tls13,
                suites: &suites,
                groups: &rest,
                name: self.asked_name(),
                is_fallback: false,
            };
            let group = self.greet(&offer).await.hello.and_then(|hello| hello.group);
            let Some(at) = group.and_then(|group| rest.iter().position(|one| *one == group)) else { break };
            found.push(rest.remove(at));
        }
        found
    }

    /// Finds out which curves are agreed to before TLS 1.3.
    async fn curves(&self, found: &Inspection) -> Vec<Group> {
        let Some(spoken) = found.versions.iter().rev().find(|spoken| spoken.version < Version::Tls13) else {
            return Vec::new();
        };
        let suites: Vec<Suite> =
            spoken.suites.iter().copied().filter(|suite| suite.exchange() == Exchange::Ecdhe).collect();
        let mut rest = curves();
        let mut curves: Vec<Group> = Vec::new();
        let ask = async |groups: &[Group]| {
            let (version, suites) = (spoken.version, &suites[..]);
            let offer = Offer { version, suites, groups, name: self.asked_name(), is_fallback: false };
            match self.greet(&offer).await.key_exchange {
                Some(KeyExchange::Curve(group)) => Some(group),
                _ => None,
            }
        };
        while !suites.is_empty() && !rest.is_empty() {
            // A certificate with a key on a curve is for those only who know that curve: what was found is offered again, last of all.
            let again = [&rest[..], &curves].concat();
            let chosen = match ask(&again).await {
                Some(chosen) if curves.contains(&chosen) => ask(&rest).await,
                chosen => chosen,
            };
            let Some(at) = chosen.and_then(|chosen| rest.iter().position(|one| *one == chosen)) else { break };
            curves.push(rest.remove(at));
        }
        curves
    }

    /// Finds out whether a visitor is refused who says that a try with a higher version failed.
    async fn refuses_fallback(&self, found: &Inspection) -> Option<bool> {
        let [.., spoken, _] = &found.versions[..] else { return None };
        let curves = curves();
        let (version, suites) = (spoken.version, &spoken.suites);
        let offer = Offer { version, suites, groups: &curves, name: self.asked_name(), is_fallback: true };
        Some(self.greet(&offer).await.hello.is_none())
    }

    /// Finds out what is shown to who asks for another name, or for none.
    async fn shown(&self, found: &Inspection, name: Option<&str>, leaf: Option<&Certificate>) -> OtherName {
        let Some(leaf) = leaf else { return OtherName::Unknown };
        let shown = match found.speaks(Version::Tls12) {
            // Another certificate may have another kind of key.
            true => {
                let (version, suites, groups) = (Version::Tls12, known_suites(Version::Tls12), curves());
                let offer = Offer { version, suites: &suites, groups: &groups, name, is_fallback: false };
                self.greet(&offer).await.certificates.into_iter().next()
            }
            false => self.full(name, Signatures::All).await.map(|(leaf, _)| leaf),
        };
        match shown.map(|der| Certificate::from_der(&der)) {
            None => OtherName::Refused,
            // The same names with another kind of key are the same.
            Some(Ok(other)) if other.names == leaf.names => OtherName::Same,
            Some(Ok(other)) => OtherName::Another { title: other.subject_or_title() },
            Some(Err(_)) => OtherName::Unknown,
        }
    }

    /// Returns the kinds of key that a server of TLS 1.3 alone has certificates for: what it shows is encrypted, and takes a whole handshake
    /// for each kind of signature.
    async fn keys_of_tls13(&self) -> Vec<String> {
        let mut found = Vec::new();
        for signatures in [Signatures::Rsa, Signatures::Curves] {
            let leaf =
                self.full(self.asked_name(), signatures).await.and_then(|(der, _)| Certificate::from_der(&der).ok());
            found.extend(leaf.map(|leaf| key_words(leaf.public_key())).filter(|kind| !found.contains(kind)));
        }
        found
    }

    /// Returns what a server of TLS 1.3 shows with its certificates, as far as one can agree with it on a key.
    async fn shown_encrypted(&self, groups: &[Group]) -> Option<Shown> {
        let _permit = self.permits.acquire().await.expect("it is never closed");
        self.count.fetch_add(1, Ordering::Relaxed);
        let part = Part::make(groups)?;
        let hello = ClientHello {
            version: Version::Tls13,
            suites: &encrypted::suites(),
            groups: &[part.group],
            name: self.asked_name(),
            is_fallback: false,
            compression: false,
            random: self.random(),
            key: Some((part.group, &part.public)),
        }
        .to_record();
        let talk = async {
            let mut stream = self.connect().await?;
            stream.write_all(&hello).await.ok()?;
            let (mut reader, mut buffer) = (ServerReader::default(), vec![0; 16 * 1024]);
            loop {
                let read = stream.read(&mut buffer).await.ok().filter(|read| *read > 0)?;
                if reader.take(&buffer[..read]).ok()? {
                    break;
                }
            }
            let (flight, mut records) = reader.finish_with_rest();
            // The message stands behind the head of its record.
            let mut opener = Opener::new(part, &hello[size_of::<RecordHead>()..], &flight.hello?)?;
            let mut messages = EncryptedReader::default();
            loop {
                while let Some((head, content)) = take_record(&mut records).ok()? {
                    // What is there for old boxes on the way only (RFC 8446 appendix D.4).
                    if head[0] == 20 {
                        continue;
                    }
                    let (kind, content) = opener.open(head, content)?;
                    if kind != 22 {
                        return None;
                    }
                    if let Some(shown) = messages.take(&content).ok()? {
                        return Some(shown);
                    }
                }
                let read = stream.read(&mut buffer).await.ok().filter(|read| *read > 0)?;
                records.extend_from_slice(&buffer[..read]);
            }
        };
        timeout(LONGEST, talk).await.ok().flatten()
    }

    /// Connects, and says the words that come before TLS.
    async fn connect(&self) -> Option<TcpStream> {
        let mut stream = TcpStream::connect(self.address).await.ok()?;
        if let Some(kind) = self.begun {
            kind.begin(&mut stream, self.name).await.ok()?;
        }
        Some(stream)
    }

    /// Returns the application protocol that is chosen.
    async fn protocol(&self) -> Option<String> {
        if self.begun.is_some() {
            return None;
        }
        self.full(self.asked_name(), Signatures::All).await.and_then(|(_, protocol)| protocol)
    }

    /// Makes a whole handshake: returns the leaf, and the application protocol that was chosen.
    async fn full(&self, name: Option<&str>, signatures: Signatures) -> Option<(Vec<u8>, Option<String>)> {
        let _permit = self.permits.acquire().await.expect("it is never closed");
        self.count.fetch_add(1, Ordering::Relaxed);
        let talk = async {
            let stream = self.connect().await?;
            full_handshake(name, stream, &PROTOCOLS, signatures).await
        };
        timeout(LONGEST, talk).await.ok().flatten()
    }
}
