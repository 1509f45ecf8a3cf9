//! Whether every name server of a zone has a record.

use crate::ask::{AskError, ask, ask_texts, parse_name};
use crate::update::TextRecord;
use hickory_proto::rr::{RData, RecordType};
use std::collections::BTreeSet;
use std::net::SocketAddr;

/// A name server that does not have all records yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Behind {
    /// The server.
    pub server: SocketAddr,
    /// What it lacks or says instead.
    pub what: String,
}

/// Returns every address of every name server of a zone, as one of them names them.
///
/// # Errors
/// When the server does not answer.
pub async fn find_name_servers(server: SocketAddr, zone: &str) -> Result<Vec<SocketAddr>, AskError> {
    let answer = ask(server, &parse_name(zone)?, RecordType::NS).await?;
    let mut found = BTreeSet::new();
    for record in answer.answers {
        let RData::NS(ns) = record.data else { continue };
        let host = ns.0.to_ascii();
        if let Ok(addresses) = tokio::net::lookup_host((host.trim_end_matches('.'), 53)).await {
            found.extend(addresses);
        }
    }
    Ok(found.into_iter().collect())
}

/// Asks every server for every record, and returns the servers that do not have them all.
pub async fn lagging(servers: &[SocketAddr], records: &[TextRecord]) -> Vec<Behind> {
    let looks: Vec<_> = servers.iter().map(|server| tokio::spawn(lacks(*server, records.to_vec()))).collect();
    let mut behind = Vec::new();
    for (look, server) in looks.into_iter().zip(servers) {
        let what = look.await.expect("a look does not panic");
        behind.extend(what.map(|what| Behind { server: *server, what }));
    }
    behind
}

async fn lacks(server: SocketAddr, records: Vec<TextRecord>) -> Option<String> {
    let names: BTreeSet<&String> = records.iter().map(|r| &r.name).collect();
    for name in names {
        let texts = match ask_texts(server, name).await {
            Ok(texts) => texts,
            Err(error) => return Some(error.to_string()),
        };
        let missing = records.iter().filter(|r| r.name == *name && !texts.contains(&r.text)).count();
        if missing > 0 {
            return Some(match texts.len() {
                0 => format!("no TXT record at {name}"),
                n => format!("{n} TXT records at {name}, and {missing} missing"),
            });
        }
    }
    None
}
