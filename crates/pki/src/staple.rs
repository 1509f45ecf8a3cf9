//! Stapled revocation answers (OCSP, RFC 6960), read for what they say about one certificate. Their signature is not checked: that
//! somebody says "revoked" of their own server is believed, and "good" proves nothing here.

use crate::encoding::hex;
use const_oid::ObjectIdentifier;
use der::asn1::{AnyRef, GeneralizedTime};
use der::{Decode, Reader, SliceReader, Tag, TagNumber, Tagged};
use jiff::Timestamp;

/// id-pkix-ocsp-basic (RFC 6960 section 4.2.1).
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");

/// What a stapled answer says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Staple {
    /// Not revoked, until the next answer is due.
    Good {
        /// When that is, where it says so.
        next: Option<Timestamp>,
    },
    /// Revoked.
    Revoked {
        /// Since when.
        at: Timestamp,
        /// The reason's number (RFC 5280 section 5.3.1), where one is given.
        reason: Option<u8>,
    },
    /// The authority does not know the certificate, or the answer is about another one.
    Unknown,
    /// It is no answer.
    Unreadable,
}

/// Reads a stapled answer; `serial` is the certificate's, in lower-case hexadecimal.
pub fn parse_staple(der: &[u8], serial: &str) -> Staple {
    answers(der).map_or(Staple::Unreadable, |single| {
        single.iter().find_map(|one| about(one, serial)).unwrap_or(Staple::Unknown)
    })
}

/// The contents of a constructed value.
fn inside(der: &[u8]) -> Option<SliceReader<'_>> {
    let any = AnyRef::from_der(der).ok().filter(|any| any.tag().is_constructed())?;
    SliceReader::new(any.value()).ok()
}

/// Returns the single answers of a response.
fn answers(der: &[u8]) -> Option<Vec<&[u8]>> {
    let mut response = inside(der)?;
    let status = AnyRef::decode(&mut response).ok()?;
    if status.tag() != Tag::Enumerated || status.value() != [0] {
        return None;
    }
    let mut bytes = inside(inside(response.tlv_bytes().ok()?)?.tlv_bytes().ok()?)?;
    ObjectIdentifier::decode(&mut bytes).ok().filter(|kind| *kind == BASIC)?;
    let basic = AnyRef::decode(&mut bytes).ok().filter(|any| any.tag() == Tag::OctetString)?;
    let mut data = inside(inside(basic.value())?.tlv_bytes().ok()?)?;
    // The answers are the first plain sequence, behind version, responder and time.
    while !data.is_finished() {
        let part = data.tlv_bytes().ok()?;
        if part.first() == Some(&0x30) {
            let mut list = inside(part)?;
            let mut found = Vec::new();
            while !list.is_finished() && found.len() < 100 {
                found.push(list.tlv_bytes().ok()?);
            }
            return Some(found);
        }
    }
    None
}

/// Returns what a single answer says, when it is about a certificate.
fn about(single: &[u8], serial: &str) -> Option<Staple> {
    let mut parts = inside(single)?;
    let mut id = inside(parts.tlv_bytes().ok()?)?;
    (0..3).try_for_each(|_| id.tlv_bytes().ok().map(drop))?;
    let number = AnyRef::decode(&mut id).ok()?;
    let bare = |hex: &str| hex.trim_start_matches('0').to_owned();
    let same = bare(&hex(number.value())) == bare(serial);
    let status = AnyRef::decode(&mut parts).ok().filter(|_| same)?;
    let tagged =
        |number| matches!(status.tag(), Tag::ContextSpecific { number: found, .. } if found == TagNumber(number));
    if tagged(1) {
        let mut revoked = SliceReader::new(status.value()).ok()?;
        let at = time(revoked.tlv_bytes().ok()?)?;
        let reason = revoked.tlv_bytes().ok().and_then(inside).and_then(|mut reason| {
            let reason = AnyRef::decode(&mut reason).ok()?;
            reason.value().first().copied()
        });
        return Some(Staple::Revoked { at, reason });
    }
    if !tagged(0) {
        return Some(Staple::Unknown);
    }
    parts.tlv_bytes().ok()?;
    let next = parts.tlv_bytes().ok().filter(|part| part.first() == Some(&0xa0));
    Some(Staple::Good { next: next.and_then(inside).and_then(|mut next| time(next.tlv_bytes().ok()?)) })
}

fn time(der: &[u8]) -> Option<Timestamp> {
    let time = GeneralizedTime::from_der(der).ok()?;
    Timestamp::from_second(i64::try_from(time.to_unix_duration().as_secs()).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(0..=255_u8, 0..120)) {
            let _ = parse_staple(&bytes, "01");
        }
    }
}
