//! What is known of authorities: which are left alone for a while, and whose answers a person has accepted.

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::decision::{AuthorityHold, hold_after};
use eskort_core::pki::Certificate;
use jiff::Timestamp;
use rusqlite::params;

impl Store {
    /// Returns until when an authority is left alone. `section` tells what stands for what the inventory says of it: a hold that
    /// came from a mistake there ends when it changes.
    ///
    /// # Errors
    /// When the ledger fails.
    pub async fn authority_hold(
        &self,
        authority: &str,
        section: impl FnOnce() -> String,
    ) -> Result<Option<AuthorityHold>, StoreError> {
        let sql = "SELECT until, reason, section FROM hold WHERE authority = ?";
        let read = |row: &rusqlite::Row<'_>| {
            Ok((AuthorityHold { until: instant(row, 0)?, reason: row.get(1)? }, row.get::<_, String>(2)?))
        };
        let found = self.rows(sql, [authority], read)?.into_iter().next();
        Ok(found.filter(|(_, of)| of.is_empty() || *of == section()).map(|(hold, _)| hold))
    }

    /// Leaves an authority alone: longer after each refusal in a row, and as long as it says itself. `section` is empty unless
    /// the hold comes from what the inventory says of the authority.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn hold_authority(
        &self,
        authority: &str,
        section: &str,
        reason: &str,
        authority_says: Option<Timestamp>,
        now: Timestamp,
    ) -> Result<AuthorityHold, StoreError> {
        let known = "SELECT count, until FROM hold WHERE authority = ?";
        let hold = "INSERT INTO hold (authority, section, count, last, until, reason) VALUES (?, ?, ?, ?, ?, ?)
                   ON CONFLICT (authority) DO UPDATE SET section = excluded.section, count = excluded.count,
                     last = excluded.last, until = excluded.until, reason = excluded.reason";
        self.in_one_transaction(|| {
            let known = self.rows(known, [authority], |row| Ok((row.get::<_, u32>(0)?, instant(row, 1)?)))?;
            let (count, longest) = known.into_iter().next().map_or((1, now), |(count, until)| (count + 1, until));
            let until = longest.max(hold_after(count, now, authority_says));
            self.run(hold, params![authority, section, count, now.as_second(), until.as_second(), reason])?;
            Ok(AuthorityHold { until, reason: reason.to_owned() })
        })
    }

    /// Writes down that a person takes answers by an issuer for an authority's.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn accept_issuer(&self, authority: &str, issuer: &Certificate) -> Result<(), StoreError> {
        let sql = "INSERT INTO issuer (authority, certificate) VALUES (?, ?) ON CONFLICT DO NOTHING";
        self.run(sql, params![authority, issuer.der()]).map(drop)
    }

    /// Returns the issuers that a person has accepted for an authority.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn accepted_issuers(&self, authority: &str) -> Result<Vec<Certificate>, StoreError> {
        let sql = "SELECT certificate FROM issuer WHERE authority = ?";
        let found = self.rows(sql, [authority], |row| row.get::<_, Vec<u8>>(0))?;
        Ok(found.iter().filter_map(|der| Certificate::from_der(der).ok()).collect())
    }

    /// Ends the hold of an authority, after it did what was asked.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn end_authority_hold(&self, authority: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM hold WHERE authority = ?", [authority]).map(drop)
    }
}
