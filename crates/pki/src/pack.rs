//! Packs a key and its chain for other programs.

use crate::container::{Password, X509_CERTIFICATE, beyond_the_basic_plane, random};
use crate::encoding::tlv;
use crate::{Certificate, Chain, PkiError, PrivateKey, Secret, sha256};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::{ID_DATA, ID_ENCRYPTED_DATA, ID_SIGNED_DATA};
use const_oid::db::rfc5912::{ID_SHA_1, ID_SHA_256};
use der::Encode;
use der::asn1::BmpString;

/// How a PKCS#12 container is encrypted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pkcs12Form {
    /// PBES2 with AES-256 and HMAC-SHA-256: what today's programs read.
    Modern,
    /// Triple DES and HMAC-SHA-1, for programs from before 2019 or so. Its protection is weak.
    Old,
}

/// Writes the manifest of a secret of type `kubernetes.io/tls`, whose schema is open, from PEM.
pub fn tls_secret_manifest(certificate: &str, bundle: &str, key: &str) -> String {
    use std::fmt::Write;
    let name = object_name(certificate);
    let mut out =
        format!("apiVersion: v1\nkind: Secret\nmetadata:\n  name: {name}\ntype: kubernetes.io/tls\nstringData:\n");
    for (field, pem) in [("tls.crt", bundle), ("tls.key", key)] {
        writeln!(out, "  {field}: |").expect("writing to a string");
        pem.lines().for_each(|line| writeln!(out, "    {line}").expect("writing to a string"));
    }
    out
}

/// Returns what the secret of a certificate is called. Names of objects are lower case, without dots and underscores to be safe.
pub fn object_name(certificate: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let name: String = certificate.chars().map(plain).collect();
    format!("{}-tls", name.trim_matches('-'))
}

/// Key derivation rounds: as many as others use, so that guessing is slow and reading is not.
const ROUNDS: i32 = 100_000;
const OLD_ROUNDS: i32 = 2_048;

/// What a bag says of itself (RFC 2985 sections 5.5.1 and 5.5.2).
const FRIENDLY_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.20");
const LOCAL_KEY_ID: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.21");

/// Packs key and chain into a PKCS#12 container (RFC 7292). `name` is the friendly name that programs show.
///
/// # Errors
/// When the password has characters beyond the basic plane, or a certificate or the key cannot be written.
pub fn to_pkcs12(
    key: &PrivateKey,
    chain: &Chain,
    name: &str,
    password: &Secret<String>,
    form: Pkcs12Form,
) -> Result<Secret<Vec<u8>>, PkiError> {
    if let Some(found) = beyond_the_basic_plane(password.reveal()) {
        return Err(PkiError::WidePassword(found));
    }
    close(key, chain, name, &Password::new(password.reveal()), form).ok_or(PkiError::Crypto { job: "packing PKCS#12" })
}

/// Makes the container: the certificates encrypted as a whole, the key in a bag that is encrypted by itself, and a code over both
/// (RFC 7292 section 5.1).
fn close(
    key: &PrivateKey,
    chain: &Chain,
    name: &str,
    password: &Password,
    form: Pkcs12Form,
) -> Option<Secret<Vec<u8>>> {
    let encrypt = |bytes: &[u8]| -> Option<(Vec<u8>, Vec<u8>)> {
        let (how, encrypted) = match form {
            Pkcs12Form::Modern => password.encrypt(bytes, ROUNDS.unsigned_abs())?,
            Pkcs12Form::Old => password.encrypt_as_before(bytes, OLD_ROUNDS)?,
        };
        Some((how.to_der().ok()?, encrypted))
    };
    let attributes = attributes(name, &sha256(chain.leaf().der())[..20])?;
    let certificates: Vec<Vec<u8>> = chain
        .certificates()
        .iter()
        .enumerate()
        .map(|(i, certificate)| {
            let value = tlv(0xa0, &tlv(0x04, certificate.der()));
            let certificate = tlv(0x30, &[oid(X509_CERTIFICATE), value].concat());
            bag(pkcs12::PKCS_12_CERT_BAG_OID, &certificate, if i == 0 { &attributes } else { &[] })
        })
        .collect();
    let (how, encrypted) = encrypt(&tlv(0x30, &certificates.concat()))?;
    let encrypted = tlv(0x30, &[oid(ID_DATA), how, tlv(0x80, &encrypted)].concat());
    let encrypted = tlv(0x30, &[tlv(0x02, &[0]), encrypted].concat());

    let (how, locked) = encrypt(key.to_pkcs8().reveal())?;
    let locked = tlv(0x30, &[how, tlv(0x04, &locked)].concat());
    let key = tlv(0x30, &bag(pkcs12::PKCS_12_PKCS8_KEY_BAG_OID, &locked, &attributes));

    let safe = tlv(0x30, &[content(ID_ENCRYPTED_DATA, &encrypted), content(ID_DATA, &tlv(0x04, &key))].concat());
    let (digest, rounds) = match form {
        Pkcs12Form::Modern => (ID_SHA_256, ROUNDS),
        Pkcs12Form::Old => (ID_SHA_1, OLD_ROUNDS),
    };
    let salt = random::<16>()?;
    let code = aws_lc_rs::hmac::sign(&password.mac_key(digest, &salt, rounds)?, &safe);
    let digest = tlv(0x30, &[oid(digest), tlv(0x05, &[])].concat());
    let code = tlv(0x30, &[digest, tlv(0x04, code.as_ref())].concat());
    let guard = tlv(0x30, &[code, tlv(0x04, &salt), rounds.to_der().ok()?].concat());
    let body = [tlv(0x02, &[3]), content(ID_DATA, &tlv(0x04, &safe)), guard];
    Some(Secret::new(tlv(0x30, &body.concat())))
}

fn oid(oid: ObjectIdentifier) -> Vec<u8> {
    tlv(0x06, oid.as_bytes())
}

/// A `ContentInfo` (RFC 5652 section 3).
fn content(kind: ObjectIdentifier, value: &[u8]) -> Vec<u8> {
    tlv(0x30, &[oid(kind), tlv(0xa0, value)].concat())
}

/// A `SafeBag` (RFC 7292 section 4.2).
fn bag(kind: ObjectIdentifier, value: &[u8], attributes: &[u8]) -> Vec<u8> {
    tlv(0x30, &[&oid(kind), &tlv(0xa0, value), attributes].concat())
}

/// The name that programs show, and what tells them which certificate and key belong together.
fn attributes(name: &str, id: &[u8]) -> Option<Vec<u8>> {
    let name = BmpString::from_utf8(name).and_then(|name| name.to_der()).ok()?;
    let attribute = |kind, value: &[u8]| tlv(0x30, &[oid(kind), tlv(0x31, value)].concat());
    let mut both = [attribute(FRIENDLY_NAME, &name), attribute(LOCAL_KEY_ID, &tlv(0x04, id))];
    both.sort_unstable();
    Some(tlv(0x31, &both.concat()))
}

/// Packs certificates into a PKCS#7 bag without signatures (RFC 5652 section 5.1), in DER. The bag has no order: whoever reads
/// it puts the chain together anew.
pub fn to_pkcs7(certificates: &[Certificate]) -> Vec<u8> {
    // A SET OF is sorted by its bytes (X.690 section 11.6).
    let mut sorted: Vec<&[u8]> = certificates.iter().map(Certificate::der).collect();
    sorted.sort_unstable();
    let nothing = tlv(0x31, &[]);
    let parts = [tlv(0x02, &[1]), nothing.clone(), tlv(0x30, &oid(ID_DATA)), tlv(0xa0, &sorted.concat()), nothing];
    content(ID_SIGNED_DATA, &tlv(0x30, &parts.concat()))
}
