//! Exim's logical lines: each file is a row of tokens that leave no byte out.

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// A line that begins with `#`, or has nothing in it.
    Comment,
    /// A line with those that a `\` at its end brings; comments may stand between them.
    Line,
}

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Returns the tokens of a file; joined they are the file.
pub(super) fn tokens(bytes: &[u8]) -> Vec<Token> {
    let mut found: Vec<Token> = Vec::new();
    let (mut at, mut goes_on) = (0, false);
    while at < bytes.len() {
        let end = bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| at + n + 1);
        let line = bytes[at..end].trim_ascii();
        let is_comment = line.is_empty() || line.starts_with(b"#");
        match found.last_mut() {
            Some(last) if goes_on => last.range.end = end,
            _ => {
                let kind = if is_comment { Kind::Comment } else { Kind::Line };
                found.push(Token { kind, range: at..end });
            }
        }
        // A comment ends no line that goes on.
        if !is_comment {
            goes_on = line.ends_with(b"\\");
        } else if line.is_empty() {
            goes_on = false;
        }
        at = end;
    }
    found
}

/// Returns a logical line in one piece, without comments in it.
pub(super) fn joined(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    let lines = text.lines().map(str::trim).filter(|line| !line.starts_with('#'));
    lines.map(|line| line.strip_suffix('\\').unwrap_or(line)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"a= \t\r\n#\\.".to_vec()), 0..200)) {
            let all = tokens(&bytes);
            let together: Vec<u8> = all.iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(together, bytes);
        }
    }

    #[test]
    fn lines_go_on_behind_a_backslash() {
        let text = b"a = b \\\n# x\n  c\n\n.ifdef X\n";
        let lines = tokens(text).into_iter().filter(|token| token.kind == Kind::Line);
        assert_eq!(lines.map(|token| joined(&text[token.range])).collect::<Vec<_>>(), ["a = b c", ".ifdef X"]);
    }
}
