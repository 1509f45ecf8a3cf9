//! One question to one name server, and which answers count as answers to it.

use eskort_core::boxed;
use hickory_proto::op::{Message, MessageType, OpCode, Query};
use hickory_proto::rr::{Name, RecordType};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::sync::Semaphore;
use tokio::time::{Instant, timeout_at};

/// How long a server may take for one answer.
const PATIENCE: Duration = Duration::from_secs(2);
/// The same over UDP, where questions and answers get lost: after each of these times the question is sent again. Between the groups others
/// have their turn.
const TRIES: [&[Duration]; 3] =
    [&[Duration::from_millis(400), Duration::from_secs(1)], &[PATIENCE], &[Duration::from_secs(3)]];
/// So many questions are on their way at the same time: each takes a descriptor, and a name server loses what comes too thick.
static QUESTIONS: Semaphore = Semaphore::const_new(700);
/// The time between two questions to one server, where many are to be sent.
const GAP: Duration = Duration::from_micros(75);
/// A question is lost when so many are answered that were sent after it.
const OVERTAKEN: u64 = 16;

/// What is known of each server that questions are sent to.
static PACES: Mutex<BTreeMap<SocketAddr, Pace>> = Mutex::new(BTreeMap::new());

/// How questions to a server go.
#[derive(Clone, Copy, Default)]
struct Pace {
    /// When the next may be sent.
    next: Option<Instant>,
    /// How many were sent.
    sent: u64,
    /// The number of the latest of those that were answered.
    answered: u64,
    /// How long that took.
    took: Option<Duration>,
}

impl Pace {
    /// Returns when the next question is to be sent.
    fn turn(&mut self, now: Instant) -> Instant {
        let at = self.next.map_or(now, |next| now.max(next));
        self.next = Some(at + GAP);
        at
    }

    /// Notes that a question is sent: returns its number, and after which time it may be lost.
    fn send(&mut self) -> (u64, Option<Duration>) {
        self.sent += 1;
        (self.sent, self.took.map(|took| took + took / 4 + Duration::from_millis(10)))
    }

    fn answer(&mut self, number: u64, took: Duration) {
        if number > self.answered {
            (self.answered, self.took) = (number, Some(took));
        }
    }

    fn has_overtaken(&self, number: u64) -> bool {
        self.answered >= number + OVERTAKEN
    }
}

/// Does something with what is known of a server.
fn with_pace<T>(server: SocketAddr, job: impl FnOnce(&mut Pace) -> T) -> T {
    job(PACES.lock().unwrap_or_else(PoisonError::into_inner).entry(server).or_default())
}

/// When a question is sent.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Turn {
    /// Behind those that came before it.
    Waits,
    /// At once.
    Ahead,
}

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
    #[error("`{0}` is not a DNS name")]
    Name(String),
}

pub(crate) fn parse_name(text: &str) -> Result<Name, AskError> {
    Name::from_ascii(format!("{}.", text.trim_end_matches('.'))).map_err(|_| AskError::Name(text.to_owned()))
}

pub(crate) fn question(name: &Name, kind: RecordType) -> Message {
    let mut message = Message::query();
    message.metadata.op_code = OpCode::Query;
    message.metadata.recursion_desired = true;
    message.add_query(Query::query(name.clone(), kind));
    message
}

/// Reads bytes as the answer to a question; `None` for what is none: another identifier, another question or none at all, the question
/// itself come back (RFC 5452 section 9.1). A server that cannot read the question need not repeat it (RFC 1035 section 4.1.1).
pub(crate) fn answer_to(asked: &Message, bytes: &[u8]) -> Option<Message> {
    let answer = Message::from_vec(bytes).ok()?;
    let (meta, same) = (&answer.metadata, answer.queries == asked.queries);
    let is_answer = meta.message_type == MessageType::Response && meta.op_code == asked.metadata.op_code;
    let refuses = answer.queries.is_empty() && meta.response_code != hickory_proto::op::ResponseCode::NoError;
    (is_answer && meta.id == asked.metadata.id && (same || refuses)).then_some(answer)
}

/// Asks one server; over TCP when the answer does not fit.
pub(crate) async fn ask(server: SocketAddr, name: &Name, kind: RecordType) -> Result<Message, AskError> {
    exchange(server, question(name, kind), Turn::Waits).await
}

/// As [`ask`], before all questions that wait for their turn: those for the name servers of a zone, which many others wait for.
pub(crate) async fn ask_ahead(server: SocketAddr, name: &Name, kind: RecordType) -> Result<Message, AskError> {
    exchange(server, question(name, kind), Turn::Ahead).await
}

/// As [`ask`]; a resolver is asked to say whether it has checked signatures (RFC 6840 section 5.7).
pub(crate) async fn ask_authenticated(server: SocketAddr, name: &Name, kind: RecordType) -> Result<Message, AskError> {
    let mut message = question(name, kind);
    message.metadata.authentic_data = true;
    exchange(server, message, Turn::Waits).await
}

/// As [`ask`]; a resolver is told not to check signatures (RFC 4035 section 3.2.2).
pub(crate) async fn ask_unchecked(server: SocketAddr, name: &Name, kind: RecordType) -> Result<Message, AskError> {
    let mut message = question(name, kind);
    message.metadata.checking_disabled = true;
    exchange(server, message, Turn::Waits).await
}

async fn exchange(server: SocketAddr, message: Message, turn: Turn) -> Result<Message, AskError> {
    let no_answer = |source| AskError::NoAnswer { server, source };
    let bytes = message.to_vec().map_err(|e| no_answer(io::Error::other(e.to_string())))?;
    let mut result = Err(io::ErrorKind::TimedOut.into());
    for times in TRIES {
        if turn == Turn::Waits {
            pace(server).await;
        }
        result = over_udp(server, &message, &bytes, times).await;
        if !matches!(&result, Err(error) if error.kind() == io::ErrorKind::TimedOut) {
            break;
        }
    }
    let answer = result.map_err(no_answer)?;
    if !answer.metadata.truncation {
        return Ok(answer);
    }
    let long = exchange_tcp(server, &bytes).await.map_err(no_answer)?;
    answer_to(&message, &long)
        .ok_or_else(|| AskError::BadAnswer { server, what: "something that does not answer the question".into() })
}

/// Waits for a moment in which few other questions are sent to a server: what comes all at once it loses.
async fn pace(server: SocketAddr) {
    let now = Instant::now();
    let at = with_pace(server, |pace| pace.turn(now));
    // The clock of timers goes by milliseconds.
    if at > now + Duration::from_millis(1) {
        tokio::time::sleep_until(at).await;
    }
}

/// Sends a question, again where it stays without an answer for such times, and takes the first packet that answers it; others are dropped.
async fn over_udp(server: SocketAddr, asked: &Message, bytes: &[u8], times: &[Duration]) -> io::Result<Message> {
    let _turn = QUESTIONS.acquire().await;
    let any: IpAddr = if server.is_ipv4() { [0, 0, 0, 0].into() } else { [0_u16; 8].into() };
    // A socket and with it a port for each question; connected, so that only this server's packets come in.
    let socket = UdpSocket::bind((any, 0)).await?;
    socket.connect(server).await?;
    let mut buffer = vec![0; 4096];
    for (n, longest) in times.iter().enumerate() {
        socket.send(bytes).await?;
        let begun = Instant::now();
        let (number, usual) = with_pace(server, Pace::send);
        // Where many that were sent later have been answered by then, it was lost.
        let mut early = usual.filter(|_| n == 0).map(|usual| begun + usual);
        let end = begun + *longest;
        loop {
            let until = early.map_or(end, |early| early.min(end));
            match timeout_at(until, socket.recv(&mut buffer)).await {
                Ok(received) => {
                    let Some(answer) = answer_to(asked, &buffer[..received?]) else { continue };
                    with_pace(server, |pace| pace.answer(number, begun.elapsed()));
                    return Ok(answer);
                }
                Err(_) if until == end => break,
                Err(_) if with_pace(server, |pace| pace.has_overtaken(number)) => {
                    socket.send(bytes).await?;
                    early = None;
                }
                Err(_) => early = usual.map(|usual| Instant::now() + usual / 2),
            }
        }
    }
    Err(io::ErrorKind::TimedOut.into())
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

/// Returns the name servers that the text of a `resolv.conf` names; this machine when it names none.
pub fn system_servers(resolv_conf: &str) -> Vec<SocketAddr> {
    let address = |line: &str| line.trim().strip_prefix("nameserver")?.trim().split('%').next()?.parse::<IpAddr>().ok();
    let found: Vec<SocketAddr> =
        resolv_conf.lines().filter_map(address).map(|ip| SocketAddr::new(ip, 53)).take(3).collect();
    if found.is_empty() { vec![SocketAddr::from(([127, 0, 0, 1], 53))] } else { found }
}

/// Returns the addresses of the names in the text of a `hosts` file.
pub fn names_of_hosts(hosts: &str) -> BTreeMap<String, BTreeSet<IpAddr>> {
    let mut found: BTreeMap<String, BTreeSet<IpAddr>> = BTreeMap::new();
    for line in hosts.lines() {
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let Some(Ok(ip)) = words.next().map(str::parse) else { continue };
        for name in words {
            found.entry(name.trim_end_matches('.').to_ascii_lowercase()).or_default().insert(ip);
        }
    }
    found
}

/// Returns the first of several servers that answers anything at all; they are asked at once, and earlier ones are preferred.
#[boxed]
pub async fn first_that_answers(servers: &[SocketAddr]) -> Option<SocketAddr> {
    let ask_one = |server: SocketAddr| async move {
        let message = question(&Name::root(), RecordType::NS);
        let bytes = message.to_vec().ok()?;
        over_udp(server, &message, &bytes, &[PATIENCE]).await.ok().map(|_| server)
    };
    let asked: Vec<_> = servers.iter().map(|server| tokio::spawn(ask_one(*server))).collect();
    for answer in asked {
        if let Ok(Some(server)) = answer.await {
            return Some(server);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_proto::op::ResponseCode;

    #[test]
    fn reads_the_systems_servers() {
        let text =
            "# by hand\nsearch lampholm.example\nnameserver 192.0.2.53\n nameserver fe80::53%eth0\nnameserver x\n";
        let found: Vec<String> = system_servers(text).iter().map(ToString::to_string).collect();
        assert_eq!(found, ["192.0.2.53:53", "[fe80::53]:53"]);
        assert_eq!(system_servers("").len(), 1);
    }

    #[test]
    fn reads_the_hosts_file() {
        let found =
            names_of_hosts("127.0.0.1 localhost # x\n127.0.1.1\tLamp.example. lamp\n::1 localhost\nx y\n#192.0.2.1 z");
        let names: Vec<(&str, usize)> = found.iter().map(|(name, ips)| (&**name, ips.len())).collect();
        assert_eq!(names, [("lamp", 1), ("lamp.example", 1), ("localhost", 2)]);
    }

    #[test]
    fn only_an_answer_to_this_question_counts() {
        let asked = question(&parse_name("Lampholm.example").unwrap(), RecordType::TXT);
        type Change = fn(&mut Message);
        let cases: [(&str, Change, bool); 8] = [
            ("an answer", |_| {}, true),
            (
                "another spelling",
                |m| m.queries = question(&parse_name("lampholm.EXAMPLE").unwrap(), RecordType::TXT).queries,
                true,
            ),
            ("another identifier", |m| m.metadata.id ^= 1, false),
            (
                "another name",
                |m| m.queries = question(&parse_name("harbour.example").unwrap(), RecordType::TXT).queries,
                false,
            ),
            (
                "another type",
                |m| m.queries = question(&parse_name("lampholm.example").unwrap(), RecordType::A).queries,
                false,
            ),
            ("no question", |m| m.queries.clear(), false),
            ("the question itself", |m| m.metadata.message_type = MessageType::Query, false),
            (
                "refused without a question",
                |m| {
                    m.queries.clear();
                    m.metadata.response_code = ResponseCode::FormErr;
                },
                true,
            ),
        ];
        for (what, change, counts) in cases {
            let mut answer = asked.clone();
            answer.metadata.message_type = MessageType::Response;
            change(&mut answer);
            assert_eq!(answer_to(&asked, &answer.to_vec().unwrap()).is_some(), counts, "{what}");
        }
        assert!(answer_to(&asked, b"noise").is_none());
    }

    #[test]
    fn what_many_later_ones_have_overtaken_is_lost() {
        let mut pace = Pace::default();
        let (first, unknown) = pace.send();
        assert_eq!((first, unknown), (1, None), "nothing is known of a server that has not answered");
        let later: Vec<u64> = (0..40).map(|_| pace.send().0).collect();
        for (number, overtaken) in [(later[0], false), (later[14], false), (later[15], true), (later[2], true)] {
            pace.answer(number, Duration::from_millis(40));
            assert_eq!(pace.has_overtaken(first), overtaken, "{number} was answered");
            assert!(!pace.has_overtaken(later[20]));
        }
        assert_eq!(pace.send().1, Some(Duration::from_millis(60)));
        // Several at once have their turns one after the other; who comes later does not wait.
        let now = Instant::now();
        let turns = [now, now, now + GAP * 5].map(|now| pace.turn(now));
        assert_eq!(turns, [now, now + GAP, now + GAP * 5]);
    }

    #[tokio::test]
    async fn a_question_that_was_overtaken_is_sent_again() {
        let server = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = server.local_addr().unwrap();
        let lost = parse_name("lost.lampholm.example").unwrap();
        let (come, mut comes) = tokio::sync::mpsc::unbounded_channel();
        let missed = lost.clone();
        let answering = tokio::spawn(async move {
            let (mut buffer, mut times) = ([0; 512], 0);
            loop {
                let (length, from) = server.recv_from(&mut buffer).await.unwrap();
                let mut answer = Message::from_vec(&buffer[..length]).unwrap();
                if answer.queries[0].name() == &missed {
                    times += 1;
                    come.send(times).unwrap();
                    if times == 1 {
                        continue;
                    }
                }
                answer.metadata.message_type = MessageType::Response;
                server.send_to(&answer.to_vec().unwrap(), from).await.unwrap();
            }
        });
        // The only time after which it is sent again in any case is longer than any machine stands still.
        let ask_once = async |name: &Name| {
            let asked = question(name, RecordType::A);
            over_udp(address, &asked, &asked.to_vec().unwrap(), &[Duration::from_mins(1)]).await.unwrap();
        };
        let other = parse_name("lampholm.example").unwrap();
        ask_once(&other).await;
        let others = async {
            assert_eq!(comes.recv().await, Some(1));
            futures_util::future::join_all((0..60).map(|_| ask_once(&other))).await
        };
        tokio::join!(ask_once(&lost), others);
        assert_eq!((comes.recv().await, comes.is_empty()), (Some(2), true), "once for itself and once again");
        let sent = with_pace(address, |pace| (pace.sent, pace.has_overtaken(2)));
        assert_eq!(sent, (62, true), "it was lost, not slow");
        answering.abort();
    }

    #[tokio::test]
    async fn neither_a_lost_packet_nor_a_stray_one_ends_the_question() {
        let server = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = server.local_addr().unwrap();
        tokio::spawn(async move {
            let mut buffer = [0; 512];
            let (lost, asker) = server.recv_from(&mut buffer).await.unwrap();
            let first = buffer[..lost].to_vec();
            let (length, from) = server.recv_from(&mut buffer).await.unwrap();
            assert_eq!((&buffer[..length], from), (&first[..], asker), "the same question from the same port");
            let mut answer = Message::from_vec(&buffer[..length]).unwrap();
            server.send_to(&buffer[..length], from).await.unwrap();
            server.send_to(b"noise", from).await.unwrap();
            answer.metadata.message_type = MessageType::Response;
            answer.metadata.id ^= 7;
            server.send_to(&answer.to_vec().unwrap(), from).await.unwrap();
            answer.metadata.id ^= 7;
            server.send_to(&answer.to_vec().unwrap(), from).await.unwrap();
        });
        assert!(ask(address, &parse_name("lampholm.example").unwrap(), RecordType::A).await.is_ok());
    }
}
