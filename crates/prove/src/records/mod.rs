//! Proofs as records: put into their zone by dynamic updates, an HTTP API, a program, or a person.

mod change;
mod check;
mod program;
mod target;
mod update;
mod web_api;

pub use check::{look_at_records, see_records};

use crate::{ProofContext, ProofError};
use change::Change;
use eskort_core::boxed;
use eskort_core::debt::Debt;
use eskort_core::inventory::{DnsProof, Proof, RecordWriter};
use eskort_core::record::{Record, RecordType};
use eskort_dns::Zone;
use eskort_host::crash_point;
use eskort_store::DebtRow;
use program::tell_program;
use std::collections::{BTreeMap, BTreeSet};
use target::{TargetedRecord, locate_all, place_for, say_delegations};
use update::{read_key, update};
use web_api::Api;

/// A record that has to go again.
struct OwedRecord {
    record: Record,
    /// What the API that placed it calls it.
    id: Option<String>,
}

/// Returns where only one may write at a time: the zones, or a program that was not made for two.
fn places(proof: &str, dns: &DnsProof, placed: &[TargetedRecord]) -> BTreeSet<String> {
    match &dns.writer {
        RecordWriter::Program { .. } => [format!("program {proof}")].into(),
        _ => placed.iter().map(|p| format!("zone {}", p.zone.name)).collect(),
    }
}

/// Adds the records, after they are written down as debts.
#[boxed]
pub async fn publish_records(
    (around, certificate): (&ProofContext<'_>, &str),
    proof: &str,
    dns: &DnsProof,
    records: &[Record],
) -> Result<(), ProofError> {
    let ProofContext { context, store, .. } = *around;
    if matches!(dns.writer, RecordWriter::Person | RecordWriter::Standing { .. }) {
        // The person does it, and is told when the look finds nothing.
        return Ok(());
    }
    // What can be seen to be wrong beforehand leaves no debts.
    let api = match &dns.writer {
        RecordWriter::WebApi(settings) => Some(Api::open(settings, dns.look.ttl)?),
        RecordWriter::Update(key) => read_key(key).map(|_| None)?,
        RecordWriter::Program { .. } | RecordWriter::Person | RecordWriter::Standing { .. } => None,
    };
    let placed = place_for(dns, records).await?;
    say_delegations(context, records, &placed);
    let _turn = around.shared.turn(places(proof, dns, &placed)).await;
    // A record that an earlier run placed is owed with the name that the API gave it.
    let known = store.debts().await?;
    let debt = |record: &Record, id| Debt::Record { proof: proof.to_owned(), record: record.clone(), id };
    let has_id = |r: &Record| {
        known.iter().any(|row| match &row.debt {
            Debt::Record { record, id: Some(_), .. } => record == r,
            _ => false,
        })
    };
    let mut missing: Vec<&TargetedRecord> = placed.iter().filter(|p| !has_id(&p.record)).collect();
    let debts: Vec<Debt> = missing.iter().map(|p| debt(&p.record, None)).collect();
    // What another certificate has put there is needed by this one too, and goes with the last.
    let shared = placed.iter().filter(|p| has_id(&p.record)).map(|p| debt(&p.record, None));
    let owing: Vec<Debt> = debts.iter().cloned().chain(shared).collect();
    store.owe(certificate, &owing, context.now()).await?;
    store.flush().await?;
    crash_point("owed");
    match &dns.writer {
        RecordWriter::Update(key) => update(context, key, &dns.look, Change::Add, &placed).await?,
        RecordWriter::Program { command, host, rules } => {
            for TargetedRecord { record, .. } in &placed {
                let answered =
                    tell_program(*around, (command, host.as_ref(), rules), &dns.look, Change::Add, record).await;
                // One that did not even begin has placed nothing.
                if let Err(ProofError::Program(error)) = &answered
                    && error.never_began()
                {
                    store.strike(certificate, &debts).await?;
                }
                answered?;
            }
        }
        RecordWriter::WebApi(_) => {
            let api = api.expect("it was opened for this writer");
            if api.replaces_all() {
                change_all(&api, &missing, Change::Add).await?;
                missing.clear();
            }
            for TargetedRecord { record, zone } in missing {
                if let Some(id) = api.add(&zone.name, record).await? {
                    store.amend_debt(&debt(record, Some(id))).await?;
                }
            }
        }
        RecordWriter::Person | RecordWriter::Standing { .. } => {}
    }
    crash_point("record-added");
    Ok(())
}

/// Removes records that a proof of the inventory placed, and that no other certificate needs.
pub(crate) async fn take_away(around: ProofContext<'_>, proof: &str, rows: &[DebtRow]) -> Result<(), ProofError> {
    let context = around.context;
    let Some(Proof::Dns(dns)) = context.inventory.proofs.get(proof) else {
        return Err(ProofError::Gone { proof: proof.to_owned() });
    };
    // Where each stands was found out when it was placed; its zone is looked for again.
    let by_program = matches!(dns.writer, RecordWriter::Program { .. });
    let records: Vec<Record> = rows.iter().filter_map(|row| row.debt.record().cloned()).collect();
    let located = if by_program { BTreeMap::new() } else { locate_all(&dns.look, records.iter()).await? };
    let target = |record: &Record| {
        let zone = located.get(&(record.name.clone(), record.kind)).map(|located| located.zone.clone());
        zone.map(|zone| TargetedRecord { record: record.clone(), zone })
    };
    let _turn = around.shared.turn(places(proof, dns, &records.iter().filter_map(target).collect::<Vec<_>>())).await;
    let mut owed = Vec::new();
    for row in rows {
        if let Debt::Record { record, id, .. } = &row.debt
            && !around.store.pass_on(row).await?
        {
            owed.push(OwedRecord { record: record.clone(), id: id.clone() });
        }
    }
    let placed: Vec<TargetedRecord> = owed.iter().filter_map(|owed| target(&owed.record)).collect();
    if owed.is_empty() {
        return Ok(());
    }
    match &dns.writer {
        RecordWriter::Person | RecordWriter::Standing { .. } => Err(ProofError::Gone { proof: proof.to_owned() }),
        RecordWriter::Program { command, host, rules } => {
            for OwedRecord { record, .. } in &owed {
                tell_program(around, (command, host.as_ref(), rules), &dns.look, Change::Remove, record).await?;
            }
            Ok(())
        }
        RecordWriter::Update(key) => update(context, key, &dns.look, Change::Remove, &placed).await,
        RecordWriter::WebApi(settings) => {
            let api = Api::open(settings, dns.look.ttl)?;
            if api.replaces_all() {
                return change_all(&api, &placed.iter().collect::<Vec<_>>(), Change::Remove).await;
            }
            for (TargetedRecord { record, zone }, OwedRecord { id, .. }) in placed.iter().zip(&owed) {
                api.remove(&zone.name, record, id.as_deref()).await?;
            }
            Ok(())
        }
    }
}

/// Changes records at an API that replaces all values of a name and type at once.
async fn change_all(api: &Api, placed: &[&TargetedRecord], what: Change) -> Result<(), ProofError> {
    let mut groups: BTreeMap<(&Zone, &str, RecordType), Vec<&Record>> = BTreeMap::new();
    for TargetedRecord { record, zone } in placed {
        groups.entry((zone, &record.name, record.kind)).or_default().push(record);
    }
    for ((zone, ..), records) in groups {
        api.change_all(&zone.name, &records, what).await?;
    }
    Ok(())
}
