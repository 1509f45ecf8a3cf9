//! Asks name servers whether all of them have the records.

use super::target::{TargetedRecord, place_for, say_delegations, servers_to_look_at};
use crate::ProofError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::{DnsProof, RecordWriter};
use eskort_core::progress::{NameState, Progress};
use eskort_core::record::{Record, RecordToPlace};
use eskort_dns::{NameServer, Propagation, propagation};
use std::collections::BTreeSet;
use std::time::{Duration, Instant};

/// Looks at every name server until all of them have every record. A person's records are not waited for: those that a person has
/// yet to place are returned.
///
/// # Errors
/// When no name server can be asked, or one goes on lacking a record.
#[boxed]
pub async fn look_at_records(
    context: &Context,
    dns: &DnsProof,
    wanted: &[Record],
) -> Result<Vec<RecordToPlace>, ProofError> {
    let placed = place_for(dns, wanted).await?;
    let servers = servers_to_look_at(&dns.look, &placed).await?;
    let records: Vec<Record> = placed.iter().map(|p| p.record.clone()).collect();
    let timeout = dns.look.propagation_timeout;
    if matches!(dns.writer, RecordWriter::Person | RecordWriter::Standing { .. }) {
        say_delegations(context, wanted, &placed);
        let found = propagation(&servers, &records, context.now()).await;
        if found.is_everywhere() {
            return Ok(Vec::new());
        }
        let standing = matches!(dns.writer, RecordWriter::Standing { .. });
        // What is everywhere already need not be placed again; the same record may answer several tasks.
        let everywhere =
            |name: &String| !found.have.is_empty() && found.lacking.iter().all(|b| !b.names.contains(name));
        let lacking = |p: &&TargetedRecord| !everywhere(&p.record.name);
        let mut to_place: Vec<RecordToPlace> = Vec::new();
        for TargetedRecord { record, zone } in placed.iter().filter(lacking) {
            let one = RecordToPlace {
                record: record.clone(),
                zone: zone.name.clone(),
                ttl: dns.look.ttl,
                for_good: standing,
            };
            if !to_place.contains(&one) {
                to_place.push(one);
            }
        }
        return Ok(to_place);
    }
    match ask_until(context, &servers, &records, timeout).await {
        Ok(found) => {
            for (host, why) in found.silent {
                let text = format!("name server {host} was left out: {why}");
                context.report(&Progress::Note(text));
            }
            Ok(Vec::new())
        }
        Err(found) => Err(ProofError::NotEverywhere { found, of: servers.len(), after: timeout }),
    }
}

/// Asks every name server once whether it has the records.
///
/// # Errors
/// When no name server can be asked.
#[boxed]
pub async fn see_records(context: &Context, dns: &DnsProof, wanted: &[Record]) -> Result<Propagation, ProofError> {
    let placed = place_for(dns, wanted).await?;
    let servers = servers_to_look_at(&dns.look, &placed).await?;
    let records: Vec<Record> = placed.into_iter().map(|placed| placed.record).collect();
    Ok(propagation(&servers, &records, context.now()).await)
}

/// Asks until all servers that answer have all records, or until `timeout` is over; the error is what was found then. A server that is
/// silent while another answers is not asked again.
async fn ask_until(
    context: &Context,
    servers: &[NameServer],
    records: &[Record],
    timeout: Duration,
) -> Result<Propagation, Propagation> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(200);
    let names: BTreeSet<&String> = records.iter().map(|r| &r.name).collect();
    let mut asked = servers.to_vec();
    let mut silent = Vec::new();
    loop {
        let mut found = propagation(&asked, records, context.now()).await;
        if found.silent.len() < asked.len() {
            asked.retain(|server| found.silent.iter().all(|(host, _)| *host != server.host));
            silent.append(&mut found.silent);
        }
        found.silent.extend(silent.iter().cloned());
        if found.is_everywhere() {
            return Ok(found);
        }
        let left = timeout.saturating_sub(begun.elapsed());
        if left.is_zero() {
            return Err(found);
        }
        let state = |name: &&String| {
            let lack = found.lacking.iter().filter(|b| b.names.contains(name)).count() + found.silent.len();
            let state = format!("on {} of {} name servers", servers.len().saturating_sub(lack), servers.len());
            NameState { name: (*name).clone(), state, since: Some(begun) }
        };
        context.report(&Progress::Names(names.iter().map(state).collect()));
        // A server that remembers "there is none" says the same until it has forgotten: asking sooner is no use.
        let forgets = found.lacking.iter().map(|b| b.remembers_for).min().flatten().unwrap_or_default();
        let next = pause.max(forgets).min(left);
        tokio::time::sleep(next).await;
        pause = (pause * 2).min(Duration::from_secs(10));
    }
}
