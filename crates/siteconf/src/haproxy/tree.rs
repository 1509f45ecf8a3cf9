//! HAProxy's lines, in the sections that they stand in.

use super::lex::{Kind, tokens};
use std::ops::Range;

/// A line: the bytes of each of its words.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub(super) words: Vec<Range<usize>>,
}

/// Reads the lines of a file that have words.
pub(super) fn parse(bytes: &[u8]) -> Vec<Line> {
    let all = tokens(bytes);
    let lines = all.split(|token| token.kind == Kind::End);
    let words = lines.map(|line| {
        let words = line.iter().filter(|token| token.kind == Kind::Word).map(|token| token.range.clone());
        Line { words: words.collect() }
    });
    words.filter(|line| !line.words.is_empty()).collect()
}
