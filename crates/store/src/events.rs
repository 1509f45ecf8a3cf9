//! What happened, for people to read.

use crate::rows::instant;
use crate::{Store, StoreError};
use jiff::Timestamp;
use rusqlite::{Row, params};
use serde::Serialize;

/// Something that happened.
#[derive(Clone, Debug, Serialize)]
pub struct EventRow {
    /// When.
    pub at: Timestamp,
    /// What.
    pub text: String,
}

impl Store {
    /// Writes down that something happened.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn add_event(&self, certificate: &str, text: &str, now: Timestamp) -> Result<(), StoreError> {
        let sql = "INSERT INTO event (certificate, at, text) VALUES (?, ?, ?)";
        self.run(sql, params![certificate, now.as_second(), text]).map(drop)
    }

    /// Returns the last events of a certificate, newest first.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn events(&self, certificate: &str, most: u32) -> Result<Vec<EventRow>, StoreError> {
        let sql = "SELECT at, text FROM event WHERE certificate = ? ORDER BY id DESC LIMIT ?";
        let read = |row: &Row<'_>| Ok(EventRow { at: instant(row, "at")?, text: row.get("text")? });
        self.rows(sql, params![certificate, most], read)
    }
}
