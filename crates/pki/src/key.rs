//! Private keys: made, stored as PKCS#8 PEM, used to sign.

use crate::encoding::base64url;
use crate::{PkiError, Secret};
use aws_lc_rs::encoding::{AsDer, Pkcs8V1Der, PublicKeyX509Der};
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA256_FIXED_SIGNING, ECDSA_P384_SHA384_ASN1_SIGNING,
    ECDSA_P384_SHA384_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair, RSA_PKCS1_SHA256, RsaKeyPair,
};
use der::pem::{LineEnding, PemLabel};
use der::{Decode, SecretDocument};
use std::fmt;
use std::str::FromStr;
use std::sync::OnceLock;

/// A kind of key a certificate can have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub enum KeyKind {
    /// ECDSA on the curve P-256: small, fast, understood everywhere.
    #[default]
    P256,
    /// ECDSA on the curve P-384.
    P384,
    /// RSA with 2048 bits.
    Rsa2048,
    /// RSA with 3072 bits.
    Rsa3072,
    /// RSA with 4096 bits.
    Rsa4096,
    /// Ed25519 (RFC 8410): for authorities of one's own; public ones do not take it yet.
    Ed25519,
}

impl KeyKind {
    /// All kinds, in the order they are offered.
    pub const ALL: [KeyKind; 6] =
        [KeyKind::P256, KeyKind::P384, KeyKind::Rsa2048, KeyKind::Rsa3072, KeyKind::Rsa4096, KeyKind::Ed25519];

    /// Whether making a key of this kind takes long: primes have to be found for it.
    pub fn is_slow(self) -> bool {
        matches!(self, KeyKind::Rsa2048 | KeyKind::Rsa3072 | KeyKind::Rsa4096)
    }

    /// Returns the word that the inventory uses.
    pub fn word(self) -> &'static str {
        match self {
            KeyKind::P256 => "p256",
            KeyKind::P384 => "p384",
            KeyKind::Rsa2048 => "rsa2048",
            KeyKind::Rsa3072 => "rsa3072",
            KeyKind::Rsa4096 => "rsa4096",
            KeyKind::Ed25519 => "ed25519",
        }
    }
}

impl fmt::Display for KeyKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

impl FromStr for KeyKind {
    type Err = PkiError;

    fn from_str(word: &str) -> Result<Self, PkiError> {
        KeyKind::ALL.into_iter().find(|k| k.word() == word).ok_or_else(|| PkiError::UnknownKeyKind(word.to_owned()))
    }
}

/// What stands before the public point in a SubjectPublicKeyInfo: algorithm and curve (RFC 5480 section 2).
const P256_HEAD: &[u8] =
    b"\x30\x59\x30\x13\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x08\x2a\x86\x48\xce\x3d\x03\x01\x07\x03\x42\x00";
const P384_HEAD: &[u8] =
    b"\x30\x76\x30\x10\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x05\x2b\x81\x04\x00\x22\x03\x62\x00";
/// The same before the public key (RFC 8410 section 4).
const ED25519_HEAD: &[u8] = b"\x30\x2a\x30\x05\x06\x03\x2b\x65\x70\x03\x21\x00";

enum Pair {
    /// The same key twice: X.509 wants ASN.1 signatures, JWS wants fixed ones (RFC 7518 section 3.4), which few keys make.
    P256 {
        asn1: EcdsaKeyPair,
        fixed: OnceLock<EcdsaKeyPair>,
    },
    P384 {
        asn1: EcdsaKeyPair,
        fixed: OnceLock<EcdsaKeyPair>,
    },
    Rsa(RsaKeyPair),
    Ed25519(Ed25519KeyPair),
}

/// A public key as JOSE has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JwsKey {
    /// The algorithm that signatures of it have (RFC 7518 section 3.1, RFC 8037 section 3.1).
    pub algorithm: &'static str,
    /// The required members of its JWK, in lexical order as its thumbprint wants them (RFC 7638 section 3.2).
    pub members: Vec<(&'static str, String)>,
}

/// A private key, ready to sign.
pub struct PrivateKey {
    pair: Pair,
    kind: KeyKind,
    pkcs8: SecretDocument,
    /// Its public half, made when it is first asked for.
    public: OnceLock<Vec<u8>>,
}

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey({}, [redacted])", self.kind)
    }
}

pub(crate) struct Pkcs8Label;
impl PemLabel for Pkcs8Label {
    const PEM_LABEL: &'static str = "PRIVATE KEY";
}

impl PrivateKey {
    /// Makes a new key from the system's randomness.
    ///
    /// # Errors
    /// Only when the crypto library fails.
    pub fn generate(kind: KeyKind) -> Result<Self, PkiError> {
        let failed = |_| PkiError::Crypto { job: "making a key" };
        let ec = |algorithm| -> Result<(EcdsaKeyPair, Vec<u8>), PkiError> {
            let pair = EcdsaKeyPair::generate(algorithm).map_err(failed)?;
            let der = pair.to_pkcs8v1().map_err(failed)?.as_ref().to_vec();
            Ok((pair, der))
        };
        let rsa = |size| -> Result<(Pair, Vec<u8>), PkiError> {
            let pair = RsaKeyPair::generate(size).map_err(failed)?;
            let der: Pkcs8V1Der<'_> = pair.as_der().map_err(failed)?;
            let der = der.as_ref().to_vec();
            Ok((Pair::Rsa(pair), der))
        };
        let (pair, der) = match kind {
            KeyKind::P256 => ec(&ECDSA_P256_SHA256_ASN1_SIGNING)
                .map(|(asn1, der)| (Pair::P256 { asn1, fixed: OnceLock::new() }, der))?,
            KeyKind::P384 => ec(&ECDSA_P384_SHA384_ASN1_SIGNING)
                .map(|(asn1, der)| (Pair::P384 { asn1, fixed: OnceLock::new() }, der))?,
            KeyKind::Rsa2048 => rsa(KeySize::Rsa2048)?,
            KeyKind::Rsa3072 => rsa(KeySize::Rsa3072)?,
            KeyKind::Rsa4096 => rsa(KeySize::Rsa4096)?,
            KeyKind::Ed25519 => {
                let pair = Ed25519KeyPair::generate().map_err(failed)?;
                // The first version of PKCS#8, which every reader knows.
                let der = pair.to_pkcs8v1().map_err(failed)?.as_ref().to_vec();
                (Pair::Ed25519(pair), der)
            }
        };
        let pkcs8 = SecretDocument::try_from(der).map_err(crate::der_error("PKCS#8 key"))?;
        Ok(PrivateKey { pair, kind, pkcs8, public: OnceLock::new() })
    }

    /// Reads an unencrypted PKCS#8 key (RFC 5958) from PEM text.
    ///
    /// # Errors
    /// When the text holds no `PRIVATE KEY` block, or a key of a kind that is not one of [`KeyKind`].
    pub fn from_pem(pem: &Secret<String>) -> Result<Self, PkiError> {
        let (label, document) = SecretDocument::from_pem(pem.reveal())
            .map_err(|_| PkiError::NoPemBlock { label: Pkcs8Label::PEM_LABEL })?;
        if label != Pkcs8Label::PEM_LABEL {
            return Err(PkiError::NoPemBlock { label: Pkcs8Label::PEM_LABEL });
        }
        Self::from_pkcs8(document.as_bytes())
    }

    /// Reads an unencrypted PKCS#8 key in DER.
    ///
    /// # Errors
    /// When the bytes are no key, or one of a kind that is not one of [`KeyKind`].
    pub fn from_pkcs8_der(bytes: &[u8]) -> Result<Self, PkiError> {
        Self::from_pkcs8(bytes)
    }

    fn from_pkcs8(bytes: &[u8]) -> Result<Self, PkiError> {
        let rejected = |e: aws_lc_rs::error::KeyRejected| PkiError::Key { reason: e.to_string() };
        let document = SecretDocument::try_from(bytes).map_err(crate::der_error("PKCS#8 key"))?;
        let (pair, kind) = if let Ok(asn1) = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, bytes) {
            (Pair::P256 { asn1, fixed: OnceLock::new() }, KeyKind::P256)
        } else if let Ok(asn1) = EcdsaKeyPair::from_pkcs8(&ECDSA_P384_SHA384_ASN1_SIGNING, bytes) {
            (Pair::P384 { asn1, fixed: OnceLock::new() }, KeyKind::P384)
        } else if let Ok(pair) = Ed25519KeyPair::from_pkcs8_maybe_unchecked(bytes) {
            (Pair::Ed25519(pair), KeyKind::Ed25519)
        } else {
            let rsa = RsaKeyPair::from_pkcs8(bytes).map_err(rejected)?;
            let kind = match rsa.public_modulus_len() * 8 {
                2048 => KeyKind::Rsa2048,
                3072 => KeyKind::Rsa3072,
                4096 => KeyKind::Rsa4096,
                bits => return Err(PkiError::Key { reason: format!("RSA with {bits} bits") }),
            };
            (Pair::Rsa(rsa), kind)
        };
        Ok(PrivateKey { pair, kind, pkcs8: document, public: OnceLock::new() })
    }

    /// Returns the key as PKCS#8 PEM text.
    pub fn to_pem(&self) -> Secret<String> {
        let pem = self.pkcs8.to_pem(Pkcs8Label::PEM_LABEL, LineEnding::LF).expect("a stored PKCS#8 key encodes");
        Secret::new(pem.as_str().to_owned())
    }

    /// Returns the key as PKCS#8 DER.
    pub fn to_pkcs8(&self) -> Secret<Vec<u8>> {
        Secret::new(self.pkcs8.as_bytes().to_vec())
    }

    /// Returns what kind of key this is.
    pub fn kind(&self) -> KeyKind {
        self.kind
    }

    /// Returns the public half as a DER SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7).
    pub fn public_key_der(&self) -> Vec<u8> {
        self.public().to_vec()
    }

    fn public(&self) -> &[u8] {
        self.public.get_or_init(|| match &self.pair {
            Pair::P256 { asn1, .. } => [P256_HEAD, asn1.public_key().as_ref()].concat(),
            Pair::P384 { asn1, .. } => [P384_HEAD, asn1.public_key().as_ref()].concat(),
            Pair::Ed25519(pair) => [ED25519_HEAD, pair.public_key().as_ref()].concat(),
            Pair::Rsa(rsa) => {
                let der: Result<PublicKeyX509Der<'_>, _> = rsa.public_key().as_der();
                der.expect("a loaded key has a public half").as_ref().to_vec()
            }
        })
    }

    /// Returns the public half as JOSE has it.
    pub fn jws_key(&self) -> JwsKey {
        let text = |value: &str| value.to_owned();
        let ec = |algorithm, curve, pair: &EcdsaKeyPair| {
            let point = &pair.public_key().as_ref()[1..];
            let (x, y) = point.split_at(point.len() / 2);
            let members = vec![("crv", text(curve)), ("kty", text("EC")), ("x", base64url(x)), ("y", base64url(y))];
            JwsKey { algorithm, members }
        };
        match &self.pair {
            Pair::P256 { asn1, .. } => ec("ES256", "P-256", asn1),
            Pair::P384 { asn1, .. } => ec("ES384", "P-384", asn1),
            Pair::Rsa(rsa) => {
                let number = |number: aws_lc_rs::io::Positive<'_>| base64url(number.big_endian_without_leading_zero());
                let public = rsa.public_key();
                let members =
                    vec![("e", number(public.exponent())), ("kty", text("RSA")), ("n", number(public.modulus()))];
                JwsKey { algorithm: "RS256", members }
            }
            Pair::Ed25519(pair) => {
                let x = base64url(pair.public_key().as_ref());
                JwsKey { algorithm: "EdDSA", members: vec![("crv", text("Ed25519")), ("kty", text("OKP")), ("x", x)] }
            }
        }
    }

    /// Signs for a JWS with the algorithm of [`PrivateKey::jws_key`] (RFC 7518 sections 3.3 and 3.4, RFC 8037 section 3.1); `None` only
    /// when the crypto library fails.
    pub fn sign_jws(&self, message: &[u8]) -> Option<Vec<u8>> {
        let (fixed, algorithm) = match &self.pair {
            Pair::P256 { fixed, .. } => (fixed, &ECDSA_P256_SHA256_FIXED_SIGNING),
            Pair::P384 { fixed, .. } => (fixed, &ECDSA_P384_SHA384_FIXED_SIGNING),
            // JWS wants of these what X.509 wants.
            Pair::Rsa(_) | Pair::Ed25519(_) => return self.sign_x509(message).ok(),
        };
        let again = || EcdsaKeyPair::from_pkcs8(algorithm, self.pkcs8.as_bytes());
        let fixed = fixed.get_or_init(|| again().expect("the same bytes made a key before"));
        fixed.sign(&aws_lc_rs::rand::SystemRandom::new(), message).ok().map(|s| s.as_ref().to_vec())
    }

    /// Signs for X.509: ECDSA with the curve's own digest, RSA with PKCS#1 v1.5 and SHA-256.
    pub(crate) fn sign_x509(&self, message: &[u8]) -> Result<Vec<u8>, aws_lc_rs::error::Unspecified> {
        let rng = aws_lc_rs::rand::SystemRandom::new();
        match &self.pair {
            Pair::P256 { asn1, .. } | Pair::P384 { asn1, .. } => Ok(asn1.sign(&rng, message)?.as_ref().to_vec()),
            Pair::Rsa(rsa) => {
                let mut signature = vec![0; rsa.public_modulus_len()];
                rsa.sign(&RSA_PKCS1_SHA256, &rng, message, &mut signature)?;
                Ok(signature)
            }
            Pair::Ed25519(pair) => Ok(pair.sign(message).as_ref().to_vec()),
        }
    }

    /// Returns whether a certificate with this SubjectPublicKeyInfo belongs to this key.
    pub fn fits(&self, spki_der: &[u8]) -> bool {
        let ours = self.public();
        if ours == spki_der {
            return true;
        }
        // Both end with the key bits; among thousands of certificates hardly any other ends with ours.
        if ours[ours.len().saturating_sub(32)..] != spki_der[spki_der.len().saturating_sub(32)..] {
            return false;
        }
        // The algorithm's parameters may be written differently (NULL or absent); the key bits may not.
        let bits = |der: &[u8]| {
            spki::SubjectPublicKeyInfoOwned::from_der(der).ok().map(|s| (s.algorithm.oid, s.subject_public_key))
        };
        matches!((bits(ours), bits(spki_der)), (Some(a), Some(b)) if a == b)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_survives_pem_and_fits_itself_only() {
        for kind in [KeyKind::P256, KeyKind::P384, KeyKind::Rsa2048, KeyKind::Ed25519] {
            let key = PrivateKey::generate(kind).unwrap();
            let again = PrivateKey::from_pem(&key.to_pem()).unwrap();
            assert_eq!(again.kind(), kind);
            assert!(key.fits(&again.public_key_der()));
            assert!(!key.fits(&PrivateKey::generate(KeyKind::P256).unwrap().public_key_der()));
            assert!(!format!("{key:?}").contains("BEGIN"));
            let written = match &key.pair {
                Pair::P256 { asn1, .. } | Pair::P384 { asn1, .. } => asn1.public_key().as_der(),
                Pair::Rsa(rsa) => rsa.public_key().as_der(),
                Pair::Ed25519(pair) => pair.public_key().as_der(),
            };
            let written: PublicKeyX509Der<'_> = written.unwrap();
            assert_eq!(key.public_key_der(), written.as_ref(), "as the library writes it");
        }
    }

    #[test]
    fn words_are_read_back_and_others_refused() {
        for kind in KeyKind::ALL {
            assert_eq!(kind.word().parse::<KeyKind>().unwrap(), kind);
        }
        assert!("rsa1024".parse::<KeyKind>().is_err());
    }

    #[test]
    fn refuses_what_is_no_private_key() {
        for text in ["", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", "lamp"] {
            assert!(PrivateKey::from_pem(&Secret::new(text.to_owned())).is_err(), "{text}");
        }
    }

    #[test]
    fn signatures_of_a_jws_have_the_length_of_their_algorithm() {
        for (kind, length) in
            [(KeyKind::P256, 64), (KeyKind::P384, 96), (KeyKind::Rsa2048, 256), (KeyKind::Ed25519, 64)]
        {
            assert_eq!(PrivateKey::generate(kind).unwrap().sign_jws(b"light").unwrap().len(), length, "{kind}");
        }
    }
}
