//! HAProxy's words: each file is a row of tokens that leave no byte out.

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Blank,
    /// From a `#` to the end of the line.
    Comment,
    /// A word, with its quotes.
    Word,
    /// A line end that nothing continues.
    End,
}

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Returns the tokens of a file; joined they are the file.
pub(super) fn tokens(bytes: &[u8]) -> Vec<Token> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let (kind, end) = match bytes[at] {
            b'\n' => (Kind::End, at + 1),
            _ if is_blank(bytes, at) => (Kind::Blank, blanks(bytes, at)),
            b'#' => (Kind::Comment, bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| at + n)),
            _ => (Kind::Word, word_end(bytes, at)),
        };
        found.push(Token { kind, range: at..end });
        at = end;
    }
    found
}

/// A `\` before a line end continues the line.
fn is_blank(bytes: &[u8], at: usize) -> bool {
    matches!(bytes[at..], [b' ' | b'\t' | b'\r', ..] | [b'\\', b'\n', ..])
}

fn blanks(bytes: &[u8], mut at: usize) -> usize {
    while at < bytes.len() && is_blank(bytes, at) {
        at += if bytes[at] == b'\\' { 2 } else { 1 };
    }
    at
}

fn word_end(bytes: &[u8], mut at: usize) -> usize {
    let mut quote = None;
    while at < bytes.len() && bytes[at] != b'\n' {
        match (bytes[at], quote) {
            (b'\\', None | Some(b'"')) if at + 1 < bytes.len() && bytes[at + 1] != b'\n' => at += 1,
            (found @ (b'"' | b'\''), None) => quote = Some(found),
            (found, Some(open)) if found == open => quote = None,
            (b'#', None) => return at,
            (_, None) if is_blank(bytes, at) => return at,
            _ => {}
        }
        at += 1;
    }
    at.min(bytes.len())
}

/// Returns what a word says, with variables put in place where quotes allow it and they are known.
pub(super) fn value(word: &[u8], variable: impl Fn(&str) -> Option<String>) -> String {
    let text = String::from_utf8_lossy(word);
    let mut out = String::new();
    let mut quote = None;
    let mut rest = &*text;
    while let Some(c) = rest.chars().next() {
        rest = &rest[c.len_utf8()..];
        match (c, quote) {
            ('\\', None | Some('"')) => {
                if let Some(next) = rest.chars().next() {
                    out.push(next);
                    rest = &rest[next.len_utf8()..];
                }
            }
            ('"' | '\'', None) => quote = Some(c),
            (_, Some(open)) if c == open => quote = None,
            ('$', Some('"')) => {
                let (name, length) = match rest.strip_prefix('{').and_then(|inner| inner.split_once('}')) {
                    Some((name, _)) => (name, name.len() + 2),
                    None => {
                        let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
                        (&rest[..end], end)
                    }
                };
                match variable(name.split('-').next().unwrap_or_default()) {
                    Some(known) => out.push_str(&known),
                    // What stands behind the `-` is for variables that are not set.
                    None => match name.split_once('-') {
                        Some((_, instead)) => out.push_str(instead),
                        None => out.push_str(&format!("${}", &rest[..length])),
                    },
                }
                rest = &rest[length..];
            }
            _ => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select("ab \t\r\n#\"'\\${}-é".as_bytes().to_vec()), 0..200)) {
            let joined: Vec<u8> = tokens(&bytes).iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(&joined, &bytes);
            let _ = value(&bytes, |_| None);
        }
    }

    #[test]
    fn words_are_what_haproxy_takes_them_for() {
        let known = |name: &str| (name == "OIL").then(|| "wick".to_owned());
        for (line, wanted) in [
            ("bind :443 ssl crt /a\\ b.pem # x", &["bind", ":443", "ssl", "crt", "/a b.pem"][..]),
            ("a 'b \"c' \"d 'e\"f", &["a", "b \"c", "d 'ef"]),
            (
                "x \"${OIL}y\" \"$OIL\" '$OIL' ${OIL} \"${NONE}\" \"${NONE-z}\"",
                &["x", "wicky", "wick", "$OIL", "${OIL}", "${NONE}", "z"],
            ),
            ("a \\\n b", &["a", "b"]),
            ("a#b", &["a"]),
            ("\"${é\" \"$é\"", &["${é", "$é"]),
        ] {
            let words = tokens(line.as_bytes()).into_iter().filter(|token| token.kind == Kind::Word);
            let words: Vec<String> = words.map(|token| value(&line.as_bytes()[token.range], known)).collect();
            assert_eq!(words, wanted, "{line}");
        }
    }
}
