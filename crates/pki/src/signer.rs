//! Lets our keys sign what `x509-cert` builds.

use crate::{KeyKind, PrivateKey};
use der::asn1::{Any, BitString, Null};
use der::{Decode, Encode};
use spki::{
    AlgorithmIdentifierOwned, Document, DynSignatureAlgorithmIdentifier, EncodePublicKey, ObjectIdentifier,
    SignatureBitStringEncoding,
};

/// An X.509 signature as bytes.
pub struct Signature(Vec<u8>);

impl SignatureBitStringEncoding for Signature {
    fn to_bitstring(&self) -> der::Result<BitString> {
        BitString::from_bytes(&self.0)
    }
}

/// The public half of a key as a DER SubjectPublicKeyInfo.
#[derive(Clone)]
pub struct VerifyingKey(Vec<u8>);

impl EncodePublicKey for VerifyingKey {
    fn to_public_key_der(&self) -> spki::Result<Document> {
        Document::from_der(&self.0).map_err(Into::into)
    }
}

impl signature::Keypair for PrivateKey {
    type VerifyingKey = VerifyingKey;

    fn verifying_key(&self) -> VerifyingKey {
        VerifyingKey(self.public_key_der())
    }
}

impl signature::Signer<Signature> for PrivateKey {
    fn try_sign(&self, message: &[u8]) -> Result<Signature, signature::Error> {
        self.sign_x509(message).map(Signature).map_err(|_| signature::Error::new())
    }
}

impl DynSignatureAlgorithmIdentifier for PrivateKey {
    /// RFC 5758 section 3.2: no parameters for ECDSA; RFC 4055 section 5: NULL for RSA.
    fn signature_algorithm_identifier(&self) -> spki::Result<AlgorithmIdentifierOwned> {
        use const_oid::db::rfc5912::{ECDSA_WITH_SHA_256, ECDSA_WITH_SHA_384, SHA_256_WITH_RSA_ENCRYPTION};
        let (oid, parameters): (ObjectIdentifier, Option<Any>) = match self.kind() {
            KeyKind::P256 => (ECDSA_WITH_SHA_256, None),
            KeyKind::P384 => (ECDSA_WITH_SHA_384, None),
            KeyKind::Rsa2048 | KeyKind::Rsa3072 | KeyKind::Rsa4096 => {
                (SHA_256_WITH_RSA_ENCRYPTION, Some(Any::from_der(&Null.to_der()?)?))
            }
            // RFC 8410 section 3: no parameters.
            KeyKind::Ed25519 => (const_oid::db::rfc8410::ID_ED_25519, None),
        };
        Ok(AlgorithmIdentifierOwned { oid, parameters })
    }
}
