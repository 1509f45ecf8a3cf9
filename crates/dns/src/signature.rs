//! Whether a zone is signed, as a resolver sees it (DNSSEC).

use crate::exchange::{AskError, ask, ask_authenticated, ask_unchecked, parse_name};
use eskort_core::boxed;
use hickory_proto::op::ResponseCode;
use hickory_proto::rr::RecordType;
use std::net::SocketAddr;

/// How it stands with the signatures of the zone of a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ZoneSignature {
    /// The resolver has checked them.
    Checked,
    /// There are none, or the resolver does not check.
    Unsigned,
    /// They do not fit: the resolver has an answer, and does not give it (RFC 4035 section 5.5).
    Broken,
}

/// Asks a resolver for a name, and whether it has checked the answer (the AD bit, RFC 6840 section 5.8).
///
/// # Errors
/// When it does not answer.
#[boxed]
pub async fn zone_signature(resolver: SocketAddr, name: &str) -> Result<ZoneSignature, AskError> {
    let name = parse_name(name)?;
    let answer = ask_authenticated(resolver, &name, RecordType::A).await?;
    if answer.metadata.response_code == ResponseCode::ServFail {
        let unchecked = ask_unchecked(resolver, &name, RecordType::A).await?;
        // It may have been a moment's trouble.
        let again = ask(resolver, &name, RecordType::A).await?;
        let is_broken = unchecked.metadata.response_code == ResponseCode::NoError
            && again.metadata.response_code == ResponseCode::ServFail;
        return Ok(if is_broken { ZoneSignature::Broken } else { ZoneSignature::Unsigned });
    }
    Ok(if answer.metadata.authentic_data { ZoneSignature::Checked } else { ZoneSignature::Unsigned })
}
