//! Everything the ledger knows about all certificates: for `list`.

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::decision::Fault;
use eskort_core::journey::HumanTask;
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};

/// What the ledger knows about one certificate.
#[derive(Clone, Debug, Default)]
pub struct Overview {
    /// Number and validity of the newest generation.
    pub newest: Option<(u32, Validity)>,
    /// Whether the newest generation was seen live.
    pub confirmed: bool,
    /// The names that the newest generation was made for, as a list in JSON: most of them are compared as they stand.
    pub names: String,
    /// Why the newest generation could not be looked at from here, though it is installed.
    pub unreachable: Option<String>,
    /// The servers that have the newest generation.
    pub installed_on: BTreeSet<String>,
    /// Whether a person took the newest generation off the servers, and what is on them instead: its number and validity.
    pub gone_back: Option<Option<(u32, Validity)>>,
    /// When its authority wants the newest generation renewed, where it has said so (RFC 9773).
    pub asked_renewal: Option<Timestamp>,
    /// An open journey.
    pub open: Option<OpenOverview>,
    /// The failures since the last success.
    pub failed: Option<FailedOverview>,
}

/// What the ledger knows about failures.
#[derive(Clone, Debug)]
pub struct FailedOverview {
    /// How many.
    pub count: u32,
    /// When the last one was.
    pub last: Timestamp,
    /// Why.
    pub reason: String,
    /// Whose fault it was.
    pub fault: Option<Fault>,
}

/// What the ledger knows about an open journey.
#[derive(Clone, Debug)]
pub struct OpenOverview {
    /// The last of the six stages that it passed, in its word; empty before the first.
    pub passed: String,
    /// Whether what proves control is waited for: a person may have to place it.
    pub published: bool,
    /// Whether a person has to bring the authority's answer.
    pub handed_over: bool,
    /// When it was started.
    pub since: Timestamp,
}

/// Cuts the list of names out of a specification in JSON: it stands first.
fn names_of(specification: &str) -> &str {
    let list = specification.strip_prefix("{\"names\":").filter(|rest| rest.starts_with('['));
    list.and_then(|rest| rest.find(']').map(|end| &rest[..=end])).unwrap_or_default()
}

impl Store {
    /// Returns what the ledger knows about each certificate, by name.
    ///
    /// Plain questions, put together here: joined in SQL they take several times as long.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn overview(&self) -> Result<BTreeMap<String, Overview>, StoreError> {
        self.in_one_view(|| self.read_overview())
    }

    fn read_overview(&self) -> Result<BTreeMap<String, Overview>, StoreError> {
        let newest = "SELECT certificate, number, not_before, not_after, confirmed, specification FROM generation
                      ORDER BY certificate, number";
        let newest = self.rows(newest, [], |row| {
            let validity = Validity { not_before: instant(row, 2)?, not_after: instant(row, 3)? };
            let confirmed = row.get::<_, Option<i64>>(4)?.is_some();
            let newest = Some((row.get(1)?, validity));
            let names = names_of(row.get_ref(5)?.as_str().unwrap_or_default()).to_owned();
            Ok((row.get(0)?, Overview { newest, confirmed, names, ..Overview::default() }))
        })?;
        // The last of a certificate's rows is the newest, and stays.
        let mut known: BTreeMap<String, Overview> = newest.into_iter().collect();
        let open = "SELECT certificate, coalesce(passed, ''), waits_for, started FROM journey WHERE ended IS NULL";
        let open = self.rows(open, [], |row| {
            let waits_for: Option<String> = row.get(2)?;
            let awaits = |what: HumanTask| waits_for.as_deref() == Some(what.word());
            let found = OpenOverview {
                passed: row.get(1)?,
                published: awaits(HumanTask::PlaceProof),
                handed_over: awaits(HumanTask::BringAnswer),
                since: instant(row, 3)?,
            };
            Ok((row.get::<_, String>(0)?, found))
        })?;
        for (certificate, journey) in open {
            known.entry(certificate).or_default().open = Some(journey);
        }
        let installed = "SELECT certificate, server, generation, state, seen FROM install WHERE state <> 'failed'";
        let installed = self.rows(installed, [], |row| {
            let unreachable =
                row.get::<_, Option<String>>(4)?.filter(|_| row.get(3).is_ok_and(|s: String| s == "installed"));
            Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, u32>(2)?, unreachable))
        })?;
        for (certificate, server, generation, unreachable) in installed {
            if let Some(known) = known.get_mut(&certificate).filter(|o| o.newest.is_some_and(|(n, _)| n == generation))
            {
                known.installed_on.insert(server);
                known.unreachable = known.unreachable.take().or(unreachable);
            }
        }
        let gone = "SELECT gone_back.certificate, gone_back.generation, instead, not_before, not_after FROM gone_back
                    LEFT JOIN generation ON generation.certificate = gone_back.certificate AND number = instead";
        let gone = self.rows(gone, [], |row| {
            let instead = match row.get::<_, Option<u32>>(2)? {
                Some(number) if row.get::<_, Option<i64>>(3)?.is_some() => {
                    Some((number, Validity { not_before: instant(row, 3)?, not_after: instant(row, 4)? }))
                }
                _ => None,
            };
            Ok((row.get::<_, String>(0)?, row.get::<_, u32>(1)?, instead))
        })?;
        for (certificate, generation, instead) in gone {
            if let Some(known) = known.get_mut(&certificate).filter(|o| o.newest.is_some_and(|(n, _)| n == generation))
            {
                known.gone_back = Some(instead);
            }
        }
        let asked = "SELECT certificate, generation, at FROM asked_renewal WHERE at IS NOT NULL";
        let asked =
            self.rows(asked, [], |row| Ok((row.get::<_, String>(0)?, row.get::<_, u32>(1)?, instant(row, 2)?)))?;
        for (certificate, generation, at) in asked {
            if let Some(known) = known.get_mut(&certificate).filter(|o| o.newest.is_some_and(|(n, _)| n == generation))
            {
                known.asked_renewal = Some(at);
            }
        }
        let failed = "SELECT certificate, count, last, reason, fault FROM failure";
        let failed = self.rows(failed, [], |row| {
            let fault = row.get::<_, Option<String>>(4)?.and_then(|word| word.parse().ok());
            Ok((row.get(0)?, FailedOverview { count: row.get(1)?, last: instant(row, 2)?, reason: row.get(3)?, fault }))
        })?;
        for (certificate, failure) in failed {
            known.entry(certificate).or_default().failed = Some(failure);
        }
        Ok(known)
    }
}
