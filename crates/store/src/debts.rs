//! Debts in the ledger: what was published and has to be taken away again.

use crate::rows::{decode, encode};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::debt::Debt;
use jiff::Timestamp;
use rusqlite::{Params, Row, params};

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
    /// Writes down debts, all as one, before the things are published. The same debt twice is one; several certificates may owe the
    /// same thing, which goes with the last.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn owe(&self, certificate: &str, debts: &[Debt], now: Timestamp) -> Result<(), StoreError> {
        let sql = "INSERT INTO debt (certificate, kind, at, what, debt, owed) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING";
        let known = "SELECT debt FROM debt WHERE kind = ? AND at = ? AND what = ?";
        let owe = |debt: &Debt| {
            let (kind, at, what) = debt.key();
            // The first entry stands for all: it knows the folders that did not exist before, and what an API calls a record.
            let known = self.rows(known, params![kind, at, what], |row| row.get::<_, String>(0))?;
            let debt = known.into_iter().next().unwrap_or_else(|| encode(debt));
            self.run(sql, params![certificate, kind, at, what, debt, now.as_second()]).map(drop)
        };
        self.in_one_transaction(|| debts.iter().try_for_each(owe))
    }

    /// Returns everything that is owed, the newest first: a file before the folders that were made for an earlier one.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    #[boxed]
    pub async fn debts(&self) -> Result<Vec<DebtRow>, StoreError> {
        self.read_debts("TRUE", [])
    }

    /// Returns what is owed for a certificate, the newest first.
    ///
    /// # Errors
    /// As [`Store::debts`].
    #[boxed]
    pub async fn debts_of(&self, certificate: &str) -> Result<Vec<DebtRow>, StoreError> {
        self.read_debts("certificate = ?", [certificate])
    }

    fn read_debts(&self, which: &str, params: impl Params) -> Result<Vec<DebtRow>, StoreError> {
        let sql = format!("SELECT id, certificate, debt, last_trouble FROM debt WHERE {which} ORDER BY id DESC");
        let read = |row: &Row<'_>| Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?, row.get(3)?));
        let row = |(id, certificate, text, trouble): (_, _, String, _)| {
            Ok(DebtRow { id, certificate, debt: decode("debt", &text)?, trouble })
        };
        self.rows(&sql, params, read)?.into_iter().map(row).collect()
    }

    /// Writes down more about a debt: what an API calls what was published.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn amend_debt(&self, debt: &Debt) -> Result<(), StoreError> {
        let (kind, at, what) = debt.key();
        let sql = "UPDATE debt SET debt = ? WHERE kind = ? AND at = ? AND what = ?";
        self.run(sql, params![encode(debt), kind, at, what]).map(drop)
    }

    /// Strikes a debt when another certificate owes the same thing, which needs it until its own debt is paid. Returns whether.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn pass_on(&self, row: &DebtRow) -> Result<bool, StoreError> {
        let (kind, at, what) = row.debt.key();
        let others = "SELECT id FROM debt WHERE kind = ? AND at = ? AND what = ? AND certificate <> ?";
        self.in_one_transaction(|| {
            let others = self.rows(others, params![kind, at, what, row.certificate], |row| row.get::<_, i64>(0))?;
            if !others.is_empty() {
                self.strike_row(row.id)?;
            }
            Ok(!others.is_empty())
        })
    }

    fn strike_row(&self, id: i64) -> Result<(), StoreError> {
        self.run("DELETE FROM debt WHERE id = ?", [id]).map(drop)
    }

    /// Strikes debts of a certificate by what they are: what they are about did not come to be.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn strike(&self, certificate: &str, debts: &[Debt]) -> Result<(), StoreError> {
        let sql = "DELETE FROM debt WHERE kind = ? AND at = ? AND what = ? AND certificate = ?";
        let strike = |debt: &Debt| {
            let (kind, at, what) = debt.key();
            self.run(sql, params![kind, at, what, certificate]).map(drop)
        };
        self.in_one_transaction(|| debts.iter().try_for_each(strike))
    }

    /// Strikes debts that are paid, all as one.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn paid(&self, debts: &[i64]) -> Result<(), StoreError> {
        self.in_one_transaction(|| debts.iter().try_for_each(|id| self.strike_row(*id)))
    }

    /// Writes down why a debt could not be paid.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn trouble_with_debt(&self, debt: i64, why: &str) -> Result<(), StoreError> {
        self.run("UPDATE debt SET last_trouble = ? WHERE id = ?", params![why, debt]).map(drop)
    }
}
