//! What went wrong with a certificate since its last success.

use crate::rows::{instant, maybe_instant};
use crate::{Store, StoreError};
use eskort_core::decision::Failures;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, params};

impl Store {
    /// Writes down a failure; they count up until [`Store::clear_failures`].
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn record_failure(
        &self,
        certificate: &str,
        reason: &str,
        hold_until: Option<Timestamp>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let hold_until = hold_until.map(Timestamp::as_second);
        self.in_one_transaction(|| {
            self.run(
                "INSERT INTO failure (certificate, count, last, hold_until, reason) VALUES (?, 1, ?, ?, ?)
                 ON CONFLICT DO UPDATE SET count = count + 1, last = excluded.last,
                   hold_until = nullif(max(coalesce(hold_until, 0), coalesce(excluded.hold_until, 0)), 0),
                   reason = excluded.reason",
                params![certificate, now.as_second(), hold_until, reason],
            )?;
            self.add_event(certificate, &format!("failed: {reason}"), now)
        })
    }

    /// Forgets the failures of a certificate, after a success.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn clear_failures(&self, certificate: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM failure WHERE certificate = ?", [certificate]).map(drop)
    }

    /// Returns the failures since the last success, and the last reason.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn failures(&self, certificate: &str) -> Result<Option<(Failures, String)>, StoreError> {
        let sql = "SELECT count, last, hold_until, reason FROM failure WHERE certificate = ?";
        let read = |row: &Row<'_>| {
            let (last, hold_until) = (instant(row, "last")?, maybe_instant(row, "hold_until")?);
            Ok((Failures { count: row.get("count")?, last, hold_until }, row.get("reason")?))
        };
        self.db.query_row(sql, [certificate], read).optional().map_err(|e| self.fail(e))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    #[test]
    fn failures_count_up_until_cleared() {
        let store = Store::in_memory(Path::new("/nowhere")).unwrap();
        store.record_failure("website", "refused", None, at(5)).unwrap();
        store.record_failure("website", "limits", Some(at(90)), at(7)).unwrap();
        let (failures, reason) = store.failures("website").unwrap().unwrap();
        assert_eq!((failures.count, failures.last, failures.hold_until), (2, at(7), Some(at(90))));
        assert_eq!(reason, "limits");
        // A later failure of another kind does not shorten what the authority asked for.
        store.record_failure("website", "disk full", None, at(8)).unwrap();
        assert_eq!(store.failures("website").unwrap().unwrap().0.hold_until, Some(at(90)));
        store.clear_failures("website").unwrap();
        assert!(store.failures("website").unwrap().is_none());
    }
}
