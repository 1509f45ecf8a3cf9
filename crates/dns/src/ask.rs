//! One question to one name server.

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

/// Returns the texts of a name's TXT records at one server, each joined from its parts; none when the name is not there.
///
/// # Errors
/// When the server does not answer, or answers with an error.
pub async fn ask_texts(server: SocketAddr, name: &str) -> Result<Vec<String>, AskError> {
    let name = parse_name(name)?;
    let answer = ask(server, &name, RecordType::TXT).await?;
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => {}
        code => return Err(AskError::BadAnswer { server, what: code.to_string() }),
    }
    let text = |data: &RData| match data {
        RData::TXT(txt) => Some(txt.txt_data.iter().map(|part| String::from_utf8_lossy(part)).collect::<String>()),
        _ => None,
    };
    Ok(answer.answers.iter().filter_map(|record| text(&record.data)).collect())
}

/// Returns the zone that a name lies in, as one of its servers sees it: the owner of the SOA record in the answer.
///
/// # Errors
/// When the server does not answer, or shows no SOA record.
pub async fn find_zone(server: SocketAddr, name: &str) -> Result<String, AskError> {
    let answer = ask(server, &parse_name(name)?, RecordType::SOA).await?;
    let records = answer.answers.iter().chain(&answer.authorities);
    let soa = records.into_iter().find(|record| record.record_type() == RecordType::SOA);
    let what = || match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => format!("no zone that {name} lies in"),
        code => code.to_string(),
    };
    let soa = soa.ok_or_else(|| AskError::BadAnswer { server, what: what() })?;
    Ok(soa.name.to_ascii().trim_end_matches('.').to_owned())
}

/// Returns where a name leads by CNAME records: the name itself when it leads nowhere else.
///
/// # Errors
/// When the server does not answer, or the records lead on for more than eight steps.
pub async fn follow(server: SocketAddr, name: &str) -> Result<String, AskError> {
    let mut at = parse_name(name)?;
    for _ in 0..8 {
        let answer = ask(server, &at, RecordType::CNAME).await?;
        let target = answer.answers.iter().find_map(|record| match &record.data {
            RData::CNAME(cname) if record.name == at => Some(cname.0.clone()),
            _ => None,
        });
        match target {
            Some(next) => at = next,
            None => return Ok(at.to_ascii().trim_end_matches('.').to_ascii_lowercase()),
        }
    }
    Err(AskError::BadAnswer { server, what: format!("CNAME records from {name} that do not end") })
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
