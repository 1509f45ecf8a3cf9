//! Everything the ledger knows about all certificates, in one question: for `list`.

use crate::journeys::{instant, maybe_instant};
use crate::{Store, StoreError};
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use rusqlite::Row;

/// What the ledger knows about one certificate.
#[derive(Clone, Debug)]
pub struct Overview {
    /// Its name.
    pub certificate: String,
    /// Number and validity of the newest generation.
    pub newest: Option<(u32, Validity)>,
    /// Whether the newest generation was seen live.
    pub confirmed: bool,
    /// The last stage that an open journey passed, in its word; empty before the first.
    pub open: Option<String>,
    /// The last failure since the last success: how many, when, why.
    pub failed: Option<(u32, Timestamp, String)>,
}

impl Store {
    /// Returns what the ledger knows about each certificate, by name.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn overview(&self) -> Result<Vec<Overview>, StoreError> {
        let sql = "
            WITH known AS (SELECT certificate FROM generation UNION SELECT certificate FROM journey WHERE ended IS NULL
                           UNION SELECT certificate FROM failure)
            SELECT k.certificate, g.number, g.not_before, g.not_after, g.confirmed, j.id AS journey, j.passed,
                   f.count AS failures, f.last, f.reason
            FROM known k
            LEFT JOIN generation g ON g.certificate = k.certificate
                 AND g.number = (SELECT max(number) FROM generation WHERE certificate = k.certificate)
            LEFT JOIN journey j ON j.certificate = k.certificate AND j.ended IS NULL
            LEFT JOIN failure f ON f.certificate = k.certificate
            ORDER BY k.certificate";
        self.rows(sql, [], |row: &Row<'_>| {
            let newest = match row.get::<_, Option<u32>>("number")? {
                None => None,
                Some(number) => {
                    let not_before = instant(row, "not_before")?;
                    Some((number, Validity { not_before, not_after: instant(row, "not_after")? }))
                }
            };
            let open = match row.get::<_, Option<i64>>("journey")? {
                None => None,
                Some(_) => Some(row.get::<_, Option<String>>("passed")?.unwrap_or_default()),
            };
            let failed = match row.get::<_, Option<u32>>("failures")? {
                None => None,
                Some(count) => Some((count, instant(row, "last")?, row.get("reason")?)),
            };
            let confirmed = maybe_instant(row, "confirmed")?.is_some();
            Ok(Overview { certificate: row.get("certificate")?, newest, confirmed, open, failed })
        })
    }
}
