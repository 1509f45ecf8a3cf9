//! Accounts at authorities: the address in the ledger, the key in a file.

use crate::folders::read_if_there;
use crate::{Store, StoreError, io};
use eskort_core::pki::{PrivateKey, Secret};
use eskort_host::files::{Access, make_folders, write_atomic};
use jiff::Timestamp;
use rusqlite::params;
use std::path::PathBuf;

/// An account at an authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccountRow {
    /// Its address there.
    pub url: String,
    /// The thumbprint of the key it was made with (RFC 7638); `None` in ledgers of before.
    pub thumbprint: Option<String>,
    /// The contact it was last told; `None` when that is not known.
    pub contact: Option<String>,
}

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
        Ok(read_if_there(self.account_key_path(authority))?.map(Secret::new))
    }

    /// Stores an account key, readable by its owner only.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save_account_key(&self, authority: &str, key: &PrivateKey) -> Result<(), StoreError> {
        let path = self.account_key_path(authority);
        let folder = self.root.join("accounts");
        make_folders(&folder, 0o700).map_err(io("make", folder))?;
        write_atomic(&path, key.to_pem().reveal().as_bytes(), Access::mode(0o600)).map_err(io("write", path))
    }

    /// Puts an account key aside that is of no more use, and returns where it is kept.
    ///
    /// # Errors
    /// When it cannot be renamed.
    pub fn put_account_key_aside(&self, authority: &str, now: Timestamp) -> Result<PathBuf, StoreError> {
        let path = self.account_key_path(authority);
        let aside = path.with_file_name(format!("{authority}.until-{}.key.pem", now.strftime("%Y-%m-%d-%H%M%S")));
        std::fs::rename(&path, &aside).map_err(io("rename", path))?;
        Ok(aside)
    }

    /// Returns the account at this directory.
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn account(&self, authority: &str, directory: &str) -> Result<Option<AccountRow>, StoreError> {
        let sql = "SELECT url, thumbprint, contact FROM account WHERE authority = ? AND directory = ?";
        let read = |row: &rusqlite::Row<'_>| {
            Ok(AccountRow { url: row.get(0)?, thumbprint: row.get(1)?, contact: row.get(2)? })
        };
        Ok(self.rows(sql, [authority, directory], read)?.into_iter().next())
    }

    /// Writes down the account at this directory.
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn save_account(
        &self,
        authority: &str,
        directory: &str,
        account: &AccountRow,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let AccountRow { url, thumbprint, contact } = account;
        let sql = "INSERT INTO account (authority, directory, url, thumbprint, contact, made) VALUES (?, ?, ?, ?, ?, ?)
                   ON CONFLICT (authority, directory) DO UPDATE SET url = excluded.url, thumbprint = excluded.thumbprint,
                     contact = excluded.contact, made = excluded.made";
        self.run(sql, params![authority, directory, url, thumbprint, contact, now.as_second()]).map(drop)
    }

    /// Forgets the account at this directory, when the authority does not know it any more.
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn forget_account(&self, authority: &str, directory: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM account WHERE authority = ? AND directory = ?", [authority, directory]).map(drop)
    }
}
