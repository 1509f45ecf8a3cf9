//! Dynamic updates (RFC 2136) over TCP, signed with TSIG.

use crate::UpdateKey;
use crate::exchange::{AskError, exchange_tcp, parse_name};
use eskort_core::boxed;
use eskort_core::record::{self, Record};
use hickory_proto::op::{Message, OpCode, Query, ResponseCode, UpdateMessage};
use hickory_proto::rr::rdata::{CNAME, TLSA, TXT};
use hickory_proto::rr::{self, DNSClass, RData, RecordType};
use std::net::SocketAddr;

/// Records in one message: well below 64 KiB.
const A_MESSAGE: usize = 200;

/// Why an update was not made.
#[derive(Debug, thiserror::Error)]
pub enum UpdateError {
    /// The server could not be asked.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The server does not know the key.
    #[error("name server {server} does not know the key, or it has another secret there ({word})")]
    Key {
        /// The server.
        server: SocketAddr,
        /// The code of RFC 8945: BADKEY or BADSIG.
        word: &'static str,
    },
    /// The clocks are too far apart.
    #[error("name server {server} says that this machine's clock is wrong (BADTIME)")]
    Time {
        /// The server.
        server: SocketAddr,
    },
    /// The server refused the update.
    #[error("name server {server} does not let the key update the zone {zone} ({code})")]
    Refused {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: String,
        /// The response code in words.
        code: String,
    },
    /// The answer is not signed as it should be.
    #[error("the answer of name server {server} is not signed with the key")]
    Unsigned {
        /// The server.
        server: SocketAddr,
    },
}

/// Adds records to a zone; other records of the same names stay. Adding a record that is there changes nothing.
///
/// # Errors
/// When the server refuses or does not answer.
#[boxed]
pub async fn add_records(
    server: SocketAddr,
    zone: &str,
    key: &UpdateKey,
    records: &[Record],
    ttl: u32,
    now: jiff::Timestamp,
) -> Result<(), UpdateError> {
    send(server, zone, key, records, DNSClass::IN, ttl, now).await
}

/// Removes just these records from a zone. Removing a record that is not there changes nothing.
///
/// # Errors
/// When the server refuses or does not answer.
#[boxed]
pub async fn remove_records(
    server: SocketAddr,
    zone: &str,
    key: &UpdateKey,
    records: &[Record],
    now: jiff::Timestamp,
) -> Result<(), UpdateError> {
    // RFC 2136 section 2.5.4: class NONE and TTL 0 delete one record of a set.
    send(server, zone, key, records, DNSClass::NONE, 0, now).await
}

async fn send(
    server: SocketAddr,
    zone: &str,
    key: &UpdateKey,
    records: &[Record],
    class: DNSClass,
    ttl: u32,
    now: jiff::Timestamp,
) -> Result<(), UpdateError> {
    for group in records.chunks(A_MESSAGE) {
        let message = message(zone, group, class, ttl)?;
        send_signed(server, zone, key, message, now).await?;
    }
    Ok(())
}

fn message(zone: &str, records: &[Record], class: DNSClass, ttl: u32) -> Result<Message, AskError> {
    let mut head = Query::new();
    head.set_name(parse_name(zone)?).set_query_class(DNSClass::IN).set_query_type(RecordType::SOA);
    let mut message = Message::query();
    message.metadata.op_code = OpCode::Update;
    message.metadata.recursion_desired = false;
    message.add_zone(head);
    for record in records {
        let data = match record.kind {
            record::RecordType::Txt => RData::TXT(TXT::new(record.strings())),
            record::RecordType::Cname => RData::CNAME(CNAME(parse_name(&record.text)?)),
            record::RecordType::Tlsa => RData::TLSA(tlsa(&record.text).ok_or_else(|| AskError::BadAnswer {
                server: SocketAddr::from(([0, 0, 0, 0], 0)),
                what: format!("nothing: `{}` is no TLSA record", record.text),
            })?),
        };
        let mut record = rr::Record::from_rdata(parse_name(&record.name)?, ttl, data);
        record.dns_class = class;
        message.add_update(record);
    }
    Ok(message)
}

/// Reads the data of a TLSA record (RFC 6698 section 2.2).
fn tlsa(text: &str) -> Option<TLSA> {
    let mut parts = text.split(' ');
    let mut number = || parts.next()?.parse::<u8>().ok();
    let (usage, selector, matching) = (number()?, number()?, number()?);
    let hex = parts.next()?;
    let bytes = (0..hex.len() / 2).map(|n| u8::from_str_radix(hex.get(2 * n..2 * n + 2)?, 16).ok());
    Some(TLSA::new(usage.into(), selector.into(), matching.into(), bytes.collect::<Option<Vec<u8>>>()?))
}

async fn send_signed(
    server: SocketAddr,
    zone: &str,
    key: &UpdateKey,
    mut message: Message,
    now: jiff::Timestamp,
) -> Result<(), UpdateError> {
    let seconds = u64::try_from(now.as_second()).unwrap_or(0);
    let broken = |what: &str| AskError::BadAnswer { server, what: what.to_owned() };
    let signer = key.signer().ok_or_else(|| broken("nothing: the key cannot sign"))?;
    let verifier = message.finalize(&signer, seconds).map_err(|e| broken(&e.to_string()))?;
    let bytes = message.to_vec().map_err(|e| broken(&e.to_string()))?;
    let answer = exchange_tcp(server, &bytes).await.map_err(|source| AskError::NoAnswer { server, source })?;
    let read = Message::from_vec(&answer).map_err(|e| broken(&e.to_string()))?;
    // RFC 8945 section 5.2: what is wrong with the signature stands in the answer's own TSIG record, which is unsigned then.
    use hickory_proto::rr::rdata::tsig::TsigError;
    match read.signature().and_then(|record| record.data.error) {
        None => {}
        Some(TsigError::BadKey) => return Err(UpdateError::Key { server, word: "BADKEY" }),
        Some(TsigError::BadTime) => return Err(UpdateError::Time { server }),
        Some(_) => return Err(UpdateError::Key { server, word: "BADSIG" }),
    }
    match read.metadata.response_code {
        ResponseCode::NoError => {}
        code => return Err(UpdateError::Refused { server, zone: zone.to_owned(), code: code.to_string() }),
    }
    match verifier.map(|mut v| v.verify(&answer)) {
        Some(Ok(_)) => Ok(()),
        Some(Err(_)) | None => Err(UpdateError::Unsigned { server }),
    }
}
