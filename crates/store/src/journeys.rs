//! Journeys, generations, failures and events in the ledger.

use crate::{Store, StoreError};
use eskort_core::decision::{Failures, Held, Specification};
use eskort_core::journey::{Next, STAGE_VERSION, Stage};
use eskort_core::pki::Chain;
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, RowIndex, params};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// An open journey as saved.
#[derive(Clone, Debug)]
pub struct JourneyRow {
    /// Its number in the ledger.
    pub id: i64,
    /// The generation it is to bring.
    pub generation: u32,
    /// What it was started for.
    pub specification: Specification,
    /// Where it stands.
    pub stage: Stage,
    /// When it was started.
    pub started: Timestamp,
}

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
}

impl GenerationRow {
    /// Returns what a decision needs to know of it.
    pub fn held(&self) -> Held {
        Held { generation: self.number, specification: self.specification.clone(), validity: self.validity }
    }
}

/// Something that happened.
#[derive(Clone, Debug, Serialize)]
pub struct EventRow {
    /// When.
    pub at: Timestamp,
    /// What.
    pub text: String,
}

pub(crate) fn instant(row: &Row<'_>, column: impl RowIndex) -> rusqlite::Result<Timestamp> {
    Ok(Timestamp::from_second(row.get(column)?).unwrap_or(Timestamp::UNIX_EPOCH))
}

fn maybe_instant(row: &Row<'_>, column: &str) -> rusqlite::Result<Option<Timestamp>> {
    Ok(row.get::<_, Option<i64>>(column)?.and_then(|s| Timestamp::from_second(s).ok()))
}

pub(crate) fn decode<T: DeserializeOwned>(what: &'static str, text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|source| StoreError::Row { what, source })
}

pub(crate) fn encode<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).expect("our own types encode as JSON")
}

impl Store {
    /// Returns the open journey of a certificate.
    ///
    /// # Errors
    /// When the ledger fails, or the journey was saved by a newer program.
    pub fn open_journey(&self, certificate: &str) -> Result<Option<JourneyRow>, StoreError> {
        let sql = "SELECT id, generation, wanted, stage_version, stage, started FROM journey
                   WHERE certificate = ? AND ended IS NULL";
        let read = |row: &Row<'_>| {
            let texts: (String, u32, String) = (row.get("wanted")?, row.get("stage_version")?, row.get("stage")?);
            Ok((row.get("id")?, row.get("generation")?, texts, instant(row, "started")?))
        };
        let found = self.rows(sql, [certificate], read)?.into_iter().next();
        let Some((id, generation, (wanted, version, stage), started)) = found else { return Ok(None) };
        if version > STAGE_VERSION {
            let (found, known) = (version.into(), STAGE_VERSION.into());
            return Err(StoreError::Newer { path: self.root.join("ledger.sqlite"), found, known });
        }
        let unreadable = |source| StoreError::Row { what: "journey", source };
        let (wanted, stage) = (decode("journey", &wanted)?, Stage::from_saved(version, &stage).map_err(unreadable)?);
        Ok(Some(JourneyRow { id, generation, specification: wanted, stage, started }))
    }

    /// Starts a journey at a stage and returns it.
    ///
    /// # Errors
    /// When the ledger fails, or the certificate has an open journey already.
    pub fn start_journey(
        &self,
        certificate: &str,
        generation: u32,
        specification: &Specification,
        stage: Stage,
        now: Timestamp,
    ) -> Result<JourneyRow, StoreError> {
        self.run(
            "INSERT INTO journey (certificate, generation, wanted, stage_version, stage, started, changed)
             VALUES (?, ?, ?, ?, ?, ?6, ?6)",
            params![certificate, generation, encode(specification), STAGE_VERSION, encode(&stage), now.as_second()],
        )?;
        let id = self.db.last_insert_rowid();
        Ok(JourneyRow { id, generation, specification: specification.clone(), stage, started: now })
    }

    /// Writes down where the journey stands now and what happened, as one. A journey with nothing left to do is at its end.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn save_stage(
        &self,
        certificate: &str,
        journey: i64,
        stage: &Stage,
        event: Option<&str>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let passed = stage.milestone().map(|m| m.word());
        let waits_for = stage.awaits().map(|a| a.word());
        let ended = (stage.next(now) == Next::Done).then_some(now.as_second());
        let ending = ended.map(|_| "arrived");
        self.in_one_transaction(|| {
            self.run(
                "UPDATE journey SET stage = ?, stage_version = ?, passed = ?, waits_for = ?, changed = ?, ended = ?, ending = ?
                 WHERE id = ?",
                params![encode(stage), STAGE_VERSION, passed, waits_for, now.as_second(), ended, ending, journey],
            )?;
            event.map_or(Ok(()), |text| self.add_event(certificate, text, now))
        })
    }

    /// Gives a journey up.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn give_up_journey(
        &self,
        certificate: &str,
        journey: i64,
        why: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let sql = "UPDATE journey SET ended = ?1, changed = ?1, ending = ?2 WHERE id = ?3";
        self.in_one_transaction(|| {
            self.run(sql, params![now.as_second(), why, journey])?;
            self.add_event(certificate, &format!("given up: {why}"), now)
        })
    }

    /// Returns the number for a new generation: above every one that has something of its own, in the ledger or on disk, so that
    /// no number ever stands for two keys. `discarded` is the number of a journey that is given up with all it has.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn next_generation(&self, certificate: &str, discarded: Option<u32>) -> Result<u32, StoreError> {
        let sql = "SELECT max(
              coalesce((SELECT max(generation) FROM journey WHERE certificate = ?1 AND ended IS NULL AND generation IS NOT ?2), 0),
              coalesce((SELECT max(number) FROM generation WHERE certificate = ?1), 0))";
        let given = self.db.query_row(sql, params![certificate, discarded], |row| row.get::<_, u32>(0));
        let given = given.map_err(|e| self.fail(e))?;
        Ok(given.max(self.highest_folder(certificate, discarded)) + 1)
    }

    /// Records a generation whose files are stored. Doing it twice is the same as once; another certificate takes the place of the
    /// one before.
    ///
    /// # Errors
    /// When the ledger fails, or the certificate is another generation already.
    pub fn record_generation(
        &self,
        certificate: &str,
        number: u32,
        specification: &Specification,
        chain: &Chain,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let leaf = chain.leaf();
        self.run(
            "INSERT INTO generation (certificate, number, wanted, serial, fingerprint, issuer, not_before, not_after, received)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (certificate, number) DO UPDATE SET wanted = excluded.wanted, serial = excluded.serial,
               fingerprint = excluded.fingerprint, issuer = excluded.issuer, not_before = excluded.not_before,
               not_after = excluded.not_after, received = excluded.received, confirmed = NULL
             WHERE fingerprint <> excluded.fingerprint",
            params![
                certificate,
                number,
                encode(specification),
                leaf.serial,
                leaf.fingerprint().to_string(),
                leaf.issuer,
                leaf.not_before.as_second(),
                leaf.not_after.as_second(),
                now.as_second()
            ],
        )
        .map(drop)
    }

    /// Returns which generation a certificate is, by its fingerprint in hexadecimal.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn generation_of(&self, certificate: &str, fingerprint: &str) -> Result<Option<u32>, StoreError> {
        let sql = "SELECT number FROM generation WHERE certificate = ? AND fingerprint = ?";
        Ok(self.rows(sql, [certificate, fingerprint], |row| row.get(0))?.into_iter().next())
    }

    /// Writes down that a generation was seen live.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn mark_confirmed(&self, certificate: &str, number: u32, now: Timestamp) -> Result<(), StoreError> {
        let sql = "UPDATE generation SET confirmed = coalesce(confirmed, ?) WHERE certificate = ? AND number = ?";
        self.run(sql, params![now.as_second(), certificate, number]).map(drop)
    }

    /// Returns the generations of a certificate, newest first.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    pub fn generations(&self, certificate: &str) -> Result<Vec<GenerationRow>, StoreError> {
        let sql = "SELECT * FROM generation WHERE certificate = ? ORDER BY number DESC";
        let read = |row: &Row<'_>| {
            let wanted: String = row.get("wanted")?;
            let not_before = instant(row, "not_before")?;
            let validity = Validity { not_before, not_after: instant(row, "not_after")? };
            let names = (row.get("serial")?, row.get("fingerprint")?, row.get("issuer")?);
            Ok((
                row.get("number")?,
                wanted,
                names,
                validity,
                instant(row, "received")?,
                maybe_instant(row, "confirmed")?,
            ))
        };
        let row = |(number, wanted, (serial, fingerprint, issuer), validity, received, confirmed): (
            _,
            String,
            _,
            _,
            _,
            _,
        )| {
            let wanted = decode("generation", &wanted)?;
            Ok(GenerationRow {
                number,
                specification: wanted,
                serial,
                fingerprint,
                issuer,
                validity,
                received,
                confirmed,
            })
        };
        self.rows(sql, [certificate], read)?.into_iter().map(row).collect()
    }

    /// Returns the newest generation of a certificate.
    ///
    /// # Errors
    /// As [`Store::generations`].
    pub fn newest(&self, certificate: &str) -> Result<Option<GenerationRow>, StoreError> {
        Ok(self.generations(certificate)?.into_iter().next())
    }

    /// Writes down a failure; they count up until [`Store::clear_failures`].
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn record_failure(
        &self,
        certificate: &str,
        reason: &str,
        hold_until: Option<Timestamp>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let hold_until = hold_until.map(Timestamp::as_second);
        self.in_one_transaction(|| {
            self.run(
                "INSERT INTO failure (certificate, count, last, hold_until, reason) VALUES (?, 1, ?, ?, ?)
                 ON CONFLICT DO UPDATE SET count = count + 1, last = excluded.last,
                   hold_until = nullif(max(coalesce(hold_until, 0), coalesce(excluded.hold_until, 0)), 0),
                   reason = excluded.reason",
                params![certificate, now.as_second(), hold_until, reason],
            )?;
            self.add_event(certificate, &format!("failed: {reason}"), now)
        })
    }

    /// Forgets the failures of a certificate, after a success.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn clear_failures(&self, certificate: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM failure WHERE certificate = ?", [certificate]).map(drop)
    }

    /// Returns the failures since the last success, and the last reason.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn failures(&self, certificate: &str) -> Result<Option<(Failures, String)>, StoreError> {
        let sql = "SELECT count, last, hold_until, reason FROM failure WHERE certificate = ?";
        let read = |row: &Row<'_>| {
            let (last, hold_until) = (instant(row, "last")?, maybe_instant(row, "hold_until")?);
            Ok((Failures { count: row.get("count")?, last, hold_until }, row.get("reason")?))
        };
        self.db.query_row(sql, [certificate], read).optional().map_err(|e| self.fail(e))
    }

    /// Writes down that something happened.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn add_event(&self, certificate: &str, text: &str, now: Timestamp) -> Result<(), StoreError> {
        let sql = "INSERT INTO event (certificate, at, text) VALUES (?, ?, ?)";
        self.run(sql, params![certificate, now.as_second(), text]).map(drop)
    }

    /// Returns the last events of a certificate, newest first.
    ///
    /// # Errors
    /// When the ledger fails.
    pub fn events(&self, certificate: &str, most: u32) -> Result<Vec<EventRow>, StoreError> {
        let sql = "SELECT at, text FROM event WHERE certificate = ? ORDER BY id DESC LIMIT ?";
        let read = |row: &Row<'_>| Ok(EventRow { at: instant(row, "at")?, text: row.get("text")? });
        self.rows(sql, params![certificate, most], read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::journey::Milestone;
    use eskort_core::names::Identifier;
    use eskort_core::pki::KeyKind;
    use std::path::Path;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn wanted() -> Specification {
        let names = vec![Identifier::parse("lampholm.example").unwrap()];
        Specification {
            names,
            authority: "public".into(),
            reached: None,
            key: KeyKind::P256.word().into(),
            request: None,
        }
    }

    #[test]
    fn a_journey_is_saved_step_by_step_and_only_one_is_open() {
        let store = Store::in_memory(Path::new("/nowhere")).unwrap();
        let journey = store.start_journey("website", 1, &wanted(), Stage::Opened, at(1)).unwrap();
        assert!(store.start_journey("website", 2, &wanted(), Stage::Opened, at(1)).is_err());
        store.save_stage("website", journey.id, &Stage::Prepared, Some("prepared"), at(2)).unwrap();
        let open = store.open_journey("website").unwrap().unwrap();
        assert_eq!(open.stage.milestone(), Some(Milestone::Prepared));
        store.give_up_journey("website", journey.id, "the inventory changed", at(3)).unwrap();
        assert!(store.open_journey("website").unwrap().is_none());
        let said: Vec<_> = store.events("website", 9).unwrap().into_iter().map(|e| e.text).collect();
        assert_eq!(said, ["given up: the inventory changed", "prepared"]);
    }

    #[test]
    fn failures_count_up_until_cleared() {
        let store = Store::in_memory(Path::new("/nowhere")).unwrap();
        store.record_failure("website", "refused", None, at(5)).unwrap();
        store.record_failure("website", "limits", Some(at(90)), at(7)).unwrap();
        let (failures, reason) = store.failures("website").unwrap().unwrap();
        assert_eq!((failures.count, failures.last, failures.hold_until), (2, at(7), Some(at(90))));
        assert_eq!(reason, "limits");
        // A later failure of another kind does not shorten what the authority asked for.
        store.record_failure("website", "disk full", None, at(8)).unwrap();
        assert_eq!(store.failures("website").unwrap().unwrap().0.hold_until, Some(at(90)));
        store.clear_failures("website").unwrap();
        assert!(store.failures("website").unwrap().is_none());
    }
}
