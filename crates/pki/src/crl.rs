//! Lists of revoked certificates (CRLs, RFC 5280 section 5).

use crate::PkiError;
use crate::certificate::{SignatureCheck, verify};
use der::{Decode, Reader};
use jiff::Timestamp;
use std::collections::BTreeMap;
use x509_cert::crl::{CertificateList, RevokedCert};
use x509_cert::ext::pkix::CrlReason;

/// Since when a certificate is revoked, and why, as a code of RFC 5280 section 5.3.1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RevokedEntry {
    /// Since when.
    pub at: Timestamp,
    /// Why, where that is said.
    pub reason: Option<u8>,
}

/// A list of revoked certificates, its signature good.
#[derive(Clone, Debug)]
pub struct RevocationList {
    revoked: BTreeMap<Vec<u8>, RevokedEntry>,
    /// When the next one comes, where that is said.
    pub next: Option<Timestamp>,
}

impl RevocationList {
    /// Reads a list, DER or PEM, that the holder of a public key (a `SubjectPublicKeyInfo` in DER) has signed.
    ///
    /// # Errors
    /// When it is none, or somebody else has signed it.
    pub fn read(bytes: &[u8], issuer_key: &[u8]) -> Result<Self, PkiError> {
        let bad = |source: der::Error| PkiError::Der { what: "list of revoked certificates", source };
        let decoded = match bytes.starts_with(b"-----BEGIN") {
            true => der::pem::decode_vec(bytes).map(|(_, der)| der).map_err(|error| bad(error.into()))?,
            false => bytes.to_vec(),
        };
        let list: CertificateList = CertificateList::from_der(&decoded).map_err(bad)?;
        // The bytes that were signed, just as they came.
        let signed = der::SliceReader::new(&decoded).and_then(|mut reader| {
            reader.sequence(|inner: &mut der::SliceReader<'_>| {
                let signed = inner.tlv_bytes()?;
                inner.tlv_bytes()?;
                inner.tlv_bytes()?;
                Ok::<_, der::Error>(signed)
            })
        });
        let signed = signed.map_err(bad)?;
        let instant = |time: x509_cert::time::Time| {
            let seconds = i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX);
            Timestamp::from_second(seconds).unwrap_or(Timestamp::MAX)
        };
        let entry = |one: RevokedCert| {
            let reason = one.crl_entry_extensions.iter().flatten().find_map(|extension| {
                let is_reason = extension.extn_id == const_oid::db::rfc5280::ID_CE_CRL_REASONS;
                is_reason.then(|| CrlReason::from_der(extension.extn_value.as_bytes()).ok()).flatten()
            });
            let reason = reason.map(|reason| reason as u8);
            (bare(one.serial_number.as_bytes()).to_vec(), RevokedEntry { at: instant(one.revocation_date), reason })
        };
        let revoked = list.tbs_cert_list.revoked_certificates.unwrap_or_default().into_iter().map(entry).collect();
        let signature = list.signature.as_bytes().unwrap_or_default();
        if verify(&list.signature_algorithm, issuer_key, signed, signature) != Some(SignatureCheck::Valid) {
            return Err(PkiError::ForeignList);
        }
        Ok(RevocationList { revoked, next: list.tbs_cert_list.next_update.map(instant) })
    }

    /// Returns what the list says of a certificate by its serial number in hexadecimal; `None` when it is not revoked.
    pub fn of(&self, serial: &str) -> Option<RevokedEntry> {
        let padded = if serial.len() % 2 == 1 { format!("0{serial}") } else { serial.to_owned() };
        let byte = |n: usize| u8::from_str_radix(padded.get(2 * n..2 * n + 2)?, 16).ok();
        let bytes: Option<Vec<u8>> = (0..padded.len() / 2).map(byte).collect();
        self.revoked.get(bare(&bytes?)).copied()
    }
}

/// Returns a number without the zeros before it.
fn bare(number: &[u8]) -> &[u8] {
    let zeros = number.iter().take_while(|byte| **byte == 0).count();
    &number[zeros..]
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Made by OpenSSL: `openssl ca -gencrl`, with one certificate revoked for a compromised key, and one without a reason.
    const LIST: &[u8] = include_bytes!("crl/list.pem");
    const ISSUER: &str = include_str!("crl/issuer.pem");

    #[test]
    fn a_list_says_what_is_revoked_and_only_its_issuers_counts() {
        let issuer = crate::Certificate::all_from_pem(ISSUER).unwrap().remove(0);
        let list = RevocationList::read(LIST, issuer.public_key()).unwrap();
        assert_eq!(list.of("1001").map(|entry| entry.reason), Some(Some(1)));
        assert_eq!(list.of("00001002").map(|entry| entry.reason), Some(None));
        assert_eq!((list.of("1003"), list.of(""), list.of("x")), (None, None, None));
        assert!(list.next.is_some());
        let other = crate::PrivateKey::generate(crate::KeyKind::P256).unwrap();
        assert!(matches!(RevocationList::read(LIST, &other.public_key_der()), Err(PkiError::ForeignList)));
        for cut in [0, 10, LIST.len() / 2] {
            assert!(RevocationList::read(&LIST[..cut], issuer.public_key()).is_err(), "{cut}");
        }
    }
}
