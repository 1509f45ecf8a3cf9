//! Goes through the tables of a live database.

use super::settings::DatabaseLogin;
use super::undo::Backup;
use super::{EXAMPLES, Example, LeftAlone, LinkTable, LinksError, LinksReport, MOST_BYTES, MOST_CHANGES, cut_around};
use eskort_core::context::Context;
use eskort_core::progress::Progress;
use eskort_databases::{Change, Database, DatabaseError, Key, KeyPart, Row, Table, TextColumn};
use eskort_host::crash_point;
use eskort_pages::{Column, Hosts, Tally, mend_cell};
use std::path::{Path, PathBuf};

/// Looks through a database, and changes it where copies are kept.
pub(super) fn go_through(
    context: &Context,
    hosts: &Hosts,
    login: &DatabaseLogin,
    mut backup: Option<&mut Backup>,
    report: &mut LinksReport,
) -> Result<(), LinksError> {
    let address = login.address.to_string();
    let mut database = login.connect(backup.is_some())?;
    for table in database.tables()? {
        context.report(&Progress::Doing("look through tables"));
        report.read_tables += 1;
        let place = PathBuf::from(format!("{address} {}", table.name));
        if let Some(why) = table.without_key {
            report.left_alone.push(LeftAlone { path: place, why: why.to_owned() });
            continue;
        }
        if table.columns.is_empty() {
            continue;
        }
        let mut going =
            Going { hosts, place, address: &address, table: &table, backup: backup.as_deref_mut(), changed: 0 };
        going.pass(&mut database, report)?;
        if going.changed > 0 {
            let (database, addresses) = (address.clone(), going.changed);
            report.addresses += addresses;
            report.tables.push(LinkTable { database, table: table.name.clone(), addresses });
        }
    }
    Ok(())
}

/// Going through one table.
struct Going<'a> {
    hosts: &'a Hosts,
    place: PathBuf,
    address: &'a str,
    table: &'a Table,
    backup: Option<&'a mut Backup>,
    changed: u64,
}

/// What a page of rows comes to: the changes, each with how many addresses are in it.
#[derive(Default)]
struct Batch {
    changes: Vec<Change>,
    addresses: Vec<u64>,
    bytes: usize,
    last: Option<Key>,
}

impl Going<'_> {
    fn pass(&mut self, database: &mut Database, report: &mut LinksReport) -> Result<(), LinksError> {
        let mut after: Option<Key> = None;
        loop {
            let mut batch = Batch::default();
            let mut visit = |row: Row| {
                self.take(row, &mut batch, report);
                batch.bytes < MOST_BYTES && batch.changes.len() < MOST_CHANGES
            };
            let goes_on = database.rows(self.table, after.as_ref(), &mut visit)?;
            after = batch.last.take().or(after);
            self.apply(database, &batch, report)?;
            if !goes_on {
                return Ok(());
            }
        }
    }

    /// Takes in a row.
    fn take(&self, row: Row, batch: &mut Batch, report: &mut LinksReport) {
        let Row { key, texts } = row;
        for (column, old) in texts.into_iter().enumerate() {
            let Some(old) = old else { continue };
            let TextColumn { characters, bytes, .. } = self.table.columns[column];
            let mut tally = Tally::default();
            let limits = Column { is_binary: false, characters, bytes };
            let new = mend_cell(&old, limits, self.hosts, &mut tally);
            let count = tally.changed;
            report.count(Tally { changed: 0, ..tally });
            let Some(new) = new else { continue };
            let path = PathBuf::from(format!("{}.{}", self.place.display(), self.table.columns[column].name));
            // One of each column says enough.
            if report.examples.len() < EXAMPLES && report.examples.iter().all(|example| example.path != path) {
                let row = Some(key.iter().map(KeyPart::to_string).collect::<Vec<_>>().join(", "));
                let example = cut_around(self.hosts, &old, &new);
                report.examples.extend(example.map(|(line, before, after)| Example { path, row, line, before, after }));
            }
            batch.bytes += old.len() + new.len();
            batch.addresses.push(count);
            batch.changes.push(Change { key: key.clone(), column, old, new });
        }
        batch.last = Some(key);
    }

    /// Makes the changes, where they are to be made; copies first.
    fn apply(&mut self, database: &mut Database, batch: &Batch, report: &mut LinksReport) -> Result<(), LinksError> {
        let Some(backup) = &mut self.backup else {
            self.changed += batch.addresses.iter().sum::<u64>();
            return Ok(());
        };
        if batch.changes.is_empty() {
            return Ok(());
        }
        backup.keep_values(self.address, self.table, &batch.changes)?;
        let crash = || crash_point("rows-changed");
        match database.change(self.table, &batch.changes, &crash) {
            Ok(made) => {
                for (count, made) in batch.addresses.iter().zip(made) {
                    match made {
                        true => {
                            self.changed += count;
                            backup.changed_values();
                        }
                        false => leave(&self.place, "somebody has changed a value meanwhile: run it again", report),
                    }
                }
            }
            // The database takes all or none: what it refuses is found out one by one.
            Err(_) => {
                for (change, count) in batch.changes.iter().zip(&batch.addresses) {
                    match database.change(self.table, std::slice::from_ref(change), &|| {}) {
                        Ok(made) if made == [true] => {
                            self.changed += count;
                            backup.changed_values();
                        }
                        Ok(_) => leave(&self.place, "somebody has changed a value meanwhile: run it again", report),
                        Err(DatabaseError::Refused { why, .. }) => {
                            leave(&self.place, &format!("a value is refused: {why}"), report)
                        }
                        Err(error) => return Err(error.into()),
                    }
                }
            }
        }
        Ok(())
    }
}

fn leave(place: &Path, why: &str, report: &mut LinksReport) {
    let left = LeftAlone { path: place.to_owned(), why: why.to_owned() };
    if !report.left_alone.iter().any(|one| one.path == left.path && one.why == left.why) {
        report.left_alone.push(left);
    }
}
