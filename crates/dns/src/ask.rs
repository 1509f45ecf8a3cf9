//! One question to one name server.

use eskort_core::record;
use hickory_proto::op::{Message, OpCode, Query, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};

/// How long a server may take for one answer; asked three times over UDP.
const PATIENCE: Duration = Duration::from_secs(2);
const TRIES: u32 = 3;

/// Why a server gave no useful answer.
#[derive(Debug, thiserror::Error)]
pub enum AskError {
    /// No answer.
    #[error("no answer from name server {server}: {source}")]
    NoAnswer {
        /// The server.
        server: SocketAddr,
        /// Why.
        source: io::Error,
    },
    /// An answer that is none.
    #[error("name server {server} answers {what}")]
    BadAnswer {
        /// The server.
        server: SocketAddr,
        /// What it says.
        what: String,
    },
    /// A name that is none.
    #[error("`{0}` is no DNS name")]
    Name(String),
}

pub(crate) fn parse_name(text: &str) -> Result<Name, AskError> {
    Name::from_ascii(format!("{}.", text.trim_end_matches('.'))).map_err(|_| AskError::Name(text.to_owned()))
}

/// Returns the name servers that the text of a `resolv.conf` names; this machine when it names none.
pub fn system_servers(resolv_conf: &str) -> Vec<SocketAddr> {
    let address = |line: &str| line.trim().strip_prefix("nameserver")?.trim().split('%').next()?.parse::<IpAddr>().ok();
    let found: Vec<SocketAddr> =
        resolv_conf.lines().filter_map(address).map(|ip| SocketAddr::new(ip, 53)).take(3).collect();
    if found.is_empty() { vec![SocketAddr::from(([127, 0, 0, 1], 53))] } else { found }
}

/// Returns the first of several servers that answers anything at all; they are asked at once, and earlier ones are preferred.
pub async fn first_that_answers(servers: &[SocketAddr]) -> Option<SocketAddr> {
    let ask_one = |server: SocketAddr| async move {
        let mut message = Message::query();
        message.metadata.op_code = OpCode::Query;
        message.metadata.recursion_desired = true;
        message.add_query(Query::query(Name::root(), RecordType::NS));
        let bytes = message.to_vec().ok()?;
        tokio::time::timeout(PATIENCE, over_udp(server, &bytes)).await.ok()?.ok().map(|_| server)
    };
    let asked: Vec<_> = servers.iter().map(|server| tokio::spawn(ask_one(*server))).collect();
    for answer in asked {
        if let Ok(Some(server)) = answer.await {
            return Some(server);
        }
    }
    None
}

/// Asks one server; over TCP when the answer does not fit.
pub(crate) async fn ask(server: SocketAddr, name: &Name, kind: RecordType) -> Result<Message, AskError> {
    let mut message = Message::query();
    message.metadata.op_code = OpCode::Query;
    message.metadata.recursion_desired = true;
    message.add_query(Query::query(name.clone(), kind));
    let no_answer = |source| AskError::NoAnswer { server, source };
    let bytes = message.to_vec().map_err(|e| no_answer(io::Error::other(e.to_string())))?;
    let id = message.metadata.id;
    let mut result = Err(no_answer(io::ErrorKind::TimedOut.into()));
    for _ in 0..TRIES {
        result = match tokio::time::timeout(PATIENCE, over_udp(server, &bytes)).await {
            Ok(Ok(answer)) => Ok(answer),
            Ok(Err(source)) => Err(no_answer(source)),
            Err(_) => continue,
        };
        break;
    }
    let answer = read(server, id, &result?)?;
    if !answer.metadata.truncation {
        return Ok(answer);
    }
    let long = exchange_tcp(server, &bytes).await.map_err(no_answer)?;
    read(server, id, &long)
}

fn read(server: SocketAddr, id: u16, bytes: &[u8]) -> Result<Message, AskError> {
    match Message::from_vec(bytes) {
        Ok(message) if message.metadata.id == id => Ok(message),
        Ok(_) => Err(AskError::BadAnswer { server, what: "another question".into() }),
        Err(error) => Err(AskError::BadAnswer { server, what: error.to_string() }),
    }
}

async fn over_udp(server: SocketAddr, bytes: &[u8]) -> io::Result<Vec<u8>> {
    let any: IpAddr = if server.is_ipv4() { [0, 0, 0, 0].into() } else { [0_u16; 8].into() };
    let socket = UdpSocket::bind((any, 0)).await?;
    socket.connect(server).await?;
    socket.send(bytes).await?;
    let mut buffer = vec![0; 4096];
    let length = socket.recv(&mut buffer).await?;
    buffer.truncate(length);
    Ok(buffer)
}

/// Sends a message over TCP and reads one answer (RFC 1035 section 4.2.2).
pub(crate) async fn exchange_tcp(server: SocketAddr, bytes: &[u8]) -> io::Result<Vec<u8>> {
    let talk = async {
        let mut stream = TcpStream::connect(server).await?;
        let length = u16::try_from(bytes.len()).map_err(|_| io::Error::other("the message is too long"))?;
        stream.write_all(&[&length.to_be_bytes(), bytes].concat()).await?;
        let length = stream.read_u16().await?;
        let mut answer = vec![0; usize::from(length)];
        stream.read_exact(&mut answer).await?;
        Ok(answer)
    };
    tokio::time::timeout(PATIENCE * 5, talk).await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
}

/// What a server says about the records of one type at a name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// The texts, each joined from its parts, or the target; none when the name is not there.
    pub texts: Vec<String>,
    /// How long the server goes on saying that there is none, when it is one that remembers the answers of others (RFC 2308).
    pub remembers_none_for: Option<Duration>,
}

/// Asks a server for the records of one type at a name.
///
/// # Errors
/// When the server does not answer, or answers with an error.
pub async fn ask_records(server: SocketAddr, name: &str, kind: record::RecordType) -> Result<Found, AskError> {
    let name = parse_name(name)?;
    let asked = match kind {
        record::RecordType::Txt => RecordType::TXT,
        record::RecordType::Cname => RecordType::CNAME,
    };
    let answer = ask(server, &name, asked).await?;
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => {}
        code => return Err(AskError::BadAnswer { server, what: code.to_string() }),
    }
    let text = |data: &RData| match data {
        RData::TXT(txt) => Some(txt.txt_data.iter().map(|part| String::from_utf8_lossy(part)).collect::<String>()),
        RData::CNAME(cname) if asked == RecordType::CNAME => Some(plain(&cname.0)),
        _ => None,
    };
    let texts: Vec<String> = answer.answers.iter().filter_map(|record| text(&record.data)).collect();
    let soa = answer.authorities.iter().find(|record| record.record_type() == RecordType::SOA);
    let remembered = soa.filter(|_| texts.is_empty() && !answer.metadata.authoritative);
    let remembers_none_for = remembered.map(|soa| Duration::from_secs(soa.ttl.into()));
    Ok(Found { texts, remembers_none_for })
}

/// A zone, as its SOA record says (RFC 1035 section 3.3.13).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Zone {
    /// Its name, without the final dot.
    pub name: String,
    /// The host name of its primary name server.
    pub primary: String,
}

/// Where a name leads, and the zone that lies in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Located {
    /// The name at the end of any CNAME records; the name itself when there are none.
    pub name: String,
    /// Its zone.
    pub zone: Zone,
}

/// Finds where a name leads by CNAME records, and the zone of that, as a server sees it. Names that the server does not
/// answer for are asked of `otherwise`.
///
/// # Errors
/// When a server does not answer or shows no zone, or the CNAME records lead on for more than eight steps.
pub async fn locate(server: SocketAddr, otherwise: SocketAddr, name: &str) -> Result<Located, AskError> {
    let mut at = parse_name(name)?;
    let mut asked = server;
    for _ in 0..8 {
        let answer = ask(asked, &at, RecordType::SOA).await?;
        let begun_at = at.clone();
        // A server that knows the target too answers for the whole way at once.
        while let Some(next) = answer.answers.iter().find_map(|record| match &record.data {
            RData::CNAME(cname) if record.name == at => Some(cname.0.clone()),
            _ => None,
        }) {
            if next == begun_at {
                return Err(AskError::BadAnswer {
                    server: asked,
                    what: format!("CNAME records in a circle at {name}"),
                });
            }
            at = next;
        }
        let soa = answer.answers.iter().chain(&answer.authorities).find_map(|record| match &record.data {
            RData::SOA(soa) if record.name.zone_of(&at) => Some((&record.name, soa)),
            _ => None,
        });
        if let Some((zone, soa)) = soa {
            let zone = Zone { name: plain(zone), primary: plain(&soa.mname) };
            return Ok(Located { name: plain(&at), zone });
        }
        if at == begun_at {
            if asked == otherwise {
                let what = match answer.metadata.response_code {
                    ResponseCode::NoError | ResponseCode::NXDomain => format!("no zone that {at} lies in"),
                    code => format!("{code} when asked for the zone of {at}"),
                };
                return Err(AskError::BadAnswer { server: asked, what });
            }
            asked = otherwise;
        }
    }
    Err(AskError::BadAnswer { server: asked, what: format!("CNAME records from {name} that do not end") })
}

/// Finds the zone that a CNAME record goes into, wherever it or such records above it lead. Names that the server does not
/// answer for are asked of `otherwise`.
///
/// # Errors
/// When a server does not answer, or no zone is found up to the root.
pub async fn zone_of(server: SocketAddr, otherwise: SocketAddr, name: &str) -> Result<Zone, AskError> {
    let name = parse_name(name)?;
    for asked in if server == otherwise { vec![server] } else { vec![server, otherwise] } {
        // No zone begins at a CNAME record (RFC 1034 section 3.6.2), and where it leads need not be there.
        let mut at = name.base_name();
        while !at.is_root() {
            let answer = ask(asked, &at, RecordType::SOA).await?;
            // Behind a CNAME record stands the target's zone; one label up is the name's own, or the next CNAME record.
            let leads_away = answer.answers.iter().any(|record| matches!(record.data, RData::CNAME(_)));
            let soa = answer.answers.iter().chain(&answer.authorities).find_map(|record| match &record.data {
                RData::SOA(soa) if !leads_away && record.name.zone_of(&at) => Some((&record.name, soa)),
                _ => None,
            });
            if let Some((zone, soa)) = soa {
                return Ok(Zone { name: plain(zone), primary: plain(&soa.mname) });
            }
            at = at.base_name();
        }
    }
    Err(AskError::BadAnswer { server, what: format!("no zone that {name} lies in") })
}

fn plain(name: &Name) -> String {
    name.to_ascii().trim_end_matches('.').to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_the_systems_servers() {
        let text =
            "# by hand\nsearch lampholm.example\nnameserver 192.0.2.53\n nameserver fe80::53%eth0\nnameserver x\n";
        let found: Vec<String> = system_servers(text).iter().map(ToString::to_string).collect();
        assert_eq!(found, ["192.0.2.53:53", "[fe80::53]:53"]);
        assert_eq!(system_servers("").len(), 1);
    }
}
