//! Postfix's parameters and services.

use super::lex::{Kind, tokens, words};
use std::collections::BTreeMap;
use std::ops::Range;

/// A parameter as it is set: what it says, and where.
#[derive(Clone, Debug)]
pub(super) struct Parameter {
    pub(super) text: String,
    pub(super) range: Range<usize>,
}

/// A service of `master.cf`.
#[derive(Clone, Debug)]
pub(super) struct Service {
    /// Its name or address, and its type: `inet`, `unix` and others.
    pub(super) name: String,
    pub(super) kind: String,
    pub(super) program: String,
    /// Parameters that are other for this service.
    pub(super) own: BTreeMap<String, Parameter>,
    pub(super) range: Range<usize>,
}

/// Reads the parameters of `main.cf`; the last of a name counts.
pub(super) fn parameters(bytes: &[u8]) -> BTreeMap<String, Parameter> {
    let lines = tokens(bytes).into_iter().filter(|token| token.kind == Kind::Line);
    lines.filter_map(|line| parameter(bytes, &words(bytes, line.range))).collect()
}

/// Reads `name = value` from words that may stand together or apart.
fn parameter(bytes: &[u8], words: &[Range<usize>]) -> Option<(String, Parameter)> {
    let text = |range: &Range<usize>| String::from_utf8_lossy(&bytes[range.clone()]).into_owned();
    let all: Vec<String> = words.iter().map(text).collect();
    let (name, value) = all.join(" ").split_once('=').map(|(n, v)| (n.trim().to_owned(), v.trim().to_owned()))?;
    let first = words.first()?;
    let last = words.last()?;
    let equals = bytes[first.start..last.end].iter().position(|b| *b == b'=')? + first.start + 1;
    let blanks = bytes[equals..last.end].iter().take_while(|b| b.is_ascii_whitespace()).count();
    Some((name, Parameter { text: value, range: equals + blanks..last.end }))
}

/// Reads the services of `master.cf`.
pub(super) fn services(bytes: &[u8]) -> Vec<Service> {
    let lines = tokens(bytes).into_iter().filter(|token| token.kind == Kind::Line);
    let service = |range: Range<usize>| {
        let words = words(bytes, range.clone());
        let text = |n: usize| words.get(n).map(|word| String::from_utf8_lossy(&bytes[word.clone()]).into_owned());
        let mut own = BTreeMap::new();
        let mut rest = words.iter().skip(8);
        while let Some(word) = rest.next() {
            let argument = match &bytes[word.clone()] {
                b"-o" => rest.next().cloned(),
                [b'-', b'o', ..] => Some(word.start + 2..word.end),
                _ => None,
            };
            let Some(argument) = argument else { continue };
            let inner = match &bytes[argument.clone()] {
                [b'{', .., b'}'] => argument.start + 1..argument.end - 1,
                _ => argument,
            };
            own.extend(parameter(bytes, &self::words(bytes, inner)));
        }
        Some(Service { name: text(0)?, kind: text(1)?, program: text(7)?, own, range: words.first()?.clone() })
    };
    lines.filter_map(|line| service(line.range)).collect()
}
