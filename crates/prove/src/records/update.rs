//! Records by dynamic updates, signed with TSIG (RFC 2136, RFC 8945).

use super::change::Change;
use super::target::{TargetedRecord, by_zone, system_server};
use crate::ProofError;
use eskort_core::context::Context;
use eskort_core::inventory::{DnsLook, TsigKey};
use eskort_core::pki::Secret;
use eskort_dns::{UpdateKey, Zone, add_records, find_addresses, first_that_answers, remove_records};
use eskort_host::{obeyed, read_secret};
use std::net::SocketAddr;

/// Reads the key that signs updates.
pub(crate) fn read_key(key: &TsigKey) -> Result<UpdateKey, ProofError> {
    match key {
        TsigKey::File(path) => {
            let fail = |why: String| ProofError::Key { key: path.display().to_string(), why };
            let text = obeyed::read_text(path).map_err(fail)?;
            UpdateKey::parse(&Secret::new(text)).map_err(|e| fail(e.to_string()))
        }
        TsigKey::Named { name, algorithm, secret } => {
            let secret = read_secret(secret)?;
            let key = UpdateKey::from_parts(name, algorithm, secret.reveal().trim());
            key.map_err(|e| ProofError::Key { key: name.clone(), why: e.to_string() })
        }
    }
}

/// Returns the server that takes updates of a zone: the inventory's, or the zone's primary.
async fn primary(look: &DnsLook, zone: &Zone) -> Result<SocketAddr, ProofError> {
    if let Some(server) = look.server {
        return Ok(server);
    }
    let found = find_addresses(system_server().await, &zone.primary).await;
    let missing = || ProofError::NoPrimary { zone: zone.name.clone(), primary: zone.primary.clone() };
    let first = *found.first().ok_or_else(missing)?;
    // One of several addresses may be of a family that this machine does not reach.
    Ok(if found.len() == 1 { first } else { first_that_answers(&found).await.unwrap_or(first) })
}

/// Adds or removes records at the primary server of each zone.
pub(crate) async fn update(
    context: &Context,
    key: &TsigKey,
    look: &DnsLook,
    what: Change,
    placed: &[TargetedRecord],
) -> Result<(), ProofError> {
    let key = read_key(key)?;
    for (zone, records) in by_zone(placed) {
        let (server, now) = (primary(look, zone).await?, context.now());
        match what {
            Change::Add => add_records(server, &zone.name, &key, &records, look.ttl, now).await?,
            Change::Remove => remove_records(server, &zone.name, &key, &records, now).await?,
        }
    }
    Ok(())
}
