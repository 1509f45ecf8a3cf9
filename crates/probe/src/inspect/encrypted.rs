//! The beginning of a handshake of TLS 1.3, as far as a server shows its certificates: they come encrypted, and the library for TLS does not
//! tell of all that comes with them.

use aws_lc_rs::agreement::{self, EphemeralPrivateKey, UnparsedPublicKey, agree_ephemeral};
use aws_lc_rs::{aead, digest, hmac, rand};
use eskort_handshake::{Group, RecordHead, ServerHello, Suite};

/// The groups in which a key is offered.
const GROUPS: [(Group, &agreement::Algorithm); 3] =
    [(Group(29), &agreement::X25519), (Group(23), &agreement::ECDH_P256), (Group(24), &agreement::ECDH_P384)];

/// The cipher suites that can be opened, each with its ways to encrypt, to derive keys, and to digest (RFC 8446 appendix B.4).
const SUITES: [(Suite, &aead::Algorithm, hmac::Algorithm, &digest::Algorithm); 3] = [
    (Suite(0x1301), &aead::AES_128_GCM, hmac::HMAC_SHA256, &digest::SHA256),
    (Suite(0x1302), &aead::AES_256_GCM, hmac::HMAC_SHA384, &digest::SHA384),
    (Suite(0x1303), &aead::CHACHA20_POLY1305, hmac::HMAC_SHA256, &digest::SHA256),
];

/// The visitor's part of the agreement on a key.
pub(super) struct Part {
    pub(super) group: Group,
    pub(super) public: Vec<u8>,
    private: EphemeralPrivateKey,
}

impl Part {
    /// Makes one for the first of the groups that is known here.
    pub(super) fn make(groups: &[Group]) -> Option<Self> {
        let known = |group: &Group| GROUPS.iter().find(|(known, _)| known == group);
        let (group, algorithm) = groups.iter().find_map(known)?;
        let private = EphemeralPrivateKey::generate(algorithm, &rand::SystemRandom::new()).ok()?;
        let public = private.compute_public_key().ok()?.as_ref().to_vec();
        Some(Part { group: *group, public, private })
    }
}

/// Returns the cipher suites that can be opened.
pub(super) fn suites() -> Vec<Suite> {
    SUITES.iter().map(|(suite, ..)| *suite).collect()
}

/// Opens what a server has encrypted for the handshake.
pub(super) struct Opener {
    key: aead::LessSafeKey,
    vector: [u8; aead::NONCE_LEN],
    count: u64,
}

/// HKDF-Extract (RFC 5869 section 2.2).
fn extract(by: hmac::Algorithm, salt: &[u8], secret: &[u8]) -> Vec<u8> {
    hmac::sign(&hmac::Key::new(by, salt), secret).as_ref().to_vec()
}

/// HKDF-Expand-Label (RFC 8446 section 7.1), for what is no longer than a digest.
fn expand(by: hmac::Algorithm, secret: &[u8], label: &str, context: &[u8], length: usize) -> Vec<u8> {
    let label = [b"tls13 ", label.as_bytes()].concat();
    let [.., high, low] = length.to_be_bytes();
    let sizes = [label.len(), context.len()].map(|size| u8::try_from(size).expect("labels and digests are short"));
    let info = [&[high, low, sizes[0]][..], &label, &[sizes[1]], context, &[1]].concat();
    hmac::sign(&hmac::Key::new(by, secret), &info).as_ref()[..length].to_vec()
}

impl Opener {
    /// Derives the server's keys from both parts of the agreement and the two messages in which they were sent (RFC 8446 section 7.1).
    pub(super) fn new(part: Part, visitor: &[u8], server: &ServerHello) -> Option<Self> {
        let (_, cipher, by, digests) = SUITES.iter().find(|(suite, ..)| *suite == server.suite)?;
        let (_, algorithm) = GROUPS.iter().find(|(group, _)| Some(*group) == server.group)?;
        let theirs = UnparsedPublicKey::new(algorithm, server.share()?);
        let agreed = |secret: &[u8]| Ok(secret.to_vec());
        let shared = agree_ephemeral(part.private, theirs, (), agreed).ok()?;
        let length = digests.output_len();
        let early = extract(*by, &vec![0; length], &vec![0; length]);
        let nothing = digest::digest(digests, b"");
        let derived = expand(*by, &early, "derived", nothing.as_ref(), length);
        let handshake = extract(*by, &derived, &shared);
        let said = digest::digest(digests, &[visitor, server.message()].concat());
        let traffic = expand(*by, &handshake, "s hs traffic", said.as_ref(), length);
        let key = expand(*by, &traffic, "key", b"", cipher.key_len());
        let vector = expand(*by, &traffic, "iv", b"", aead::NONCE_LEN).try_into().ok()?;
        Some(Opener { key: aead::LessSafeKey::new(aead::UnboundKey::new(cipher, &key).ok()?), vector, count: 0 })
    }

    /// Opens a record: returns what kind of content it has, and the content (RFC 8446 section 5.2).
    pub(super) fn open(&mut self, head: RecordHead, mut sealed: Vec<u8>) -> Option<(u8, Vec<u8>)> {
        let mut nonce = self.vector;
        nonce.iter_mut().rev().zip(self.count.to_be_bytes().into_iter().rev()).for_each(|(byte, part)| *byte ^= part);
        self.count += 1;
        let nonce = aead::Nonce::assume_unique_for_key(nonce);
        let opened = self.key.open_in_place(nonce, aead::Aad::from(head), &mut sealed).ok()?;
        // Behind the content stands its kind, and then there may be zeros.
        let at = opened.iter().rposition(|byte| *byte != 0)?;
        Some((opened[at], opened[..at].to_vec()))
    }
}
