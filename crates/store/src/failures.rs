//! What went wrong with a certificate since its last success.

use crate::rows::{instant, maybe_instant};
use crate::{Store, StoreError};
use eskort_core::decision::Failures;
use eskort_core::event::Event;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, params};

impl Store {
    /// Writes down a failure; they count up until [`Store::clear_failures`].
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn record_failure(
        &self,
        certificate: &str,
        (code, reason): (&str, &str),
        hold_until: Option<Timestamp>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.in_one_transaction(|| {
            // A later failure of another kind does not shorten what the authority asked for.
            let before = self.read_failures(certificate)?.and_then(|(failures, _)| failures.hold_until);
            let hold_until = before.max(hold_until).map(Timestamp::as_second);
            self.run(
                "INSERT INTO failure (certificate, count, last, hold_until, reason) VALUES (?, 1, ?, ?, ?)
                 ON CONFLICT (certificate) DO UPDATE SET count = failure.count + 1, last = excluded.last,
                   hold_until = excluded.hold_until, reason = excluded.reason",
                params![certificate, now.as_second(), hold_until, reason],
            )?;
            let failed = Event::Failed { code: code.to_owned(), cause: reason.to_owned() };
            self.write_event(certificate, &failed, now)
        })
    }

    /// Forgets the failures of a certificate, after a success.
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn clear_failures(&self, certificate: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM failure WHERE certificate = ?", [certificate]).map(drop)
    }

    /// Returns the failures since the last success, and the last reason.
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn failures(&self, certificate: &str) -> Result<Option<(Failures, String)>, StoreError> {
        self.read_failures(certificate)
    }

    fn read_failures(&self, certificate: &str) -> Result<Option<(Failures, String)>, StoreError> {
        let sql = "SELECT count, last, hold_until, reason FROM failure WHERE certificate = ?";
        let read = |row: &Row<'_>| {
            let (last, hold_until) = (instant(row, "last")?, maybe_instant(row, "hold_until")?);
            Ok((Failures { count: row.get("count")?, last, hold_until }, row.get("reason")?))
        };
        self.db.lock().query_row(sql, [certificate], read).optional().map_err(|e| self.fail(e))
    }
}
