//! Whether a certificate was revoked, by OCSP (RFC 6960): the question, and what answers say.

use crate::certificate::{SignatureCheck, verify};
use crate::encoding::{hex, tlv};
use crate::{Certificate, RevokedEntry, der_sequence};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::ID_KP_OCSP_SIGNING;
use der::asn1::{AnyRef, BitStringRef, GeneralizedTime};
use der::{Decode, Encode, Reader, SliceReader, Tag, TagNumber, Tagged};
use jiff::{SignedDuration, Timestamp};
use sha1::{Digest, Sha1};
use x509_cert::ext::pkix::ExtendedKeyUsage;

/// id-pkix-ocsp-basic (RFC 6960 section 4.2.1).
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");
/// The AlgorithmIdentifier of SHA-1, with its NULL.
const SHA_1: [u8; 11] = [0x30, 9, 6, 5, 0x2b, 0x0e, 3, 2, 0x1a, 5, 0];
/// So far clocks may be apart.
const SLACK: SignedDuration = SignedDuration::from_mins(5);

/// What an answer says about one certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OcspStatus {
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

/// Reads a stapled answer; `serial` is the certificate's, in lower-case hexadecimal. Its signature is not checked: that somebody says
/// "revoked" of their own server is believed, and "good" proves nothing here.
pub fn parse_staple(der: &[u8], serial: &str) -> OcspStatus {
    let single = basic(der).and_then(|basic| answers(inside(basic)?.tlv_bytes().ok()?));
    single.map_or(OcspStatus::Unreadable, |single| {
        single.iter().find_map(|one| about(one, serial)).unwrap_or(OcspStatus::Unknown)
    })
}

/// Returns the value of an extension of the first single answer in a stapled answer (section 4.2.1).
pub(crate) fn staple_extension(der: &[u8], wanted: ObjectIdentifier) -> Option<&[u8]> {
    let mut single = inside(answers(inside(basic(der)?)?.tlv_bytes().ok()?)?.first()?)?;
    while !single.is_finished() {
        let part = single.tlv_bytes().ok()?;
        // singleExtensions is [1], and stands last; a status of revoked has the same tag, and no list in it.
        let Some(mut list) = inside(part)
            .filter(|_| part.first() == Some(&0xa1))
            .and_then(|mut tagged| inside(tagged.tlv_bytes().ok()?))
        else {
            continue;
        };
        while let Ok(extension) = list.tlv_bytes() {
            let Some(mut fields) = inside(extension) else { break };
            if ObjectIdentifier::decode(&mut fields).ok() == Some(wanted) {
                let value = AnyRef::decode(&mut fields).ok().filter(|any| any.tag() == Tag::OctetString)?;
                return Some(value.value());
            }
        }
    }
    None
}

/// Why an answer says nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum OcspError {
    /// No answer, or one that says that there is none.
    #[error("what came back is no OCSP answer")]
    Unreadable,
    /// Neither the issuer has signed it, nor somebody whom it lets answer.
    #[error("the OCSP answer is not signed by the issuer of the certificate")]
    Foreign,
    /// An answer about another certificate.
    #[error("the OCSP answer is about another certificate")]
    Other,
    /// One of another time.
    #[error("the OCSP answer is out of date")]
    Stale,
}

/// A question about one certificate.
pub struct OcspQuestion {
    /// What the certificate is called in it (CertID, section 4.1.1).
    id: Vec<u8>,
    serial: String,
    issuer: Certificate,
}

impl OcspQuestion {
    /// Asks about a certificate of an issuer; `None` when either cannot be read.
    pub fn about(certificate: &Certificate, issuer: &Certificate) -> Option<Self> {
        let parsed = x509_cert::Certificate::from_der(certificate.der()).ok()?;
        let tbs = parsed.tbs_certificate();
        let key = spki::SubjectPublicKeyInfoRef::from_der(issuer.public_key()).ok()?;
        let digest = |bytes: &[u8]| tlv(4, &Sha1::digest(bytes));
        let name = tbs.issuer().to_der().ok()?;
        let parts = [digest(&name), digest(key.subject_public_key.raw_bytes()), tbs.serial_number().to_der().ok()?];
        let id = der_sequence(&[&SHA_1[..], &parts.concat()].concat());
        Some(OcspQuestion { id, serial: certificate.serial.clone(), issuer: issuer.clone() })
    }

    /// Returns the request in DER. It has no nonce: most responders give prepared answers.
    pub fn request(&self) -> Vec<u8> {
        // OCSPRequest, TBSRequest, requestList, Request.
        (0..4).fold(self.id.clone(), |inner, _| der_sequence(&inner))
    }

    /// Reads the answer of a responder, whose signature has to be the issuer's or that of one whom the issuer lets answer (section 4.2.2.2).
    ///
    /// # Errors
    /// When it says nothing, or nothing that counts now.
    pub fn read(&self, der: &[u8], now: Timestamp) -> Result<OcspStatus, OcspError> {
        let signed = basic(der).and_then(SignedAnswers::read).ok_or(OcspError::Unreadable)?;
        if !signed.is_by(&self.issuer, now) {
            return Err(OcspError::Foreign);
        }
        let single = answers(signed.data).ok_or(OcspError::Unreadable)?;
        let mine =
            single.into_iter().find(|one| inside(one).is_some_and(|mut one| self.is_named(one.tlv_bytes().ok())));
        let mine = mine.ok_or(OcspError::Other)?;
        let (from, until) = times(mine).ok_or(OcspError::Unreadable)?;
        if from > now + SLACK || until.is_some_and(|until| until < now - SLACK) {
            return Err(OcspError::Stale);
        }
        about(mine, &self.serial).ok_or(OcspError::Unreadable)
    }

    /// Whether a CertID is that of the question; the writings of the algorithm differ.
    fn is_named(&self, id: Option<&[u8]>) -> bool {
        let behind_algorithm = |id: &[u8]| {
            let mut parts = inside(id)?;
            parts.tlv_bytes().ok()?;
            let rest: Option<Vec<Vec<u8>>> = (0..3).map(|_| parts.tlv_bytes().ok().map(<[u8]>::to_vec)).collect();
            rest
        };
        id.and_then(behind_algorithm).is_some_and(|id| Some(id) == behind_algorithm(&self.id))
    }
}

/// A BasicOCSPResponse, taken apart.
struct SignedAnswers<'a> {
    /// What was signed (ResponseData).
    data: &'a [u8],
    algorithm: spki::AlgorithmIdentifierOwned,
    signature: &'a [u8],
    certificates: Vec<Certificate>,
}

impl<'a> SignedAnswers<'a> {
    fn read(basic: &'a [u8]) -> Option<Self> {
        let mut parts = inside(basic)?;
        let data = parts.tlv_bytes().ok()?;
        let algorithm = spki::AlgorithmIdentifierOwned::from_der(parts.tlv_bytes().ok()?).ok()?;
        let signature = BitStringRef::decode(&mut parts).ok()?.as_bytes()?;
        let mut certificates = Vec::new();
        if let Some(mut list) =
            parts.tlv_bytes().ok().and_then(inside).and_then(|mut tagged| inside(tagged.tlv_bytes().ok()?))
        {
            while certificates.len() < 5
                && let Ok(der) = list.tlv_bytes()
            {
                certificates.extend(Certificate::from_der(der));
            }
        }
        Some(SignedAnswers { data, algorithm, signature, certificates })
    }

    fn is_by(&self, issuer: &Certificate, now: Timestamp) -> bool {
        let made = |key: &[u8]| verify(&self.algorithm, key, self.data, self.signature) == Some(SignatureCheck::Valid);
        let may_answer = |one: &&Certificate| {
            let parsed = x509_cert::Certificate::from_der(one.der()).ok();
            let uses =
                parsed.and_then(|parsed| parsed.tbs_certificate().get_extension::<ExtendedKeyUsage>().ok().flatten());
            one.is_signed_by(issuer)
                && (one.not_before..=one.not_after).contains(&now)
                && uses.is_some_and(|(_, uses)| uses.0.contains(&ID_KP_OCSP_SIGNING))
        };
        made(issuer.public_key()) || self.certificates.iter().filter(may_answer).any(|one| made(one.public_key()))
    }
}

impl OcspStatus {
    /// Returns since when and why the certificate is revoked, where it is.
    pub fn revoked(self) -> Option<RevokedEntry> {
        match self {
            OcspStatus::Revoked { at, reason } => Some(RevokedEntry { at, reason }),
            _ => None,
        }
    }
}

/// The contents of a constructed value.
fn inside(der: &[u8]) -> Option<SliceReader<'_>> {
    let any = AnyRef::from_der(der).ok().filter(|any| any.tag().is_constructed())?;
    SliceReader::new(any.value()).ok()
}

/// Returns the BasicOCSPResponse in a response that was given.
fn basic(der: &[u8]) -> Option<&[u8]> {
    let mut response = inside(der)?;
    let status = AnyRef::decode(&mut response).ok()?;
    if status.tag() != Tag::Enumerated || status.value() != [0] {
        return None;
    }
    let mut bytes = inside(inside(response.tlv_bytes().ok()?)?.tlv_bytes().ok()?)?;
    ObjectIdentifier::decode(&mut bytes).ok().filter(|kind| *kind == BASIC)?;
    AnyRef::decode(&mut bytes).ok().filter(|any| any.tag() == Tag::OctetString).map(|basic| basic.value())
}

/// Returns the single answers in a ResponseData.
fn answers(data: &[u8]) -> Option<Vec<&[u8]>> {
    let mut data = inside(data)?;
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
fn about(single: &[u8], serial: &str) -> Option<OcspStatus> {
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
        return Some(OcspStatus::Revoked { at, reason });
    }
    if !tagged(0) {
        return Some(OcspStatus::Unknown);
    }
    Some(OcspStatus::Good { next: times(single)?.1 })
}

/// Returns from when a single answer counts, and until when, where it says that.
fn times(single: &[u8]) -> Option<(Timestamp, Option<Timestamp>)> {
    let mut parts = inside(single)?;
    (0..2).try_for_each(|_| parts.tlv_bytes().ok().map(drop))?;
    let from = time(parts.tlv_bytes().ok()?)?;
    let next = parts.tlv_bytes().ok().filter(|part| part.first() == Some(&0xa0));
    Some((from, next.and_then(inside).and_then(|mut next| time(next.tlv_bytes().ok()?))))
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
