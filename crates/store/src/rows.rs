//! What rows are read and written with.

use crate::StoreError;
use jiff::Timestamp;
use rusqlite::{Row, RowIndex};
use serde::Serialize;
use serde::de::DeserializeOwned;

pub(crate) fn instant(row: &Row<'_>, column: impl RowIndex) -> rusqlite::Result<Timestamp> {
    Ok(Timestamp::from_second(row.get(column)?).unwrap_or(Timestamp::UNIX_EPOCH))
}

pub(crate) fn maybe_instant(row: &Row<'_>, column: &str) -> rusqlite::Result<Option<Timestamp>> {
    Ok(row.get::<_, Option<i64>>(column)?.and_then(|s| Timestamp::from_second(s).ok()))
}

pub(crate) fn decode<T: DeserializeOwned>(what: &'static str, text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|source| StoreError::Row { what, source })
}

pub(crate) fn encode<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).expect("our own types encode as JSON")
}
