//! Apache's words: each file is a row of tokens that leave no byte out.

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Blanks, and line ends behind a `\`.
    Blank,
    /// From a `#` at the beginning of a line to its end.
    Comment,
    /// A word, with its quotes.
    Word,
    /// The `<` that begins a section, or its end.
    Open,
    /// The `>` at the end of such a line.
    Close,
    /// A line end that nothing continues.
    End,
}

/// A token of a file.
pub(super) type Token = crate::reading::Token<Kind>;

/// Returns the tokens of a file; joined they are the file.
pub(super) fn tokens(bytes: &[u8]) -> Vec<Token> {
    // A word and a blank have some ten bytes.
    let mut found = Vec::with_capacity(bytes.len() / 5);
    let (mut at, mut fresh, mut section) = (0, true, false);
    while at < bytes.len() {
        let (kind, end) = match bytes[at] {
            b'\n' => (Kind::End, at + 1),
            _ if blank(bytes, at) > 0 => (Kind::Blank, blanks(bytes, at)),
            b'#' if fresh => (Kind::Comment, line_end(bytes, at)),
            b'<' if fresh => (Kind::Open, at + 1),
            b'>' if section && is_last(bytes, at) => (Kind::Close, at + 1),
            _ => (Kind::Word, word_end(bytes, at, section)),
        };
        match kind {
            Kind::End => (fresh, section) = (true, false),
            Kind::Blank => {}
            Kind::Open => (fresh, section) = (false, true),
            _ => fresh = false,
        }
        found.push(Token { kind, range: at..end });
        at = end;
    }
    found
}

/// How long the blank at a place is: a `\` before a line end is one.
#[inline(always)]
fn blank(bytes: &[u8], at: usize) -> usize {
    match bytes[at] {
        b' ' | b'\t' | b'\r' | b'\x0b' | b'\x0c' => 1,
        b'\\' => match bytes[at + 1..] {
            [b'\r', b'\n', ..] => 3,
            [b'\n', ..] => 2,
            _ => 0,
        },
        _ => 0,
    }
}

fn blanks(bytes: &[u8], mut at: usize) -> usize {
    while at < bytes.len() {
        match blank(bytes, at) {
            0 => break,
            length => at += length,
        }
    }
    at
}

/// Where the line ends, with all that continues it; its own line end is left out.
fn line_end(bytes: &[u8], mut at: usize) -> usize {
    while at < bytes.len() && bytes[at] != b'\n' {
        at += blank(bytes, at).max(1);
    }
    at.min(bytes.len())
}

/// Whether nothing but blanks follows in the line.
fn is_last(bytes: &[u8], at: usize) -> bool {
    matches!(bytes.get(blanks(bytes, at + 1)), None | Some(b'\n'))
}

fn word_end(bytes: &[u8], begin: usize, section: bool) -> usize {
    let quote = bytes[begin];
    if matches!(quote, b'"' | b'\'') {
        let mut at = begin + 1;
        while at < bytes.len() && bytes[at] != b'\n' {
            match bytes[at] {
                b'\\' if at + 1 < bytes.len() => at += blank(bytes, at).max(2),
                found if found == quote => return at + 1,
                _ => at += 1,
            }
        }
        return at.min(bytes.len());
    }
    let mut at = begin;
    while at < bytes.len() {
        match bytes[at] {
            b'\n' => break,
            b'>' if section && at > begin && is_last(bytes, at) => break,
            _ if blank(bytes, at) > 0 => break,
            _ => at += 1,
        }
    }
    at
}

/// Returns what a word says: without its quotes, and without the `\` before a quote or another `\` in them.
pub(super) fn value(word: &[u8]) -> String {
    let (Some(quote @ (b'"' | b'\'')), true) = (word.first(), word.len() > 1) else {
        return String::from_utf8_lossy(word).into_owned();
    };
    let inner = if word.last() == Some(quote) { &word[1..word.len() - 1] } else { &word[1..] };
    let mut found = Vec::with_capacity(inner.len());
    let mut at = 0;
    while at < inner.len() {
        if inner[at] == b'\\' && inner.get(at + 1).is_some_and(|next| next == quote || *next == b'\\') {
            at += 1;
        }
        found.push(inner[at]);
        at += 1;
    }
    String::from_utf8_lossy(&found).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_tokens_joined_are_the_file(bytes in proptest::collection::vec(proptest::sample::select(b"aV \t\r\n#<>/\"'\\$".to_vec()), 0..200)) {
            let joined: Vec<u8> = tokens(&bytes).iter().flat_map(|t| bytes[t.range.clone()].to_vec()).collect();
            proptest::prop_assert_eq!(joined, bytes);
        }
    }

    #[test]
    fn words_are_what_apache_takes_them_for() {
        for (line, wanted) in [
            ("ServerAlias a.test  \"b c\"", &["ServerAlias", "a.test", "b c"][..]),
            ("Define x 'it\\'s'", &["Define", "x", "it's"]),
            ("Listen \\\n 443\n", &["Listen", "443"]),
            ("# no \\\n still not\nx", &["x"]),
            ("a # b", &["a", "#", "b"]),
            ("<If \"%{X} > 1\">", &["If", "%{X} > 1"]),
            ("<VirtualHost *:443 >", &["VirtualHost", "*:443"]),
            ("<Directory a>b>", &["Directory", "a>b"]),
        ] {
            let words = tokens(line.as_bytes()).into_iter().filter(|token| token.kind == Kind::Word);
            let words: Vec<String> = words.map(|token| value(&line.as_bytes()[token.range])).collect();
            assert_eq!(words, wanted, "{line}");
        }
    }
}
