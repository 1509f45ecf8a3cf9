//! The keys of transparency logs that somebody gives.

use eskort_core::pki::LogKeys;
use serde_json::Value;
use std::path::{Path, PathBuf};

/// No list is longer.
const LARGEST: u64 = 16 * 1024 * 1024;

/// Why keys of logs cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("cannot read the keys of logs from {}: {why}", path.display())]
pub struct LogKeysError {
    /// The file.
    pub path: PathBuf,
    /// What is wrong.
    pub why: String,
}

/// Reads the keys of logs: public keys in PEM, each with the log's name in a line before it; or a list in JSON as browsers publish them, in
/// which each log is an object with its `key` in base64 and a `description`.
///
/// # Errors
/// When the file cannot be read, or has no key.
pub fn read_log_keys(path: &Path) -> Result<LogKeys, LogKeysError> {
    let fail = |why: String| LogKeysError { path: path.to_owned(), why };
    let length = std::fs::metadata(path).map_err(|error| fail(error.to_string()))?.len();
    if length > LARGEST {
        return Err(fail("it is too large for a list of logs".into()));
    }
    let text = std::fs::read_to_string(path).map_err(|error| fail(error.to_string()))?;
    let keys = if text.trim_start().starts_with(['{', '[']) {
        let list: Value = serde_json::from_str(&text).map_err(|error| fail(error.to_string()))?;
        let mut keys = LogKeys::default();
        add_keys(&list, &mut keys);
        keys
    } else {
        LogKeys::from_pem(&text).map_err(|error| fail(error.to_string()))?
    };
    if keys.count() == 0 { Err(fail("there is no public key in it".into())) } else { Ok(keys) }
}

/// Adds the keys in a list, wherever they stand in it.
fn add_keys(value: &Value, keys: &mut LogKeys) {
    match value {
        Value::Array(items) => items.iter().for_each(|item| add_keys(item, keys)),
        Value::Object(fields) => {
            if let Some(Value::String(key)) = fields.get("key") {
                let name = fields.get("description").and_then(Value::as_str).unwrap_or("a log");
                keys.add_base64(name, key);
            }
            fields.values().for_each(|value| add_keys(value, keys));
        }
        _ => {}
    }
}
