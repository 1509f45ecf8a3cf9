//! Removes what is owed: files and records that proved control, and have to go again.

use crate::records::{self, OwedRecord};
use crate::remote;
use eskort_core::context::Context;
use eskort_core::debt::Debt;
use eskort_core::progress::Progress;
use eskort_host::files::{remove, remove_folder};
use eskort_host::{Session, crash_point};
use eskort_store::{DebtRow, Store, StoreError};
use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

/// Takes away what is owed for the certificates that `whose` names. What cannot be taken away stays owed, with the reason.
pub async fn pay_debts(context: &Context, store: &Store, whose: impl Fn(&str) -> bool) -> Result<(), StoreError> {
    let mut paid = Vec::new();
    let mut unpaid = Vec::new();
    // One connection to each machine, and one conversation for the records of each proof.
    let mut sessions: BTreeMap<String, Result<Session, String>> = BTreeMap::new();
    let mut records: BTreeMap<String, Vec<(DebtRow, OwedRecord)>> = BTreeMap::new();
    let owed: Vec<DebtRow> = store.debts()?.into_iter().filter(|row| whose(&row.certificate)).collect();
    if owed.is_empty() {
        return Ok(());
    }
    context.report(&Progress::Doing("remove the validation files and records"));
    for row in owed {
        let taken = match &row.debt {
            Debt::Record { proof, record, id } => {
                let owed = OwedRecord { record: record.clone(), id: id.clone() };
                records.entry(proof.clone()).or_default().push((row, owed));
                continue;
            }
            Debt::File { host: None, path, folders, .. } => take_file_away(path, folders).map_err(|e| e.to_string()),
            Debt::File { host: Some(host), path, folders, passing } => {
                if !sessions.contains_key(host) {
                    sessions.insert(host.clone(), remote::open(context, host).await.map_err(|e| e.to_string()));
                }
                match sessions.get_mut(host).expect("it was just put in") {
                    Ok(session) => {
                        remote::take_away(session, path, passing.as_deref(), folders).await.map_err(|e| e.to_string())
                    }
                    Err(error) => Err(error.clone()),
                }
            }
        };
        match taken {
            Ok(()) => paid.push(row.id),
            Err(error) => unpaid.push((row, error)),
        }
    }
    for session in sessions.into_values().flatten() {
        session.close().await;
    }
    for (proof, owed) in records {
        let (rows, owed): (Vec<_>, Vec<_>) = owed.into_iter().unzip();
        match records::take_away(context, &proof, &owed).await {
            Ok(()) => paid.extend(rows.into_iter().map(|row| row.id)),
            Err(error) => unpaid.extend(rows.into_iter().map(|row| (row, error.to_string()))),
        }
    }
    let mut troubles: BTreeMap<String, Vec<Debt>> = BTreeMap::new();
    for (row, error) in unpaid {
        store.trouble_with_debt(row.id, &error)?;
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
    store.paid(&paid)
}

fn take_file_away(path: &Path, folders: &[PathBuf]) -> io::Result<()> {
    remove(path)?;
    // A folder that somebody put something into meanwhile is theirs.
    for folder in folders {
        if !remove_folder(folder) {
            break;
        }
    }
    Ok(())
}
