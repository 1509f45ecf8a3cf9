//! The encodings that ACME and X.509 share.

use crate::PkiError;
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use std::fmt::Write;

/// Encodes as base64 with padding and without line ends (RFC 4648 section 4).
pub fn base64(bytes: &[u8]) -> String {
    STANDARD.encode(bytes)
}

/// Decodes base64 with padding; white space in it does not count.
pub fn base64_decode(text: &str) -> Option<Vec<u8>> {
    let bare: String = text.chars().filter(|c| !c.is_ascii_whitespace()).collect();
    STANDARD.decode(bare).ok()
}

/// Encodes as base64url without padding (RFC 4648 section 5, as RFC 7515 section 2 wants it).
pub fn base64url(bytes: &[u8]) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// Decodes base64url without padding; padding at the end is put up with, since people paste it.
pub fn base64url_decode(text: &str) -> Option<Vec<u8>> {
    URL_SAFE_NO_PAD.decode(text.trim().trim_end_matches('=')).ok()
}

/// Writes bytes as pairs of hexadecimal digits in lower case.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(2 * bytes.len()), |mut out, byte| {
        write!(out, "{byte:02x}").expect("writing to a string");
        out
    })
}

/// Writes a PEM block (RFC 7468): lines of 64 characters. For what is no secret: the library's writer, which takes care about timing,
/// writes the keys.
pub(crate) fn pem(label: &str, der: &[u8]) -> String {
    let body = STANDARD.encode(der);
    let mut out = String::with_capacity(body.len() * 65 / 64 + 2 * label.len() + 40);
    out.extend(["-----BEGIN ", label, "-----\n"]);
    let mut rest = body.as_str();
    while !rest.is_empty() {
        let (line, more) = rest.split_at(rest.len().min(64));
        out.extend([line, "\n"]);
        rest = more;
    }
    out.extend(["-----END ", label, "-----\n"]);
    out
}

/// Returns the decoded contents of each PEM block with this label, in order.
pub(crate) fn pem_blocks(text: &str, label: &'static str) -> Result<Vec<Vec<u8>>, PkiError> {
    let begin = format!("-----BEGIN {label}-----");
    let end = format!("-----END {label}-----");
    let mut blocks = Vec::new();
    let mut rest = text;
    while let Some(start) = rest.find(&begin) {
        let tail = &rest[start..];
        let stop = tail.find(&end).ok_or(PkiError::NoPemBlock { label })? + end.len();
        let (_, der) = der::pem::decode_vec(&tail.as_bytes()[..stop])
            .map_err(|e| PkiError::Der { what: "PEM block", source: e.into() })?;
        blocks.push(der);
        rest = &tail[stop..];
    }
    Ok(blocks)
}

/// Encodes as base32 in lower case without padding (RFC 4648 section 6).
pub fn base32(bytes: &[u8]) -> String {
    const ALPHABET: &[u8; 32] = b"abcdefghijklmnopqrstuvwxyz234567";
    let mut out = String::new();
    for group in bytes.chunks(5) {
        let mut bits = [0_u8; 8];
        bits[3..3 + group.len()].copy_from_slice(group);
        let bits = u64::from_be_bytes(bits);
        for i in 0..(group.len() * 8).div_ceil(5) {
            let five = usize::try_from(bits >> (35 - 5 * i) & 31).expect("five bits");
            out.push(char::from(ALPHABET[five]));
        }
    }
    out
}

/// Writes a DER value: tag, length, contents. Requests and bags of certificates are written with it, and not with the builders of
/// `x509-cert` and `cms`: those measure each level anew and read a fresh key back twice (2.2 times the cost of key and signature
/// against 1.15), and encode certificates again that have to stay as they are, byte for byte.
pub(crate) fn tlv(tag: u8, content: &[u8]) -> Vec<u8> {
    tlv_with(&[tag], content)
}

/// Puts a DER sequence around contents.
pub fn der_sequence(content: &[u8]) -> Vec<u8> {
    tlv(0x30, content)
}

/// Writes a DER value whose tag may have several bytes.
pub(crate) fn tlv_with(tag: &[u8], content: &[u8]) -> Vec<u8> {
    let mut out = tag.to_vec();
    match u8::try_from(content.len()) {
        Ok(short) if short < 0x80 => out.push(short),
        _ => {
            let bytes = content.len().to_be_bytes();
            let length: Vec<u8> = bytes.into_iter().skip_while(|b| *b == 0).collect();
            out.push(0x80 | u8::try_from(length.len()).expect("a length has few bytes"));
            out.extend(length);
        }
    }
    out.extend_from_slice(content);
    out
}

/// Returns text from elsewhere as it may be shown: without control characters, those that turn the direction of writing included.
pub fn printable(text: &str) -> String {
    let turns =
        |c: char| matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    text.chars().filter(|c| !c.is_control() && !turns(*c)).collect()
}

/// Returns the SHA-256 digest of `bytes`.
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, bytes);
    digest.as_ref().try_into().expect("SHA-256 gives 32 bytes")
}

/// Returns the SHA-512 digest of `bytes`.
pub fn sha512(bytes: &[u8]) -> [u8; 64] {
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA512, bytes);
    digest.as_ref().try_into().expect("SHA-512 gives 64 bytes")
}

/// Returns the HMAC with SHA-256 (RFC 2104) of `message`.
pub fn hmac_sha256(key: &crate::Secret<Vec<u8>>, message: &[u8]) -> Vec<u8> {
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, key.reveal());
    aws_lc_rs::hmac::sign(&key, message).as_ref().to_vec()
}

#[cfg(test)]
mod tests {
    #[test]
    fn base32_is_that_of_the_standard() {
        // RFC 4648 section 10, in lower case and without padding.
        for (text, wanted) in [("", ""), ("f", "my"), ("fo", "mzxq"), ("foo", "mzxw6"), ("foobar", "mzxw6ytboi")] {
            assert_eq!(super::base32(text.as_bytes()), wanted);
        }
    }
}
