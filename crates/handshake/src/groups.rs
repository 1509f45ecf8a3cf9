//! Groups for the agreement on a key (RFC 8446 section 4.2.7).

use serde::{Serialize, Serializer};
use std::fmt;

/// A group by its number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Group(pub u16);

/// Those that are asked about: number, name, strength of a curve or prime in bits.
#[rustfmt::skip]
const GROUPS: &[(u16, &str, u16)] = &[
    (0x11ec, "X25519MLKEM768", 253), (0x11eb, "SecP256r1MLKEM768", 256), (0x11ed, "SecP384r1MLKEM1024", 384),
    (29, "x25519", 253), (23, "secp256r1", 256), (30, "x448", 448), (24, "secp384r1", 384), (25, "secp521r1", 521),
    (31, "brainpoolP256r1tls13", 256), (32, "brainpoolP384r1tls13", 384), (33, "brainpoolP512r1tls13", 512),
    (26, "brainpoolP256r1", 256), (27, "brainpoolP384r1", 384), (28, "brainpoolP512r1", 512),
    (256, "ffdhe2048", 2048), (257, "ffdhe3072", 3072), (258, "ffdhe4096", 4096), (259, "ffdhe6144", 6144), (260, "ffdhe8192", 8192),
    (22, "secp256k1", 256), (21, "secp224r1", 224), (20, "secp224k1", 224), (19, "secp192r1", 192), (18, "secp192k1", 192),
    (17, "secp160r2", 160), (16, "secp160r1", 160), (15, "secp160k1", 160), (14, "sect571r1", 571), (12, "sect409r1", 409),
    (11, "sect409k1", 409), (10, "sect283r1", 283), (9, "sect283k1", 283), (6, "sect233k1", 233), (3, "sect163r2", 163),
];

impl Group {
    /// Returns those that TLS 1.3 knows, hybrids included.
    pub fn of_tls13() -> impl Iterator<Item = Group> {
        let is_new = |code: u16| code >= 0x11eb || matches!(code, 23..=25 | 29..=33 | 256..=260);
        GROUPS.iter().map(|(code, ..)| Group(*code)).filter(move |group| is_new(group.0))
    }

    /// Returns the curves that earlier versions know.
    pub fn curves() -> impl Iterator<Item = Group> {
        GROUPS.iter().map(|(code, ..)| Group(*code)).filter(|group| group.0 < 31)
    }

    /// Returns its name in the registry.
    pub fn name(self) -> Option<&'static str> {
        GROUPS.iter().find(|(code, ..)| *code == self.0).map(|(_, name, _)| *name)
    }

    /// Whether what is agreed on with it stays secret from a quantum computer, too.
    pub fn is_post_quantum(self) -> bool {
        self.0 >= 0x11eb && self.0 <= 0x11ed
    }

    /// Whether it is too small (RFC 9325 section 4.2.1: fewer than 224 bits for a curve).
    pub fn is_weak(self) -> bool {
        GROUPS.iter().any(|(code, _, bits)| *code == self.0 && *bits < 224)
    }
}

impl fmt::Display for Group {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) => f.write_str(name),
            None => write!(f, "0x{:04x}", self.0),
        }
    }
}

impl Serialize for Group {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
