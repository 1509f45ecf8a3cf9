//! Certificates about which nothing is open: what thousands of them are decided by, asked for all at once.

use crate::rows::{decode, instant};
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::decision::{Specification, Stored};
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use rusqlite::Row;
use std::collections::BTreeMap;

/// What the ledger knows about a certificate that has a generation, and no open journey, no failure, no debt, and nothing that a person took off
/// its servers.
#[derive(Clone, Debug)]
pub struct Settled {
    /// The newest generation.
    pub newest: Stored,
    /// When its authority wants that renewed, where it has said so.
    pub asked_renewal: Option<Timestamp>,
    /// When its authority is to be asked again whether it is revoked; `None` where it was not asked yet.
    pub ask_revocation: Option<Timestamp>,
    /// When its authority is to be asked about that again; `None` where it was not asked yet.
    pub ask_again: Option<Timestamp>,
}

impl Store {
    /// Returns what is known about each certificate about which nothing is open, by name.
    ///
    /// # Errors
    /// When the ledger fails or holds a row that cannot be read.
    #[boxed]
    pub async fn all_settled(&self) -> Result<BTreeMap<String, Settled>, StoreError> {
        self.in_one_view(|| self.read_settled())
    }

    fn read_settled(&self) -> Result<BTreeMap<String, Settled>, StoreError> {
        let newest = "SELECT certificate, number, specification, not_before, not_after, revoked, ask_revocation
                      FROM generation
                      ORDER BY certificate, number";
        let read = |row: &Row<'_>| {
            let validity = Validity { not_before: instant(row, 3)?, not_after: instant(row, 4)? };
            let (generation, revoked) = (row.get(1)?, row.get::<_, Option<i64>>(5)?.is_some());
            let newest = Stored { generation, specification: Specification::default(), validity, revoked };
            let again = row.get::<_, Option<i64>>(6)?.map(|_| instant(row, 6)).transpose()?;
            Ok((row.get::<_, String>(0)?, (row.get::<_, String>(2)?, newest, again)))
        };
        // The last of a certificate's rows is the newest, and stays.
        let mut known: BTreeMap<String, (String, Stored, Option<Timestamp>)> =
            self.rows(newest, [], read)?.into_iter().collect();
        for open in [
            "SELECT certificate FROM journey WHERE ended IS NULL",
            "SELECT certificate FROM failure",
            "SELECT certificate FROM gone_back",
            "SELECT certificate FROM debt",
        ] {
            for certificate in self.rows(open, [], |row| row.get::<_, String>(0))? {
                known.remove(&certificate);
            }
        }
        let asked = "SELECT certificate, generation, at, ask_again FROM asked_renewal";
        let asked = self.rows(asked, [], |row| {
            let at = row.get::<_, Option<i64>>(2)?.map(|_| instant(row, 2)).transpose()?;
            Ok((row.get::<_, String>(0)?, (row.get::<_, u32>(1)?, at, instant(row, 3)?)))
        })?;
        let mut asked: BTreeMap<String, (u32, Option<Timestamp>, Timestamp)> = asked.into_iter().collect();
        let settled = |(certificate, (specification, newest, ask_revocation)): (String, (String, Stored, _))| {
            let specification = decode("generation", &specification)?;
            let asked = asked.remove(&certificate).filter(|(generation, ..)| *generation == newest.generation);
            let (asked_renewal, ask_again) = asked.map_or((None, None), |(_, at, again)| (at, Some(again)));
            Ok((
                certificate,
                Settled { newest: Stored { specification, ..newest }, asked_renewal, ask_revocation, ask_again },
            ))
        };
        known.into_iter().map(settled).collect()
    }
}
