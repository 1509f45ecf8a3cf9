//! The certificate that answers a challenge over TLS (RFC 8737).

use crate::certificate::general_name;
use crate::names::Identifier;
use crate::{PkiError, PrivateKey, Signature, der_error, sha256};
use const_oid::ObjectIdentifier;
use der::asn1::OctetString;
use der::{Decode, Encode};
use jiff::Timestamp;
use spki::{SubjectPublicKeyInfoOwned, SubjectPublicKeyInfoRef};
use std::time::Duration;
use x509_cert::TbsCertificate;
use x509_cert::builder::profile::BuilderProfile;
use x509_cert::builder::{Builder, CertificateBuilder};
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::ext::{Extension, ToExtension};
use x509_cert::name::Name;
use x509_cert::serial_number::SerialNumber;
use x509_cert::time::{Time, Validity};

/// id-pe-acmeIdentifier (RFC 8737 section 3).
const ACME_IDENTIFIER: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.1.31");
const A_DAY: Duration = Duration::from_secs(86_400);

struct Challenge {
    name: GeneralName,
    digest: [u8; 32],
}

impl BuilderProfile for Challenge {
    fn get_issuer(&self, subject: &Name) -> Name {
        subject.clone()
    }

    fn get_subject(&self) -> Name {
        Name::default()
    }

    fn build_extensions(
        &self,
        _: SubjectPublicKeyInfoRef<'_>,
        _: SubjectPublicKeyInfoRef<'_>,
        tbs: &TbsCertificate,
    ) -> x509_cert::builder::Result<Vec<Extension>> {
        let names = SubjectAltName(vec![self.name.clone()]);
        let identifier = OctetString::new(self.digest)?.to_der()?;
        Ok(vec![
            (&names).to_extension(tbs.subject(), &[])?,
            Extension { extn_id: ACME_IDENTIFIER, critical: true, extn_value: OctetString::new(identifier)? },
        ])
    }
}

/// Makes the self-signed certificate that a server shows for a tls-alpn-01 challenge, good for a day around `now`: for the
/// one name, with the digest of the key authorization in a critical extension. Returns it in DER.
///
/// # Errors
/// When the crypto library fails.
pub fn make_challenge_certificate(
    key: &PrivateKey,
    name: &Identifier,
    key_authorization: &str,
    now: Timestamp,
) -> Result<Vec<u8>, PkiError> {
    let fail = der_error("challenge certificate");
    let name = general_name(name)?;
    let profile = Challenge { name, digest: sha256(key_authorization.as_bytes()) };
    let seconds = Duration::from_secs(u64::try_from(now.as_second()).unwrap_or(0));
    let time = |at: Duration| der::DateTime::from_unix_duration(at).map(|d| Time::GeneralTime(d.into())).map_err(&fail);
    let validity = Validity::new(time(seconds.saturating_sub(A_DAY))?, time(seconds + A_DAY)?);
    let public = SubjectPublicKeyInfoOwned::from_der(&key.public_key_der()).map_err(&fail)?;
    let failed = |_| PkiError::Crypto { job: "making a challenge certificate" };
    let serial = SerialNumber::from(1_u8);
    let builder = CertificateBuilder::new(profile, serial, validity, public).map_err(failed)?;
    builder.build::<_, Signature>(key).map_err(failed)?.to_der().map_err(&fail)
}

/// Returns whether a certificate in DER answers a tls-alpn-01 challenge with this key authorization.
pub fn answers_challenge(certificate: &[u8], key_authorization: &str) -> bool {
    let Ok(parsed) = x509_cert::Certificate::from_der(certificate) else { return false };
    let extensions = parsed.tbs_certificate().extensions().map(Vec::as_slice).unwrap_or_default();
    let digest = extensions.iter().find(|e| e.extn_id == ACME_IDENTIFIER && e.critical);
    let digest = digest.and_then(|e| OctetString::from_der(e.extn_value.as_bytes()).ok());
    digest.is_some_and(|d| d.as_bytes() == sha256(key_authorization.as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Certificate, KeyKind};

    #[test]
    fn the_certificate_answers_its_challenge_and_no_other() {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let now = "2026-03-02T10:00:00Z".parse().unwrap();
        let der = make_challenge_certificate(&key, &"lampholm.example".parse().unwrap(), "token.thumb", now).unwrap();
        assert!(answers_challenge(&der, "token.thumb") && !answers_challenge(&der, "token.other"));
        let read = Certificate::from_der(&der).unwrap();
        assert_eq!(read.names[0].to_string(), "lampholm.example");
        assert!(read.not_before < now && read.not_after > now && key.fits(read.public_key()));
        assert!(!answers_challenge(b"lamp", "token.thumb"));
    }
}
