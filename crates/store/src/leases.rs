//! Leases: which run works on which journey. The run lock is let go of while authorities are waited for; a lease keeps other runs
//! away from a journey until its run has done with it, or has ended.

use crate::rows::instant;
use crate::worker::{WORKERS, Worker, lives};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::words;
use jiff::{SignedDuration, Timestamp};
use rusqlite::params;

/// A journey on which nothing was saved for so long may be taken over, though its run still lives.
const LEASE: SignedDuration = SignedDuration::from_hours(2);

/// Returns the end of a lease of now, in seconds since 1970.
pub(crate) fn lease_end(now: Timestamp) -> i64 {
    (now + LEASE).as_second()
}

impl Store {
    fn worker(&self, now: Timestamp) -> Result<&Worker, StoreError> {
        if let Some(worker) = self.worker.get() {
            return Ok(worker);
        }
        let worker = Worker::begin(&self.root, now)?;
        Ok(self.worker.get_or_init(|| worker))
    }

    /// The name under which this run leases; empty before it has leased anything.
    pub(crate) fn worker_id(&self) -> &str {
        self.worker.get().map_or("", |worker| &worker.id)
    }

    /// Lets other runs see that this one works on journeys, before it lets go of the run lock.
    ///
    /// # Errors
    /// When the state folder cannot be written.
    pub fn begin_work(&self, now: Timestamp) -> Result<(), StoreError> {
        self.worker(now).map(drop)
    }

    /// Leases a journey for this run, until it is released, it has ended, or this run has. Doing it again makes it longer.
    ///
    /// # Errors
    /// [`StoreError::Leased`] when another run that still lives works on it.
    #[boxed]
    pub async fn lease(&self, certificate: &str, journey: i64, now: Timestamp) -> Result<(), StoreError> {
        self.take_lease(certificate, journey, now)
    }

    pub(crate) fn take_lease(&self, certificate: &str, journey: i64, now: Timestamp) -> Result<(), StoreError> {
        let worker = self.worker(now)?;
        self.in_one_transaction(|| {
            if let Some(holder) = self.other_holder(certificate, now)? {
                return Err(StoreError::Leased { certificate: certificate.to_owned(), holder });
            }
            let sql = "UPDATE journey SET lease_holder = ?, lease_until = ? WHERE id = ?";
            self.run(sql, params![worker.id, lease_end(now), journey]).map(drop)
        })
    }

    /// Returns who else works on a certificate's journey just now, in words.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn leased_by_another(&self, certificate: &str, now: Timestamp) -> Result<Option<String>, StoreError> {
        self.other_holder(certificate, now)
    }

    pub(crate) fn other_holder(&self, certificate: &str, now: Timestamp) -> Result<Option<String>, StoreError> {
        let sql = "SELECT lease_holder, lease_until FROM journey
                   WHERE certificate = ? AND ended IS NULL AND lease_holder IS NOT NULL";
        let leases = self.rows(sql, [certificate], |row| Ok((row.get::<_, String>(0)?, instant(row, 1)?)))?;
        let another = |(holder, until): &(String, Timestamp)| {
            *holder != self.worker_id() && *until > now && lives(&self.root, holder)
        };
        let holder = leases.into_iter().find(another).map(|(holder, _)| holder);
        let words = |holder: String| {
            let said = std::fs::read_to_string(self.root.join(WORKERS).join(&holder)).unwrap_or_default();
            words::printable(&said, 200)
        };
        Ok(holder.map(words))
    }

    /// Lets go of a certificate's journey: any run may go on with it.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn release(&self, certificate: &str) -> Result<(), StoreError> {
        let sql = "UPDATE journey SET lease_holder = NULL, lease_until = NULL WHERE certificate = ? AND ended IS NULL AND lease_holder = ?";
        self.run(sql, params![certificate, self.worker_id()]).map(drop)
    }
}
