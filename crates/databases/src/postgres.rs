//! PostgreSQL. Values are read and written as text, in UTF-8.

use crate::keyset::{numbered, quote};
use crate::{Change, DatabaseAddress, Key, KeyColumn, KeyPart, LARGEST, Row, Said, Table, TextColumn};
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::ToSql;
use postgres::{Client, Config, NoTls};
use std::error::Error;
use std::time::Duration;

const USUAL_SOCKETS: [&str; 2] = ["/run/postgresql", "/tmp"];

pub(crate) struct Postgres(Client);

fn words(error: postgres::Error) -> String {
    // What the server says stands one below.
    match error.as_db_error() {
        Some(said) => said.to_string(),
        None => error.source().map_or_else(|| error.to_string(), |source| format!("{error}: {source}")),
    }
}

impl Postgres {
    pub(crate) fn connect(address: &DatabaseAddress, password: Option<&str>) -> Said<Self> {
        let mut config = Config::new();
        config.user(&address.user_or_own()).dbname(&address.database).connect_timeout(Duration::from_secs(10));
        config.application_name("eskort");
        match address.host {
            Some((ip, port)) => config.host(&ip.to_string()).port(port),
            None => {
                let there =
                    USUAL_SOCKETS.iter().find(|folder| std::path::Path::new(folder).join(".s.PGSQL.5432").exists());
                let usual = std::path::PathBuf::from(there.unwrap_or(&USUAL_SOCKETS[0]));
                config.host_path(address.socket.clone().unwrap_or(usual))
            }
        };
        if let Some(password) = password {
            config.password(password);
        }
        config.connect(NoTls).map(Postgres).map_err(words)
    }

    pub(crate) fn tables(&mut self) -> Said<Vec<Table>> {
        let sql = "SELECT c.oid, n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
                   WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND n.nspname <> 'information_schema' \
                   AND n.nspname NOT LIKE 'pg\\_%' ORDER BY 2, 3";
        let mut tables = Vec::new();
        for row in self.0.query(sql, &[]).map_err(words)? {
            let (oid, schema, name): (u32, String, String) = (row.get(0), row.get(1), row.get(2));
            let (Some(quoted_schema), Some(quoted)) = (quote(&schema, '"'), quote(&name, '"')) else { continue };
            let (key, columns) = (self.key(oid)?, self.columns(oid)?);
            let is_in_the_way = key.is_empty() && !columns.is_empty();
            tables.push(Table {
                name: if schema == "public" { name } else { format!("{schema}.{name}") },
                columns,
                without_key: is_in_the_way.then_some("no key names each of its rows"),
                quoted: format!("{quoted_schema}.{quoted}"),
                key,
                kept: Vec::new(),
            });
        }
        Ok(tables)
    }

    /// Returns the columns with text that can be changed: those of the types for text, and of domains over them.
    fn columns(&mut self, table: u32) -> Said<Vec<TextColumn>> {
        let sql = "SELECT a.attname::text, coalesce(b.typname, t.typname)::text, \
                   CASE WHEN b.oid IS NULL THEN a.atttypmod ELSE t.typtypmod END, format_type(a.atttypid, NULL), b.oid IS NOT NULL \
                   FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type b ON b.oid = t.typbasetype AND t.typtype = 'd' \
                   WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '' ORDER BY a.attnum";
        let mut columns = Vec::new();
        for row in self.0.query(sql, &[&table]).map_err(words)? {
            let (name, kind, limit): (String, String, i32) = (row.get(0), row.get(1), row.get(2));
            if !matches!(kind.as_str(), "text" | "varchar" | "bpchar" | "json" | "jsonb" | "xml" | "citext") {
                continue;
            }
            let is_limited = matches!(kind.as_str(), "varchar" | "bpchar") && limit > 4;
            let characters = usize::try_from(limit - 4).ok().filter(|_| is_limited);
            // `character` alone would mean one letter.
            let kind = if kind == "bpchar" && !row.get::<_, bool>(4) { "bpchar".to_owned() } else { row.get(3) };
            let Some(quoted) = quote(&name, '"') else { continue };
            columns.push(TextColumn { name, characters, bytes: None, quoted, kind });
        }
        Ok(columns)
    }

    /// Returns the primary key, else the first other index that names each row.
    fn key(&mut self, table: u32) -> Said<Vec<KeyColumn>> {
        let sql = "SELECT i.indexrelid, a.attname::text, format_type(a.atttypid, NULL), a.attnotnull \
                   FROM pg_index i CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k (attnum, place) \
                   JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum \
                   WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL \
                   AND k.place <= i.indnkeyatts ORDER BY NOT i.indisprimary, i.indexrelid, k.place";
        let mut all: Vec<(u32, Option<Vec<KeyColumn>>)> = Vec::new();
        for row in self.0.query(sql, &[&table]).map_err(words)? {
            let (index, name, kind, is_sure): (u32, String, String, bool) =
                (row.get(0), row.get(1), row.get(2), row.get(3));
            if all.last().is_none_or(|(last, _)| *last != index) {
                all.push((index, Some(Vec::new())));
            }
            let Some((_, columns)) = all.last_mut() else { continue };
            let kind = if kind == "character" { "bpchar".to_owned() } else { kind };
            let column = quote(&name, '"').filter(|_| is_sure).map(|quoted| KeyColumn {
                read: format!("{quoted}::text"),
                value: format!("CAST(?::text AS {kind})"),
                quoted,
            });
            *columns = columns.take().zip(column).map(|(mut columns, column)| {
                columns.push(column);
                columns
            });
        }
        Ok(all.into_iter().find_map(|(_, columns)| columns).unwrap_or_default())
    }

    pub(crate) fn rows(&mut self, table: &Table, after: Option<&Key>, visit: &mut dyn FnMut(Row) -> bool) -> Said<()> {
        let worth = |column: &TextColumn| {
            let text = format!("{}::text", column.quoted);
            format!(
                "(octet_length({text}) <= {LARGEST} AND (position('ttp' in {text}) > 0 OR position('TTP' in {text}) > 0))"
            )
        };
        let text = |column: &TextColumn| format!("{}::text", column.quoted);
        let (sql, values) = table.page(&worth, &text, after);
        let (sql, values) = (numbered(&sql), values.into_iter().map(KeyPart::to_string).collect::<Vec<_>>());
        let width = table.key.len();
        let mut rows = self.0.query_raw(&sql, &values).map_err(words)?;
        while let Some(row) = rows.next().map_err(words)? {
            let key = (0..width).map(|n| KeyPart::Text(row.get(n))).collect();
            let text = |n: usize| row.get::<_, Option<String>>(width + n).map(String::into_bytes);
            if !visit(Row { key, texts: (0..table.columns.len()).map(text).collect() }) {
                break;
            }
        }
        Ok(())
    }

    pub(crate) fn change(&mut self, table: &Table, changes: &[Change], before_commit: &dyn Fn()) -> Said<Vec<bool>> {
        let mut transaction = self.0.transaction().map_err(words)?;
        let mut made = Vec::new();
        for Change { key, column, old, new } in changes {
            let TextColumn { quoted, kind, .. } = &table.columns[*column];
            let sql = numbered(&format!(
                "UPDATE {} SET {quoted} = CAST(?::text AS {kind}) WHERE {} AND {quoted}::text = ?::text",
                table.quoted,
                table.at_key()
            ));
            let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).map_err(|error| error.to_string());
            let mut values = vec![text(new)?];
            values.extend(key.iter().map(KeyPart::to_string));
            values.push(text(old)?);
            let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as &(dyn ToSql + Sync)).collect();
            made.push(transaction.execute(&sql, &values).map_err(words)? == 1);
        }
        before_commit();
        transaction.commit().map_err(words)?;
        Ok(made)
    }

    pub(crate) fn text(&mut self, table: &Table, column: usize, key: &Key) -> Said<Option<Vec<u8>>> {
        let TextColumn { quoted, .. } = &table.columns[column];
        let sql = numbered(&format!("SELECT {quoted}::text FROM {} WHERE {}", table.quoted, table.at_key()));
        let values: Vec<String> = key.iter().map(KeyPart::to_string).collect();
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as &(dyn ToSql + Sync)).collect();
        let found = self.0.query_opt(&sql, &values).map_err(words)?;
        Ok(found.and_then(|row| row.get::<_, Option<String>>(0)).map(String::into_bytes))
    }
}
