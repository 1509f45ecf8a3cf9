//! Since when records name the keys of generations (TLSA, RFC 6698).

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use jiff::{SignedDuration, Timestamp};
use rusqlite::params;

/// The records of a generation's key, which every name server has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TlsaRow {
    /// The generation.
    pub generation: u32,
    /// What they say of its key: a generation with the same key has the same records.
    pub digest: String,
    /// Since when every name server has them.
    pub published: Timestamp,
    /// How long others remember that there was none, or only another one, in seconds.
    pub ttl: u32,
}

impl TlsaRow {
    /// Returns from when on nobody remembers what was there before.
    pub fn known_from(&self) -> Timestamp {
        self.published + SignedDuration::from_secs(i64::from(self.ttl))
    }
}

impl Store {
    /// Returns the generations of a certificate whose keys are named by records.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn tlsa(&self, certificate: &str) -> Result<Vec<TlsaRow>, StoreError> {
        let sql = "SELECT generation, digest, published, ttl FROM tlsa WHERE certificate = ? ORDER BY generation";
        self.rows(sql, [certificate], |row| {
            Ok(TlsaRow { generation: row.get(0)?, digest: row.get(1)?, published: instant(row, 2)?, ttl: row.get(3)? })
        })
    }

    /// Returns the certificates whose keys are named by records.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn with_tlsa(&self) -> Result<Vec<String>, StoreError> {
        self.rows("SELECT DISTINCT certificate FROM tlsa ORDER BY certificate", [], |row| row.get(0))
    }

    /// Writes down that every name server has the records of a generation's key.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn save_tlsa(&self, certificate: &str, tlsa: &TlsaRow) -> Result<(), StoreError> {
        let sql = "INSERT INTO tlsa (certificate, generation, digest, published, ttl) VALUES (?, ?, ?, ?, ?)
                   ON CONFLICT (certificate, generation) DO UPDATE SET digest = excluded.digest,
                     published = excluded.published, ttl = excluded.ttl";
        let TlsaRow { generation, digest, published, ttl } = tlsa;
        self.run(sql, params![certificate, generation, digest, published.as_second(), ttl]).map(drop)
    }

    /// Forgets the records of a generation's key: they are gone.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn forget_tlsa(&self, certificate: &str, generation: u32) -> Result<(), StoreError> {
        let sql = "DELETE FROM tlsa WHERE certificate = ? AND generation = ?";
        self.run(sql, params![certificate, generation]).map(drop)
    }
}
