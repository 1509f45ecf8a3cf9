//! lighttpd's words: each file is a row of tokens that leave no byte out.

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Blanks and line ends.
    Blank,
    /// From a `#` to the end of the line.
    Comment,
    /// A name, or a number.
    Word,
    /// A text in quotes.
    Text,
    /// `=`, `+=`, `:=`, `==`, `!=`, `=~`, `!~`, `=^`, `=$`, `=>`, `+` and `,`.
    Operator,
    /// `(`, `{` and `[`.
    Open,
    /// `)`, `}` and `]`.
    Close,
}

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Returns the tokens of a file; joined they are the file.
pub(super) fn tokens(bytes: &[u8]) -> Vec<Token> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let (kind, end) = match bytes[at..] {
            [b, ..] if b.is_ascii_whitespace() => (Kind::Blank, at + 1),
            [b'#', ..] => (Kind::Comment, bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| at + n)),
            [b'"', ..] => (Kind::Text, text_end(bytes, at, b'"')),
            [b'\'', ..] => (Kind::Text, text_end(bytes, at, b'\'')),
            [b'(' | b'{' | b'[', ..] => (Kind::Open, at + 1),
            [b')' | b'}' | b']', ..] => (Kind::Close, at + 1),
            [b'+', b'=', ..]
            | [b':', b'=', ..]
            | [b'=', b'=' | b'~' | b'^' | b'$' | b'>', ..]
            | [b'!', b'=' | b'~', ..] => (Kind::Operator, at + 2),
            [b'=' | b'+' | b',' | b';', ..] => (Kind::Operator, at + 1),
            _ => (Kind::Word, word_end(bytes, at)),
        };
        found.push(Token { kind, range: at..end });
        at = end;
    }
    found
}

fn text_end(bytes: &[u8], begin: usize, quote: u8) -> usize {
    let mut at = begin + 1;
    while at < bytes.len() && bytes[at] != quote {
        at += if bytes[at] == b'\\' { 2 } else { 1 };
    }
    (at + 1).min(bytes.len())
}

fn word_end(bytes: &[u8], begin: usize) -> usize {
    let ends = |b: &u8| {
        b.is_ascii_whitespace()
            || matches!(
                b,
                b'=' | b'+' | b',' | b';' | b'(' | b')' | b'{' | b'}' | b'[' | b']' | b'"' | b'\'' | b'#' | b'!'
            )
    };
    bytes[begin + 1..].iter().position(ends).map_or(bytes.len(), |n| begin + 1 + n)
}

/// Returns what a text says, without its quotes.
pub(super) fn value(text: &[u8]) -> String {
    let text = String::from_utf8_lossy(text);
    let inner = text.trim_matches(['"', '\'']);
    inner.replace("\\\"", "\"").replace("\\\\", "\\")
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"a=+!~:>$ \t\r\n#{}()[]\"'\\,.".to_vec()), 0..200)) {
            let joined: Vec<u8> = tokens(&bytes).iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(joined, bytes);
        }
    }
}
