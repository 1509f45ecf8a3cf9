//! Accounts at authorities: the address in the ledger, the key in a file.

use crate::files::{Access, make_folders, write_whole};
use crate::{Store, StoreError, io};
use eskort_core::pki::{PrivateKey, Secret};
use jiff::Timestamp;
use rusqlite::params;
use std::path::PathBuf;

impl Store {
    /// Returns the file of an authority's account key.
    pub fn account_key_path(&self, authority: &str) -> PathBuf {
        self.root.join("accounts").join(format!("{authority}.key.pem"))
    }

    /// Returns the text of an authority's account key, when there is one.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn account_key(&self, authority: &str) -> Result<Option<Secret<String>>, StoreError> {
        let path = self.account_key_path(authority);
        match std::fs::read_to_string(&path) {
            Ok(text) => Ok(Some(Secret::new(text))),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(io("read", path)(e)),
        }
    }

    /// Stores an account key, readable by its owner only.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save_account_key(&self, authority: &str, key: &PrivateKey) -> Result<(), StoreError> {
        let path = self.account_key_path(authority);
        let folder = self.root.join("accounts");
        make_folders(&folder, 0o700).map_err(io("make", folder))?;
        write_whole(&path, key.to_pem().reveal().as_bytes(), Access::mode(0o600)).map_err(io("write", path))
    }

    /// Returns the address of the account at this directory.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn account(&self, authority: &str, directory: &str) -> Result<Option<String>, StoreError> {
        let sql = "SELECT url FROM account WHERE authority = ? AND directory = ?";
        Ok(self.rows(sql, [authority, directory], |row| row.get(0))?.into_iter().next())
    }

    /// Writes down the address of the account at this directory.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn save_account(&self, authority: &str, directory: &str, url: &str, now: Timestamp) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO account (authority, directory, url, made) VALUES (?, ?, ?, ?)";
        self.run(sql, params![authority, directory, url, now.as_second()]).map(drop)
    }

    /// Forgets the account at this directory, when the authority does not know it any more.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn forget_account(&self, authority: &str, directory: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM account WHERE authority = ? AND directory = ?", [authority, directory]).map(drop)
    }
}
