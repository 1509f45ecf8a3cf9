//! Debts: what was put into the world for a while and has to be taken away again.
//!
//! A debt is written down before the thing is published, lives in a table of its own, and outlives its journey.

use crate::record::Record;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// One thing to take away.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Debt {
    /// A challenge file, and the folders that were made for it.
    File {
        /// The machine it is on, by its name in the inventory; `None` for this one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        host: Option<String>,
        /// The file.
        path: PathBuf,
        /// Folders that did not exist before, deepest first.
        folders: Vec<PathBuf>,
        /// The name that it passes through beside its place, where that cannot be found out by looking.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        passing: Option<String>,
    },
    /// A record in a zone.
    Record {
        /// The proof of the inventory that put it there, and that can take it away.
        proof: String,
        /// The record.
        #[serde(flatten)]
        record: Record,
        /// What the API that placed it calls it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        id: Option<String>,
    },
}

impl Debt {
    /// Returns the path of a file; `None` for other things.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Debt::File { path, .. } => Some(path),
            Debt::Record { .. } => None,
        }
    }

    /// Returns a record; `None` for other things.
    pub fn record(&self) -> Option<&Record> {
        match self {
            Debt::Record { record, .. } => Some(record),
            Debt::File { .. } => None,
        }
    }

    /// Returns what tells it from every other debt: its kind, where it is, and what it is there.
    pub fn key(&self) -> (&'static str, String, String) {
        match self {
            Debt::File { host, path, .. } => ("file", host.clone().unwrap_or_default(), path.display().to_string()),
            Debt::Record { proof, record, .. } => {
                let Record { name, kind, text } = record;
                ("record", proof.clone(), format!("{name} {} {text}", kind.word()))
            }
        }
    }

    /// Returns what it is, in words: "the file /srv/www/…".
    pub fn words(&self) -> String {
        match self {
            Debt::File { host: None, path, .. } => format!("the file {}", path.display()),
            Debt::File { host: Some(host), path, .. } => format!("the file {} on host `{host}`", path.display()),
            Debt::Record { record, .. } => format!("the {} record at {}", record.kind.word(), record.name),
        }
    }

    /// Returns what a person can type to take it away.
    pub fn by_hand(&self) -> String {
        match self {
            Debt::File { host: None, path, .. } => format!("rm '{}'", path.display()),
            Debt::File { host: Some(host), path, .. } => format!("delete {} on host `{host}`", path.display()),
            Debt::Record { record, .. } => {
                format!("delete {}. {} {} from its zone", record.name, record.kind.word(), record.zone_data())
            }
        }
    }
}
