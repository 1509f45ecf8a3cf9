//! Dovecot's lines: each file is a row of tokens that leave no byte out.

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Blank,
    /// From a `#` to the end of the line.
    Comment,
    /// A word, or a text in quotes.
    Word,
    Open,
    Close,
    Equals,
    /// A line end that nothing continues.
    End,
}

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Returns the tokens of a file; joined they are the file.
pub(super) fn tokens(bytes: &[u8]) -> Vec<Token> {
    let mut found = Vec::new();
    let (mut at, mut after_blank) = (0, true);
    while at < bytes.len() {
        let (kind, end) = match bytes[at..] {
            [b'\n', ..] => (Kind::End, at + 1),
            [b'\\', b'\n', ..] => (Kind::Blank, at + 2),
            [b' ' | b'\t' | b'\r', ..] => (Kind::Blank, at + 1),
            [b'#', ..] if after_blank => (Kind::Comment, line_end(bytes, at)),
            [b'{', ..] => (Kind::Open, at + 1),
            [b'}', ..] => (Kind::Close, at + 1),
            [b'=', ..] => (Kind::Equals, at + 1),
            _ => (Kind::Word, word_end(bytes, at)),
        };
        after_blank = matches!(kind, Kind::Blank | Kind::End | Kind::Open | Kind::Close);
        found.push(Token { kind, range: at..end });
        at = end;
    }
    found
}

fn line_end(bytes: &[u8], at: usize) -> usize {
    bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| at + n)
}

fn word_end(bytes: &[u8], begin: usize) -> usize {
    let quote = bytes[begin];
    let mut at = begin + 1;
    if matches!(quote, b'"' | b'\'') {
        while at < bytes.len() && bytes[at] != quote && bytes[at] != b'\n' {
            at += if bytes[at] == b'\\' && at + 1 < bytes.len() && bytes[at + 1] != b'\n' { 2 } else { 1 };
        }
        return if at < bytes.len() && bytes[at] == quote { at + 1 } else { at.min(bytes.len()) };
    }
    while at < bytes.len() && !matches!(bytes[at], b'\n' | b' ' | b'\t' | b'\r' | b'{' | b'}' | b'=') {
        // `%{…}` and `${…}` are part of a word.
        if matches!(bytes[at], b'%' | b'$') && bytes.get(at + 1) == Some(&b'{') {
            let line = line_end(bytes, at);
            at = bytes[at..line].iter().position(|b| *b == b'}').map_or(at + 1, |n| at + n);
        }
        at += 1;
    }
    at.min(bytes.len())
}

/// Returns what a word says.
pub(super) fn value(word: &[u8]) -> String {
    let text = String::from_utf8_lossy(word);
    match text.chars().next() {
        Some(quote @ ('"' | '\'')) if text.len() > 1 => {
            let inner = text[1..].strip_suffix(quote).unwrap_or(&text[1..]);
            inner.replace(&format!("\\{quote}"), &quote.to_string()).replace("\\\\", "\\")
        }
        _ => text.into_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"a= \t\r\n#{}$%\"'\\<".to_vec()), 0..200)) {
            let all = tokens(&bytes);
            let joined: Vec<u8> = all.iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(&joined, &bytes);
            proptest::prop_assert!(all.iter().all(|token| !token.range.is_empty()));
            for token in all {
                let _ = value(&bytes[token.range]);
            }
        }
    }
}
