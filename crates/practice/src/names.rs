//! A name server for the trust's zone: answers over UDP and TCP, and takes dynamic updates signed with its key (RFC 2136,
//! RFC 8945). A second one has its records a while later.

use async_recursion::async_recursion as boxed;
use base64::Engine;
use hickory_proto::op::{Message, OpCode, ResponseCode, UpdateMessage};
use hickory_proto::rr::rdata::tsig::TsigAlgorithm;
use hickory_proto::rr::rdata::{A, NS, SOA, TXT};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType, TSigResponseContext, TSigner};
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinHandle;

const ORIGIN: &str = "lampholm.example";
const KEY_NAME: &str = "keeper";
const TTL: u32 = 60;

/// What the server knows.
#[derive(Default)]
struct Zone {
    addresses: BTreeMap<String, Ipv4Addr>,
    /// The texts of a name, and since when they are there.
    texts: BTreeMap<String, BTreeMap<String, Instant>>,
}

impl Zone {
    /// Returns the texts of a name that are at least so old.
    fn texts(&self, name: &str, age: Duration) -> Vec<String> {
        let texts = self.texts.get(name).into_iter().flatten();
        texts.filter(|(_, since)| since.elapsed() >= age).map(|(text, _)| text.clone()).collect()
    }
}

struct Shared {
    zone: Mutex<Zone>,
    secret: Vec<u8>,
    /// How much later the second server has a record.
    lag: Mutex<Duration>,
}

/// A name server on loopback. It stops when it is dropped.
pub struct NameServer {
    address: SocketAddr,
    second: SocketAddr,
    shared: Arc<Shared>,
    tasks: [JoinHandle<()>; 3],
}

impl NameServer {
    /// Starts a server on a port that the system chooses, the same for UDP and TCP.
    ///
    /// # Errors
    /// When no port is to be had.
    ///
    /// # Panics
    /// When the system has no randomness.
    #[boxed]
    pub async fn start() -> std::io::Result<Self> {
        let (udp, tcp) = sockets().await?;
        let address = udp.local_addr()?;
        let mut secret = vec![0; 32];
        aws_lc_rs::rand::fill(&mut secret).expect("the system has randomness");
        let shared = Arc::new(Shared { zone: Mutex::default(), secret, lag: Mutex::default() });
        let second_udp = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let second = second_udp.local_addr()?;
        let tasks = [
            tokio::spawn(serve_udp(udp, Arc::clone(&shared), false)),
            tokio::spawn(serve_tcp(tcp, Arc::clone(&shared))),
            tokio::spawn(serve_udp(second_udp, Arc::clone(&shared), true)),
        ];
        Ok(NameServer { address, second, shared, tasks })
    }

    /// Returns where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Returns where the second server listens, over UDP only.
    pub fn second_address(&self) -> SocketAddr {
        self.second
    }

    /// Makes the second server have records so much later.
    ///
    /// # Panics
    /// As [`NameServer::set`].
    pub fn set_lag(&self, lag: Duration) {
        *self.shared.lag.lock().expect("no holder panics") = lag;
    }

    /// Returns the key that may update the zone, as a file in BIND's syntax.
    pub fn update_key(&self) -> String {
        let secret = base64::engine::general_purpose::STANDARD.encode(&self.shared.secret);
        format!("key \"{KEY_NAME}\" {{\n    algorithm hmac-sha256;\n    secret \"{secret}\";\n}};\n")
    }

    /// Makes a name lead to an address.
    ///
    /// # Panics
    /// Never in practice: only when another holder of the lock has panicked.
    pub fn set(&self, name: &str, address: Ipv4Addr) {
        self.shared.zone.lock().expect("no holder panics").addresses.insert(name.to_ascii_lowercase(), address);
    }

    /// Adds a TXT record, as a person would who edits the zone.
    ///
    /// # Panics
    /// As [`NameServer::set`].
    pub fn add_text(&self, name: &str, text: &str) {
        let mut zone = self.shared.zone.lock().expect("no holder panics");
        zone.texts.entry(name.to_ascii_lowercase()).or_default().entry(text.to_owned()).or_insert_with(Instant::now);
    }

    /// Removes one TXT record.
    pub(crate) fn remove_text(&self, name: &str, text: &str) {
        let mut zone = self.shared.zone.lock().expect("no holder panics");
        if let Some(texts) = zone.texts.get_mut(name) {
            texts.remove(text);
        }
    }

    /// Removes all TXT records of a name.
    ///
    /// # Panics
    /// As [`NameServer::set`].
    pub fn remove_texts(&self, name: &str) {
        self.shared.zone.lock().expect("no holder panics").texts.remove(&name.to_ascii_lowercase());
    }

    /// Returns the texts at a name.
    ///
    /// # Panics
    /// As [`NameServer::set`].
    pub fn texts(&self, name: &str) -> Vec<String> {
        self.shared.zone.lock().expect("no holder panics").texts(name, Duration::ZERO)
    }

    /// Returns the texts at a name that both servers have.
    pub(crate) fn texts_everywhere(&self, name: &str) -> Vec<String> {
        let lag = *self.shared.lag.lock().expect("no holder panics");
        self.shared.zone.lock().expect("no holder panics").texts(name, lag)
    }

    pub(crate) fn look_up(&self, name: &str) -> Option<Ipv4Addr> {
        self.shared.zone.lock().expect("no holder panics").addresses.get(name).copied()
    }
}

impl Drop for NameServer {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

/// Finds a port that is free for both.
async fn sockets() -> std::io::Result<(UdpSocket, TcpListener)> {
    let mut tries = 0;
    loop {
        let udp = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        match TcpListener::bind(udp.local_addr()?).await {
            Ok(tcp) => return Ok((udp, tcp)),
            Err(_) if tries < 20 => tries += 1,
            Err(error) => return Err(error),
        }
    }
}

async fn serve_udp(socket: UdpSocket, shared: Arc<Shared>, lags: bool) {
    let mut buffer = [0_u8; 1500];
    while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
        if let Some(answer) = shared.answer(&buffer[..length], lags) {
            let _ = socket.send_to(&answer, from).await;
        }
    }
}

async fn serve_tcp(listener: TcpListener, shared: Arc<Shared>) {
    while let Ok((stream, _)) = listener.accept().await {
        let shared = Arc::clone(&shared);
        tokio::spawn(async move {
            let _ = converse(stream, &shared).await;
        });
    }
}

async fn converse(mut stream: TcpStream, shared: &Shared) -> std::io::Result<()> {
    loop {
        let length = stream.read_u16().await?;
        let mut bytes = vec![0; usize::from(length)];
        stream.read_exact(&mut bytes).await?;
        let Some(answer) = shared.answer(&bytes, false) else { return Ok(()) };
        let length = u16::try_from(answer.len()).unwrap_or(0);
        stream.write_all(&[&length.to_be_bytes(), &answer[..]].concat()).await?;
    }
}

fn origin() -> Name {
    Name::from_ascii(format!("{ORIGIN}.")).expect("the origin is a name")
}

impl Shared {
    fn answer(&self, bytes: &[u8], lags: bool) -> Option<Vec<u8>> {
        let asked = Message::from_vec(bytes).ok()?;
        match asked.metadata.op_code {
            OpCode::Query => self.answer_query(&asked, lags),
            OpCode::Update if lags => None,
            OpCode::Update => self.answer_update(&asked, bytes),
            _ => None,
        }
    }

    fn answer_query(&self, asked: &Message, lags: bool) -> Option<Vec<u8>> {
        let age = if lags { *self.lag.lock().expect("no holder panics") } else { Duration::ZERO };
        let query = asked.queries.first()?.clone();
        let mut message = Message::response(asked.metadata.id, OpCode::Query);
        message.metadata.authoritative = true;
        message.metadata.recursion_desired = asked.metadata.recursion_desired;
        message.metadata.recursion_available = true;
        let name = query.name().to_ascii().trim_end_matches('.').to_ascii_lowercase();
        let at_origin = name == ORIGIN;
        let zone = self.zone.lock().expect("no holder panics");
        let known = at_origin || zone.addresses.contains_key(&name) || zone.texts.contains_key(&name);
        let found: Vec<RData> = match query.query_type() {
            RecordType::A => zone.addresses.get(&name).map(|ip| RData::A(A(*ip))).into_iter().collect(),
            RecordType::TXT => {
                zone.texts(&name, age).into_iter().map(|text| RData::TXT(TXT::new(vec![text]))).collect()
            }
            RecordType::NS if at_origin => vec![RData::NS(NS(Name::from_ascii("ns1.lampholm.example.").ok()?))],
            RecordType::SOA if at_origin => vec![soa()?],
            _ => Vec::new(),
        };
        if found.is_empty() {
            message.add_authority(Record::from_rdata(origin(), TTL, soa()?));
            if !known {
                message.metadata.response_code = ResponseCode::NXDomain;
            }
        }
        for data in found {
            message.add_answer(Record::from_rdata(query.name().clone(), TTL, data));
        }
        message.add_query(query);
        message.to_vec().ok()
    }

    fn answer_update(&self, asked: &Message, bytes: &[u8]) -> Option<Vec<u8>> {
        let id = asked.metadata.id;
        let mut message = Message::response(id, OpCode::Update);
        let key_name = Name::from_ascii(format!("{KEY_NAME}.")).ok()?;
        let signer = TSigner::new(self.secret.clone(), TsigAlgorithm::HmacSha256, key_name, 300).ok()?;
        let Some(signature) = asked.signature() else {
            message.metadata.response_code = ResponseCode::Refused;
            return message.to_vec().ok();
        };
        let time = signature.data.time;
        let context = if signature.name != *signer.signer_name() {
            message.metadata.response_code = ResponseCode::NotAuth;
            TSigResponseContext::unknown_key(id, time, signature.name.clone())
        } else if let Ok((mac, time, _)) = signer.verify_message_byte(bytes, None, true) {
            message.metadata.response_code = self.update(asked);
            TSigResponseContext::new(id, time, signer, mac, None)
        } else {
            message.metadata.response_code = ResponseCode::NotAuth;
            TSigResponseContext::bad_signature(id, time, signer)
        };
        let unsigned = message.to_vec().ok()?;
        message.set_signature(context.sign(&unsigned).ok()?);
        message.to_vec().ok()
    }

    /// Makes an update of TXT records; anything else is refused.
    fn update(&self, asked: &Message) -> ResponseCode {
        if asked.zones().first().is_none_or(|zone| *zone.name() != origin()) {
            return ResponseCode::NotZone;
        }
        let mut zone = self.zone.lock().expect("no holder panics");
        for record in asked.updates() {
            let RData::TXT(txt) = &record.data else { return ResponseCode::Refused };
            let name = record.name.to_ascii().trim_end_matches('.').to_ascii_lowercase();
            let text: String = txt.txt_data.iter().map(|part| String::from_utf8_lossy(part)).collect();
            let texts = zone.texts.entry(name.clone()).or_default();
            match record.dns_class {
                DNSClass::IN => drop(texts.entry(text).or_insert_with(Instant::now)),
                DNSClass::NONE => drop(texts.remove(&text)),
                _ => return ResponseCode::Refused,
            }
            if texts.is_empty() {
                zone.texts.remove(&name);
            }
        }
        ResponseCode::NoError
    }
}

fn soa() -> Option<RData> {
    let name = |text: &str| Name::from_ascii(text).ok();
    let (primary, keeper) = (name("ns1.lampholm.example.")?, name("keeper.lampholm.example.")?);
    Some(RData::SOA(SOA::new(primary, keeper, 1, 3_600, 600, 86_400, 60)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::record::{self, Record};
    use eskort_dns::{UpdateError, UpdateKey, add_records, ask_records, locate, propagation, remove_records};
    use eskort_pki::Secret;
    use jiff::Timestamp;

    fn record(name: &str, text: &str) -> Record {
        Record::txt(name, text)
    }

    #[tokio::test]
    async fn takes_updates_of_its_key_and_of_no_other() {
        let server = NameServer::start().await.unwrap();
        let (at, now) = (server.address(), Timestamp::now());
        let key = UpdateKey::parse(&Secret::new(server.update_key())).unwrap();
        let name = "_acme-challenge.archive.lampholm.example";
        let both = [record(name, "one"), record(name, "two")];
        add_records(at, "lampholm.example", &key, &both, 60, now).await.unwrap();
        add_records(at, "lampholm.example", &key, &both[..1], 60, now).await.unwrap();
        assert_eq!(ask_records(at, name, record::RecordType::Txt).await.unwrap().texts, ["one", "two"]);
        assert!(propagation(&[at.into()], &both, now).await.is_everywhere());
        remove_records(at, "lampholm.example", &key, &both[..1], now).await.unwrap();
        assert_eq!(ask_records(at, name, record::RecordType::Txt).await.unwrap().texts, ["two"]);
        let lacking = propagation(&[at.into()], &both, now).await.lacking;
        assert_eq!(lacking[0].what, format!("1 TXT records at {name}, and 1 missing"));
        let located = locate(at, at, name).await.unwrap();
        assert_eq!((located.name.as_str(), located.zone.name.as_str()), (name, "lampholm.example"));

        let other = server.update_key().replace(KEY_NAME, "stranger");
        let other = UpdateKey::parse(&Secret::new(other)).unwrap();
        let refused = add_records(at, "lampholm.example", &other, &both, 60, now).await.unwrap_err();
        assert!(matches!(refused, UpdateError::Key { word: "BADKEY", .. }), "{refused}");
        let elsewhere = NameServer::start().await.unwrap().update_key();
        let elsewhere = UpdateKey::parse(&Secret::new(elsewhere)).unwrap();
        let refused = add_records(at, "lampholm.example", &elsewhere, &both, 60, now).await.unwrap_err();
        assert!(matches!(refused, UpdateError::Key { word: "BADSIG", .. }), "{refused}");
        let refused =
            add_records(at, "other.example", &key, &[record("x.other.example", "t")], 60, now).await.unwrap_err();
        assert!(matches!(refused, UpdateError::Refused { .. }), "{refused}");
        assert_eq!(server.texts(name), ["two"]);
    }
}
