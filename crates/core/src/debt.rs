//! Debts: what was put into the world for a while and has to be taken away again.
//!
//! A debt is written down before the thing is published, lives in a table of its own, and outlives its journey.

use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// One thing to take away.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Debt {
    /// A challenge file, and the folders that were made for it.
    File {
        /// The file.
        path: PathBuf,
        /// Folders that did not exist before, deepest first.
        folders: Vec<PathBuf>,
    },
    /// A TXT record.
    Record {
        /// The proof of the inventory that put it there, and that can take it away.
        proof: String,
        /// Its name in full.
        name: String,
        /// Its text.
        text: String,
    },
}

impl Debt {
    /// Returns what it is, in words: "the file /srv/www/…".
    pub fn words(&self) -> String {
        match self {
            Debt::File { path, .. } => format!("the file {}", path.display()),
            Debt::Record { name, .. } => format!("the TXT record at {name}"),
        }
    }

    /// Returns what a person can type to take it away.
    pub fn by_hand(&self) -> String {
        match self {
            Debt::File { path, .. } => format!("rm '{}'", path.display()),
            Debt::Record { name, text, .. } => format!("delete {name}. TXT \"{text}\" from its zone"),
        }
    }
}
