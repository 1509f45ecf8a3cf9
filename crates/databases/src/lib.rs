//! Live databases: their tables, rows by primary key, and changes in transactions. MySQL and MariaDB, PostgreSQL, SQLite.

mod address;
mod keyset;
mod mysql;
mod postgres;
mod sqlite;

pub use address::{AddressError, DatabaseAddress, DatabaseKind};

use serde::{Deserialize, Serialize};
use std::fmt;

/// Larger values are not read.
const LARGEST: usize = 16 << 20;
/// So many rows are asked for at once.
const PAGE: usize = 500;

/// Why a database cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum DatabaseError {
    /// There is no connection.
    #[error("no connection to {address}: {why}")]
    NoConnection {
        /// Where, without a password.
        address: String,
        /// What came back.
        why: String,
    },
    /// It does not do what it is asked.
    #[error("{address} refuses: {why}")]
    Refused {
        /// Where, without a password.
        address: String,
        /// What came back.
        why: String,
    },
}

/// A table.
#[derive(Clone, Debug)]
pub struct Table {
    /// Its name; in PostgreSQL with the schema before it, where that is not `public`.
    pub name: String,
    /// The columns with text that can be changed; those of the key are none.
    pub columns: Vec<TextColumn>,
    /// Why its texts cannot be gone through, where they cannot: it has no key that names each of its rows.
    pub without_key: Option<&'static str>,
    /// Its name as SQL writes it.
    quoted: String,
    key: Vec<KeyColumn>,
    /// Columns that the database would set by itself at each change; they are told to stay.
    kept: Vec<String>,
}

/// A column with text.
#[derive(Clone, Debug)]
pub struct TextColumn {
    /// Its name.
    pub name: String,
    /// How many characters it takes at the most.
    pub characters: Option<usize>,
    /// How many bytes it takes at the most.
    pub bytes: Option<usize>,
    quoted: String,
    /// Its type, where a value has to be turned into it.
    kind: String,
}

/// A column of a key: its name as SQL writes it, and how a value stands in SQL for it; `?` is the value.
#[derive(Clone, Debug)]
struct KeyColumn {
    quoted: String,
    /// The column as it is read.
    read: String,
    /// A value to compare with.
    value: String,
}

/// One value of a key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyPart {
    /// A number.
    Int(i64),
    /// A number that is too large for the other.
    UInt(u64),
    /// A text.
    Text(String),
    /// Bytes, or a text in the database's own encoding.
    Bytes(Vec<u8>),
}

impl fmt::Display for KeyPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            KeyPart::Int(number) => write!(f, "{number}"),
            KeyPart::UInt(number) => write!(f, "{number}"),
            KeyPart::Text(text) => f.write_str(text),
            KeyPart::Bytes(bytes) => f.write_str(&String::from_utf8_lossy(bytes)),
        }
    }
}

/// What names a row of a table.
pub type Key = Vec<KeyPart>;

/// A row: its key, and the texts of its columns in their order; `None` for what has no address in it, is no text, or too large.
#[derive(Clone, Debug)]
pub struct Row {
    /// What names it.
    pub key: Key,
    /// The texts.
    pub texts: Vec<Option<Vec<u8>>>,
}

/// A change of one value.
#[derive(Clone, Debug)]
pub struct Change {
    /// The row.
    pub key: Key,
    /// The column, by its place among those of the table.
    pub column: usize,
    /// What it is; where somebody has changed it meanwhile, it stays.
    pub old: Vec<u8>,
    /// What it will be.
    pub new: Vec<u8>,
}

/// A database that is connected to.
pub struct Database {
    address: String,
    inner: Inner,
}

enum Inner {
    Mysql(Box<mysql::Mysql>),
    Postgres(Box<postgres::Postgres>),
    Sqlite(sqlite::Sqlite),
}

/// Returns what a database says as it may be shown.
fn shown(said: &str) -> String {
    said.chars().map(|c| if c.is_control() { ' ' } else { c }).take(400).collect()
}

/// What a database says, in words.
type Said<T> = Result<T, String>;

impl Database {
    /// Connects to a database; one in a file is opened for reading alone where nothing is to be changed.
    ///
    /// # Errors
    /// When there is no connection.
    pub fn connect(
        address: &DatabaseAddress,
        password: Option<&str>,
        is_to_change: bool,
    ) -> Result<Self, DatabaseError> {
        let text = address.to_string();
        let connected = match address.kind {
            DatabaseKind::Mysql => mysql::Mysql::connect(address, password).map(|it| Inner::Mysql(Box::new(it))),
            DatabaseKind::Postgres => {
                postgres::Postgres::connect(address, password).map(|it| Inner::Postgres(Box::new(it)))
            }
            DatabaseKind::Sqlite => sqlite::Sqlite::open(address, is_to_change).map(Inner::Sqlite),
        };
        let inner = connected.map_err(|why| DatabaseError::NoConnection { address: text.clone(), why: shown(&why) })?;
        Ok(Database { address: text, inner })
    }

    fn refused<T>(&self, said: Said<T>) -> Result<T, DatabaseError> {
        said.map_err(|why| DatabaseError::Refused { address: self.address.clone(), why: shown(&why) })
    }

    /// Returns the tables, in the order of their names.
    ///
    /// # Errors
    /// When the database does not say them.
    pub fn tables(&mut self) -> Result<Vec<Table>, DatabaseError> {
        let said = match &mut self.inner {
            Inner::Mysql(it) => it.tables(),
            Inner::Postgres(it) => it.tables(),
            Inner::Sqlite(it) => it.tables(),
        };
        let mut tables = self.refused(said)?;
        // What names a row stays: others may point to it, and the way back goes by it.
        for Table { columns, key, .. } in &mut tables {
            columns.retain(|column| key.iter().all(|part| part.quoted != column.quoted));
        }
        Ok(tables)
    }

    /// Shows rows that may have an address in them, in the order of their key, from behind `after` on, until `visit` says that it has enough.
    /// Returns whether there may be more.
    ///
    /// # Errors
    /// When the database does not give them.
    pub fn rows(
        &mut self,
        table: &Table,
        after: Option<&Key>,
        visit: &mut dyn FnMut(Row) -> bool,
    ) -> Result<bool, DatabaseError> {
        let mut count = 0;
        let mut enough = false;
        let mut counted = |row: Row| {
            count += 1;
            enough = !visit(row);
            !enough
        };
        let said = match &mut self.inner {
            Inner::Mysql(it) => it.rows(table, after, &mut counted),
            Inner::Postgres(it) => it.rows(table, after, &mut counted),
            Inner::Sqlite(it) => it.rows(table, after, &mut counted),
        };
        self.refused(said)?;
        Ok(enough || count == PAGE)
    }

    /// Makes changes in one transaction; `before_commit` is called when all are made and none counts yet. Returns which of them were made: what
    /// somebody has changed meanwhile stays.
    ///
    /// # Errors
    /// When the database refuses one: then none is made.
    pub fn change(
        &mut self,
        table: &Table,
        changes: &[Change],
        before_commit: &dyn Fn(),
    ) -> Result<Vec<bool>, DatabaseError> {
        let said = match &mut self.inner {
            Inner::Mysql(it) => it.change(table, changes, before_commit),
            Inner::Postgres(it) => it.change(table, changes, before_commit),
            Inner::Sqlite(it) => it.change(table, changes, before_commit),
        };
        self.refused(said)
    }

    /// Returns the text of one column of a row, whatever is in it; `None` where it is not there any more.
    ///
    /// # Errors
    /// When the database does not give it.
    pub fn text(&mut self, table: &Table, column: usize, key: &Key) -> Result<Option<Vec<u8>>, DatabaseError> {
        let said = match &mut self.inner {
            Inner::Mysql(it) => it.text(table, column, key),
            Inner::Postgres(it) => it.text(table, column, key),
            Inner::Sqlite(it) => it.text(table, column, key),
        };
        self.refused(said)
    }
}
