//! What people were told of certificates, and what is still to be delivered.

use crate::rows::{decode, encode, instant};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::news::{News, Told};
use jiff::{SignedDuration, Timestamp};
use rusqlite::{Row, params};
use std::collections::BTreeMap;

/// News that was not delivered yet.
#[derive(Clone, Debug)]
pub struct UndeliveredRow {
    /// Its number.
    pub id: i64,
    /// Whom it is for, by the name in the inventory.
    pub notify: String,
    /// What it says.
    pub news: News,
    /// Since when it waits.
    pub since: Timestamp,
    /// Why it could not be delivered, the last time.
    pub trouble: Option<String>,
}

impl Store {
    /// Decides what is new and writes it down, as one: `decide` gets what people were told of each certificate, and returns what they will have
    /// been told then, and the news for each of those who are told.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    pub async fn record_news(
        &self,
        now: Timestamp,
        decide: impl FnOnce(&BTreeMap<String, Told>) -> (Vec<(String, Told)>, Vec<(String, News)>),
    ) -> Result<(), StoreError> {
        self.in_one_transaction(|| {
            let rows = self.rows("SELECT certificate, told FROM told", [], |row: &Row<'_>| {
                Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))
            })?;
            let decoded = rows.into_iter().map(|(certificate, told)| Ok((certificate, decode("told", &told)?)));
            let (told, news) = decide(&decoded.collect::<Result<_, StoreError>>()?);
            for (certificate, told) in told {
                let sql = "INSERT INTO told (certificate, told) VALUES (?, ?)
                           ON CONFLICT (certificate) DO UPDATE SET told = excluded.told";
                self.run(sql, params![certificate, encode(&told)])?;
            }
            for (notify, news) in news {
                let sql = "INSERT INTO undelivered (notify, news, since, taken_until) VALUES (?, ?, ?, 0)";
                self.run(sql, params![notify, encode(&news), now.as_second()])?;
            }
            Ok(())
        })
    }

    /// Returns what is still to be delivered, the oldest first.
    ///
    /// # Errors
    /// As [`Store::record_news`].
    #[boxed]
    pub async fn undelivered(&self) -> Result<Vec<UndeliveredRow>, StoreError> {
        self.read_undelivered(None)
    }

    /// Takes what is to be delivered to somebody, so that no other run delivers it within `time`.
    ///
    /// # Errors
    /// As [`Store::record_news`].
    #[boxed]
    pub async fn take_undelivered(
        &self,
        notify: &str,
        time: SignedDuration,
        now: Timestamp,
    ) -> Result<Vec<UndeliveredRow>, StoreError> {
        self.in_one_transaction(|| {
            let found = self.read_undelivered(Some((notify, now)))?;
            for row in &found {
                let until = (now + time).as_second();
                self.run("UPDATE undelivered SET taken_until = ? WHERE id = ?", params![until, row.id])?;
            }
            Ok(found)
        })
    }

    fn read_undelivered(&self, of: Option<(&str, Timestamp)>) -> Result<Vec<UndeliveredRow>, StoreError> {
        let sql = "SELECT id, notify, news, since, trouble, taken_until FROM undelivered ORDER BY id";
        let read = |row: &Row<'_>| {
            let taken = (row.get::<_, String>(1)?, instant(row, 5)?);
            Ok((taken, row.get(0)?, row.get::<_, String>(2)?, instant(row, 3)?, row.get(4)?))
        };
        let mut found = Vec::new();
        for ((notify, taken_until), id, news, since, trouble) in self.rows(sql, [], read)? {
            if of.is_none_or(|(name, now)| name == notify && taken_until <= now) {
                let news = decode("piece of news", &news)?;
                found.push(UndeliveredRow { id, notify, news, since, trouble });
            }
        }
        Ok(found)
    }

    /// Forgets what was delivered, or what nobody is there any more to be told.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn delivered(&self, rows: &[UndeliveredRow]) -> Result<(), StoreError> {
        self.in_one_transaction(|| {
            rows.iter().try_for_each(|row| self.run("DELETE FROM undelivered WHERE id = ?", [row.id]).map(drop))
        })
    }

    /// Writes down why something could not be delivered: the next run tries again.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn not_delivered(&self, rows: &[UndeliveredRow], trouble: &str) -> Result<(), StoreError> {
        let sql = "UPDATE undelivered SET taken_until = 0, trouble = ? WHERE id = ?";
        self.in_one_transaction(|| rows.iter().try_for_each(|row| self.run(sql, params![trouble, row.id]).map(drop)))
    }
}
