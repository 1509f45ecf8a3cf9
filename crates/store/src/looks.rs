//! What the last close look at each endpoint found.

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use jiff::Timestamp;
use rusqlite::params;

/// A close look at an endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LookRow {
    /// When it was.
    pub at: Timestamp,
    /// How many points it was rated with.
    pub points: u32,
    /// The words of what was not as it should be, in order.
    pub codes: Vec<String>,
}

impl Store {
    /// Returns the last close look at an endpoint.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn last_look(&self, endpoint: &str) -> Result<Option<LookRow>, StoreError> {
        let rows = self.rows("SELECT at, points, codes FROM look WHERE endpoint = ?", [endpoint], |row| {
            let codes: String = row.get(2)?;
            let codes = codes.split_whitespace().map(str::to_owned).collect();
            Ok(LookRow { at: instant(row, 0)?, points: row.get(1)?, codes })
        })?;
        Ok(rows.into_iter().next())
    }

    /// Writes down a close look at an endpoint.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn save_look(&self, endpoint: &str, look: &LookRow) -> Result<(), StoreError> {
        let sql = "INSERT INTO look (endpoint, at, points, codes) VALUES (?, ?, ?, ?)
                   ON CONFLICT (endpoint) DO UPDATE SET at = excluded.at, points = excluded.points, codes = excluded.codes";
        self.run(sql, params![endpoint, look.at.as_second(), look.points, look.codes.join(" ")]).map(drop)
    }
}
