//! Runs: when they were, who began them, and what came of them.

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use jiff::{SignedDuration, Timestamp};
use rusqlite::{Row, params};
use serde::Serialize;

/// So many runs are kept.
const KEPT: u32 = 200;

/// A run of `keep`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RunRow {
    /// When it began.
    pub began: Timestamp,
    /// When it ended.
    pub ended: Timestamp,
    /// Whether a timer began it; else somebody did.
    pub by_timer: bool,
    /// How many certificates it looked after.
    pub certificates: usize,
    /// How many of them failed.
    pub failed: usize,
    /// How many wait for a person.
    pub waiting: usize,
}

impl Store {
    /// Writes down a run, and forgets those that were long before it.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn record_run(&self, run: &RunRow) -> Result<(), StoreError> {
        let RunRow { began, ended, by_timer, certificates, failed, waiting } = run;
        let count = |number: &usize| i64::try_from(*number).unwrap_or(i64::MAX);
        self.in_one_transaction(|| {
            self.run(
                "INSERT INTO run (began, ended, by_timer, certificates, failed, waiting) VALUES (?, ?, ?, ?, ?, ?)",
                params![
                    began.as_second(),
                    ended.as_second(),
                    by_timer,
                    count(certificates),
                    count(failed),
                    count(waiting)
                ],
            )?;
            self.run("DELETE FROM run WHERE id <= (SELECT max(id) FROM run) - ?", [KEPT]).map(drop)
        })
    }

    /// Mends what a clock wrote that was ahead: nothing was counted, refused or put off later than now. Otherwise it would count until that moment
    /// has really come, and a week's budget for months.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn mend_clock(&self, now: Timestamp) -> Result<(), StoreError> {
        let later = |hours| (now + SignedDuration::from_hours(hours)).as_second();
        let (tomorrow, year, now) = (later(25), later(24 * 366), now.as_second());
        self.in_one_transaction(|| {
            self.run("UPDATE spent SET at = ? WHERE at > ?", [now, now])?;
            self.run("UPDATE failure SET last = ?, hold_until = NULL WHERE last > ?", [now, now])?;
            self.run("UPDATE failure SET authority_since = ? WHERE authority_since > ?", [now, now])?;
            self.run("DELETE FROM hold WHERE last > ?", [now])?;
            self.run("UPDATE asked_renewal SET ask_again = ? WHERE ask_again > ?", [now, tomorrow])?;
            self.run("UPDATE generation SET ask_revocation = ? WHERE ask_revocation > ?", [now, year])?;
            self.run("UPDATE undelivered SET taken_until = 0 WHERE taken_until > ?", [tomorrow])?;
            self.run("UPDATE ramp SET since = ? WHERE since > ?", [now, now]).map(drop)
        })
    }

    /// Returns the last runs, newest first.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn runs(&self, most: u32) -> Result<Vec<RunRow>, StoreError> {
        let sql = "SELECT began, ended, by_timer, certificates, failed, waiting FROM run ORDER BY id DESC LIMIT ?";
        let read = |row: &Row<'_>| {
            let count =
                |column| Ok::<_, rusqlite::Error>(usize::try_from(row.get::<_, i64>(column)?).unwrap_or_default());
            Ok(RunRow {
                began: instant(row, 0)?,
                ended: instant(row, 1)?,
                by_timer: row.get(2)?,
                certificates: count(3)?,
                failed: count(4)?,
                waiting: count(5)?,
            })
        };
        self.rows(sql, [most], read)
    }
}
