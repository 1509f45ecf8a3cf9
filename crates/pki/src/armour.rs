//! PEM as it comes out of mail programs and office tools: quoted, with dashes lost or gained, between words that look like it.

use base64::Engine;
use base64::alphabet::STANDARD;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};

/// Dashes that make a marker; PEM has five (RFC 7468 section 2).
const FEWEST_DASHES: usize = 3;
const LENIENT: GeneralPurpose = GeneralPurpose::new(
    &STANDARD,
    GeneralPurposeConfig::new()
        .with_decode_padding_mode(DecodePaddingMode::Indifferent)
        .with_decode_allow_trailing_bits(true),
);

/// What stands between two markers.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Block {
    pub(crate) label: String,
    /// What it holds; `None` when it cannot be decoded.
    pub(crate) bytes: Option<Vec<u8>>,
    /// Whether its end is missing.
    pub(crate) is_cut: bool,
    /// Whether its header lines say that it is encrypted (RFC 1421 section 4.6.1.1).
    pub(crate) is_encrypted: bool,
}

struct Marker {
    begins: bool,
    label: String,
    at: usize,
    end: usize,
}

/// Returns the blocks of a text. Lines may end in any way, be quoted as in a reply, and have blanks around them.
pub(crate) fn blocks(text: &str) -> Vec<Block> {
    let text = without_quotes(text);
    let markers = markers(&text);
    let mut found = Vec::new();
    // Where the last block ended, and the first marker behind it.
    let mut open = 0;
    for (n, end) in markers.iter().enumerate() {
        if end.begins {
            continue;
        }
        // The nearest beginning: an earlier one stands in the words before.
        let Some(begin) = markers[open..n].iter().rfind(|m| m.begins && m.label == end.label) else { continue };
        let body = &text[begin.end..end.at];
        // A word between that looks like an end is passed over; the block goes on.
        let bytes = decode(body);
        if bytes.is_none() && markers[n + 1..].iter().take_while(|m| !m.begins).any(|m| m.label == end.label) {
            continue;
        }
        found.push(Block { label: end.label.clone(), bytes, is_cut: false, is_encrypted: is_encrypted(body) });
        open = n + 1;
    }
    // One that begins and never ends.
    if let Some(begin) = markers[open..].iter().rfind(|m| m.begins) {
        let body = &text[begin.end..];
        let bytes = decode(body);
        found.push(Block { label: begin.label.clone(), bytes, is_cut: true, is_encrypted: is_encrypted(body) });
    }
    found
}

fn is_encrypted(body: &str) -> bool {
    body.lines().any(|line| line.trim().starts_with("Proc-Type:") && line.contains("ENCRYPTED"))
}

/// Decodes a body; header lines, as old encrypted keys have them, are no part of it.
fn decode(body: &str) -> Option<Vec<u8>> {
    let lines = body.lines().filter(|line| !line.contains(':'));
    let bare: String = lines.flat_map(str::chars).filter(|c| !c.is_whitespace()).collect();
    LENIENT.decode(bare).ok().filter(|bytes| !bytes.is_empty())
}

/// Takes away what mail programs put before the lines of what they quote, and makes dashes of what they made of dashes.
fn without_quotes(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        let mut rest = line;
        while let Some(behind) = rest.trim_start_matches([' ', '\t']).strip_prefix(['>', '|']) {
            rest = behind;
        }
        for c in rest.chars() {
            match c {
                '\u{2013}' | '\u{2212}' | '\u{2010}' | '\u{2011}' => out.push('-'),
                '\u{2014}' => out.push_str("--"),
                _ => out.push(c),
            }
        }
    }
    out
}

/// Returns what looks like `-----BEGIN LABEL-----` or `-----END LABEL-----`.
fn markers(text: &str) -> Vec<Marker> {
    let bytes = text.as_bytes();
    let dashes = |at: usize| bytes[at..].iter().take_while(|b| **b == b'-').count();
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(next) = bytes[at..].iter().position(|b| *b == b'-') {
        at += next;
        let run = dashes(at);
        let inner = at + run + usize::from(bytes.get(at + run) == Some(&b' '));
        let rest = &text[inner..];
        let word = rest
            .strip_prefix("BEGIN ")
            .map(|label| (true, label))
            .or(rest.strip_prefix("END ").map(|label| (false, label)));
        if run >= FEWEST_DASHES
            && let Some((begins, label)) = word
        {
            let length = label
                .bytes()
                .take_while(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || matches!(b, b' ' | b'#'))
                .count();
            let close = inner + (rest.len() - label.len()) + length;
            let more = dashes(close);
            if more >= FEWEST_DASHES && length > 0 {
                found.push(Marker { begins, label: label[..length].trim().to_owned(), at, end: close + more });
                at = close + more;
                continue;
            }
        }
        at += run;
    }
    found
}

/// Decodes the body of a PEM block that was copied without its first and last line.
pub(crate) fn bare_base64(text: &str) -> Option<Vec<u8>> {
    let bare: String = text.chars().filter(|c| !c.is_whitespace()).collect();
    base64::engine::general_purpose::STANDARD.decode(&bare).ok().filter(|der| der.first() == Some(&0x30))
}

/// Reads text in UTF-8 or UTF-16, with or without a byte-order mark.
pub(crate) fn text_of(bytes: &[u8]) -> String {
    let wide = |from: fn([u8; 2]) -> u16| {
        let units: Vec<u16> = bytes[2..].chunks_exact(2).map(|pair| from([pair[0], pair[1]])).collect();
        String::from_utf16_lossy(&units)
    };
    match bytes {
        [0xff, 0xfe, ..] => wide(u16::from_le_bytes),
        [0xfe, 0xff, ..] => wide(u16::from_be_bytes),
        _ => String::from_utf8_lossy(bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes)).into_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHOLE: &str = "-----BEGIN CERTIFICATE-----\nTGFt\ncGhv\n-----END CERTIFICATE-----\n";

    #[test]
    fn blocks_are_found_whatever_was_done_to_them() {
        let quoted = |mark: &str| WHOLE.lines().map(|line| format!("{mark}{line}\n")).collect::<String>();
        let whole = Some("Lampho");
        for (text, wanted) in [
            (WHOLE.to_owned(), vec![(whole, false)]),
            (quoted("> "), vec![(whole, false)]),
            (quoted(">> > "), vec![(whole, false)]),
            (quoted("  | "), vec![(whole, false)]),
            (WHOLE.replacen("-----", "----", 1), vec![(whole, false)]),
            (WHOLE.replace("-----", "------"), vec![(whole, false)]),
            (WHOLE.replace("-----BEGIN", "\u{2014}\u{2014}-BEGIN"), vec![(whole, false)]),
            (WHOLE.replace('\n', " "), vec![(whole, false)]),
            (
                format!("--- please BEGIN CERTIFICATE work ---\n-----BEGIN CERTIFICATE-----\n{WHOLE}"),
                vec![(whole, false)],
            ),
            (
                format!("---BEGIN CERTIFICATE---, as it says:\n{WHOLE}---END CERTIFICATE--- ends it"),
                vec![(whole, false)],
            ),
            (format!("{WHOLE}{WHOLE}"), vec![(whole, false), (whole, false)]),
            (format!("{WHOLE}-----BEGIN CERTIFICATE-----\nTGFt\n"), vec![(whole, false), (Some("Lam"), true)]),
            (WHOLE.replace("cGhv", "c!hv"), vec![(None, false)]),
            ("dashes --- and BEGIN CERTIFICATE".to_owned(), vec![]),
        ] {
            let read = blocks(&text);
            let read: Vec<(Option<String>, bool)> = read
                .into_iter()
                .map(|b| (b.bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()), b.is_cut))
                .collect();
            let wanted: Vec<(Option<String>, bool)> =
                wanted.into_iter().map(|(t, cut)| (t.map(str::to_owned), cut)).collect();
            assert_eq!(read, wanted, "{text}");
        }
    }
}
