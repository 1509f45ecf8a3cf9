//! Proofs that a certificate was logged for all to see (Certificate Transparency, RFC 6962): signed timestamps of logs.

use crate::certificate::{SignatureCheck, verify};
use crate::encoding::{base64_decode, pem_blocks, printable, tlv};
use crate::ocsp::staple_extension;
use crate::{Certificate, PkiError, sha256};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5912;
use der::asn1::{AnyRef, OctetStringRef};
use der::{Decode, Reader, SliceReader, Tagged};
use jiff::Timestamp;

/// The extension of a certificate with the timestamps of logs (RFC 6962 section 3.3).
const IN_CERTIFICATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.11129.2.4.2");
/// The extension of an OCSP answer with them.
const IN_STAPLE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.11129.2.4.5");
/// No more of them are read.
const MOST: usize = 32;

/// What a log has promised: that it has, or will soon have, a certificate for all to see (SignedCertificateTimestamp, RFC 6962 section 3.2).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogProof {
    /// The SHA-256 digest of the log's key.
    pub log: [u8; 32],
    /// When the log took it.
    pub at: Timestamp,
    milliseconds: u64,
    extensions: Vec<u8>,
    algorithm: [u8; 2],
    signature: Vec<u8>,
    /// Whether it stands in the certificate: then it is about the certificate without it.
    is_within: bool,
}

/// What a look at one proof shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ProofCheck<'a> {
    /// This log has made it.
    By(&'a str),
    /// No log that is known has that key.
    UnknownLog,
    /// Its log is known, and has not made it: for another certificate, or not at all.
    Invalid(&'a str),
}

/// The keys of logs.
#[derive(Clone, Debug, Default)]
pub struct LogKeys(Vec<LogKey>);

#[derive(Clone, Debug)]
struct LogKey {
    id: [u8; 32],
    name: String,
    spki: Vec<u8>,
}

impl LogProof {
    /// Returns the proofs in a certificate; those that cannot be read are passed over.
    pub fn in_certificate(certificate: &Certificate) -> Vec<LogProof> {
        let parsed = x509_cert::Certificate::from_der(certificate.der()).ok();
        let value = parsed.and_then(|parsed| {
            let extensions = parsed.tbs_certificate().extensions()?;
            let found = extensions.iter().find(|extension| extension.extn_id == IN_CERTIFICATE)?;
            Some(found.extn_value.as_bytes().to_vec())
        });
        value.map(|value| within_octets(&value, true)).unwrap_or_default()
    }

    /// Returns the proofs in a stapled OCSP answer.
    pub fn in_staple(staple: &[u8]) -> Vec<LogProof> {
        staple_extension(staple, IN_STAPLE).map(|value| within_octets(value, false)).unwrap_or_default()
    }

    /// Returns the proofs that a server sends in its handshake: the contents of its extension `signed_certificate_timestamp`.
    pub fn in_handshake(list: &[u8]) -> Vec<LogProof> {
        read_list(list, false).unwrap_or_default()
    }

    /// Looks who has made it. `issuer` is the certificate that has signed the other one.
    pub fn check<'a>(&self, certificate: &Certificate, issuer: &Certificate, keys: &'a LogKeys) -> ProofCheck<'a> {
        let Some(key) = keys.0.iter().find(|key| key.id == self.log) else { return ProofCheck::UnknownLog };
        let signed = self.signed(certificate, issuer);
        let oid = match self.algorithm {
            [4, 3] => rfc5912::ECDSA_WITH_SHA_256,
            [4, 1] => rfc5912::SHA_256_WITH_RSA_ENCRYPTION,
            _ => return ProofCheck::Invalid(&key.name),
        };
        let algorithm = spki::AlgorithmIdentifierOwned { oid, parameters: None };
        let is_valid = signed.is_some_and(|signed| {
            verify(&algorithm, &key.spki, &signed, &self.signature) == Some(SignatureCheck::Valid)
        });
        if is_valid { ProofCheck::By(&key.name) } else { ProofCheck::Invalid(&key.name) }
    }

    /// Returns what the log has signed (RFC 6962 section 3.2).
    fn signed(&self, certificate: &Certificate, issuer: &Certificate) -> Option<Vec<u8>> {
        let mut out = vec![0, 0];
        out.extend(self.milliseconds.to_be_bytes());
        let entry = if self.is_within {
            out.extend([0, 1]);
            out.extend(sha256(issuer.public_key()));
            without_proofs(certificate.der())?
        } else {
            out.extend([0, 0]);
            certificate.der().to_vec()
        };
        out.extend(&u32::try_from(entry.len()).ok()?.to_be_bytes()[1..]);
        out.extend(entry);
        out.extend(u16::try_from(self.extensions.len()).ok()?.to_be_bytes());
        out.extend(&self.extensions);
        Some(out)
    }
}

impl LogKeys {
    /// Reads keys in PEM (`PUBLIC KEY`); the last line before each block that is not empty names the log.
    ///
    /// # Errors
    /// When a block cannot be read.
    pub fn from_pem(text: &str) -> Result<Self, PkiError> {
        let mut keys = LogKeys::default();
        let mut before = "";
        for part in text.split_inclusive("-----END PUBLIC KEY-----") {
            for spki in pem_blocks(part, "PUBLIC KEY")? {
                let lines = part.split("-----BEGIN").next().unwrap_or_default().lines();
                let name = lines.map(|line| line.trim_start_matches('#').trim()).rfind(|line| !line.is_empty());
                keys.add(name.unwrap_or(before), spki);
            }
            before = "a log";
        }
        Ok(keys)
    }

    /// Adds a key, a DER SubjectPublicKeyInfo in base64, under a name; false when it is none.
    pub fn add_base64(&mut self, name: &str, key: &str) -> bool {
        let spki = base64_decode(key).filter(|spki| spki::SubjectPublicKeyInfoRef::from_der(spki).is_ok());
        spki.map(|spki| self.add(name, spki)).is_some()
    }

    fn add(&mut self, name: &str, spki: Vec<u8>) {
        self.0.push(LogKey { id: sha256(&spki), name: printable(name), spki });
    }

    /// Returns how many there are.
    pub fn count(&self) -> usize {
        self.0.len()
    }
}

/// Reads a list that an OCTET STRING wraps.
fn within_octets(value: &[u8], is_within: bool) -> Vec<LogProof> {
    let list = <&OctetStringRef>::from_der(value).ok();
    list.and_then(|list| read_list(list.as_bytes(), is_within)).unwrap_or_default()
}

/// Takes so many bytes off the front.
fn take<'a>(bytes: &mut &'a [u8], count: usize) -> Option<&'a [u8]> {
    let (first, rest) = bytes.split_at_checked(count)?;
    *bytes = rest;
    Some(first)
}

/// Takes a vector off the front: its length in two bytes, and what is in it (RFC 8446 section 3.4).
fn take_vector<'a>(bytes: &mut &'a [u8]) -> Option<&'a [u8]> {
    let length = take(bytes, 2)?;
    take(bytes, usize::from(u16::from_be_bytes([length[0], length[1]])))
}

/// Reads a SignedCertificateTimestampList (RFC 6962 section 3.3); proofs of other versions are passed over.
fn read_list(mut bytes: &[u8], is_within: bool) -> Option<Vec<LogProof>> {
    let mut list = take_vector(&mut bytes)?;
    let mut found = Vec::new();
    while !list.is_empty() && found.len() < MOST {
        found.extend(read_proof(take_vector(&mut list)?, is_within));
    }
    Some(found)
}

fn read_proof(mut bytes: &[u8], is_within: bool) -> Option<LogProof> {
    if take(&mut bytes, 1)? != [0] {
        return None;
    }
    let log = take(&mut bytes, 32)?.try_into().ok()?;
    let milliseconds = u64::from_be_bytes(take(&mut bytes, 8)?.try_into().ok()?);
    let at = Timestamp::from_millisecond(i64::try_from(milliseconds).ok()?).ok()?;
    let extensions = take_vector(&mut bytes)?.to_vec();
    let algorithm = take(&mut bytes, 2)?.try_into().ok()?;
    let signature = take_vector(&mut bytes)?.to_vec();
    bytes.is_empty().then_some(LogProof { log, at, milliseconds, extensions, algorithm, signature, is_within })
}

/// Returns what a certificate says (TBSCertificate) without the proofs in it.
fn without_proofs(certificate: &[u8]) -> Option<Vec<u8>> {
    let inside = |der: &'_ [u8]| AnyRef::from_der(der).ok().map(|any| any.value().to_vec());
    let outer = inside(certificate)?;
    let tbs = inside(SliceReader::new(&outer).ok()?.tlv_bytes().ok()?)?;
    let mut parts = SliceReader::new(&tbs).ok()?;
    let mut out = Vec::new();
    while !parts.is_finished() {
        let part = parts.tlv_bytes().ok()?;
        // The extensions are the last field, [3].
        if part.first() != Some(&0xa3) {
            out.extend_from_slice(part);
            continue;
        }
        let list = inside(&inside(part)?)?;
        let mut list = SliceReader::new(&list).ok()?;
        let mut kept = Vec::new();
        while !list.is_finished() {
            let extension = list.tlv_bytes().ok()?;
            let id = inside(extension)?;
            let id = AnyRef::decode(&mut SliceReader::new(&id).ok()?).ok().map(|id| (id.tag(), id.value().to_vec()))?;
            if id != (der::Tag::ObjectIdentifier, IN_CERTIFICATE.as_bytes().to_vec()) {
                kept.extend_from_slice(extension);
            }
        }
        if !kept.is_empty() {
            out.extend(tlv(0xa3, &tlv(0x30, &kept)));
        }
    }
    Some(tlv(0x30, &out))
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(0..=255_u8, 0..200)) {
            let _ = read_list(&bytes, false);
            let _ = without_proofs(&bytes);
        }
    }

    #[test]
    fn a_list_has_proofs_one_after_the_other_and_those_of_other_versions_are_passed_over() {
        let proof = |version: u8, log: u8| {
            let mut bytes = vec![version];
            bytes.extend([log; 32]);
            bytes.extend(1_700_000_000_000_u64.to_be_bytes());
            bytes.extend([0, 0, 4, 3, 0, 2, 7, 7]);
            bytes
        };
        let list = |proofs: &[Vec<u8>]| {
            let vector = |bytes: &[u8]| [&u16::try_from(bytes.len()).unwrap().to_be_bytes()[..], bytes].concat();
            vector(&proofs.iter().flat_map(|proof| vector(proof)).collect::<Vec<_>>())
        };
        let found = LogProof::in_handshake(&list(&[proof(0, 1), proof(1, 2), proof(0, 3)]));
        assert_eq!(found.iter().map(|proof| proof.log[0]).collect::<Vec<_>>(), [1, 3]);
        assert_eq!(found[0].at.to_string(), "2023-11-14T22:13:20Z");
        let whole = list(&[proof(0, 1)]);
        for length in 0..whole.len() {
            assert_eq!(LogProof::in_handshake(&whole[..length]), [], "{length} bytes");
        }
    }
}
