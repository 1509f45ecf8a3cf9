//! Removes what is owed: files and records that proved control, and have to go again.

use crate::ProofContext;
use crate::records;
use eskort_core::boxed;
use eskort_core::debt::Debt;
use eskort_core::progress::Progress;
use eskort_host::{MachineError, crash_point};
use eskort_store::{DebtRow, StoreError};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

/// Takes away what is owed for a certificate, as [`pay_debts`] does.
#[boxed]
pub async fn pay_debts_of(around: &ProofContext<'_>, certificate: &str) -> Result<(), StoreError> {
    pay_debts(around, around.store.debts_of(certificate).await?).await
}

/// Takes away what is owed, the newest first. What cannot be taken away stays owed, with the reason.
#[boxed]
pub async fn pay_debts(around: &ProofContext<'_>, owed: Vec<DebtRow>) -> Result<(), StoreError> {
    let ProofContext { context, store, machines, shared } = *around;
    let mut paid = Vec::new();
    let mut unpaid = Vec::new();
    // One conversation for the records of each proof.
    let mut records: BTreeMap<String, Vec<DebtRow>> = BTreeMap::new();
    // The folders that were made for the files of each machine.
    let mut emptied: BTreeMap<Option<String>, BTreeSet<PathBuf>> = BTreeMap::new();
    if owed.is_empty() {
        return Ok(());
    }
    context.report(&Progress::Doing("remove the validation files and records"));
    for row in owed {
        let taken = match &row.debt {
            Debt::Record { proof, .. } => {
                records.entry(proof.clone()).or_default().push(row);
                continue;
            }
            Debt::File { host, path, folders, passing } => {
                let _turn = shared.files_of(host.as_deref()).await;
                if around.store.pass_on(&row).await? {
                    continue;
                }
                // Debts of before were written under a name that can be told.
                let before = || format!(".{}.part", path.file_name().unwrap_or_default().to_string_lossy());
                let passing = passing.clone().unwrap_or_else(before);
                let removed = around.machine(host.as_deref()).remove_site_file(path, &passing).await;
                removed.map(|()| emptied.entry(host.clone()).or_default().extend(folders.iter().cloned()))
            }
        };
        match taken {
            Ok(()) => paid.push(row.id),
            Err(error) => unpaid.push((row, plain(error))),
        }
    }
    for (host, folders) in emptied {
        let _turn = shared.files_of(host.as_deref()).await;
        // What stands below another comes behind it in their order.
        let deepest_first: Vec<PathBuf> = folders.into_iter().rev().collect();
        // Their files are gone, which is what counts.
        let _ = around.machine(host.as_deref()).remove_site_folders(&deepest_first).await;
    }
    machines.hang_up().await;
    for (proof, rows) in records {
        match records::take_away(*around, &proof, &rows).await {
            Ok(()) => paid.extend(rows.into_iter().map(|row| row.id)),
            Err(error) => unpaid.extend(rows.into_iter().map(|row| (row, error.to_string()))),
        }
    }
    let mut troubles: BTreeMap<String, Vec<Debt>> = BTreeMap::new();
    for (row, error) in unpaid {
        store.trouble_with_debt(row.id, &error).await?;
        troubles.entry(error).or_default().push(row.debt);
    }
    for (error, debts) in troubles {
        let each = |what: fn(&Debt) -> String| debts.iter().map(what).collect::<Vec<_>>().join("; ");
        context.report(&Progress::Note(format!(
            "cannot remove {}: {error}. By hand: {}",
            each(Debt::words),
            each(Debt::by_hand)
        )));
    }
    crash_point("taken-away");
    store.paid(&paid).await
}

/// Says why a file cannot be removed; which one is said beside it.
fn plain(error: MachineError) -> String {
    match error {
        MachineError::Io { source, .. } => source.to_string(),
        error => error.to_string(),
    }
}
