//! The CAA records that count for a name.

use crate::exchange::{AskError, ask, parse_name};
use crate::lookup::plain;
use eskort_core::caa::CaaRecord;
use hickory_proto::op::ResponseCode;
use hickory_proto::rr::{RData, RecordType};
use std::net::SocketAddr;

/// Finds the CAA records of a name, or of the nearest name above it that has any (RFC 8659 section 3), and returns where they stand. The
/// server is one that looks further: it follows CNAME records.
///
/// # Errors
/// When the server does not answer, or answers with an error: an authority does not issue then, either.
pub async fn find_caa(server: SocketAddr, name: &str) -> Result<Option<(String, Vec<CaaRecord>)>, AskError> {
    let mut at = parse_name(name.trim_start_matches("*."))?;
    while !at.is_root() {
        let answer = ask(server, &at, RecordType::CAA).await?;
        match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => {}
            code => {
                return Err(AskError::BadAnswer {
                    server,
                    what: format!("{code} when asked for CAA of {}", plain(&at)),
                });
            }
        }
        let record = |data: &RData| match data {
            RData::CAA(caa) => Some(CaaRecord {
                critical: caa.issuer_critical,
                tag: caa.tag.to_ascii_lowercase(),
                value: eskort_core::words::printable(&String::from_utf8_lossy(&caa.value), 300),
            }),
            _ => None,
        };
        let found: Vec<CaaRecord> = answer.answers.iter().filter_map(|answer| record(&answer.data)).collect();
        if !found.is_empty() {
            return Ok(Some((plain(&at), found)));
        }
        at = at.base_name();
    }
    Ok(None)
}
