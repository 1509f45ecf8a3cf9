//! What was counted at authorities: orders, certificates for domains and names, validations that failed.

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::budget::{Counted, Needed, Room, Spent, Tally, cost, needed, waits_for};
use eskort_core::inventory::Limits;
use eskort_core::names::Identifier;
use jiff::{SignedDuration, Timestamp};
use rusqlite::{Row, params};

/// Nobody counts over a longer time.
const KEPT: SignedDuration = SignedDuration::from_hours(366 * 24);

/// What an order needs room for.
#[derive(Clone, Copy, Debug)]
pub struct Needs<'a> {
    /// What stands for its authority.
    pub authority: &'a str,
    /// How much is asked of that at the most.
    pub limits: &'a Limits,
    /// Its names.
    pub names: &'a [Identifier],
}

/// An order, as it is counted.
#[derive(Clone, Copy, Debug)]
pub struct Counting<'a> {
    /// What it needs room for.
    pub needs: Needs<'a>,
    /// The certificate's name in the inventory.
    pub certificate: &'a str,
    /// The generation that it is to bring.
    pub generation: u32,
}

impl Store {
    /// Returns what was counted at an authority within the longest of its limits.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn spent(&self, authority: &str, limits: &Limits, now: Timestamp) -> Result<Vec<Spent>, StoreError> {
        let sql = "SELECT counted, subject, at FROM spent WHERE authority = ? AND at >= ?";
        let read = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get(1)?, instant(row, 2)?));
        let found = self.rows(sql, params![authority, (now - limits.longest()).as_second()], read)?;
        let known = |(word, subject, at): (String, String, Timestamp)| {
            Some(Spent { counted: Counted::of_word(&word)?, subject, at })
        };
        Ok(found.into_iter().filter_map(known).collect())
    }

    /// Returns how the budgets stand at an authority that an order for names needs.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn rooms(&self, needs: &Needs<'_>, now: Timestamp) -> Result<Vec<Room>, StoreError> {
        self.in_one_view(|| self.read_rooms(needs, now))
    }

    fn read_rooms(&self, needs: &Needs<'_>, now: Timestamp) -> Result<Vec<Room>, StoreError> {
        let room = |needed: Needed| Ok(needed.room(&self.tally(needs.authority, &needed)?, now));
        needed(needs.limits, needs.names, now).into_iter().map(room).collect()
    }

    fn tally(&self, authority: &str, needed: &Needed) -> Result<Tally, StoreError> {
        let which = "FROM spent WHERE authority = ? AND counted = ? AND subject = ? AND at > ?";
        let (word, since, most) = (needed.counted.word(), needed.since.as_second(), needed.limit.most);
        let count =
            self.rows(&format!("SELECT count(*) {which}"), params![authority, word, needed.subject, since], |row| {
                row.get(0)
            })?;
        let count: u32 = count.into_iter().next().unwrap_or(0);
        if count < most || most == 0 {
            return Ok(Tally { count, oldest: None });
        }
        let oldest = format!("SELECT at {which} ORDER BY at LIMIT 1 OFFSET ?");
        let oldest =
            self.rows(&oldest, params![authority, word, needed.subject, since, count - most], |row| instant(row, 0))?;
        Ok(Tally { count, oldest: oldest.into_iter().next() })
    }

    /// Counts an order that is about to be placed, unless a budget has no room for it: that is returned then, with the instant at
    /// which it has room again. With `beyond` it is counted all the same. Runs that do this at once share what is left.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn spend(
        &self,
        order: &Counting<'_>,
        beyond: bool,
        now: Timestamp,
    ) -> Result<Option<(Room, Timestamp)>, StoreError> {
        let sql =
            "INSERT INTO spent (authority, counted, subject, at, certificate, generation) VALUES (?, ?, ?, ?, ?, ?)";
        self.in_one_transaction(|| {
            self.take_back(order.certificate, order.generation)?;
            let rooms = self.read_rooms(&order.needs, now)?;
            if let Some(waits) = waits_for(rooms).filter(|_| !beyond) {
                return Ok(Some(waits));
            }
            self.run(
                "DELETE FROM spent WHERE authority = ? AND at < ?",
                params![order.needs.authority, (now - KEPT).as_second()],
            )?;
            for (counted, subject) in cost(order.needs.names) {
                let values = params![
                    order.needs.authority,
                    counted.word(),
                    subject,
                    now.as_second(),
                    order.certificate,
                    order.generation
                ];
                self.run(sql, values)?;
            }
            Ok(None)
        })
    }

    /// Takes back what an order counted as that the authority has not taken.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn not_spent(&self, certificate: &str, generation: u32) -> Result<(), StoreError> {
        let last = "SELECT max(id) FROM spent WHERE certificate = ? AND generation = ? AND counted = 'orders'";
        self.in_one_transaction(|| {
            self.take_back(certificate, generation)?;
            for id in self.rows(last, params![certificate, generation], |row| row.get::<_, Option<i64>>(0))? {
                self.run("DELETE FROM spent WHERE id = ?", [id])?;
            }
            Ok(())
        })
    }

    /// An order that brings no certificate stays an order, and counts as nothing else.
    pub(crate) fn take_back(&self, certificate: &str, generation: u32) -> Result<(), StoreError> {
        let sql = "DELETE FROM spent WHERE certificate = ? AND generation = ? AND counted IN ('domain', 'same-names')";
        self.run(sql, params![certificate, generation]).map(drop)
    }

    /// Counts validations that failed.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn spend_failures(
        &self,
        authority: &str,
        certificate: &str,
        names: &[String],
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let sql = "INSERT INTO spent (authority, counted, subject, at, certificate) VALUES (?, ?, ?, ?, ?)";
        self.in_one_transaction(|| {
            for name in names {
                self.run(sql, params![authority, Counted::Failures.word(), name, now.as_second(), certificate])?;
            }
            Ok(())
        })
    }
}
