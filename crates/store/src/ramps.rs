//! Where sites stand on the ramp of HSTS.

use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::https::RampStep;
use jiff::Timestamp;
use rusqlite::params;

impl Store {
    /// Returns where a certificate's site on a server stands on the ramp; `None` before its first step.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn ramp(&self, certificate: &str, server: &str) -> Result<Option<RampStep>, StoreError> {
        let sql = "SELECT step, since FROM ramp WHERE certificate = ? AND server = ?";
        let row = |row: &rusqlite::Row<'_>| Ok((row.get::<_, u32>(0)?, row.get::<_, i64>(1)?));
        let found = self.rows(sql, [certificate, server], row)?.into_iter().next();
        Ok(found.map(|(step, since)| RampStep {
            step: usize::try_from(step).unwrap_or_default(),
            since: Timestamp::from_second(since).unwrap_or_default(),
        }))
    }

    /// Writes down where it stands.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn set_ramp(&self, certificate: &str, server: &str, ramp: RampStep) -> Result<(), StoreError> {
        let sql = "INSERT INTO ramp (certificate, server, step, since) VALUES (?, ?, ?, ?)
                   ON CONFLICT (certificate, server) DO UPDATE SET step = excluded.step, since = excluded.since";
        let step = u32::try_from(ramp.step).unwrap_or_default();
        self.run(sql, params![certificate, server, step, ramp.since.as_second()]).map(drop)
    }

    /// Forgets where the sites of a certificate stand: their configurations are as they were.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn forget_ramps(&self, certificate: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM ramp WHERE certificate = ?", [certificate]).map(drop)
    }
}
