//! The encodings that ACME and X.509 share.

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};

/// Encodes as base64url without padding (RFC 4648 section 5, as RFC 7515 section 2 wants it).
pub fn base64url(bytes: &[u8]) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// Decodes base64url without padding; padding at the end is put up with, since people paste it.
pub fn base64url_decode(text: &str) -> Option<Vec<u8>> {
    URL_SAFE_NO_PAD.decode(text.trim().trim_end_matches('=')).ok()
}

/// Returns the SHA-256 digest of `bytes`.
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, bytes);
    digest.as_ref().try_into().expect("SHA-256 gives 32 bytes")
}

/// Returns the HMAC with SHA-256 (RFC 2104) of `message`.
pub fn hmac_sha256(key: &crate::Secret<Vec<u8>>, message: &[u8]) -> Vec<u8> {
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, key.reveal());
    aws_lc_rs::hmac::sign(&key, message).as_ref().to_vec()
}
