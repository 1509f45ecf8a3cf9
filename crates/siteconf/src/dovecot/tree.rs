//! Dovecot's settings, in the blocks that they stand in.

use super::lex::{Kind, tokens, value};
use crate::files::{DEEPEST, LoadError};
use crate::splice::line_number;
use std::ops::Range;
use std::path::Path;

/// A statement of a file.
#[derive(Clone, Debug)]
pub(super) enum Statement {
    /// `name = value`: the value without quotes, and its bytes.
    Setting { name: String, value: String, range: Range<usize> },
    /// `!include path` and `!include_try path`.
    Include { path: String, optional: bool, at: usize },
    /// `name word {`: the words, and the index behind the last statement in it.
    Block { words: Vec<String>, at: usize, end: usize },
}

/// Reads the statements of a file, in the order they begin in.
pub(super) fn parse(path: &Path, bytes: &[u8]) -> Result<Vec<Statement>, LoadError> {
    let error = |at: usize, what| LoadError::Syntax { path: path.to_owned(), line: line_number(bytes, at), what };
    let mut found: Vec<Statement> = Vec::new();
    let mut open: Vec<usize> = Vec::new();
    let all = tokens(bytes);
    for line in all.split(|token| token.kind == Kind::End) {
        let mut rest: Vec<_> = line.iter().filter(|t| !matches!(t.kind, Kind::Blank | Kind::Comment)).collect();
        // `}` may stand behind a block's only setting, and `{` before it.
        while !rest.is_empty() {
            let first = rest[0].range.start;
            if rest[0].kind == Kind::Close {
                let Some(index) = open.pop() else { return Err(error(first, "this `}` is not expected here")) };
                let after = found.len();
                if let Statement::Block { end, .. } = &mut found[index] {
                    *end = after;
                }
                rest.remove(0);
                continue;
            }
            let text = |range: &Range<usize>| value(&bytes[range.clone()]);
            let ends = rest.iter().position(|token| token.kind == Kind::Close).unwrap_or(rest.len());
            let opens = rest.iter().position(|token| token.kind == Kind::Open).unwrap_or(rest.len());
            let equals = rest.iter().position(|token| token.kind == Kind::Equals).unwrap_or(rest.len());
            if opens < ends && opens < equals {
                let words = rest[..opens].iter().map(|token| text(&token.range)).collect();
                if open.len() >= DEEPEST {
                    return Err(error(first, "blocks are nested too deep"));
                }
                open.push(found.len());
                found.push(Statement::Block { words, at: first, end: found.len() + 1 });
                rest.drain(..=opens);
                continue;
            }
            let (statement, others) = rest.split_at(ends);
            match statement {
                [word, path, ..] if text(&word.range).starts_with("!include") => {
                    let optional = text(&word.range) == "!include_try";
                    found.push(Statement::Include { path: text(&path.range), optional, at: first });
                }
                [name, equals, value @ ..] if equals.kind == Kind::Equals => {
                    let range = match (value.first(), value.last()) {
                        (Some(first), Some(last)) => first.range.start..last.range.end,
                        _ => equals.range.end..equals.range.end,
                    };
                    let name = text(&name.range);
                    let value = if value.len() == 1 {
                        text(&range)
                    } else {
                        String::from_utf8_lossy(&bytes[range.clone()]).into_owned()
                    };
                    found.push(Statement::Setting { name, value, range });
                }
                _ => return Err(error(first, "a setting is expected here")),
            }
            rest = others.to_vec();
        }
    }
    match open.pop() {
        None => Ok(found),
        Some(_) => Err(error(bytes.len(), "the file ends and a `}` is missing")),
    }
}
