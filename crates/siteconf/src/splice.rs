//! Edits of a file: byte ranges of the original and what takes their place.

use std::ops::Range;

/// One change of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// The bytes of the original that go; empty for an insertion.
    pub range: Range<usize>,
    /// What stands there afterwards.
    pub new: Vec<u8>,
}

impl Edit {
    /// Returns an edit that replaces a range.
    pub fn replace(range: Range<usize>, new: impl Into<Vec<u8>>) -> Self {
        Edit { range, new: new.into() }
    }

    /// Returns an edit that inserts at a place.
    pub fn insert(at: usize, new: impl Into<Vec<u8>>) -> Self {
        Edit::replace(at..at, new)
    }
}

/// Returns the file with all edits made. Insertions at the same place keep their order.
///
/// # Panics
/// When edits overlap or lie outside the file: a bug of ours.
pub fn apply_edits(original: &[u8], edits: &[Edit]) -> Vec<u8> {
    let mut sorted: Vec<&Edit> = edits.iter().collect();
    sorted.sort_by_key(|e| (e.range.start, e.range.end));
    let mut out = Vec::with_capacity(original.len() + 256);
    let mut at = 0;
    for edit in sorted {
        assert!(edit.range.start >= at, "edits do not overlap");
        out.extend_from_slice(&original[at..edit.range.start]);
        out.extend_from_slice(&edit.new);
        at = edit.range.end;
    }
    out.extend_from_slice(&original[at..]);
    out
}

/// Returns the start of the line that `at` stands in.
pub(crate) fn line_start(bytes: &[u8], at: usize) -> usize {
    bytes[..at].iter().rposition(|b| *b == b'\n').map_or(0, |i| i + 1)
}

/// Returns the place behind the line end after `at`, or the end of the file.
pub(crate) fn next_line(bytes: &[u8], at: usize) -> usize {
    bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |i| at + i + 1)
}

/// Returns the blanks that the line of `at` begins with.
pub(crate) fn indent(bytes: &[u8], at: usize) -> &[u8] {
    let start = line_start(bytes, at);
    let blanks = bytes[start..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
    &bytes[start..start + blanks]
}

/// Returns the line end that the file uses: CRLF when its first line ends so.
pub(crate) fn line_end(bytes: &[u8]) -> &'static str {
    match bytes.iter().position(|b| *b == b'\n') {
        Some(i) if i > 0 && bytes[i - 1] == b'\r' => "\r\n",
        _ => "\n",
    }
}

/// Returns the line that `at` stands in, counted from 1.
pub(crate) fn line_number(bytes: &[u8], at: usize) -> usize {
    bytes[..at].iter().filter(|b| **b == b'\n').count() + 1
}
