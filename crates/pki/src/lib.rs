//! Keys, certificate signing requests, certificates and chains: bytes in, bytes out.
//!
//! Nothing here reads a file, a clock or the environment. Making a key draws on the system's randomness; all else is a
//! function of its arguments.

mod alpn;
mod armour;
mod assemble;
mod ber;
mod certificate;
mod chain;
mod container;
mod crl;
mod csr;
mod encoding;
mod encrypted_key;
mod intake;
mod key;
mod key_use;
pub mod names;
mod ocsp;
mod pack;
mod secret;
mod signer;
mod transparency;

pub use alpn::{answers_challenge, make_challenge_certificate};
pub use assemble::{Anchors, AssembledChain, ChainNote, assemble};
pub use certificate::{Certificate, Fingerprint, SignatureCheck, general_name, key_words};
pub use chain::{Chain, ChainError, ChainFault};
pub use container::random_text;
pub use crl::{RevocationList, RevokedEntry};
pub use csr::{
    CsrFacts, CsrSpecification, Subject, WantedExtension, find_csr, make_csr, parse_csr, parse_csr_unverified,
    request_pem,
};
pub use encoding::{
    base32, base64, base64_decode, base64url, base64url_decode, der_sequence, hex, hmac_sha256, printable, sha256,
    sha512,
};
pub use intake::{Intake, IntakeError, LARGEST_INTAKE, LeftAside, parse_pkcs7};
pub use key::{JwsKey, KeyKind, PrivateKey};
pub use key_use::KeyUse;
pub use ocsp::{OcspError, OcspQuestion, OcspStatus, parse_staple};
pub use pack::{Pkcs12Form, object_name, tls_secret_manifest, to_pkcs7, to_pkcs12};
pub use secret::Secret;
pub use signer::{Signature, VerifyingKey};
pub use transparency::{LogKeys, LogProof, ProofCheck};

/// What can be wrong with keys, requests and certificates.
#[derive(Debug, thiserror::Error)]
pub enum PkiError {
    /// Bytes that are not the DER structure they should be.
    #[error("not a valid {what}: {source}")]
    Der {
        /// What was being read, in the field's words.
        what: &'static str,
        /// What the decoder said.
        #[source]
        source: der::Error,
    },
    /// A list of revoked certificates that somebody else has signed.
    #[error("the list of revoked certificates is not signed by the issuer of the certificate")]
    ForeignList,
    /// PEM text without the block that was looked for.
    #[error("no {label} block in the PEM text")]
    NoPemBlock {
        /// The label between the dashes.
        label: &'static str,
    },
    /// A private key that the crypto library refused.
    #[error("the private key cannot be read: {reason}")]
    Key {
        /// The library's word for it.
        reason: String,
    },
    /// A private key that is protected with a password.
    #[error("the private key is protected with a password")]
    EncryptedKey,
    /// A password that does not open the key.
    #[error("the password does not open the private key")]
    WrongPassword,
    /// A password for PKCS#12 with characters beyond Unicode's basic plane.
    #[error("programs read a PKCS#12 password with `{0}` in it in different ways; choose one without it")]
    WidePassword(char),
    /// An extension that cannot stand in a request.
    #[error("`{given}` is no extension: {why}")]
    Extension {
        /// What was given.
        given: String,
        /// What is wrong with it.
        why: &'static str,
    },
    /// Making a key or a signature failed.
    #[error("{job} failed in the crypto library")]
    Crypto {
        /// What was being done.
        job: &'static str,
    },
    /// A request whose own signature is not valid.
    #[error("the request's own signature is not valid")]
    BadRequestSignature,
    /// A key kind that is not one of ours.
    #[error("`{0}` is not a kind of key (known: p256, p384, rsa2048, rsa3072, rsa4096, ed25519)")]
    UnknownKeyKind(String),
}

pub(crate) fn der_error(what: &'static str) -> impl Fn(der::Error) -> PkiError {
    move |source| PkiError::Der { what, source }
}
