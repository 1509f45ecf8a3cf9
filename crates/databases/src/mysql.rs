//! MySQL and MariaDB. Texts are read and written as the bytes that they are (`SET NAMES binary`): no encoding is changed on the way.

use crate::keyset::quote;
use crate::{Change, DatabaseAddress, Key, KeyColumn, KeyPart, LARGEST, Row, Said, Table, TextColumn};
use mysql::prelude::Queryable;
use mysql::{Conn, OptsBuilder, Params, TxOpts, Value};
use std::collections::BTreeMap;

const USUAL_SOCKET: &str = "/run/mysqld/mysqld.sock";
/// Kinds of column that a key may have.
const NUMBERS: [&str; 5] = ["tinyint", "smallint", "mediumint", "int", "bigint"];
const TEXTS: [&str; 2] = ["char", "varchar"];
const BYTES: [&str; 2] = ["binary", "varbinary"];

pub(crate) struct Mysql(Conn);

fn words(error: mysql::Error) -> String {
    error.to_string()
}

/// What `information_schema` says of a column.
struct Described {
    name: String,
    kind: String,
    characters: Option<usize>,
    bytes: Option<usize>,
    charset: Option<String>,
    collation: Option<String>,
    extra: String,
}

impl Mysql {
    pub(crate) fn connect(address: &DatabaseAddress, password: Option<&str>) -> Said<Self> {
        let socket = address.socket.as_ref().map_or_else(|| USUAL_SOCKET.to_owned(), |path| path.display().to_string());
        let options = OptsBuilder::new()
            .user(Some(address.user_or_own()))
            .pass(password)
            .db_name(Some(&address.database))
            .prefer_socket(false)
            .init(vec!["SET NAMES binary", "SET SESSION sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')"]);
        let options = match address.host {
            Some((ip, port)) => options.ip_or_hostname(Some(ip.to_string())).tcp_port(port),
            None => options.socket(Some(socket)),
        };
        Conn::new(options).map(Mysql).map_err(words)
    }

    pub(crate) fn tables(&mut self) -> Said<Vec<Table>> {
        let names = "SELECT table_name FROM information_schema.tables \
                     WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' ORDER BY table_name";
        let names: Vec<String> =
            self.0.query::<Vec<u8>, _>(names).map_err(words)?.iter().map(|name| text(name)).collect();
        let columns = "SELECT table_name, column_name, data_type, character_maximum_length, character_octet_length, \
                       character_set_name, collation_name, extra FROM information_schema.columns \
                       WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position";
        let mut described: BTreeMap<String, Vec<Described>> = BTreeMap::new();
        for row in self.0.query::<mysql::Row, _>(columns).map_err(words)? {
            let field = |n: usize| row.as_ref(n).and_then(as_text);
            let length = |n: usize| field(n).and_then(|text| text.parse().ok());
            described.entry(field(0).unwrap_or_default()).or_default().push(Described {
                name: field(1).unwrap_or_default(),
                kind: field(2).unwrap_or_default().to_ascii_lowercase(),
                characters: length(3),
                bytes: length(4),
                charset: field(5),
                collation: field(6),
                extra: field(7).unwrap_or_default().to_ascii_lowercase(),
            });
        }
        let indices = "SELECT table_name, index_name, column_name, nullable, sub_part FROM information_schema.statistics \
                       WHERE table_schema = DATABASE() AND non_unique = 0 \
                       ORDER BY table_name, index_name <> 'PRIMARY', index_name, seq_in_index";
        let mut keys: BTreeMap<String, Vec<(String, Vec<String>, bool)>> = BTreeMap::new();
        for row in self.0.query::<mysql::Row, _>(indices).map_err(words)? {
            let field = |n: usize| row.as_ref(n).and_then(as_text);
            let of_table = keys.entry(field(0).unwrap_or_default()).or_default();
            let index = field(1).unwrap_or_default();
            if of_table.last().is_none_or(|(last, _, _)| *last != index) {
                of_table.push((index, Vec::new(), true));
            }
            let Some((_, columns, is_whole)) = of_table.last_mut() else { continue };
            *is_whole &= field(3).is_none_or(|nullable| nullable != "YES") && field(4).is_none();
            columns.extend(field(2));
        }
        let table = |name: String| {
            let columns = described.remove(&name).unwrap_or_default();
            let usable = keys.remove(&name).unwrap_or_default().into_iter().filter(|(_, _, is_whole)| *is_whole);
            let mut usable = usable.filter_map(|(_, names, _)| {
                names.iter().map(|name| key_column(columns.iter().find(|column| column.name == *name)?)).collect()
            });
            let key: Vec<KeyColumn> = usable.next().unwrap_or_default();
            let texts: Vec<TextColumn> = columns.iter().filter_map(text_column).collect();
            let is_in_the_way = key.is_empty() && !texts.is_empty();
            let without_key = is_in_the_way.then_some("no key names each of its rows by a number or a text");
            let kept = columns.iter().filter(|column| column.extra.contains("on update"));
            Some(Table {
                quoted: quote(&name, '`')?,
                columns: texts,
                kept: kept.filter_map(|column| quote(&column.name, '`')).collect(),
                without_key,
                key,
                name,
            })
        };
        Ok(names.into_iter().filter_map(table).collect())
    }

    pub(crate) fn rows(&mut self, table: &Table, after: Option<&Key>, visit: &mut dyn FnMut(Row) -> bool) -> Said<()> {
        let worth = |column: &TextColumn| {
            let quoted = &column.quoted;
            format!("(LENGTH({quoted}) <= {LARGEST} AND (LOCATE('ttp', {quoted}) > 0 OR LOCATE('TTP', {quoted}) > 0))")
        };
        let text = |column: &TextColumn| column.quoted.clone();
        let (sql, values) = table.page(&worth, &text, after);
        let values: Vec<Value> = values.into_iter().map(value).collect();
        let width = table.key.len();
        let result = self.0.exec_iter(sql, positional(values)).map_err(words)?;
        let mut goes_on = true;
        // What is not wanted any more is read all the same: the connection is used again.
        for row in result {
            let values = row.map_err(words)?.unwrap_raw();
            if !goes_on {
                continue;
            }
            let key: Option<Key> = values[..width].iter().map(|value| part(value.as_ref()?)).collect();
            let Some(key) = key else {
                return Err(format!("a key of table {} is neither number nor text", table.name));
            };
            let texts = values.into_iter().skip(width).map(|value| match value {
                Some(Value::Bytes(bytes)) => Some(bytes),
                _ => None,
            });
            goes_on = visit(Row { key, texts: texts.collect() });
        }
        Ok(())
    }

    pub(crate) fn change(&mut self, table: &Table, changes: &[Change], before_commit: &dyn Fn()) -> Said<Vec<bool>> {
        let mut transaction = self.0.start_transaction(TxOpts::default()).map_err(words)?;
        let kept: String = table.kept.iter().map(|quoted| format!(", {quoted} = {quoted}")).collect();
        let mut made = Vec::new();
        for Change { key, column, old, new } in changes {
            let TextColumn { quoted, kind, .. } = &table.columns[*column];
            let (new_value, is_old) = match kind.as_str() {
                "json" => ("CONVERT(? USING utf8mb4)".to_owned(), format!("CAST({quoted} AS BINARY) = ?")),
                _ => ("?".to_owned(), format!("CAST({quoted} AS BINARY) = ?")),
            };
            let sql = format!(
                "UPDATE {} SET {quoted} = {new_value}{kept} WHERE {} AND {is_old}",
                table.quoted,
                table.at_key()
            );
            let mut values = vec![Value::Bytes(new.clone())];
            values.extend(key.iter().map(value));
            values.push(Value::Bytes(old.clone()));
            transaction.exec_drop(sql, positional(values)).map_err(words)?;
            made.push(transaction.affected_rows() == 1);
        }
        before_commit();
        transaction.commit().map_err(words)?;
        Ok(made)
    }

    pub(crate) fn text(&mut self, table: &Table, column: usize, key: &Key) -> Said<Option<Vec<u8>>> {
        let sql = format!("SELECT {} FROM {} WHERE {}", table.columns[column].quoted, table.quoted, table.at_key());
        let values = positional(key.iter().map(value).collect());
        let found: Option<mysql::Row> = self.0.exec_first(sql, values).map_err(words)?;
        Ok(match found.and_then(|row| row.unwrap_raw().into_iter().next().flatten()) {
            Some(Value::Bytes(bytes)) => Some(bytes),
            _ => None,
        })
    }
}

fn positional(values: Vec<Value>) -> Params {
    if values.is_empty() { Params::Empty } else { Params::Positional(values) }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn as_text(value: &Value) -> Option<String> {
    match value {
        Value::Bytes(bytes) => Some(text(bytes)),
        Value::Int(number) => Some(number.to_string()),
        Value::UInt(number) => Some(number.to_string()),
        _ => None,
    }
}

fn text_column(column: &Described) -> Option<TextColumn> {
    let Described { name, kind, characters, bytes, charset, extra, .. } = column;
    let is_text =
        matches!(kind.as_str(), "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "json");
    // In what takes two bytes for a letter no address is found.
    let is_wide = charset.as_deref().is_some_and(|set| matches!(set, "ucs2" | "utf16" | "utf16le" | "utf32"));
    if !is_text || is_wide || extra.contains("generated") {
        return None;
    }
    let by_letters =
        matches!(kind.as_str(), "char" | "varchar") && charset.as_deref().is_some_and(|set| set.starts_with("utf8"));
    let (characters, bytes) = if by_letters { (*characters, None) } else { (None, *bytes) };
    Some(TextColumn { name: name.clone(), characters, bytes, quoted: quote(name, '`')?, kind: kind.clone() })
}

fn key_column(column: &Described) -> Option<KeyColumn> {
    let quoted = quote(&column.name, '`')?;
    let kind = column.kind.as_str();
    let is_name = |text: &&str| text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
    let value = if NUMBERS.contains(&kind) || BYTES.contains(&kind) {
        "?".to_owned()
    } else if TEXTS.contains(&kind) {
        // A value is compared as the column compares: by its encoding, in its order.
        let charset = column.charset.as_deref().filter(is_name)?;
        let collation = column.collation.as_deref().filter(is_name)?;
        format!("CONVERT(? USING {charset}) COLLATE {collation}")
    } else {
        return None;
    };
    Some(KeyColumn { read: quoted.clone(), quoted, value })
}

fn value(part: &KeyPart) -> Value {
    match part {
        KeyPart::Int(number) => Value::Int(*number),
        KeyPart::UInt(number) => Value::UInt(*number),
        KeyPart::Text(text) => Value::Bytes(text.clone().into_bytes()),
        KeyPart::Bytes(bytes) => Value::Bytes(bytes.clone()),
    }
}

fn part(value: &Value) -> Option<KeyPart> {
    match value {
        Value::Int(number) => Some(KeyPart::Int(*number)),
        Value::UInt(number) => Some(KeyPart::UInt(*number)),
        Value::Bytes(bytes) => Some(KeyPart::Bytes(bytes.clone())),
        _ => None,
    }
}
