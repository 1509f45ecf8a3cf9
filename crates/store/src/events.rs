//! What happened.

use crate::rows::{decode, encode, instant};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::event::Event;
use jiff::Timestamp;
use rusqlite::{Row, params};
use serde::Serialize;

/// Something that happened.
#[derive(Clone, Debug, Serialize)]
pub struct EventRow {
    /// When.
    pub at: Timestamp,
    /// What.
    #[serde(flatten)]
    pub event: Event,
}

impl Store {
    /// Writes down that something happened.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn add_event(&self, certificate: &str, event: &Event, now: Timestamp) -> Result<(), StoreError> {
        self.write_event(certificate, event, now)
    }

    pub(crate) fn write_event(&self, certificate: &str, event: &Event, now: Timestamp) -> Result<(), StoreError> {
        let sql = "INSERT INTO event (certificate, at, kind, event) VALUES (?, ?, ?, ?)";
        self.run(sql, params![certificate, now.as_second(), event.kind(), encode(event)]).map(drop)
    }

    /// Returns the last events of a certificate, newest first.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    #[boxed]
    pub async fn events(&self, certificate: &str, most: u32) -> Result<Vec<EventRow>, StoreError> {
        let sql = "SELECT at, event FROM event WHERE certificate = ? ORDER BY id DESC LIMIT ?";
        let read = |row: &Row<'_>| Ok((instant(row, "at")?, row.get::<_, String>("event")?));
        let event = |(at, text): (Timestamp, String)| Ok(EventRow { at, event: decode("event", &text)? });
        self.rows(sql, params![certificate, most], read)?.into_iter().map(event).collect()
    }

    /// Returns the last events of all certificates, newest first, each with its certificate.
    ///
    /// # Errors
    /// As [`Store::events`].
    #[boxed]
    pub async fn all_events(&self, most: u32) -> Result<Vec<(String, EventRow)>, StoreError> {
        let sql = "SELECT certificate, at, event FROM event ORDER BY id DESC LIMIT ?";
        let read = |row: &Row<'_>| {
            Ok((row.get::<_, String>("certificate")?, instant(row, "at")?, row.get::<_, String>("event")?))
        };
        let event = |(certificate, at, text): (String, Timestamp, String)| {
            Ok((certificate, EventRow { at, event: decode("event", &text)? }))
        };
        self.rows(sql, [most], read)?.into_iter().map(event).collect()
    }
}
