//! Debts in the ledger: what was published and has to be taken away again.

use crate::rows::{decode, encode};
use crate::{Store, StoreError};
use eskort_core::debt::Debt;
use jiff::Timestamp;
use rusqlite::{Row, params};

/// Something that is owed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DebtRow {
    /// Its number in the ledger.
    pub id: i64,
    /// The certificate it was made for.
    pub certificate: String,
    /// What it is.
    pub debt: Debt,
    /// Why it could not be paid, the last time.
    pub trouble: Option<String>,
}

impl Store {
    /// Writes down debts, all as one, before the things are published. The same debt twice is one.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn owe(&self, certificate: &str, debts: &[Debt], now: Timestamp) -> Result<(), StoreError> {
        // The first entry stands: it knows the folders that did not exist before.
        let sql = "INSERT INTO debt (certificate, kind, at, what, debt, owed) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING";
        let owe = |debt: &Debt| {
            let (kind, at, what) = debt.key();
            self.run(sql, params![certificate, kind, at, what, encode(debt), now.as_second()]).map(drop)
        };
        self.in_one_transaction(|| debts.iter().try_for_each(owe))
    }

    /// Returns everything that is owed, the newest first: a file before the folders that were made for an earlier one.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    pub fn debts(&self) -> Result<Vec<DebtRow>, StoreError> {
        let sql = "SELECT id, certificate, debt, last_trouble FROM debt ORDER BY id DESC";
        let read = |row: &Row<'_>| Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?, row.get(3)?));
        let row = |(id, certificate, text, trouble): (_, _, String, _)| {
            Ok(DebtRow { id, certificate, debt: decode("debt", &text)?, trouble })
        };
        self.rows(sql, [], read)?.into_iter().map(row).collect()
    }

    /// Writes down more about a debt: what an API calls what was published.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn amend_debt(&self, debt: &Debt) -> Result<(), StoreError> {
        let (kind, at, what) = debt.key();
        let sql = "UPDATE debt SET debt = ? WHERE kind = ? AND at = ? AND what = ?";
        self.run(sql, params![encode(debt), kind, at, what]).map(drop)
    }

    /// Strikes debts by what they are: what they are about did not come to be.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn strike(&self, debts: &[Debt]) -> Result<(), StoreError> {
        let strike = |debt: &Debt| {
            let (kind, at, what) = debt.key();
            self.run("DELETE FROM debt WHERE kind = ? AND at = ? AND what = ?", params![kind, at, what]).map(drop)
        };
        self.in_one_transaction(|| debts.iter().try_for_each(strike))
    }

    /// Strikes debts that are paid, all as one.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn paid(&self, debts: &[i64]) -> Result<(), StoreError> {
        let strike = |id| self.run("DELETE FROM debt WHERE id = ?", [id]).map(drop);
        self.in_one_transaction(|| debts.iter().try_for_each(strike))
    }

    /// Writes down why a debt could not be paid.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn trouble_with_debt(&self, debt: i64, why: &str) -> Result<(), StoreError> {
        self.run("UPDATE debt SET last_trouble = ? WHERE id = ?", params![why, debt]).map(drop)
    }
}
