//! Values that have lengths or values in them: PHP's serialized values, JSON, each within the other, however deep.

use crate::address::{GROWTH, Hosts, Left, Tally, may_hold, mend_text};
use std::io::Write;

/// No value is deeper.
const DEEPEST: usize = 40;

/// Changes the addresses of the hosts in a value, whatever it is; `None` when none was. Lengths in it are right again.
pub fn mend_value(value: &[u8], hosts: &Hosts, tally: &mut Tally) -> Option<Vec<u8>> {
    mend(value, hosts, tally, 0)
}

fn mend(value: &[u8], hosts: &Hosts, tally: &mut Tally, depth: usize) -> Option<Vec<u8>> {
    if !may_hold(value) {
        return None;
    }
    if depth > DEEPEST {
        tally.leave(Left::TooDeep, ours(value, hosts));
        return None;
    }
    let trimmed = value.trim_ascii();
    if looks_serialized(trimmed) {
        let mut reader = Serialized {
            value: trimmed,
            at: 0,
            hosts,
            tally: Tally::default(),
            depth,
            out: Vec::with_capacity(trimmed.len() + GROWTH),
        };
        return match reader.read().filter(|()| reader.at == trimmed.len()) {
            Some(()) => {
                let Serialized { tally: found, out, .. } = reader;
                let changed = found.changed > 0;
                tally.add(found);
                changed.then(|| around(value, trimmed, &out))
            }
            None => {
                tally.leave(Left::Broken, ours(value, hosts));
                None
            }
        };
    }
    if matches!(trimmed.first(), Some(b'{' | b'[' | b'"'))
        && let Some(mended) = mend_json(trimmed, hosts, tally, depth)
    {
        return mended.map(|mended| around(value, trimmed, &mended));
    }
    mend_text(value, hosts, tally)
}

/// Puts the white space around a value that was there before.
fn around(whole: &[u8], trimmed: &[u8], mended: &[u8]) -> Vec<u8> {
    let lead = whole.len() - whole.trim_ascii_start().len();
    [&whole[..lead], mended, &whole[lead + trimmed.len()..]].concat()
}

/// Counts the addresses of the hosts that would be changed.
fn ours(value: &[u8], hosts: &Hosts) -> u64 {
    hosts.find(value).filter(|found| found.is_ours && found.left.is_none()).count() as u64
}

/// Whether a text may be a value with others in it: whatever else begins so is looked at closely.
pub(crate) fn may_be_structured(text: &[u8]) -> bool {
    matches!(text.trim_ascii_start(), [b's' | b'S' | b'a' | b'O' | b'C', b':', ..] | [b'{' | b'[' | b'"' | b'\\', ..])
}

/// Whether a value begins as a serialized one that can have a text in it does.
fn looks_serialized(value: &[u8]) -> bool {
    match value {
        [b's' | b'S', b':', digit, ..] => digit.is_ascii_digit() && value.ends_with(b"\";"),
        [b'a' | b'O' | b'C', b':', digit, ..] => digit.is_ascii_digit() && value.ends_with(b"}"),
        _ => false,
    }
}

/// Reads a serialized value and writes it anew.
struct Serialized<'a> {
    value: &'a [u8],
    at: usize,
    hosts: &'a Hosts,
    tally: Tally,
    depth: usize,
    out: Vec<u8>,
}

impl<'a> Serialized<'a> {
    fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let taken = self.value.get(self.at..self.at.checked_add(count)?)?;
        self.at += count;
        Some(taken)
    }

    fn expect(&mut self, word: &[u8]) -> Option<()> {
        (self.take(word.len())? == word).then(|| self.out.extend_from_slice(word))
    }

    /// Reads up to a byte, which is taken, too.
    fn until(&mut self, end: u8) -> Option<&'a [u8]> {
        let length = self.value[self.at..].iter().position(|byte| *byte == end)?;
        self.take(length + 1)
    }

    fn number(&mut self, end: u8) -> Option<usize> {
        let text = self.until(end)?;
        std::str::from_utf8(&text[..text.len() - 1]).ok()?.parse().ok()
    }

    fn copy(&mut self, end: u8) -> Option<()> {
        let taken = self.until(end)?;
        self.out.extend_from_slice(taken);
        Some(())
    }

    /// Reads `LENGTH:"TEXT"`; what it is for is written already. A text that is changed gets its new length.
    fn text(&mut self, mended: bool) -> Option<()> {
        let length = self.number(b':')?;
        if self.take(1)? != b"\"" {
            return None;
        }
        let text = self.take(length)?;
        if self.take(1)? != b"\"" {
            return None;
        }
        let new = if mended { mend(text, self.hosts, &mut self.tally, self.depth + 1) } else { None };
        let text = new.as_deref().unwrap_or(text);
        write!(self.out, "{}:\"", text.len()).ok()?;
        self.out.extend_from_slice(text);
        self.out.push(b'"');
        Some(())
    }

    fn read(&mut self) -> Option<()> {
        if self.depth > DEEPEST {
            return None;
        }
        let kind = *self.value.get(self.at)?;
        match kind {
            b'N' => self.expect(b"N;"),
            b'b' | b'i' | b'd' | b'r' | b'R' => self.copy(b';'),
            b's' => {
                self.expect(b"s:")?;
                self.text(true)?;
                self.expect(b";")
            }
            // A case of an enumeration is a name.
            b'E' => {
                self.expect(b"E:")?;
                self.text(false)?;
                self.expect(b";")
            }
            b'a' => {
                self.expect(b"a:")?;
                self.members()
            }
            b'O' => {
                self.expect(b"O:")?;
                self.text(false)?;
                self.expect(b":")?;
                self.members()
            }
            // What a class has written itself: a text with a length of its own.
            b'C' => {
                self.expect(b"C:")?;
                self.text(false)?;
                self.expect(b":")?;
                let length = self.number(b':')?;
                if self.take(1)? != b"{" {
                    return None;
                }
                let inner = self.take(length)?;
                let new = mend(inner, self.hosts, &mut self.tally, self.depth + 1);
                let inner = new.as_deref().unwrap_or(inner);
                write!(self.out, "{}:{{", inner.len()).ok()?;
                self.out.extend_from_slice(inner);
                self.expect(b"}")
            }
            _ => None,
        }
    }

    fn members(&mut self) -> Option<()> {
        let count = self.number(b':')?;
        write!(self.out, "{count}:").ok()?;
        self.expect(b"{")?;
        self.depth += 1;
        // Keys are names by which a program finds things: they stay.
        for n in 0..count.checked_mul(2)? {
            if n % 2 == 0 { self.key()? } else { self.read()? }
        }
        self.depth -= 1;
        self.expect(b"}")
    }

    fn key(&mut self) -> Option<()> {
        match *self.value.get(self.at)? {
            b'i' => self.copy(b';'),
            b's' => {
                self.expect(b"s:")?;
                self.text(false)?;
                self.expect(b";")
            }
            _ => None,
        }
    }
}

/// Changes the texts within JSON; the outer `None` when it is none.
#[expect(clippy::option_option, reason = "no JSON is something else than JSON in which nothing was changed")]
fn mend_json(value: &[u8], hosts: &Hosts, tally: &mut Tally, depth: usize) -> Option<Option<Vec<u8>>> {
    let text = std::str::from_utf8(value).ok()?;
    serde_json::from_str::<serde::de::IgnoredAny>(text).ok()?;
    let (mut out, mut done, mut at) = (Vec::new(), 0, 0);
    while let Some(start) = value[at..].iter().position(|byte| *byte == b'"').map(|found| at + found) {
        let mut end = start + 1;
        while value[end] != b'"' {
            end += if value[end] == b'\\' { 2 } else { 1 };
        }
        let raw = &value[start..=end];
        at = end + 1;
        // Keys are names by which a program finds things: they stay.
        let is_key = value[at..].trim_ascii_start().first() == Some(&b':');
        if is_key || !may_hold(raw) {
            continue;
        }
        // Half a letter, as JSON lets it be written, is no text.
        let Ok(text) = serde_json::from_slice::<String>(raw) else {
            tally.leave(Left::Broken, ours(raw, hosts));
            continue;
        };
        let inner = text.trim().as_bytes();
        let is_value = looks_serialized(inner) || matches!(inner.first(), Some(b'{' | b'[' | b'"'));
        let new = match is_value {
            true => mend(text.as_bytes(), hosts, tally, depth + 1)
                .map(|new| encode_json(&String::from_utf8_lossy(&new), raw)),
            // As it is written, escapes and all.
            false => mend_text(raw, hosts, tally),
        };
        if let Some(new) = new {
            out.extend_from_slice(&value[done..start]);
            out.extend(new);
            done = at;
        }
    }
    if out.is_empty() {
        return Some(None);
    }
    out.extend_from_slice(&value[done..]);
    Some(Some(out))
}

/// Writes a text as JSON in the way in which another one was written: slashes escaped or not, other letters than ASCII by number or not.
fn encode_json(text: &str, like: &[u8]) -> Vec<u8> {
    let mut rest = like;
    let mut slashes = false;
    while let Some(at) = rest.iter().position(|byte| *byte == b'\\') {
        slashes |= rest.get(at + 1) == Some(&b'/');
        rest = rest.get(at + 2..).unwrap_or_default();
    }
    let by_number = like.is_ascii() && !text.is_ascii();
    let plain = serde_json::to_string(text).expect("a text is JSON");
    let mut out = String::with_capacity(plain.len());
    for c in plain.chars() {
        match c {
            '/' if slashes => out.push_str("\\/"),
            c if by_number && !c.is_ascii() => {
                let mut units = [0; 2];
                for unit in c.encode_utf16(&mut units) {
                    out.push_str(&format!("\\u{unit:04x}"));
                }
            }
            c => out.push(c),
        }
    }
    out.into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;

    fn hosts() -> Hosts {
        Hosts::new(["lampholm.example".to_owned()])
    }

    fn php(text: &str) -> String {
        format!("s:{}:\"{text}\";", text.len())
    }

    #[test]
    fn lengths_are_right_in_values_within_values() {
        let (old, new) = ("http://lampholm.example/", "https://lampholm.example/");
        let json = |text: &str| serde_json::to_string(text).unwrap();
        let list = |text: &str| format!("a:2:{{i:0;{}i:1;a:1:{{s:3:\"url\";{}}}}}", php(text), php(text));
        let object = |text: &str| format!("O:4:\"Lamp\":2:{{s:7:\"\0*\0http\";b:1;s:1:\"x\";{}}}", php(text));
        type Make<'a> = &'a dyn Fn(&str) -> String;
        let table: [(Make<'_>, u64); 12] = [
            (&|t| php(t), 1),
            (&list, 2),
            (&object, 1),
            (&|t| format!(" {}\n", php(&php(t))), 1),
            (&|t| php(&format!("{{\"a\":{}}}", json(t))), 1),
            (&|t| format!("{{\"a\":{},\"http://lampholm.example/\":[1,{}]}}", json(t), json(t)), 2),
            (&|t| format!("{{\"a\":{}}}", json(&list(t))), 2),
            (&|t| format!("[{}]", json(&format!("[{}]", json(&php(t))))), 1),
            (&|t| format!("{{\"a\":\"h\\u00e9 {}\"}}", t.replace('/', "\\/")), 1),
            (&|t| format!("{{\"a\":{}}}", json(&php(t)).replace('/', "\\/")), 1),
            (&|t| format!("C:3:\"Oil\":{}:{{{}}}", php(t).len(), php(t)), 1),
            (&|t| php(&format!("\u{e9}\u{1f56f} {t}")), 1),
        ];
        for (make, changed) in table {
            let mut tally = Tally::default();
            let mended = mend_value(make(old).as_bytes(), &hosts(), &mut tally);
            assert_eq!(mended.map(|bytes| String::from_utf8(bytes).unwrap()), Some(make(new)));
            assert_eq!((tally.changed, tally.left), (changed, BTreeMap::new()));
            assert_eq!(mend_value(make(new).as_bytes(), &hosts(), &mut Tally::default()), None);
        }
    }

    #[test]
    fn what_is_broken_already_is_left_and_counted() {
        for value in [
            "s:3:\"http://lampholm.example/\";",
            "a:1:{i:0;s:99:\"http://lampholm.example/\";}",
            "a:2:{i:0;s:24:\"http://lampholm.example/\";}",
            "O:4:\"Lamp\":1:{s:1:\"x\";s:24:\"http://lampholm.example/\";",
        ] {
            let mut tally = Tally::default();
            let mended = mend_value(value.as_bytes(), &hosts(), &mut tally);
            // One that does not even end as such a value is a text.
            if value.ends_with(';') && value.starts_with('O') {
                continue;
            }
            assert_eq!((mended, tally.left), (None, BTreeMap::from([(Left::Broken, 1)])), "{value}");
        }
        // What is no text in the encoding of JSON is none; half a letter in one is left.
        let mut tally = Tally::default();
        let latin = b"[\"s:24:http\",\"\xe9 http://lampholm.example\"]";
        assert!(mend_value(latin, &hosts(), &mut tally).is_some() && tally.left.is_empty());
        let mut tally = Tally::default();
        let half = br#"["\ud800 http://lampholm.example","http://lampholm.example"]"#;
        assert!(mend_value(half, &hosts(), &mut tally).is_some());
        assert_eq!((tally.changed, tally.left), (1, BTreeMap::from([(Left::Broken, 1)])));
        let deep = (0..60).fold(php("http://lampholm.example/"), |inner, _| php(&inner));
        let mut tally = Tally::default();
        assert_eq!(mend_value(deep.as_bytes(), &hosts(), &mut tally), None);
        assert_eq!(tally.left, BTreeMap::from([(Left::TooDeep, 1)]));
        // No JSON: a text.
        let mut tally = Tally::default();
        assert!(mend_value(b"{http://lampholm.example}", &hosts(), &mut tally).is_some());
    }

    proptest::proptest! {
        #[test]
        fn any_text_in_any_wrapping_is_as_if_it_were_changed_first(text in "[a-z\u{e9}\"\\\\/ {}:;]{0,12}", wraps in proptest::collection::vec(0..3_u8, 0..5)) {
            let text = format!("{text} http://lampholm.example/ {text}");
            let wrap = |text: &str| wraps.iter().fold(text.to_owned(), |inner, kind| match kind {
                0 => php(&inner),
                1 => format!("a:1:{{s:4:\"http\";{}}}", php(&inner)),
                _ => serde_json::to_string(&[inner]).unwrap(),
            });
            let mut tally = Tally::default();
            let mended = mend_value(wrap(&text).as_bytes(), &hosts(), &mut tally);
            let wanted = wrap(&text.replace("http://", "https://"));
            proptest::prop_assert_eq!(mended.map(|bytes| String::from_utf8(bytes).unwrap()), Some(wanted));
        }

        #[test]
        fn any_bytes_are_read(bytes in proptest::collection::vec(0..=255_u8, 0..100)) {
            let value = [b"a:1:{i:0;http", &bytes[..], b"}"].concat();
            let _ = mend_value(&value, &hosts(), &mut Tally::default());
        }
    }
}
