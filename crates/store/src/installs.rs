//! Where generations are: a row for each certificate on each server.

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::event::Event;
use jiff::{SignedDuration, Timestamp};
use rusqlite::params;
use serde::Serialize;

/// How an installation stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum InstallState {
    /// It was begun and undone.
    Failed,
    /// The server has it.
    Installed,
    /// It was seen live.
    Confirmed,
}

impl InstallState {
    /// Returns the state's word.
    pub fn word(self) -> &'static str {
        match self {
            InstallState::Failed => "failed",
            InstallState::Installed => "installed",
            InstallState::Confirmed => "confirmed",
        }
    }
}

/// A certificate on a server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct InstallRow {
    /// The machine's name in the inventory; empty for this one.
    pub machine: String,
    /// The server's name in the inventory.
    pub server: String,
    /// The generation that was last put there, or tried to.
    pub generation: u32,
    /// How that stands.
    pub state: InstallState,
    /// What was seen, or went wrong.
    pub seen: Option<String>,
    /// Since when it stands so.
    pub changed: Timestamp,
}

impl InstallRow {
    /// Returns whether the server has a generation.
    pub fn has(&self, generation: u32) -> bool {
        self.generation == generation && self.state != InstallState::Failed
    }

    /// Returns whether the server has a generation, and that was checked live, or cannot be checked from here.
    pub fn is_settled_with(&self, generation: u32) -> bool {
        self.has(generation) && (self.state == InstallState::Confirmed || self.seen.is_some())
    }
}

/// So long before its end a generation that a person went back to makes way for the newest.
const LAST_DAYS: SignedDuration = SignedDuration::from_hours(72);

/// That a person has taken a generation off the servers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GoneBack {
    /// The newest generation then: one that is newer still goes on the servers again.
    pub generation: u32,
    /// The one that was put on them instead; `None` where there was none before.
    pub instead: Option<u32>,
}

impl Store {
    /// Writes down that a person has taken a generation off the servers, or with `None` that the newest is to be on them again.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn go_back(&self, certificate: &str, gone: Option<GoneBack>, now: Timestamp) -> Result<(), StoreError> {
        let Some(GoneBack { generation, instead }) = gone else {
            return self.run("DELETE FROM gone_back WHERE certificate = ?", [certificate]).map(drop);
        };
        let sql = "INSERT INTO gone_back (certificate, generation, instead, since) VALUES (?, ?, ?, ?)
                   ON CONFLICT (certificate) DO UPDATE SET generation = excluded.generation, instead = excluded.instead,
                     since = excluded.since";
        self.run(sql, params![certificate, generation, instead, now.as_second()]).map(drop)
    }

    /// Returns what a person has taken off the servers.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn gone_back(&self, certificate: &str) -> Result<Option<GoneBack>, StoreError> {
        let sql = "SELECT generation, instead FROM gone_back WHERE certificate = ?";
        let rows =
            self.rows(sql, [certificate], |row| Ok(GoneBack { generation: row.get(0)?, instead: row.get(1)? }))?;
        Ok(rows.into_iter().next())
    }

    /// Forgets how a certificate stands on servers: it was taken off them.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn forget_installs(&self, certificate: &str) -> Result<(), StoreError> {
        self.run("DELETE FROM install WHERE certificate = ?", [certificate]).map(drop)
    }

    /// Returns the generation that is to be on servers: the newest, unless a person has gone back from it. Shortly before the end of the one that
    /// is there instead, it is the newest all the same.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn to_place(&self, certificate: &str, newest: u32, now: Timestamp) -> Result<Option<u32>, StoreError> {
        let Some(gone) = self.gone_back(certificate).await?.filter(|gone| gone.generation == newest) else {
            return Ok(Some(newest));
        };
        let Some(instead) = gone.instead else { return Ok(None) };
        let known = self.generations(certificate).await?;
        let is_good = known.iter().any(|row| row.number == instead && row.validity.not_after > now + LAST_DAYS);
        Ok(Some(if is_good { instead } else { newest }))
    }

    /// Writes down how a certificate stands on servers, and what happened, all as one.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn record_installs(
        &self,
        certificate: &str,
        rows: &[InstallRow],
        event: Option<&Event>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let sql = "INSERT INTO install (certificate, machine, server, generation, state, seen, changed)
                   VALUES (?, ?, ?, ?, ?, ?, ?)
                   ON CONFLICT (certificate, machine, server) DO UPDATE SET generation = excluded.generation,
                     state = excluded.state, seen = excluded.seen, changed = excluded.changed";
        // A server has moved when it was on another machine before.
        let moved = "DELETE FROM install WHERE certificate = ? AND server = ? AND machine <> ?";
        let write = |row: &InstallRow| {
            let InstallRow { machine, server, generation, state, seen, changed } = row;
            self.run(moved, params![certificate, server, machine])?;
            let changed = changed.as_second();
            self.run(sql, params![certificate, machine, server, generation, state.word(), seen, changed]).map(drop)
        };
        self.in_one_transaction(|| {
            rows.iter().try_for_each(write)?;
            event.map_or(Ok(()), |event| self.write_event(certificate, event, now))
        })
    }

    /// Returns where a certificate is, by machine and server.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn installs(&self, certificate: &str) -> Result<Vec<InstallRow>, StoreError> {
        let sql = "SELECT machine, server, generation, state, seen, changed FROM install
                   WHERE certificate = ? ORDER BY machine, server";
        self.rows(sql, [certificate], |row| {
            let state = match row.get::<_, String>(3)?.as_str() {
                "confirmed" => InstallState::Confirmed,
                "installed" => InstallState::Installed,
                _ => InstallState::Failed,
            };
            let (machine, server, generation) = (row.get(0)?, row.get(1)?, row.get(2)?);
            Ok(InstallRow { machine, server, generation, state, seen: row.get(4)?, changed: instant(row, 5)? })
        })
    }
}
