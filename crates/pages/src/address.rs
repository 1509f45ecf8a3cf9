//! Addresses that still say http, in any text: as they are, with escaped slashes, in percent code.

use memchr::memchr2_iter;
use serde::Serialize;
use std::collections::BTreeMap;
use std::ops::Range;

/// By so much most texts grow at the most: a letter for each address.
pub(crate) const GROWTH: usize = 16;

/// The hosts whose addresses are looked for.
#[derive(Debug)]
pub struct Hosts {
    names: Vec<String>,
}

/// Returns what follows the letters `ttp` of an address over http: where its host begins. Slashes are as they are, escaped once or more
/// often, or in percent code.
fn host_begins(text: &[u8], at: usize) -> Option<usize> {
    let rest = text.get(at..)?;
    if let Some(after) = rest.strip_prefix(b":") {
        let mut slashes = after;
        for _ in 0..2 {
            let escapes = slashes.iter().take(16).take_while(|byte| **byte == b'\\').count();
            slashes = slashes.get(escapes..)?.strip_prefix(b"/")?;
        }
        return Some(text.len() - slashes.len());
    }
    let code = rest.get(..9)?;
    code.eq_ignore_ascii_case(b"%3a%2f%2f").then_some(at + 9)
}

/// Returns where, from a place on, addresses over http may stand in a text: behind the letters `http`, which nobody writes `hTtP`.
pub(crate) fn addresses_in(text: &[u8], from: usize) -> impl Iterator<Item = usize> {
    let has_scheme = |at: &usize| matches!(text[..*at], [.., b't', b't', b'p'] | [.., b'T', b'T', b'P']);
    memchr2_iter(b':', b'%', &text[from..]).map(move |at| from + at).filter(has_scheme)
}

/// Whether a text may have an address over http in it: a quick look that misses none.
pub(crate) fn may_hold(text: &[u8]) -> bool {
    addresses_in(text, 0).next().is_some()
}

/// An address over http that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The word `http`.
    pub scheme: Range<usize>,
    /// The host.
    pub host: Range<usize>,
    /// What is right behind the host: a port 80 that goes with http.
    pub port: Range<usize>,
    /// Whether the host is one of those looked for.
    pub is_ours: bool,
    /// Why it is left as it is, where it is.
    pub left: Option<Left>,
}

/// Why something is left as it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Left {
    /// Another port than that of http: what answers there over https is not known.
    Port,
    /// The name of a vocabulary (XML namespaces), which nobody asks for.
    Vocabulary,
    /// A value with lengths in it that are wrong already.
    Broken,
    /// It would no longer fit its column.
    TooLong,
    /// Values within values, too deep.
    TooDeep,
}

impl Left {
    /// Says it in words.
    pub fn words(self) -> &'static str {
        match self {
            Left::Port => "on a port of its own: what answers there over https is not known",
            Left::Vocabulary => "the name of a vocabulary, which nobody asks for",
            Left::Broken => "in a value whose lengths are wrong already",
            Left::TooLong => "the value would no longer fit its column",
            Left::TooDeep => "values within values, too deep",
        }
    }
}

impl Hosts {
    /// Looks for these hosts; `*.NAME` stands for all one level below.
    pub fn new(names: impl IntoIterator<Item = String>) -> Self {
        Hosts { names: names.into_iter().map(|name| name.to_ascii_lowercase()).collect() }
    }

    fn has(&self, host: &[u8]) -> bool {
        self.names.iter().any(|name| match name.strip_prefix("*.") {
            Some(below) => {
                let mut labels = host.splitn(2, |byte| *byte == b'.');
                labels.nth(1).is_some_and(|rest| rest.eq_ignore_ascii_case(below.as_bytes()))
            }
            None => host.eq_ignore_ascii_case(name.as_bytes()),
        })
    }

    /// Returns the addresses over http in a text, in order.
    pub fn find<'t>(&'t self, text: &'t [u8]) -> impl Iterator<Item = Found> + 't {
        addresses_in(text, 0).filter_map(|behind| self.found(text, behind))
    }

    /// Returns the address that may stand in a text, with the word `http` in front of a place.
    fn found(&self, text: &[u8], behind: usize) -> Option<Found> {
        let start = behind.checked_sub(4).filter(|start| text[*start].eq_ignore_ascii_case(&b'h'))?;
        let scheme = start..behind;
        let begins = host_begins(text, behind)?;
        let is_host = |byte: &&u8| byte.is_ascii_alphanumeric() || b"-._".contains(byte);
        let mut ends = begins + text[begins..].iter().take_while(is_host).count();
        // The end of a sentence is no part of it.
        while ends > begins && text[ends - 1] == b'.' {
            ends -= 1;
        }
        if ends == begins {
            return None;
        }
        let host = begins..ends;
        // What only ends alike is another scheme.
        let (before, escape) = match text[..scheme.start] {
            [.., escape, before] => (Some(before), escape == b'\\'),
            [before] => (Some(before), false),
            [] => (None, false),
        };
        // What is a letter may be the end of an escape: `\n` in a program or a dump.
        let is_escape = escape && before.is_some_and(|byte| b"nrtbfv0Z".contains(&byte));
        if before.is_some_and(|byte| byte.is_ascii_alphanumeric() || b"+-.".contains(&byte)) && !is_escape {
            return None;
        }
        let (mut left, mut port) = (None, host.end..host.end);
        match text.get(host.end) {
            // A name that goes on in another writing, or somebody's login.
            Some(byte) if !byte.is_ascii() || *byte == b'@' => return None,
            Some(b':') => {
                let digits = text[host.end + 1..].iter().take_while(|byte| byte.is_ascii_digit()).count();
                let end = host.end + 1 + digits;
                match &text[host.end + 1..end] {
                    b"" => {}
                    b"80" => port = host.end..end,
                    _ => left = Some(Left::Port),
                }
                if text.get(end) == Some(&b'@') {
                    return None;
                }
            }
            _ => {}
        }
        if is_vocabulary(&text[..scheme.start]) {
            left = Some(Left::Vocabulary);
        }
        let is_ours = self.has(&text[host.clone()]);
        Some(Found { scheme, host, port, is_ours, left })
    }
}

/// Whether what stands before an address says that it names a vocabulary: `xmlns="`, `xmlns:sea='`.
fn is_vocabulary(before: &[u8]) -> bool {
    let line = &before[before.len().saturating_sub(80)..];
    let attribute = line.trim_ascii_end();
    let Some(attribute) = attribute.strip_suffix(b"\"").or_else(|| attribute.strip_suffix(b"'")) else { return false };
    let attribute = attribute.strip_suffix(b"\\").unwrap_or(attribute).trim_ascii_end();
    let Some(name) = attribute.strip_suffix(b"=") else { return false };
    let name = name.trim_ascii_end();
    let start = name.iter().rposition(|byte| byte.is_ascii_whitespace()).map_or(0, |at| at + 1);
    let name = name[start..].to_ascii_lowercase();
    name == b"xmlns" || name.starts_with(b"xmlns:")
}

/// What was changed, and what was not.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// How many addresses were changed, or would be.
    pub changed: u64,
    /// How many addresses of the hosts were left, by the reason.
    pub left: BTreeMap<Left, u64>,
    /// How many addresses over http lead to other hosts.
    pub others: BTreeMap<String, u64>,
}

impl Tally {
    /// Adds another one.
    pub fn add(&mut self, other: Tally) {
        self.changed += other.changed;
        for (why, count) in other.left {
            *self.left.entry(why).or_default() += count;
        }
        for (host, count) in other.others {
            *self.others.entry(host).or_default() += count;
        }
    }

    pub(crate) fn leave(&mut self, why: Left, count: u64) {
        if count > 0 {
            *self.left.entry(why).or_default() += count;
        }
    }
}

/// Changes the addresses of the hosts in a plain text; `None` when none was.
pub fn mend_text(text: &[u8], hosts: &Hosts, tally: &mut Tally) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let mut done = 0;
    for Found { scheme, host, port, is_ours, left } in hosts.find(text) {
        match (is_ours, left) {
            (false, _) => {
                let host = String::from_utf8_lossy(&text[host]).to_ascii_lowercase();
                *tally.others.entry(host).or_default() += 1;
            }
            (true, Some(why)) => tally.leave(why, 1),
            (true, None) => {
                tally.changed += 1;
                if out.is_empty() {
                    out.reserve(text.len() + GROWTH);
                }
                out.extend_from_slice(&text[done..scheme.end]);
                // As it is written: `HTTP://` is one, too.
                out.push(if text[scheme.start] == b'H' { b'S' } else { b's' });
                out.extend_from_slice(&text[scheme.end..port.start]);
                done = port.end;
            }
        }
    }
    if out.is_empty() {
        return None;
    }
    out.extend_from_slice(&text[done..]);
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_changed_in_every_writing_and_nothing_else_is() {
        let hosts = Hosts::new(["lampholm.example".to_owned(), "*.tides.example".to_owned()]);
        for (text, wanted, changed) in [
            ("http://lampholm.example/", "https://lampholm.example/", 1),
            ("see http://lampholm.example.", "see https://lampholm.example.", 1),
            ("HTTP://Lampholm.Example", "HTTPS://Lampholm.Example", 1),
            (r"{'a':'http:\/\/lampholm.example\/'}", r"{'a':'https:\/\/lampholm.example\/'}", 1),
            (r"http:\\\/\\\/lampholm.example", r"https:\\\/\\\/lampholm.example", 1),
            ("?to=http%3A%2F%2Flampholm.example%2F", "?to=https%3A%2F%2Flampholm.example%2F", 1),
            ("http://lampholm.example:80/oil", "https://lampholm.example/oil", 1),
            ("http://lampholm.example:8080/oil", "", 0),
            ("http://lampholm.example.evil/", "", 0),
            ("http://my-lampholm.example/ http://a.lampholm.example/", "", 0),
            (
                "http://north.tides.example http://tides.example http://a.b.tides.example",
                "https://north.tides.example http://tides.example http://a.b.tides.example",
                1,
            ),
            ("https://lampholm.example xhttp://lampholm.example", "", 0),
            ("http://keeper@lampholm.example/ http://lampholm.example@evil.example/", "", 0),
            ("http://lampholm.exampl\u{e9}/", "", 0),
            ("<svg xmlns=\"http://lampholm.example/sea\" xmlns:a = 'http://lampholm.example/a'>", "", 0),
            ("//lampholm.example/x http: //lampholm.example", "", 0),
            (
                r"a\nhttp://lampholm.example \xhttp://lampholm.example",
                r"a\nhttps://lampholm.example \xhttp://lampholm.example",
                1,
            ),
            (
                "srcset=\"http://lampholm.example/1 1x, http://lampholm.example/2 2x\"",
                "srcset=\"https://lampholm.example/1 1x, https://lampholm.example/2 2x\"",
                2,
            ),
        ] {
            let mut tally = Tally::default();
            let mended = mend_text(text.as_bytes(), &hosts, &mut tally).map(|bytes| String::from_utf8(bytes).unwrap());
            assert_eq!(mended, Some(wanted.to_owned()).filter(|wanted| !wanted.is_empty()), "{text}");
            assert_eq!(tally.changed, changed, "{text}");
            // A second time changes nothing.
            if let Some(mended) = mended {
                assert_eq!(mend_text(mended.as_bytes(), &hosts, &mut Tally::default()), None, "{text}");
            }
        }
        let mut tally = Tally::default();
        let text =
            b"http://lampholm.example:8080 http://tar.example/ http://tar.example/2 xmlns='http://lampholm.example'";
        assert_eq!(mend_text(text, &hosts, &mut tally), None);
        assert_eq!(tally.others, BTreeMap::from([("tar.example".to_owned(), 2)]));
        assert_eq!(tally.left, BTreeMap::from([(Left::Port, 1), (Left::Vocabulary, 1)]));
    }
}
