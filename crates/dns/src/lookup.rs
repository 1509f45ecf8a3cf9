//! The records of one type at a name, as one server has them.

use crate::exchange::{AskError, ask, parse_name};
use eskort_core::boxed;
use eskort_core::record;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType};
use std::net::SocketAddr;
use std::time::Duration;

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
#[boxed]
pub async fn ask_records(server: SocketAddr, name: &str, kind: record::RecordType) -> Result<Found, AskError> {
    let name = parse_name(name)?;
    let asked = match kind {
        record::RecordType::Txt => RecordType::TXT,
        record::RecordType::Cname => RecordType::CNAME,
        record::RecordType::Tlsa => RecordType::TLSA,
    };
    let answer = ask(server, &name, asked).await?;
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => Ok(found(&answer, asked)),
        code => Err(AskError::BadAnswer { server, what: code.to_string() }),
    }
}

/// Returns what an answer says of the records of a type.
pub(crate) fn found(answer: &Message, asked: RecordType) -> Found {
    let text = |data: &RData| match data {
        RData::TXT(txt) => Some(txt.txt_data.iter().map(|part| String::from_utf8_lossy(part)).collect::<String>()),
        RData::CNAME(cname) if asked == RecordType::CNAME => Some(plain(&cname.0)),
        RData::TLSA(tlsa) => {
            let (usage, selector, matching) =
                (u8::from(tlsa.cert_usage), u8::from(tlsa.selector), u8::from(tlsa.matching));
            let data: String = tlsa.cert_data.iter().map(|byte| format!("{byte:02x}")).collect();
            Some(format!("{usage} {selector} {matching} {data}"))
        }
        _ => None,
    };
    let texts: Vec<String> = answer.answers.iter().filter_map(|record| text(&record.data)).collect();
    let soa = answer.authorities.iter().find(|record| record.record_type() == RecordType::SOA);
    let remembered = soa.filter(|_| texts.is_empty() && !answer.metadata.authoritative);
    let remembers_none_for = remembered.map(|soa| Duration::from_secs(soa.ttl.into()));
    Found { texts, remembers_none_for }
}

/// For fuzzing: reads bytes as an answer about the TXT records of a name, whatever identifier they have.
#[cfg(fuzzing)]
pub fn read_answer(name: &str, bytes: &[u8]) -> Option<Found> {
    let mut asked = crate::exchange::question(&parse_name(name).ok()?, RecordType::TXT);
    asked.metadata.id = u16::from_be_bytes([*bytes.first()?, *bytes.get(1)?]);
    crate::exchange::answer_to(&asked, bytes).map(|answer| found(&answer, RecordType::TXT))
}

pub(crate) fn plain(name: &Name) -> String {
    name.to_ascii().trim_end_matches('.').to_ascii_lowercase()
}
