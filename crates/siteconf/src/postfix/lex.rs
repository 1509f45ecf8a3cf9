//! Postfix's logical lines: each file is a row of tokens that leave no byte out.

use std::ops::Range;

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// A line that begins with `#`, or has nothing in it.
    Comment,
    /// A line with those that continue it, since they begin with a blank; comments may stand between them.
    Line,
}

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Returns the tokens of a file; joined they are the file.
pub(super) fn tokens(bytes: &[u8]) -> Vec<Token> {
    let mut found: Vec<Token> = Vec::new();
    // The logical line that is open, and what came behind it and may still be part of it.
    let mut open: Option<usize> = None;
    let mut at = 0;
    while at < bytes.len() {
        let end = bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| at + n + 1);
        let line = &bytes[at..end];
        let first = line.iter().find(|b| !b.is_ascii_whitespace());
        match (first, open) {
            (None | Some(b'#'), _) => found.push(Token { kind: Kind::Comment, range: at..end }),
            (Some(_), Some(index)) if line[0].is_ascii_whitespace() => {
                found.truncate(index + 1);
                found[index].range.end = end;
            }
            (Some(_), _) => {
                open = Some(found.len());
                found.push(Token { kind: Kind::Line, range: at..end });
            }
        }
        at = end;
    }
    found
}

/// Returns the words of a logical line with their bytes, comments in it left out. What braces hold is one word.
pub(super) fn words(bytes: &[u8], range: Range<usize>) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut at = range.start;
    let mut fresh = false;
    while at < range.end {
        match bytes[at] {
            b'\n' => (fresh, at) = (true, at + 1),
            b if b.is_ascii_whitespace() => at += 1,
            b'#' if fresh => at = bytes[at..range.end].iter().position(|b| *b == b'\n').map_or(range.end, |n| at + n),
            _ => {
                let begin = at;
                let mut depth = 0;
                while at < range.end && (depth > 0 || !bytes[at].is_ascii_whitespace()) {
                    match bytes[at] {
                        b'{' if begin == at || depth > 0 || bytes[at - 1] == b'$' => depth += 1,
                        b'}' if depth > 0 => depth -= 1,
                        _ => {}
                    }
                    at += 1;
                }
                fresh = false;
                found.push(begin..at);
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"a= \t\r\n#{}$".to_vec()), 0..200)) {
            let all = tokens(&bytes);
            let joined: Vec<u8> = all.iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(&joined, &bytes);
            for token in all {
                proptest::prop_assert!(words(&bytes, token.range).iter().all(|word| !word.is_empty()));
            }
        }
    }

    #[test]
    fn lines_go_on_over_comments() {
        let text = "a = b\n# x\n  c\n\n d\ne = { f g } ${h i}\n";
        let lines: Vec<Vec<&str>> = tokens(text.as_bytes())
            .into_iter()
            .filter(|token| token.kind == Kind::Line)
            .map(|token| words(text.as_bytes(), token.range).into_iter().map(|word| &text[word]).collect())
            .collect();
        assert_eq!(lines, [vec!["a", "=", "b", "c", "d"], vec!["e", "=", "{ f g }", "${h i}"]]);
    }
}
