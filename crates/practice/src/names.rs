//! A name server: answers for the practice world's names, over UDP.

use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::A;
use hickory_proto::rr::{RData, Record, RecordType};
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use tokio::net::UdpSocket;
use tokio::task::JoinHandle;

type Zone = Arc<Mutex<BTreeMap<String, Ipv4Addr>>>;

/// A name server on loopback. It stops when it is dropped.
pub struct NameServer {
    address: SocketAddr,
    zone: Zone,
    task: JoinHandle<()>,
}

impl NameServer {
    /// Starts a server on a port that the system chooses.
    ///
    /// # Errors
    /// When no port is to be had.
    pub async fn start() -> std::io::Result<Self> {
        let socket = UdpSocket::bind(("127.0.0.1", 0)).await?;
        let address = socket.local_addr()?;
        let zone = Zone::default();
        let task = tokio::spawn(serve(socket, Arc::clone(&zone)));
        Ok(NameServer { address, zone, task })
    }

    /// Returns where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Makes a name lead to an address.
    ///
    /// # Panics
    /// Never in practice: only when another holder of the lock has panicked.
    pub fn set(&self, name: &str, address: Ipv4Addr) {
        self.zone.lock().expect("no holder panics").insert(name.to_ascii_lowercase(), address);
    }

    /// Makes a name lead nowhere.
    ///
    /// # Panics
    /// As [`NameServer::set`].
    pub fn remove(&self, name: &str) {
        self.zone.lock().expect("no holder panics").remove(&name.to_ascii_lowercase());
    }

    pub(crate) fn look_up(&self, name: &str) -> Option<Ipv4Addr> {
        self.zone.lock().expect("no holder panics").get(name).copied()
    }
}

impl Drop for NameServer {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn serve(socket: UdpSocket, zone: Zone) {
    let mut buffer = [0_u8; 1500];
    while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
        if let Some(answer) = answer(&buffer[..length], &zone) {
            let _ = socket.send_to(&answer, from).await;
        }
    }
}

fn answer(bytes: &[u8], zone: &Zone) -> Option<Vec<u8>> {
    let question = Message::from_vec(bytes).ok()?;
    let query = question.queries.first()?.clone();
    let mut message = Message::response(question.metadata.id, OpCode::Query);
    message.metadata.authoritative = true;
    message.metadata.recursion_desired = question.metadata.recursion_desired;
    message.metadata.recursion_available = true;
    let name = query.name().to_ascii().trim_end_matches('.').to_ascii_lowercase();
    let found = zone.lock().expect("no holder panics").get(&name).copied();
    match found {
        Some(ip) if query.query_type() == RecordType::A => {
            message.add_answer(Record::from_rdata(query.name().clone(), 60, RData::A(A(ip))));
        }
        Some(_) => {}
        None => message.metadata.response_code = ResponseCode::NXDomain,
    }
    message.add_query(query);
    message.to_vec().ok()
}
