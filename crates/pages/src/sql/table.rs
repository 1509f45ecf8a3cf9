//! What a dump says of its tables: the kinds and lengths of columns.

use crate::column::Column;
use std::collections::HashMap;

impl Column {
    /// Reads a column's kind.
    fn of(kind: &[u8]) -> Self {
        let text = String::from_utf8_lossy(kind).to_ascii_lowercase();
        let word: String = text.chars().take_while(char::is_ascii_alphabetic).collect();
        let number = text[word.len()..].trim_start().trim_start_matches("varying").trim_start();
        let number = number.strip_prefix('(').and_then(|rest| rest.split(')').next()?.trim().parse().ok());
        match word.as_str() {
            "blob" | "tinyblob" | "mediumblob" | "longblob" | "binary" | "varbinary" | "bytea" | "bit" => {
                Column { is_binary: true, ..Column::default() }
            }
            "char" | "varchar" | "nchar" | "nvarchar" | "character" => {
                Column { characters: number, ..Column::default() }
            }
            "tinytext" => Column { bytes: Some(255), ..Column::default() },
            _ => Column::default(),
        }
    }
}

/// The tables of a dump.
#[derive(Clone, Debug, Default)]
pub(super) struct Tables(HashMap<Vec<u8>, Vec<(Vec<u8>, Column)>>);

/// A piece of SQL outside of literals.
#[derive(Debug, PartialEq, Eq)]
enum Piece {
    /// A word or a name, without its quotes.
    Word(Vec<u8>),
    Mark(u8),
}

fn pieces(text: &[u8]) -> Vec<Piece> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < text.len() {
        let byte = text[at];
        if matches!(byte, b'`' | b'"') {
            let end = text[at + 1..].iter().position(|b| *b == byte).map_or(text.len(), |end| at + 1 + end);
            found.push(Piece::Word(text[at + 1..end].to_vec()));
            at = end + 1;
        } else if byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80 {
            let is_word = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_' || *b >= 0x80;
            let end = text[at..].iter().position(|b| !is_word(b)).map_or(text.len(), |end| at + end);
            found.push(Piece::Word(text[at..end].to_vec()));
            at = end;
        } else {
            if !byte.is_ascii_whitespace() {
                found.push(Piece::Mark(byte));
            }
            at += 1;
        }
    }
    found
}

/// Returns the first word of a statement in capitals.
pub(super) fn first_words(text: &[u8]) -> &'static [&'static [u8]] {
    const KNOWN: [&[&[u8]]; 4] = [&[b"CREATE"], &[b"INSERT"], &[b"REPLACE"], &[b"COPY"]];
    let trimmed = text.trim_ascii_start();
    let found =
        KNOWN.iter().find(|word| trimmed.get(..word[0].len()).is_some_and(|has| has.eq_ignore_ascii_case(word[0])));
    found.copied().unwrap_or(&[])
}

/// Returns a table's name, the last part of it, and where it ends.
fn name(pieces: &[Piece]) -> Option<(Vec<u8>, usize)> {
    let skipped = |word: &[u8]| {
        let known: [&[u8]; 12] = [
            b"CREATE",
            b"TABLE",
            b"TEMPORARY",
            b"IF",
            b"NOT",
            b"EXISTS",
            b"INSERT",
            b"REPLACE",
            b"INTO",
            b"IGNORE",
            b"COPY",
            b"ONLY",
        ];
        known.iter().any(|one| one.eq_ignore_ascii_case(word))
    };
    let first = pieces.iter().position(|piece| matches!(piece, Piece::Word(word) if !skipped(word)))?;
    let mut at = first;
    while pieces.get(at + 1) == Some(&Piece::Mark(b'.')) && matches!(pieces.get(at + 2), Some(Piece::Word(_))) {
        at += 2;
    }
    match &pieces[at] {
        Piece::Word(word) => Some((word.clone(), at + 1)),
        Piece::Mark(_) => None,
    }
}

impl Tables {
    /// Takes in the definition of a table.
    pub(super) fn define(&mut self, statement: &[u8]) {
        let pieces = pieces(statement);
        let Some((table, from)) = name(&pieces) else { return };
        let mut columns = Vec::new();
        let (mut depth, mut at_start) = (0_usize, true);
        let mut rest = pieces[from..].iter().peekable();
        while let Some(piece) = rest.next() {
            match piece {
                Piece::Mark(b'(') => {
                    depth += 1;
                    at_start = depth == 1;
                }
                Piece::Mark(b')') => depth = depth.saturating_sub(1),
                Piece::Mark(b',') if depth == 1 => at_start = true,
                Piece::Word(column) if at_start && depth == 1 => {
                    at_start = false;
                    let keys: [&[u8]; 9] = [
                        b"PRIMARY",
                        b"KEY",
                        b"UNIQUE",
                        b"CONSTRAINT",
                        b"INDEX",
                        b"FULLTEXT",
                        b"SPATIAL",
                        b"FOREIGN",
                        b"CHECK",
                    ];
                    let Some(Piece::Word(kind)) = rest.peek() else { continue };
                    if keys.iter().any(|key| key.eq_ignore_ascii_case(column)) {
                        continue;
                    }
                    let mut kind = kind.clone();
                    // Its length stands behind it: varchar(255), character varying(255).
                    let mut ahead = rest.clone();
                    ahead.next();
                    if let Some(Piece::Word(word)) = ahead.peek()
                        && word.eq_ignore_ascii_case(b"varying")
                    {
                        ahead.next();
                    }
                    if let (Some(Piece::Mark(b'(')), Some(Piece::Word(length))) = (ahead.next(), ahead.next()) {
                        kind.push(b'(');
                        kind.extend_from_slice(length);
                        kind.push(b')');
                    }
                    columns.push((column.clone(), Column::of(&kind)));
                }
                _ => {}
            }
        }
        self.0.insert(table, columns);
    }

    /// Returns the columns that rows have, by what stands before them.
    pub(super) fn columns_of(&self, statement: &[u8]) -> Vec<Column> {
        let pieces = pieces(statement);
        let Some((table, from)) = name(&pieces) else { return Vec::new() };
        let Some(known) = self.0.get(&table) else { return Vec::new() };
        if pieces.get(from) != Some(&Piece::Mark(b'(')) {
            return known.iter().map(|(_, column)| *column).collect();
        }
        let named = pieces[from + 1..].iter().take_while(|piece| **piece != Piece::Mark(b')'));
        let of = |name: &[u8]| known.iter().find(|(known, _)| known == name).map(|(_, column)| *column);
        named
            .filter_map(|piece| match piece {
                Piece::Word(word) => Some(of(word).unwrap_or_default()),
                Piece::Mark(_) => None,
            })
            .collect()
    }
}
