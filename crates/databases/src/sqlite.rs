//! SQLite.

use crate::keyset::quote;
use crate::{Change, DatabaseAddress, Key, KeyColumn, KeyPart, LARGEST, Row, Said, Table, TextColumn};
use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, OpenFlags, params_from_iter};
use std::time::Duration;

pub(crate) struct Sqlite(Connection);

fn words(error: rusqlite::Error) -> String {
    error.to_string()
}

impl Sqlite {
    pub(crate) fn open(address: &DatabaseAddress, is_to_change: bool) -> Said<Self> {
        let flags = if is_to_change { OpenFlags::SQLITE_OPEN_READ_WRITE } else { OpenFlags::SQLITE_OPEN_READ_ONLY };
        let connection = Connection::open_with_flags(&address.database, flags).map_err(words)?;
        connection.busy_timeout(Duration::from_secs(10)).map_err(words)?;
        // It is read only now: what is no database says so.
        connection.query_row("SELECT count(*) FROM sqlite_master", [], |_| Ok(())).map_err(words)?;
        Ok(Sqlite(connection))
    }

    pub(crate) fn tables(&mut self) -> Said<Vec<Table>> {
        let listed: Vec<(String, String, bool)> = self.all(
            "SELECT name, type, wr FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'virtual') \
             AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
            &[],
            |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
        )?;
        let mut tables = Vec::new();
        // What a virtual table keeps for itself is named after it.
        let is_virtual = |(name, kind, _): &(String, String, bool)| (kind == "virtual").then(|| format!("{name}_"));
        let hidden: Vec<String> = listed.iter().filter_map(is_virtual).collect();
        let listed = listed.into_iter().filter(|(name, ..)| !hidden.iter().any(|prefix| name.starts_with(prefix)));
        for (name, kind, without_rowid) in listed {
            let Some(quoted) = quote(&name, '"') else { continue };
            if kind == "virtual" {
                let without_key = Some("it is a virtual table: fill it anew from the table behind it");
                tables.push(Table {
                    name,
                    columns: Vec::new(),
                    without_key,
                    quoted,
                    key: Vec::new(),
                    kept: Vec::new(),
                });
                continue;
            }
            let columns: Vec<(String, i64, i64)> =
                self.all("SELECT name, pk, hidden FROM pragma_table_xinfo(?) ORDER BY cid", &[&name], |row| {
                    Ok((row.get(0)?, row.get(1)?, row.get(2)?))
                })?;
            let plain = || columns.iter().filter(|(_, _, hidden)| *hidden == 0);
            let texts = plain().filter_map(|(name, _, _)| {
                let quoted = quote(name, '"')?;
                Some(TextColumn { name: name.clone(), characters: None, bytes: None, quoted, kind: String::new() })
            });
            let texts = texts.collect();
            let mut of_key: Vec<&(String, i64, i64)> = plain().filter(|(_, pk, _)| *pk > 0).collect();
            of_key.sort_by_key(|(_, pk, _)| *pk);
            let hidden_name = ["rowid", "_rowid_", "oid"]
                .into_iter()
                .find(|known| columns.iter().all(|(name, _, _)| !name.eq_ignore_ascii_case(known)));
            let names: Option<Vec<String>> = match (without_rowid, hidden_name) {
                (false, Some(name)) => Some(vec![name.to_owned()]),
                (false, None) => None,
                (true, _) => of_key.iter().map(|(name, _, _)| quote(name, '"')).collect(),
            };
            let key = names.unwrap_or_default().into_iter();
            let key: Vec<KeyColumn> =
                key.map(|quoted| KeyColumn { read: quoted.clone(), quoted, value: "?".into() }).collect();
            let is_in_the_way = key.is_empty() && !columns.is_empty();
            let without_key = is_in_the_way.then_some("nothing names each of its rows");
            tables.push(Table { name, columns: texts, without_key, quoted, key, kept: Vec::new() });
        }
        Ok(tables)
    }

    fn all<T>(
        &self,
        sql: &str,
        parameters: &[&String],
        read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Said<Vec<T>> {
        let mut statement = self.0.prepare(sql).map_err(words)?;
        let rows = statement.query_map(params_from_iter(parameters), read).map_err(words)?;
        rows.collect::<rusqlite::Result<_>>().map_err(words)
    }

    pub(crate) fn rows(&mut self, table: &Table, after: Option<&Key>, visit: &mut dyn FnMut(Row) -> bool) -> Said<()> {
        let worth = |column: &TextColumn| {
            let quoted = &column.quoted;
            format!(
                "(typeof({quoted}) = 'text' AND octet_length({quoted}) <= {LARGEST} AND (instr({quoted}, 'ttp') > 0 OR instr({quoted}, 'TTP') > 0))"
            )
        };
        let text = |column: &TextColumn| column.quoted.clone();
        let (sql, values) = table.page(&worth, &text, after);
        let values = values.into_iter().map(value);
        let mut statement = self.0.prepare_cached(&sql).map_err(words)?;
        let mut rows = statement.query(params_from_iter(values)).map_err(words)?;
        let width = table.key.len();
        while let Some(row) = rows.next().map_err(words)? {
            let key: Option<Key> = (0..width).map(|n| part(row.get_ref(n).ok()?)).collect();
            // A key that is no number and no text is not gone by.
            let Some(key) = key else {
                return Err(format!("a key of table {} is neither number nor text", table.name));
            };
            let text = |n: usize| match row.get_ref(width + n) {
                Ok(ValueRef::Text(text)) => Some(text.to_vec()),
                _ => None,
            };
            if !visit(Row { key, texts: (0..table.columns.len()).map(text).collect() }) {
                break;
            }
        }
        Ok(())
    }

    pub(crate) fn change(&mut self, table: &Table, changes: &[Change], before_commit: &dyn Fn()) -> Said<Vec<bool>> {
        let transaction = self.0.transaction().map_err(words)?;
        let mut made = Vec::new();
        for Change { key, column, old, new } in changes {
            let quoted = &table.columns[*column].quoted;
            let sql = format!(
                "UPDATE {} SET {quoted} = ? WHERE {} AND typeof({quoted}) = 'text' AND {quoted} = ? COLLATE BINARY",
                table.quoted,
                table.at_key()
            );
            let text =
                |bytes: &[u8]| String::from_utf8(bytes.to_vec()).map(Value::Text).map_err(|error| error.to_string());
            let mut values = vec![text(new)?];
            values.extend(key.iter().map(value));
            values.push(text(old)?);
            let count = transaction
                .prepare_cached(&sql)
                .and_then(|mut statement| statement.execute(params_from_iter(values)))
                .map_err(words)?;
            made.push(count == 1);
        }
        before_commit();
        transaction.commit().map_err(words)?;
        Ok(made)
    }

    pub(crate) fn text(&mut self, table: &Table, column: usize, key: &Key) -> Said<Option<Vec<u8>>> {
        let sql = format!("SELECT {} FROM {} WHERE {}", table.columns[column].quoted, table.quoted, table.at_key());
        let mut statement = self.0.prepare(&sql).map_err(words)?;
        let mut rows = statement.query(params_from_iter(key.iter().map(value))).map_err(words)?;
        Ok(match rows.next().map_err(words)?.map(|row| row.get_ref(0)) {
            Some(Ok(ValueRef::Text(text))) => Some(text.to_vec()),
            _ => None,
        })
    }
}

fn value(part: &KeyPart) -> Value {
    match part {
        KeyPart::Int(number) => Value::Integer(*number),
        KeyPart::UInt(number) => Value::Integer(i64::try_from(*number).unwrap_or(i64::MAX)),
        KeyPart::Text(text) => Value::Text(text.clone()),
        KeyPart::Bytes(bytes) => Value::Blob(bytes.clone()),
    }
}

fn part(value: ValueRef<'_>) -> Option<KeyPart> {
    match value {
        ValueRef::Integer(number) => Some(KeyPart::Int(number)),
        ValueRef::Text(text) => String::from_utf8(text.to_vec()).ok().map(KeyPart::Text),
        ValueRef::Blob(bytes) => Some(KeyPart::Bytes(bytes.to_vec())),
        ValueRef::Real(_) | ValueRef::Null => None,
    }
}
