//! Dumps of databases as SQL, read and written as they come: MySQL's and MariaDB's, PostgreSQL's (INSERT and COPY), SQLite's.

mod stretch;
mod table;

use crate::address::{Hosts, Tally, may_hold, mend_text};
use crate::column::{Column, keep_what_fits};
use crate::value::{may_be_structured, mend_value};
use memchr::{memchr, memchr2, memmem};
use std::io::{self, Write};
use std::ops::Range;
use std::sync::Arc;
pub use stretch::ReadAt;
use stretch::{Cut, Gone};
use table::Tables;

/// A literal that is longer is left as it is: so much of a dump is in memory at the most.
const LONGEST: usize = 24 << 20;
/// By so much of the beginning it is known what it is.
const HEAD: usize = 4096;
/// How a dump is cut.
const CUT: Cut = Cut { piece: 1 << 18, stretch: 1 << 24 };
/// No table has a longer definition.
const LONGEST_DEFINITION: usize = 1 << 20;

/// How a dump writes its texts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Dialect {
    /// With backslashes: MySQL, MariaDB.
    Backslashes,
    /// With quotes written twice: PostgreSQL, SQLite.
    Quotes,
}

/// Where in a dump the reader is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
enum Statement {
    /// At its beginning: its words so far.
    #[default]
    Begins,
    /// In one that is of no interest.
    Other,
    /// In the definition of a table.
    Defines,
    /// In one that adds rows: the columns in order, how deep in parentheses, and which column it is at.
    Inserts { columns: Vec<Column>, depth: usize, at: usize },
    /// In rows of PostgreSQL's COPY, a line each.
    Copies(Vec<Column>),
}

/// Changes the addresses of the hosts in a dump that comes in pieces.
pub struct DumpMender<'a> {
    hosts: &'a Hosts,
    /// What was changed so far.
    pub tally: Tally,
    dialect: Option<Dialect>,
    tables: Arc<Tables>,
    statement: Statement,
    /// What stands before the rows in the statement, or in the definition of a table.
    words: Vec<u8>,
    /// The last eight bytes outside of literals.
    before: u64,
    cut: Cut,
}

/// What was done with the front of what is there.
enum Step {
    /// So many bytes are done, as they are.
    Took(usize),
    /// So many are done, and these take the place of some of them.
    Changed(usize, Range<usize>, Vec<u8>),
    /// More has to come first.
    Wants,
}

impl<'a> DumpMender<'a> {
    /// Begins a dump.
    pub fn new(hosts: &'a Hosts) -> Self {
        DumpMender {
            hosts,
            tally: Tally::default(),
            dialect: None,
            tables: Arc::default(),
            statement: Statement::Begins,
            words: Vec::new(),
            before: 0,
            cut: CUT,
        }
    }

    /// For fuzzing: reads pieces of a size, and goes through stretches of another.
    #[cfg(fuzzing)]
    pub fn cut_into(&mut self, piece: usize, stretch: u64) {
        self.cut = Cut { piece, stretch };
    }

    /// Reads a dump from its beginning to its end, and writes it changed where that is wanted.
    ///
    /// # Errors
    /// What reading and writing say, and when it is no text.
    pub fn pass(&mut self, old: &ReadAt<'_>, mut new: Option<&mut dyn Write>) -> io::Result<()> {
        let (mut head, mut length) = (vec![0; HEAD], 0);
        while length < HEAD {
            match old(&mut head[length..], length as u64)? {
                0 => break,
                count => length += count,
            }
        }
        let head = &head[..length];
        if head.starts_with(&[0x1f, 0x8b]) || head.contains(&0) {
            return Err(io::Error::other("it is no dump as text, whatever its name says: unpack it first"));
        }
        self.dialect = Some(dialect_of(head));
        let mut gone = Gone { end: 0, goes_on: true };
        while gone.goes_on {
            gone = self.pair(old, gone.end, &mut new)?;
        }
        Ok(())
    }

    /// Does what can be done of a text, writes it, and returns how much that was.
    fn go_on(&mut self, text: &[u8], last: bool, new: &mut Option<&mut dyn Write>) -> io::Result<usize> {
        // What stays as it is is written in one.
        let (mut done, mut written) = (0, 0);
        while done < text.len() {
            let step = match self.statement {
                Statement::Copies(_) => self.copy_line(&text[done..], last),
                _ => self.token(&text[done..], last),
            };
            done += match step {
                Step::Took(count) => count,
                Step::Changed(count, range, changed) => {
                    if let Some(new) = new {
                        new.write_all(&text[written..done + range.start])?;
                        new.write_all(&changed)?;
                        written = done + range.end;
                    }
                    count
                }
                Step::Wants => break,
            };
        }
        if let Some(new) = new {
            new.write_all(&text[written..done])?;
        }
        Ok(done)
    }

    /// Takes what stands outside of literals, up to the next one, or a literal.
    fn token(&mut self, text: &[u8], last: bool) -> Step {
        let dialect = self.dialect.unwrap_or(Dialect::Backslashes);
        let plain = text.iter().position(|byte| matches!(byte, b'\'' | b'"' | b'`' | b'-' | b'/' | b'#' | b';' | b'$'));
        let plain = plain.unwrap_or(text.len());
        if plain > 0 {
            self.walk(&text[..plain]);
            return Step::Took(plain);
        }
        let skipped = match text[0] {
            b'\'' => return self.literal(text, dialect),
            quote @ (b'"' | b'`') => end_of_quoted(text, quote, dialect),
            b'-' if text.starts_with(b"--") => memchr(b'\n', text).map(|at| at + 1).or(last.then_some(text.len())),
            b'#' if dialect == Dialect::Backslashes => memchr(b'\n', text).map(|at| at + 1),
            b'/' if text.starts_with(b"/*") => memmem::find(text, b"*/").map(|at| at + 2),
            b'-' | b'/' if text.len() == 1 && !last => None,
            b'$' if dialect == Dialect::Quotes => end_of_dollars(text, last),
            b';' => {
                self.end();
                Some(1)
            }
            _ => {
                self.walk(&text[..1]);
                Some(1)
            }
        };
        match skipped {
            Some(count) => {
                if matches!(text[0], b'"' | b'`') {
                    self.remember(&text[..count]);
                }
                Step::Took(count)
            }
            None if text.len() > LONGEST || last => Step::Took(text.len()),
            None => Step::Wants,
        }
    }

    fn remember(&mut self, text: &[u8]) {
        if matches!(self.statement, Statement::Begins | Statement::Defines) && self.words.len() < LONGEST_DEFINITION {
            self.words.extend_from_slice(text);
        }
    }

    /// Notes what stands outside of literals: which statement it is, and at which column.
    fn walk(&mut self, text: &[u8]) {
        let last = &text[text.len().saturating_sub(8)..];
        self.before = last.iter().fold(self.before, |before, byte| before << 8 | u64::from(*byte));
        self.remember(text);
        if let Statement::Begins = self.statement {
            // Up to the first parenthesis or the word VALUES it is known which statement it is.
            if text.iter().any(|byte| matches!(byte, b'(')) || has_word(&self.words, b"VALUES") {
                self.statement = self.kind();
                if let Statement::Inserts { .. } = self.statement {
                    let from = values_at(text).unwrap_or(0);
                    return self.count(&text[from..]);
                }
            }
            return;
        }
        self.count(text);
    }

    fn count(&mut self, text: &[u8]) {
        if let Statement::Inserts { depth, at, .. } = &mut self.statement {
            for byte in text {
                match byte {
                    b'(' => {
                        *depth += 1;
                        if *depth == 1 {
                            *at = 0;
                        }
                    }
                    b')' => *depth = depth.saturating_sub(1),
                    b',' if *depth == 1 => *at += 1,
                    _ => {}
                }
            }
        }
    }

    fn kind(&mut self) -> Statement {
        match table::first_words(&self.words) {
            [first, ..] if first == b"CREATE" => Statement::Defines,
            // The columns may still have to come: (a, b) VALUES.
            [first, ..] if (first == b"INSERT" || first == b"REPLACE") && !has_word(&self.words, b"VALUES") => {
                Statement::Begins
            }
            [first, ..] if first == b"INSERT" || first == b"REPLACE" => {
                let columns = self.tables.columns_of(&self.words);
                Statement::Inserts { columns, depth: 0, at: 0 }
            }
            [first, ..] if first == b"COPY" => Statement::Begins,
            _ => Statement::Other,
        }
    }

    fn end(&mut self) {
        let words = std::mem::take(&mut self.words);
        if let Statement::Defines = self.statement {
            Arc::make_mut(&mut self.tables).define(&words);
        }
        let is_copy = matches!(table::first_words(&words), [first, ..] if first == b"COPY");
        self.statement = match is_copy && has_word(&words, b"stdin") {
            true => Statement::Copies(self.tables.columns_of(&words)),
            false => Statement::Begins,
        };
    }

    /// Takes a literal in single quotes.
    fn literal(&mut self, text: &[u8], dialect: Dialect) -> Step {
        let before = std::mem::take(&mut self.before);
        let [.., mark] = before.to_be_bytes();
        let escapes = dialect == Dialect::Backslashes || matches!(mark, b'E' | b'e');
        let Some(end) = end_of_literal(text, escapes) else {
            if text.len() <= LONGEST {
                self.before = before;
                return Step::Wants;
            }
            return Step::Took(text.len());
        };
        let column = match &self.statement {
            Statement::Inserts { columns, at, depth } if *depth >= 1 => {
                Some(columns.get(*at).copied().unwrap_or_default())
            }
            _ => None,
        };
        let is_bytes = before.to_be_bytes() == *b"_binary " || matches!(mark, b'x' | b'X' | b'b' | b'B');
        let Some(column) = column.filter(|_| !is_bytes && may_hold(&text[..end])) else {
            return Step::Took(end);
        };
        let raw = &text[1..end - 1];
        let new = self.mend(column, raw, &|raw| decode(raw, escapes), &|text| encode(text, escapes, raw));
        match new {
            Some(new) => Step::Changed(end, 1..end - 1, new),
            None => Step::Took(end),
        }
    }

    /// Changes a value as far as its column lets it.
    fn mend(
        &mut self,
        column: Column,
        raw: &[u8],
        decode: &dyn Fn(&[u8]) -> Vec<u8>,
        encode: &dyn Fn(&[u8]) -> Vec<u8>,
    ) -> Option<Vec<u8>> {
        if column.is_binary {
            return None;
        }
        let mut tally = Tally::default();
        // A plain text is changed as it is written, escapes and all.
        let is_plain = !may_be_structured(raw);
        let mended = match is_plain {
            true => mend_text(raw, self.hosts, &mut tally),
            false => mend_value(&decode(raw), self.hosts, &mut tally),
        };
        let fits = |mended: &[u8]| match is_plain && column.has_limits() {
            true => column.holds(&decode(mended)),
            false => column.holds(mended),
        };
        let mended = keep_what_fits(mended, fits, tally, &mut self.tally);
        mended.map(|mended| if is_plain { mended } else { encode(&mended) })
    }

    /// Takes a line of COPY.
    fn copy_line(&mut self, text: &[u8], last: bool) -> Step {
        let end = memchr(b'\n', text).map(|at| at + 1);
        let Some(end) = end.or((last || text.len() > LONGEST).then_some(text.len())) else {
            return Step::Wants;
        };
        if text.starts_with(b"\\.") {
            self.statement = Statement::Begins;
            return Step::Took(end);
        }
        let Statement::Copies(columns) = &self.statement else { return Step::Took(end) };
        let line = &text[..end];
        if !may_hold(line) {
            return Step::Took(end);
        }
        let columns = columns.clone();
        let (mut out, mut changed) = (Vec::with_capacity(line.len() + 64), false);
        let ends = line.len() - line.iter().rev().take_while(|byte| matches!(byte, b'\n' | b'\r')).count();
        for (n, field) in line[..ends].split(|byte| *byte == b'\t').enumerate() {
            if n > 0 {
                out.push(b'\t');
            }
            let column = columns.get(n).copied().unwrap_or_default();
            let new = match may_hold(field) {
                true => self.mend(column, field, &|raw| decode(raw, true), &encode_copy),
                false => None,
            };
            changed |= new.is_some();
            out.extend_from_slice(new.as_deref().unwrap_or(field));
        }
        out.extend_from_slice(&line[ends..]);
        if changed { Step::Changed(end, 0..end, out) } else { Step::Took(end) }
    }
}

fn dialect_of(beginning: &[u8]) -> Dialect {
    let head = &beginning[..beginning.len().min(HEAD)];
    let has = |word: &str| memmem::find(head, word.as_bytes()).is_some();
    match has("PostgreSQL database dump") || has("PRAGMA foreign_keys") || has("standard_conforming_strings") {
        true => Dialect::Quotes,
        false => Dialect::Backslashes,
    }
}

fn has_word(text: &[u8], word: &[u8]) -> bool {
    text.split(|byte| !byte.is_ascii_alphanumeric()).any(|one| one.eq_ignore_ascii_case(word))
}

/// Returns where in the last words before the rows those rows begin.
fn values_at(text: &[u8]) -> Option<usize> {
    let at = text.windows(6).rposition(|six| six.eq_ignore_ascii_case(b"VALUES"))?;
    Some(at + 6)
}

/// Returns the end of a literal that begins a text, behind its last quote.
fn end_of_literal(text: &[u8], escapes: bool) -> Option<usize> {
    let mut at = 1;
    loop {
        let rest = text.get(at..)?;
        at += if escapes { memchr2(b'\'', b'\\', rest)? } else { memchr(b'\'', rest)? };
        match (text[at], text.get(at + 1)) {
            (b'\\', Some(_)) | (b'\'', Some(b'\'')) => at += 2,
            // What comes next has to be seen: it may be the second quote.
            (_, None) => return None,
            _ => return Some(at + 1),
        }
    }
}

fn end_of_quoted(text: &[u8], quote: u8, dialect: Dialect) -> Option<usize> {
    let mut at = 1;
    loop {
        at += memchr2(quote, b'\\', text.get(at..)?)?;
        match text[at] {
            b'\\' if dialect == Dialect::Backslashes && quote == b'"' => at += 2,
            b'\\' => at += 1,
            _ => return Some(at + 1),
        }
    }
}

/// Returns the end of a text between `$word$` and the same.
fn end_of_dollars(text: &[u8], last: bool) -> Option<usize> {
    let word = text[1..].iter().take_while(|byte| byte.is_ascii_alphanumeric() || **byte == b'_').count();
    match text.get(word + 1) {
        Some(b'$') => {
            let mark = &text[..word + 2];
            memmem::find(&text[mark.len()..], mark).map(|at| at + 2 * mark.len())
        }
        None if !last => None,
        _ => Some(1),
    }
}

fn decode(raw: &[u8], escapes: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(raw.len());
    let mut at = 0;
    while at < raw.len() {
        match (raw[at], raw.get(at + 1)) {
            (b'\'', Some(b'\'')) => {
                out.push(b'\'');
                at += 2;
            }
            (b'\\', Some(next)) if escapes => {
                out.push(match next {
                    b'0' => 0,
                    b'b' => 8,
                    b't' => 9,
                    b'n' => 10,
                    b'v' => 11,
                    b'f' => 12,
                    b'r' => 13,
                    b'Z' => 26,
                    other => *other,
                });
                at += 2;
            }
            (byte, _) => {
                out.push(byte);
                at += 1;
            }
        }
    }
    out
}

/// Writes a text as a literal, in the way in which another one was written.
fn encode(text: &[u8], escapes: bool, like: &[u8]) -> Vec<u8> {
    let has = |what: &[u8]| memmem::find(like, what).is_some();
    let (double, twice) = (has(b"\\\""), has(b"''") && !has(b"\\'"));
    let mut out = Vec::with_capacity(text.len() + 16);
    for byte in text {
        match byte {
            b'\'' if !escapes || twice => out.extend(b"''"),
            _ if !escapes => out.push(*byte),
            b'\'' => out.extend(b"\\'"),
            b'"' if double => out.extend(b"\\\""),
            b'\\' => out.extend(b"\\\\"),
            0 => out.extend(b"\\0"),
            b'\n' if !has(b"\n") => out.extend(b"\\n"),
            b'\r' if !has(b"\r") => out.extend(b"\\r"),
            b'\t' if has(b"\\t") => out.extend(b"\\t"),
            26 => out.extend(b"\\Z"),
            other => out.push(*other),
        }
    }
    out
}

fn encode_copy(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len() + 16);
    for byte in text {
        match byte {
            b'\\' => out.extend(b"\\\\"),
            8 => out.extend(b"\\b"),
            b'\t' => out.extend(b"\\t"),
            b'\n' => out.extend(b"\\n"),
            11 => out.extend(b"\\v"),
            12 => out.extend(b"\\f"),
            b'\r' => out.extend(b"\\r"),
            other => out.push(*other),
        }
    }
    out
}

#[cfg(test)]
mod tests;
