//! Mistakes in an inventory, each with the line it stands in.

use serde::Serialize;
use std::fmt;
use std::ops::Range;

/// One mistake and where it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Mistake {
    /// The line, counted from 1.
    pub line: usize,
    /// The column in characters, counted from 1.
    pub column: usize,
    /// How many characters are meant; at least 1.
    pub width: usize,
    /// The text of the line.
    pub text: String,
    /// What is wrong.
    pub what: String,
    /// What to write instead.
    pub advice: Option<String>,
}

impl Mistake {
    pub(crate) fn at(source: &str, span: Range<usize>, what: String, advice: Option<String>) -> Self {
        let start = span.start.min(source.len());
        let line_start = source[..start].rfind('\n').map_or(0, |i| i + 1);
        let text = source[line_start..].lines().next().unwrap_or_default();
        let line_end = line_start + text.len();
        let end = span.end.clamp(start, line_end.max(start));
        Mistake {
            line: source[..start].matches('\n').count() + 1,
            column: source[line_start..start].chars().count() + 1,
            width: source[start..end].chars().count().max(1),
            text: text.to_owned(),
            what,
            advice,
        }
    }
}

/// All mistakes of an inventory, in the order they stand in it; never empty.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub struct Mistakes(pub Vec<Mistake>);

impl Mistakes {
    /// Returns all of them in one line.
    pub fn in_one_line(&self) -> String {
        let line = |m: &Mistake| {
            let advice = m.advice.as_ref().map(|a| format!(" ({a})")).unwrap_or_default();
            format!("line {}: {}{advice}", m.line, m.what)
        };
        self.0.iter().map(line).collect::<Vec<_>>().join("; ")
    }
}

impl fmt::Display for Mistakes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the inventory has {}", eskort_core::words::count(self.0.len() as u64, "mistake"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_lines_and_characters() {
        let source = "a = 1\nnäme = \"x\"\r\nb = 2";
        let at = source.find("\"x\"").unwrap();
        let mistake = Mistake::at(source, at..at + 3, "w".into(), None);
        assert_eq!((mistake.line, mistake.column, mistake.width, &*mistake.text), (2, 8, 3, "näme = \"x\""));
        let end = Mistake::at(source, source.len()..source.len() + 9, "w".into(), None);
        assert_eq!((end.line, end.column, end.width), (3, 6, 1));
    }
}
