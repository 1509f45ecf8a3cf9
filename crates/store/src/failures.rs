//! What went wrong with a certificate since its last success.

use crate::rows::{instant, maybe_instant};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::decision::{Failures, Fault};
use eskort_core::event::Event;
use jiff::Timestamp;
use rusqlite::{Row, params};

/// A failure of the work on a certificate.
#[derive(Clone, Copy, Debug)]
pub struct Failure<'a> {
    /// What kind of error it is, in a word that stays the same.
    pub code: &'a str,
    /// What came back.
    pub reason: &'a str,
    /// Whose fault it is.
    pub fault: Fault,
    /// The authority that is asked for the certificate.
    pub authority: &'a str,
    /// Until when the authority is left alone, where it refused.
    pub hold_until: Option<Timestamp>,
}

impl Store {
    /// Writes down a failure; they count up until [`Store::clear_failures`].
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn record_failure(
        &self,
        certificate: &str,
        failure: &Failure<'_>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let Failure { code, reason, fault, authority, hold_until } = *failure;
        self.in_one_transaction(|| {
            // A later failure of another kind does not shorten what the authority asked for.
            let before = self.read_failures(certificate)?.map(|(failures, _)| failures);
            let held = before.as_ref().and_then(|before| before.hold_until);
            let hold_until = held.max(hold_until).map(Timestamp::as_second);
            let since = before.as_ref().and_then(|before| before.authority_since);
            let since = since.or(matches!(fault, Fault::Authority | Fault::Network).then_some(now));
            self.run(
                "INSERT INTO failure (certificate, count, last, hold_until, reason, authority, authority_since, fault)
                   VALUES (?, 1, ?, ?, ?, ?, ?, ?)
                 ON CONFLICT (certificate) DO UPDATE SET count = failure.count + 1, last = excluded.last,
                   hold_until = excluded.hold_until, reason = excluded.reason, authority = excluded.authority,
                   authority_since = excluded.authority_since, fault = excluded.fault",
                params![
                    certificate,
                    now.as_second(),
                    hold_until,
                    reason,
                    authority,
                    since.map(Timestamp::as_second),
                    <&str>::from(fault)
                ],
            )?;
            let failed = Event::Failed { code: code.to_owned(), cause: reason.to_owned() };
            self.write_event(certificate, &failed, now)
        })
    }

    /// Forgets the failures of a certificate, after a success.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn clear_failures(&self, certificate: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM failure WHERE certificate = ?", [certificate]).map(drop)
    }

    /// Returns the failures since the last success, and the last reason.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn failures(&self, certificate: &str) -> Result<Option<(Failures, String)>, StoreError> {
        self.read_failures(certificate)
    }

    fn read_failures(&self, certificate: &str) -> Result<Option<(Failures, String)>, StoreError> {
        let sql = "SELECT * FROM failure WHERE certificate = ?";
        let read = |row: &Row<'_>| {
            let failures = Failures {
                count: row.get("count")?,
                last: instant(row, "last")?,
                hold_until: maybe_instant(row, "hold_until")?,
                authority: row.get("authority")?,
                authority_since: maybe_instant(row, "authority_since")?,
                fault: row.get::<_, Option<String>>("fault")?.and_then(|word| word.parse().ok()),
            };
            Ok((failures, row.get("reason")?))
        };
        Ok(self.rows(sql, [certificate], read)?.pop())
    }
}
