//! What is told to other programs: gathered, and written whole or not at all.

use super::list::{ListFilter, State, list};
use eskort_core::boxed;
use eskort_core::budget::{Counted, Room, rooms};
use eskort_core::context::Context;
use eskort_core::report::{Told, ToldRuns, calendar, metrics};
use eskort_host::files::{Access, write_atomic};
use eskort_store::{Store, StoreError};
use std::collections::BTreeMap;
use std::path::Path;

/// Who a report is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReportKind {
    /// A collector of metrics.
    Metrics,
    /// A calendar.
    Calendar,
}

/// Returns the text of a report.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn report(context: &Context, kind: ReportKind) -> Result<String, StoreError> {
    let rows = list(context, &ListFilter::default()).await?;
    let told: Vec<Told> = rows
        .into_iter()
        .filter(|row| row.state != State::NotInInventory)
        .map(|row| Told {
            failures: if let State::Failing { failures, .. } = row.state { failures } else { 0 },
            certificate: row.certificate,
            names: row.names,
            validity: row.validity,
            renew_at: row.renew_at,
        })
        .collect();
    if kind == ReportKind::Calendar {
        return Ok(calendar(&told, context.now()));
    }
    let (mut runs, mut budgets) = (Vec::new(), Vec::new());
    if let Some(store) = Store::open_existing(&context.state)? {
        runs = store.runs(200).await?;
        budgets = budgets_of(context, &store).await?;
    }
    let last_good = runs.iter().find(|run| run.failed == 0).map(|run| run.ended);
    Ok(metrics(&told, ToldRuns { last: runs.first().map(|run| run.ended), last_good }, &budgets))
}

/// Returns how the budgets of authorities stand: those of orders, and of the domains of certificates.
async fn budgets_of(context: &Context, store: &Store) -> Result<Vec<(String, Room)>, StoreError> {
    let now = context.now();
    let mut budgets = Vec::new();
    for (name, authority) in &context.inventory.authorities {
        let spent = store.spent(authority.counted_as(name), &authority.limits, now).await?;
        let theirs = context.inventory.certificates.values().filter(|entry| entry.authorities().any(|of| of == name));
        let mut domains: BTreeMap<(Counted, String), Room> = BTreeMap::new();
        for entry in theirs {
            let whole = |room: &Room| matches!(room.counted, Counted::Orders | Counted::Domain);
            let of_entry = rooms(&authority.limits, &spent, &entry.names, now).into_iter().filter(whole);
            domains.extend(of_entry.map(|room| ((room.counted, room.subject.clone()), room)));
        }
        budgets.extend(domains.into_values().map(|room| (name.clone(), room)));
    }
    Ok(budgets)
}

/// Writes a report whole or not at all, for everybody to read.
///
/// # Errors
/// When it cannot be written.
pub fn write_report(path: &Path, text: &str) -> std::io::Result<()> {
    write_atomic(path, text.as_bytes(), Access::mode(0o644))
}
