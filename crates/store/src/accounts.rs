//! Accounts at authorities: the address in the ledger, the key in a file.

use crate::folders::read_if_there;
use crate::{Store, StoreError, io};
use eskort_core::boxed;
use eskort_core::pki::{PrivateKey, Secret};
use eskort_host::files::{Access, make_folders, write_atomic};
use jiff::{SignedDuration, Timestamp};
use rusqlite::params;
use std::path::{Path, PathBuf};

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
        let aside = Self::aside(&path, authority, now);
        std::fs::rename(&path, &aside).map_err(io("rename", path))?;
        Ok(aside)
    }

    /// Returns the account at this directory.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
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
    #[boxed]
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

    /// Returns the address of the terms that were last agreed to, or seen.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn terms(&self, authority: &str, directory: &str) -> Result<Option<String>, StoreError> {
        let sql = "SELECT terms FROM account WHERE authority = ? AND directory = ?";
        Ok(self.rows(sql, [authority, directory], |row| row.get(0))?.into_iter().next().flatten())
    }

    /// Writes down the address of an authority's terms.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn save_terms(&self, authority: &str, directory: &str, terms: &str) -> Result<(), StoreError> {
        let sql = "UPDATE account SET terms = ? WHERE authority = ? AND directory = ?";
        self.run(sql, [terms, authority, directory]).map(drop)
    }

    /// Returns by how many seconds this machine's clock was ahead of an authority's, the last time; `None` where that is not known.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn clock_ahead(&self, authority: &str, directory: &str) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT clock_ahead FROM account WHERE authority = ? AND directory = ?";
        Ok(self.rows(sql, [authority, directory], |row| row.get(0))?.into_iter().next().flatten())
    }

    /// Writes down by how much this machine's clock is ahead of an authority's.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn save_clock(&self, authority: &str, directory: &str, ahead: SignedDuration) -> Result<(), StoreError> {
        let sql = "UPDATE account SET clock_ahead = ? WHERE authority = ? AND directory = ?";
        self.run(sql, params![ahead.as_secs(), authority, directory]).map(drop)
    }

    /// Puts another account key in the place of an authority's, and returns where the old one is kept. At each moment there is one.
    ///
    /// # Errors
    /// When a file cannot be linked or renamed.
    pub fn replace_account_key(&self, authority: &str, by: &str, now: Timestamp) -> Result<PathBuf, StoreError> {
        let (path, by) = (self.account_key_path(authority), self.account_key_path(by));
        let aside = Self::aside(&path, authority, now);
        std::fs::hard_link(&path, &aside).map_err(io("link", &path))?;
        std::fs::rename(&by, path).map_err(io("rename", by))?;
        Ok(aside)
    }

    /// Returns where an account key is kept that is of no more use: a name that nothing has yet.
    fn aside(path: &Path, authority: &str, now: Timestamp) -> PathBuf {
        let day = now.strftime("%Y-%m-%d-%H%M%S");
        let name = |n: u32| if n == 0 { String::new() } else { format!("-{n}") };
        let names = (0..).map(|n| path.with_file_name(format!("{authority}.until-{day}{}.key.pem", name(n))));
        let mut free = names.skip_while(|path| path.exists());
        free.next().expect("some name is free")
    }

    /// Forgets the account at this directory, when the authority does not know it any more.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn forget_account(&self, authority: &str, directory: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM account WHERE authority = ? AND directory = ?", [authority, directory]).map(drop)
    }
}
