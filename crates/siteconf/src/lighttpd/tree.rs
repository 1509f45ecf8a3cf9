//! lighttpd's statements, in the conditions that they stand in.

use super::lex::{Kind, Token, tokens, value};
use crate::files::{DEEPEST, LoadError};
use crate::splice::line_number;
use std::ops::Range;
use std::path::Path;

/// A part of a value: `"text" + var.name`.
#[derive(Clone, Debug)]
pub(super) enum Part {
    Text(String),
    Name(String),
}

/// A statement of a file.
#[derive(Clone, Debug)]
pub(super) enum Statement {
    /// `name = value`; `adds` for `+=`. Of a list only the texts in it are kept.
    Setting { name: String, adds: bool, parts: Vec<Part>, is_list: bool, range: Range<usize> },
    /// `include "path"`; `shell` for what a command says.
    Include { parts: Vec<Part>, shell: bool, at: usize },
    /// `$HTTP["host"] == "name" {`, with the index behind the last statement in it. `is_else` where it counts only if the one before did not.
    Condition { field: String, operator: String, text: Vec<Part>, is_else: bool, at: usize, end: usize },
}

struct Parser<'a> {
    path: &'a Path,
    bytes: &'a [u8],
    tokens: Vec<Token>,
    at: usize,
    found: Vec<Statement>,
}

/// Reads the statements of a file, in the order they begin in.
pub(super) fn parse(path: &Path, bytes: &[u8]) -> Result<Vec<Statement>, LoadError> {
    let tokens = tokens(bytes).into_iter().filter(|t| !matches!(t.kind, Kind::Blank | Kind::Comment)).collect();
    let mut parser = Parser { path, bytes, tokens, at: 0, found: Vec::new() };
    parser.statements(0)?;
    Ok(parser.found)
}

impl Parser<'_> {
    fn error(&self, what: &'static str) -> LoadError {
        let at = self.tokens.get(self.at).map_or(self.bytes.len(), |token| token.range.start);
        LoadError::Syntax { path: self.path.to_owned(), line: line_number(self.bytes, at), what }
    }

    fn text(&self, n: usize) -> &str {
        let range = self.tokens.get(n).map_or(0..0, |token| token.range.clone());
        std::str::from_utf8(&self.bytes[range]).unwrap_or_default()
    }

    fn is(&self, n: usize, text: &str) -> bool {
        self.text(n) == text
    }

    fn statements(&mut self, depth: usize) -> Result<(), LoadError> {
        if depth > DEEPEST {
            return Err(self.error("conditions are nested too deep"));
        }
        while self.at < self.tokens.len() {
            if self.is(self.at, "}") {
                if depth == 0 {
                    return Err(self.error("this `}` is not expected here"));
                }
                self.at += 1;
                return Ok(());
            }
            if self.is(self.at, ";") {
                self.at += 1;
                continue;
            }
            self.statement(depth)?;
        }
        if depth > 0 { Err(self.error("the file ends and a `}` is missing")) } else { Ok(()) }
    }

    fn statement(&mut self, depth: usize) -> Result<(), LoadError> {
        let first = self.tokens[self.at].range.start;
        let word = self.text(self.at).to_owned();
        if matches!(&*word, "include" | "include_shell") {
            self.at += 1;
            let (parts, _, _) = self.value()?;
            self.found.push(Statement::Include { parts, shell: word == "include_shell", at: first });
            return Ok(());
        }
        let mut is_else = false;
        let mut begin = self.at;
        if matches!(&*word, "else" | "elif" | "elseif") {
            is_else = true;
            begin += 1;
            if self.is(begin, "if") {
                begin += 1;
            }
        }
        if is_else || self.text(begin).starts_with('$') {
            return self.condition(begin, is_else, first, depth);
        }
        let operator = self.text(self.at + 1).to_owned();
        if !matches!(&*operator, "=" | "+=" | ":=") {
            return Err(self.error("a setting is expected here"));
        }
        self.at += 2;
        let (parts, is_list, range) = self.value()?;
        self.found.push(Statement::Setting { name: word, adds: operator == "+=", parts, is_list, range });
        Ok(())
    }

    /// Reads `$HTTP["host"] == "name" {`, or the `{` behind an `else`.
    fn condition(&mut self, begin: usize, is_else: bool, first: usize, depth: usize) -> Result<(), LoadError> {
        self.at = begin;
        let (mut field, mut operator, mut text) = (String::new(), String::new(), Vec::new());
        if !self.is(begin, "{") {
            field = format!("{}{}", self.text(begin), value(self.text(begin + 2).as_bytes()));
            operator = self.text(begin + 4).to_owned();
            self.at = begin + 5;
            (text, _, _) = self.value()?;
        }
        if !self.is(self.at, "{") {
            return Err(self.error("a `{` is expected here"));
        }
        self.at += 1;
        let index = self.found.len();
        self.found.push(Statement::Condition { field, operator, text, is_else, at: first, end: index + 1 });
        self.statements(depth + 1)?;
        let after = self.found.len();
        if let Statement::Condition { end, .. } = &mut self.found[index] {
            *end = after;
        }
        Ok(())
    }

    /// Reads a value: parts that are put together, or a list.
    fn value(&mut self) -> Result<(Vec<Part>, bool, Range<usize>), LoadError> {
        let begin = self.at;
        let (mut parts, mut is_list, mut depth) = (Vec::new(), false, 0_usize);
        while let Some(token) = self.tokens.get(self.at) {
            let text = String::from_utf8_lossy(&self.bytes[token.range.clone()]).into_owned();
            match token.kind {
                Kind::Open if text == "(" => (is_list, depth) = (true, depth + 1),
                Kind::Close if text == ")" && depth > 0 => depth -= 1,
                Kind::Text => parts.push(Part::Text(value(text.as_bytes()))),
                Kind::Word => parts.push(Part::Name(text)),
                Kind::Operator if depth > 0 && matches!(&*text, "," | "=>" | "+") => {}
                _ => return Err(self.error("a value is expected here")),
            }
            self.at += 1;
            // A value ends where neither a list is open nor a `+` follows.
            if depth == 0 {
                if !self.is(self.at, "+") {
                    break;
                }
                self.at += 1;
            }
        }
        if begin == self.at || depth > 0 {
            return Err(self.error("a value is expected here"));
        }
        let range = self.tokens[begin].range.start..self.tokens[self.at - 1].range.end;
        Ok((parts, is_list, range))
    }
}
