//! What is told to other programs: gathered, and written whole or not at all.

use super::list::{ListFilter, State, list};
use eskort_core::context::Context;
use eskort_core::report::{Told, ToldRuns, calendar, metrics};
use eskort_host::files::{Access, write_atomic};
use eskort_store::{Store, StoreError};
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
    let runs = match Store::open_existing(&context.state)? {
        Some(store) => store.runs(200).await?,
        None => Vec::new(),
    };
    let last_good = runs.iter().find(|run| run.failed == 0).map(|run| run.ended);
    Ok(metrics(&told, ToldRuns { last: runs.first().map(|run| run.ended), last_good }))
}

/// Writes a report whole or not at all, for everybody to read.
///
/// # Errors
/// When it cannot be written.
pub fn write_report(path: &Path, text: &str) -> std::io::Result<()> {
    write_atomic(path, text.as_bytes(), Access::mode(0o644))
}
