//! nginx's words: everything in the file becomes a token, so that the tokens joined are the file.

use std::ops::Range;

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Blanks and line ends.
    Blank,
    /// From `#` to the end of the line.
    Comment,
    /// A word, bare or quoted.
    Word,
    /// `;`
    End,
    /// `{`
    Open,
    /// `}`
    Close,
}

/// A token and its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Token {
    pub(super) kind: Kind,
    pub(super) range: Range<usize>,
}

/// Cuts a file into tokens. Never fails: an open quote runs to the end of the file.
pub(super) fn lex(bytes: &[u8]) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let (kind, end) = match bytes[at] {
            b if b.is_ascii_whitespace() => (Kind::Blank, run(bytes, at, |b| b.is_ascii_whitespace())),
            b'#' => (Kind::Comment, run(bytes, at, |b| b != b'\n')),
            b';' => (Kind::End, at + 1),
            b'{' => (Kind::Open, at + 1),
            b'}' => (Kind::Close, at + 1),
            quote @ (b'"' | b'\'') => (Kind::Word, quoted(bytes, at + 1, quote)),
            _ => (Kind::Word, bare(bytes, at)),
        };
        tokens.push(Token { kind, range: at..end });
        at = end;
    }
    tokens
}

fn run(bytes: &[u8], at: usize, belongs: impl Fn(u8) -> bool) -> usize {
    bytes[at..].iter().position(|b| !belongs(*b)).map_or(bytes.len(), |i| at + i)
}

fn quoted(bytes: &[u8], mut at: usize, quote: u8) -> usize {
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 2,
            b if b == quote => return at + 1,
            _ => at += 1,
        }
    }
    bytes.len()
}

/// A bare word ends at a blank, `;` or `{`; `${name}` belongs to it, and so does what a backslash protects.
fn bare(bytes: &[u8], mut at: usize) -> usize {
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 2,
            b'$' if bytes.get(at + 1) == Some(&b'{') => at = run(bytes, at, |b| b != b'}') + 1,
            b if b.is_ascii_whitespace() || matches!(b, b';' | b'{') => break,
            _ => at += 1,
        }
    }
    at.min(bytes.len())
}

/// Returns the value of a word: without its quotes and backslashes.
pub(super) fn value(word: &[u8]) -> String {
    let text = String::from_utf8_lossy(word);
    let inner = match text.chars().next() {
        Some(quote @ ('"' | '\'')) if text.len() >= 2 && text.ends_with(quote) => &text[1..text.len() - 1],
        _ => return text.into_owned(),
    };
    inner.replace("\\\"", "\"").replace("\\'", "'")
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"ab \t\r\n#;{}\"'\\${".to_vec()), 0..200)) {
            let tokens = lex(&bytes);
            let joined: Vec<u8> = tokens.iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(joined, bytes);
        }
    }
}
