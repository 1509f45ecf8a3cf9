//! Journeys in the ledger.

use crate::leases::lease_end;
use crate::rows::{decode, encode, instant};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::decision::Specification;
use eskort_core::event::{Event, GivenUp};
use eskort_core::journey::{HumanTask, Next, STAGE_VERSION, Stage};
use jiff::Timestamp;
use rusqlite::{Row, params};

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

impl Store {
    /// Returns the open journey of a certificate.
    ///
    /// # Errors
    /// When the ledger fails, or the journey was saved by a newer program.
    #[boxed]
    pub async fn open_journey(&self, certificate: &str) -> Result<Option<JourneyRow>, StoreError> {
        let sql = "SELECT id, generation, specification, stage_version, stage, started FROM journey
                   WHERE certificate = ? AND ended IS NULL";
        let read = |row: &Row<'_>| {
            let texts: (String, u32, String) =
                (row.get("specification")?, row.get("stage_version")?, row.get("stage")?);
            Ok((row.get("id")?, row.get("generation")?, texts, instant(row, "started")?))
        };
        let found = self.rows(sql, [certificate], read)?.into_iter().next();
        let Some((id, generation, (specification, version, stage), started)) = found else { return Ok(None) };
        if version > STAGE_VERSION {
            let (found, known) = (version.into(), STAGE_VERSION.into());
            return Err(StoreError::Newer { path: self.root.join("ledger.sqlite"), found, known });
        }
        let unreadable = |source| StoreError::Row { what: "journey", source };
        let (specification, stage) =
            (decode("journey", &specification)?, Stage::from_saved(version, &stage).map_err(unreadable)?);
        Ok(Some(JourneyRow { id, generation, specification, stage, started }))
    }

    /// Starts a journey at a stage, leased for this run, and returns it.
    ///
    /// # Errors
    /// When the ledger fails; [`StoreError::Leased`] when the certificate has an open journey or that generation by now: another run was quicker.
    #[boxed]
    pub async fn start_journey(
        &self,
        certificate: &str,
        generation: u32,
        specification: &Specification,
        stage: Stage,
        now: Timestamp,
    ) -> Result<JourneyRow, StoreError> {
        let sql = "INSERT INTO journey (certificate, generation, specification, stage_version, stage, started, changed)
                   VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id";
        let (specified, staged, began) = (encode(specification), encode(&stage), now.as_second());
        let values = params![certificate, generation, specified, STAGE_VERSION, staged, began, began];
        let id = self.in_one_transaction(|| {
            let sooner = "SELECT 1 FROM journey WHERE certificate = ? AND ended IS NULL
                          UNION ALL SELECT 1 FROM generation WHERE certificate = ? AND number >= ?";
            let quicker =
                self.rows(sooner, params![certificate, certificate, generation], |row| row.get::<_, u32>(0))?;
            if !quicker.is_empty() {
                let holder = self.other_holder(certificate, now)?.unwrap_or_else(|| "it was quicker".to_owned());
                return Err(StoreError::Leased { certificate: certificate.to_owned(), holder });
            }
            let id =
                self.rows(sql, values, |row| row.get(0))?.into_iter().next().expect("an insertion returns its row");
            self.take_lease(certificate, id, now)?;
            Ok(id)
        })?;
        Ok(JourneyRow { id, generation, specification: specification.clone(), stage, started: now })
    }

    /// Writes down where the journey stands now and what happened, as one. A journey with nothing left to do is at its end. It is
    /// leased for this run.
    ///
    /// # Errors
    /// When the ledger fails, or another run has taken the journey over.
    #[boxed]
    pub async fn save_stage(
        &self,
        certificate: &str,
        journey: i64,
        stage: &Stage,
        event: Option<&Event>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let passed = stage.milestone().map(|m| m.word());
        let waits_for = stage.human_task().map(HumanTask::word);
        let ended = (stage.next(now) == Next::Done).then_some(now.as_second());
        let ending = ended.map(|_| "arrived");
        let staged = encode(stage);
        self.in_one_transaction(|| {
            let lease_until = lease_end(now);
            let save = || {
                self.run(
                    "UPDATE journey SET stage = ?, stage_version = ?, passed = ?, waits_for = ?, changed = ?, ended = ?, ending = ?, lease_until = ?
                     WHERE id = ? AND lease_holder = ?",
                    params![staged, STAGE_VERSION, passed, waits_for, now.as_second(), ended, ending, lease_until, journey, self.worker_id()],
                )
            };
            // It is leased as a rule.
            if save()? == 0 {
                self.take_lease(certificate, journey, now)?;
                save()?;
            }
            event.map_or(Ok(()), |event| self.write_event(certificate, event, now))
        })
    }

    /// Gives a journey up.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn give_up_journey(
        &self,
        certificate: &str,
        journey: i64,
        why: GivenUp,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let sql = "UPDATE journey SET ended = ?, changed = ?, ending = ? WHERE id = ?";
        self.in_one_transaction(|| {
            self.run(sql, params![now.as_second(), now.as_second(), why.word(), journey])?;
            for generation in self.rows("SELECT generation FROM journey WHERE id = ?", [journey], |row| row.get(0))? {
                self.take_back(certificate, generation)?;
            }
            self.write_event(certificate, &Event::GivenUp { why }, now)
        })
    }
}
