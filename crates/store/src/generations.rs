//! Generations in the ledger.

use crate::rows::{decode, encode, instant, maybe_instant};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::decision::{Specification, Stored};
use eskort_core::event::Event;
use eskort_core::pki::Chain;
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use rusqlite::{Row, params};
use std::collections::BTreeMap;

/// A stored generation.
#[derive(Clone, Debug)]
pub struct GenerationRow {
    /// Its number.
    pub number: u32,
    /// What it was made for.
    pub specification: Specification,
    /// The certificate's serial number in hexadecimal.
    pub serial: String,
    /// The certificate's SHA-256 fingerprint in hexadecimal.
    pub fingerprint: String,
    /// The issuer's name.
    pub issuer: String,
    /// When it is good.
    pub validity: Validity,
    /// When it came.
    pub received: Timestamp,
    /// When it was first seen live.
    pub confirmed: Option<Timestamp>,
    /// Since when it is revoked.
    pub revoked: Option<Timestamp>,
    /// When its files were removed.
    pub swept: Option<Timestamp>,
    /// When its authority is to be asked again whether it is revoked; `None` where it was not asked yet.
    pub ask_revocation: Option<Timestamp>,
}

impl GenerationRow {
    /// Returns what a decision needs to know of it.
    pub fn stored(&self) -> Stored {
        let revoked = self.revoked.is_some();
        Stored { generation: self.number, specification: self.specification.clone(), validity: self.validity, revoked }
    }
}

impl Store {
    /// Returns the number for a new generation: above every one that has something of its own, in the ledger or on disk, so that
    /// no number ever stands for two keys. `discarded` is the number of a journey that is given up with all it has.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn next_generation(&self, certificate: &str, discarded: Option<u32>) -> Result<u32, StoreError> {
        let open = "SELECT max(generation) FROM journey WHERE certificate = ? AND ended IS NULL AND generation <> ?";
        let stored = "SELECT max(number) FROM generation WHERE certificate = ?";
        let number = |row: &Row<'_>| row.get::<_, Option<u32>>(0);
        // No generation has the number 0.
        let of_open = params![certificate, discarded.unwrap_or(0)];
        let (open, stored) =
            self.in_one_view(|| Ok((self.rows(open, of_open, number)?, self.rows(stored, [certificate], number)?)))?;
        let given = open.into_iter().chain(stored).flatten().max().unwrap_or(0);
        Ok(given.max(self.highest_folder(certificate, discarded)) + 1)
    }

    /// Records a generation whose files are stored, and what happened, as one. Doing it twice is the same as once; another certificate
    /// takes the place of the one before.
    ///
    /// # Errors
    /// When the ledger fails, or the certificate is another generation already.
    #[boxed]
    pub async fn record_generation(
        &self,
        certificate: &str,
        number: u32,
        specification: &Specification,
        chain: &Chain,
        event: Option<&Event>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let leaf = chain.leaf();
        let sql = "INSERT INTO generation (certificate, number, specification, serial, fingerprint, issuer, not_before, not_after, received)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (certificate, number) DO UPDATE SET specification = excluded.specification, serial = excluded.serial,
               fingerprint = excluded.fingerprint, issuer = excluded.issuer, not_before = excluded.not_before,
               not_after = excluded.not_after, received = excluded.received, confirmed = NULL
             WHERE fingerprint <> excluded.fingerprint";
        let (specified, fingerprint) = (encode(specification), leaf.fingerprint().to_string());
        let (from, to) = (leaf.not_before.as_second(), leaf.not_after.as_second());
        let received = now.as_second();
        self.in_one_transaction(|| {
            let values =
                params![certificate, number, specified, leaf.serial, fingerprint, leaf.issuer, from, to, received];
            self.run(sql, values)?;
            event.map_or(Ok(()), |event| self.write_event(certificate, event, now))
        })
    }

    /// Returns which generation a certificate is, by its fingerprint in hexadecimal.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn generation_of(&self, certificate: &str, fingerprint: &str) -> Result<Option<u32>, StoreError> {
        let sql = "SELECT number FROM generation WHERE certificate = ? AND fingerprint = ?";
        Ok(self.rows(sql, [certificate, fingerprint], |row| row.get(0))?.into_iter().next())
    }

    /// Writes down that a generation was seen live.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn mark_confirmed(&self, certificate: &str, number: u32, now: Timestamp) -> Result<(), StoreError> {
        let sql = "UPDATE generation SET confirmed = coalesce(confirmed, ?) WHERE certificate = ? AND number = ?";
        self.run(sql, params![now.as_second(), certificate, number]).map(drop)
    }

    /// Writes down that a generation is revoked, and what happened, as one; the first time counts.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn mark_revoked(
        &self,
        certificate: &str,
        number: u32,
        event: &Event,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let sql = "UPDATE generation SET revoked = ? WHERE certificate = ? AND number = ? AND revoked IS NULL";
        self.in_one_transaction(|| match self.run(sql, params![now.as_second(), certificate, number])? {
            0 => Ok(()),
            _ => self.write_event(certificate, event, now),
        })
    }

    /// Writes down when authorities are to be asked again whether generations are revoked.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn ask_revocations_again(&self, rows: &[(String, u32, Timestamp)]) -> Result<(), StoreError> {
        let sql = "UPDATE generation SET ask_revocation = ? WHERE certificate = ? AND number = ?";
        self.in_one_transaction(|| {
            rows.iter().try_for_each(|(certificate, number, at)| {
                self.run(sql, params![at.as_second(), certificate, number]).map(drop)
            })
        })
    }

    /// Returns the generations of all certificates that have files, as number and when it came.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn unswept(&self) -> Result<BTreeMap<String, Vec<(u32, Timestamp)>>, StoreError> {
        let sql = "SELECT certificate, number, received FROM generation WHERE swept IS NULL";
        let rows = self.rows(sql, [], |row| Ok((row.get::<_, String>(0)?, row.get(1)?, instant(row, 2)?)))?;
        let mut found: BTreeMap<String, Vec<(u32, Timestamp)>> = BTreeMap::new();
        for (certificate, number, received) in rows {
            found.entry(certificate).or_default().push((number, received));
        }
        Ok(found)
    }

    /// Writes down that the files of a generation were removed, and what happened, as one.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn mark_swept(
        &self,
        certificate: &str,
        number: u32,
        event: &Event,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let sql = "UPDATE generation SET swept = ? WHERE certificate = ? AND number = ?";
        self.in_one_transaction(|| {
            self.run(sql, params![now.as_second(), certificate, number])?;
            self.write_event(certificate, event, now)
        })
    }

    /// Returns the generations of a certificate, newest first.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    #[boxed]
    pub async fn generations(&self, certificate: &str) -> Result<Vec<GenerationRow>, StoreError> {
        self.read_generations("SELECT * FROM generation WHERE certificate = ? ORDER BY number DESC", certificate)
    }

    fn read_generations(&self, sql: &str, certificate: &str) -> Result<Vec<GenerationRow>, StoreError> {
        let read = |row: &Row<'_>| {
            let specification: String = row.get("specification")?;
            let not_before = instant(row, "not_before")?;
            let validity = Validity { not_before, not_after: instant(row, "not_after")? };
            // The specification is read where errors of its own can be told.
            Ok((
                specification,
                GenerationRow {
                    number: row.get("number")?,
                    specification: Specification::default(),
                    serial: row.get("serial")?,
                    fingerprint: row.get("fingerprint")?,
                    issuer: row.get("issuer")?,
                    validity,
                    received: instant(row, "received")?,
                    confirmed: maybe_instant(row, "confirmed")?,
                    revoked: maybe_instant(row, "revoked")?,
                    swept: maybe_instant(row, "swept")?,
                    ask_revocation: maybe_instant(row, "ask_revocation")?,
                },
            ))
        };
        let row = |(specification, row): (String, GenerationRow)| {
            Ok(GenerationRow { specification: decode("generation", &specification)?, ..row })
        };
        self.rows(sql, [certificate], read)?.into_iter().map(row).collect()
    }

    /// Returns the newest generation of a certificate.
    ///
    /// # Errors
    /// As [`Store::generations`].
    #[boxed]
    pub async fn newest(&self, certificate: &str) -> Result<Option<GenerationRow>, StoreError> {
        let sql = "SELECT * FROM generation WHERE certificate = ? ORDER BY number DESC LIMIT 1";
        Ok(self.read_generations(sql, certificate)?.pop())
    }
}
