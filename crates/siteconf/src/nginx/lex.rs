//! nginx's words: everything in the file becomes a token, so that the tokens joined are the file.

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

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Blanks as nginx has them: a form feed is none.
fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n')
}

/// Returns the token that begins at a place of the file. Never fails: an open quote runs to the end of the file.
pub(super) fn token(bytes: &[u8], at: usize) -> Option<Token> {
    let (kind, end) = match *bytes.get(at)? {
        b if is_blank(b) => (Kind::Blank, run(bytes, at, is_blank)),
        b'#' => (Kind::Comment, run(bytes, at, |b| b != b'\n')),
        b';' => (Kind::End, at + 1),
        b'{' => (Kind::Open, at + 1),
        b'}' => (Kind::Close, at + 1),
        quote @ (b'"' | b'\'') => (Kind::Word, quoted(bytes, at + 1, quote)),
        _ => (Kind::Word, bare(bytes, at)),
    };
    Some(Token { kind, range: at..end })
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

/// A bare word ends at a blank, `;` or `{`; a `{` behind `$` belongs to it, and so does what a backslash protects.
fn bare(bytes: &[u8], mut at: usize) -> usize {
    let mut behind_dollar = false;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => {
                behind_dollar = false;
                at += 1;
            }
            b'{' if behind_dollar => {}
            b if is_blank(b) || matches!(b, b';' | b'{') => break,
            b => behind_dollar = b == b'$',
        }
        at += 1;
    }
    at.min(bytes.len())
}

/// Returns the value of a word: without its quotes, and with what backslashes stand for.
pub(super) fn value(word: &[u8]) -> String {
    let inner = match *word {
        [quote @ (b'"' | b'\''), .., last] if quote == last => &word[1..word.len() - 1],
        _ => word,
    };
    let mut out = Vec::with_capacity(inner.len());
    let mut at = 0;
    while at < inner.len() {
        let pair = (inner[at], inner.get(at + 1));
        let (byte, step) = match pair {
            (b'\\', Some(&protected @ (b'"' | b'\'' | b'\\'))) => (protected, 2),
            (b'\\', Some(b't')) => (b'\t', 2),
            (b'\\', Some(b'r')) => (b'\r', 2),
            (b'\\', Some(b'n')) => (b'\n', 2),
            (byte, _) => (byte, 1),
        };
        out.push(byte);
        at += step;
    }
    String::from_utf8(out).unwrap_or_else(|error| String::from_utf8_lossy(error.as_bytes()).into_owned())
}

/// Returns a word that nginx reads as `text`. A `$` cannot be protected: nginx takes it for the beginning of a variable where
/// the directive has any.
pub(super) fn quote_word(text: &str) -> String {
    let plain = |c: char| !c.is_ascii() || c.is_ascii_alphanumeric() || "/._-:*~@+=,%$".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        return text.to_owned();
    }
    let mut word = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => word.extend(['\\', c]),
            '\t' => word.push_str("\\t"),
            '\r' => word.push_str("\\r"),
            '\n' => word.push_str("\\n"),
            _ => word.push(c),
        }
    }
    word.push('"');
    word
}

/// Returns where a block of Lua ends that begins at `at`: the place of its `}`. Strings, long brackets and comments of that
/// language hide braces.
pub(super) fn end_of_lua(bytes: &[u8], mut at: usize) -> Option<usize> {
    let mut depth = 0_usize;
    while at < bytes.len() {
        match bytes[at] {
            b'{' => depth += 1,
            b'}' if depth == 0 => return Some(at),
            b'}' => depth -= 1,
            quote @ (b'"' | b'\'') => at = quoted(bytes, at + 1, quote) - 1,
            b'[' => at = end_of_long_bracket(bytes, at)?.unwrap_or(at),
            b'-' if bytes.get(at + 1) == Some(&b'-') => {
                let long = if bytes.get(at + 2) == Some(&b'[') { end_of_long_bracket(bytes, at + 2)? } else { None };
                at = long.unwrap_or_else(|| run(bytes, at, |b| b != b'\n').saturating_sub(1));
            }
            _ => {}
        }
        at += 1;
    }
    None
}

/// Returns the last byte of `[[…]]` or `[==[…]==]` that begins at `at`; `Some(None)` when none begins there, `None` when it has
/// no end.
fn end_of_long_bracket(bytes: &[u8], at: usize) -> Option<Option<usize>> {
    let level = bytes[at + 1..].iter().take_while(|b| **b == b'=').count();
    if bytes.get(at + 1 + level) != Some(&b'[') {
        return Some(None);
    }
    let close = [&b"]"[..], &vec![b'='; level], b"]"].concat();
    let begin = at + 2 + level;
    let found = bytes[begin..].windows(close.len()).position(|window| window == close)?;
    Some(Some(begin + found + close.len() - 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tokens(bytes: &[u8]) -> Vec<Token> {
        let mut at = 0;
        std::iter::from_fn(|| {
            let next = token(bytes, at)?;
            at = next.range.end;
            Some(next)
        })
        .collect()
    }

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"ab \t\r\n#;{}\"'\\${\x0c".to_vec()), 0..200)) {
            let joined: Vec<u8> = tokens(&bytes).iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(joined, bytes);
        }

        #[test]
        fn a_quoted_word_is_read_as_what_it_was(text in "[a\\PC \t\r\n;{}\"'\\\\$#()]{0,20}") {
            let word = quote_word(&text);
            let found = tokens(word.as_bytes());
            proptest::prop_assert_eq!(found.len(), 1, "{}", word);
            proptest::prop_assert_eq!(found[0].kind, Kind::Word);
            proptest::prop_assert_eq!(value(word.as_bytes()), text);
        }
    }

    #[test]
    fn words_have_the_value_that_nginx_gives_them() {
        for (word, wanted) in [
            ("plain", "plain"),
            ("a\\ b", "a\\ b"),
            ("\"two words\"", "two words"),
            ("'it\\'s'", "it's"),
            ("\"\\D\\\\d\\t\"", "\\D\\d\t"),
            ("a\"b", "a\"b"),
            ("${name}x", "${name}x"),
        ] {
            assert_eq!(value(word.as_bytes()), wanted, "{word}");
            assert_eq!(token(word.as_bytes(), 0).unwrap().range, 0..word.len(), "{word}");
        }
    }

    #[test]
    fn lua_ends_at_its_own_brace() {
        for text in [
            "local n = #t }",
            "-- 'tis\n }",
            "-- :-}\n }",
            "--[[ } ]] x = '}' }",
            "s = [==[ }]] ]==] }",
            "t = { a = { \"}\\\"}\" } } }",
            "a = b[c[1]] }",
        ] {
            assert_eq!(end_of_lua(text.as_bytes(), 0), Some(text.len() - 1), "{text}");
        }
        assert_eq!(end_of_lua(b"-- }", 0), None);
        assert_eq!(end_of_lua(b"[[ }", 0), None);
    }
}
