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

/// Edits that cannot be made together: they overlap, or lie outside the file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("two changes overlap at byte {at}")]
pub struct EditsOverlap {
    /// Where the second one begins.
    pub at: usize,
}

/// Returns the file with all edits made. Insertions at the same place keep their order.
///
/// # Errors
/// When edits overlap or lie outside the file.
pub fn apply_edits(original: &[u8], edits: &[Edit]) -> Result<Vec<u8>, EditsOverlap> {
    let mut sorted: Vec<&Edit> = edits.iter().collect();
    sorted.sort_by_key(|e| (e.range.start, e.range.end));
    let mut out = Vec::with_capacity(original.len() + 256);
    let mut at = 0;
    for edit in sorted {
        let kept = original.get(at..edit.range.start).ok_or(EditsOverlap { at: edit.range.start })?;
        out.extend_from_slice(kept);
        out.extend_from_slice(&edit.new);
        at = edit.range.end;
    }
    out.extend_from_slice(original.get(at..).ok_or(EditsOverlap { at })?);
    Ok(out)
}

/// Returns the start of the line that `at` stands in.
pub(crate) fn line_start(bytes: &[u8], at: usize) -> usize {
    bytes[..at].iter().rposition(|b| *b == b'\n').map_or(0, |i| i + 1)
}

/// Returns where new lines go behind something that ends at `at`: behind a comment on the same line, which belongs to what stands
/// before it, but before anything else.
pub(crate) fn behind(bytes: &[u8], at: usize) -> usize {
    let line = bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |i| at + i);
    let rest = bytes[at..line].trim_ascii();
    if rest.starts_with(b"#") { line - usize::from(bytes[..line].ends_with(b"\r")) } else { at }
}

/// Returns the edit that puts lines behind the line of `at`, or at the end of the file; `None` for no lines.
pub(crate) fn lines_behind(bytes: &[u8], at: Option<usize>, lines: &[String]) -> Option<Edit> {
    let end = line_end(bytes);
    let text: String = lines.iter().flat_map(|line| [line.as_str(), end]).collect();
    let stop = at.and_then(|at| bytes[at..].iter().position(|b| *b == b'\n').map(|n| at + n + 1));
    let at = stop.unwrap_or(bytes.len());
    let is_open = at > 0 && bytes[at - 1] != b'\n';
    (!lines.is_empty()).then(|| Edit::insert(at, if is_open { format!("{end}{text}") } else { text }))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn edits_keep_their_order_and_those_that_overlap_are_refused() {
        let edits = [Edit::insert(4, "x"), Edit::replace(0..4, "AB"), Edit::insert(4, "y")];
        assert_eq!(apply_edits(b"abcdef", &edits).unwrap(), b"ABxyef");
        for edits in [[Edit::replace(0..4, ""), Edit::insert(2, "x")], [Edit::insert(1, ""), Edit::replace(5..9, "")]] {
            assert!(apply_edits(b"abcdef", &edits).is_err());
        }
    }

    #[test]
    fn new_lines_go_behind_the_comment_of_what_they_follow() {
        for (text, wanted) in [("a; # why\nb;", 8), ("a; # why\r\nb;", 8), ("a; b;\n", 2), ("a;", 2), ("a; #", 4)] {
            assert_eq!(behind(text.as_bytes(), 2), wanted, "{text}");
        }
    }
}
