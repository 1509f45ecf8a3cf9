//! The message that a visitor begins with.

use crate::{Group, Suite};
use serde::{Serialize, Serializer};
use std::fmt;

/// A version of the protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Version {
    /// RFC 6101; forbidden by RFC 7568.
    Ssl3,
    /// RFC 2246; forbidden by RFC 8996.
    Tls10,
    /// RFC 4346; forbidden by RFC 8996.
    Tls11,
    /// RFC 5246.
    Tls12,
    /// RFC 8446.
    Tls13,
}

impl Version {
    /// All of them, the oldest first.
    pub const ALL: [Version; 5] = [Version::Ssl3, Version::Tls10, Version::Tls11, Version::Tls12, Version::Tls13];

    /// Returns the number that stands for it in messages.
    pub fn code(self) -> u16 {
        match self {
            Version::Ssl3 => 0x0300,
            Version::Tls10 => 0x0301,
            Version::Tls11 => 0x0302,
            Version::Tls12 => 0x0303,
            Version::Tls13 => 0x0304,
        }
    }

    /// Returns the version that a number stands for.
    pub fn from_code(code: u16) -> Option<Self> {
        Version::ALL.into_iter().find(|version| version.code() == code)
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Version::Ssl3 => "SSL 3.0",
            Version::Tls10 => "TLS 1.0",
            Version::Tls11 => "TLS 1.1",
            Version::Tls12 => "TLS 1.2",
            Version::Tls13 => "TLS 1.3",
        })
    }
}

impl Serialize for Version {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What a visitor offers.
#[derive(Clone, Debug)]
pub struct ClientHello<'a> {
    /// The highest version; for TLS 1.3 the only one.
    pub version: Version,
    /// The cipher suites, the most wanted first.
    pub suites: &'a [Suite],
    /// The groups, the most wanted first.
    pub groups: &'a [Group],
    /// The name that is asked for.
    pub name: Option<&'a str>,
    /// Whether it says that a try with a higher version failed (RFC 7507).
    pub is_fallback: bool,
    /// Whether compression is offered.
    pub compression: bool,
    /// 32 bytes that nobody else has used.
    pub random: [u8; 32],
    /// A key for TLS 1.3, with its group. A server that is offered none says which group it would like.
    pub key: Option<(Group, &'a [u8])>,
}

/// Signature algorithms, those of today first (RFC 8446 section 4.2.3).
const SIGNATURES: [u16; 15] = [
    0x0403, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501, 0x0603, 0x0806, 0x0601, 0x0807, 0x0808, 0x0203, 0x0201, 0x0402,
    0x0101,
];
/// TLS_EMPTY_RENEGOTIATION_INFO_SCSV (RFC 5746) and TLS_FALLBACK_SCSV (RFC 7507).
const RENEGOTIATION: u16 = 0x00ff;
const FALLBACK: u16 = 0x5600;

fn with_length<const N: usize>(content: &[u8]) -> Vec<u8> {
    let length = content.len().to_be_bytes();
    [&length[length.len() - N..], content].concat()
}

fn numbers(all: impl IntoIterator<Item = u16>) -> Vec<u8> {
    all.into_iter().flat_map(u16::to_be_bytes).collect()
}

fn extension(kind: u16, content: &[u8]) -> Vec<u8> {
    [&kind.to_be_bytes()[..], &with_length::<2>(content)].concat()
}

impl ClientHello<'_> {
    /// Writes the message as one record.
    pub fn to_record(&self) -> Vec<u8> {
        let named = self.version.min(Version::Tls12).code().to_be_bytes();
        let mut suites: Vec<u16> = self.suites.iter().map(|suite| suite.0).collect();
        if self.version < Version::Tls13 {
            suites.push(RENEGOTIATION);
        }
        if self.is_fallback {
            suites.push(FALLBACK);
        }
        // A session that is none: servers of TLS 1.3 behind odd boxes want one (RFC 8446 appendix D.4).
        let session = if self.version == Version::Tls13 { &self.random[..] } else { &[] };
        let compression: &[u8] = if self.compression { &[1, 0] } else { &[0] };
        let mut body = [
            &named[..],
            &self.random,
            &with_length::<1>(session),
            &with_length::<2>(&numbers(suites)),
            &with_length::<1>(compression),
        ]
        .concat();
        // SSL 3.0 knows no extensions.
        if self.version > Version::Ssl3 {
            body.extend(with_length::<2>(&self.extensions()));
        }
        let message = [&[1][..], &with_length::<3>(&body)].concat();
        let record = self.version.min(Version::Tls10).code().to_be_bytes();
        [&[22][..], &record, &with_length::<2>(&message)].concat()
    }

    fn extensions(&self) -> Vec<u8> {
        let mut all = Vec::new();
        if let Some(name) = self.name {
            let entry = [&[0][..], &with_length::<2>(name.as_bytes())].concat();
            all.extend(extension(0, &with_length::<2>(&entry)));
        }
        if !self.groups.is_empty() {
            all.extend(extension(10, &with_length::<2>(&numbers(self.groups.iter().map(|group| group.0)))));
            // Points as they are, uncompressed.
            all.extend(extension(11, &[1, 0]));
        }
        if self.version >= Version::Tls12 {
            all.extend(extension(13, &with_length::<2>(&numbers(SIGNATURES))));
        }
        // A stapled answer, promises of logs (RFC 6962).
        all.extend(extension(5, &[1, 0, 0, 0, 0]));
        all.extend(extension(18, &[]));
        match self.version {
            Version::Tls13 => {
                all.extend(extension(43, &with_length::<1>(&Version::Tls13.code().to_be_bytes())));
                // Keys by agreement only.
                all.extend(extension(45, &[1, 1]));
                let key = self.key.map(|(group, key)| [&group.0.to_be_bytes()[..], &with_length::<2>(key)].concat());
                all.extend(extension(51, &with_length::<2>(&key.unwrap_or_default())));
            }
            // Secrets bound to the whole handshake (RFC 7627), tickets (RFC 5077).
            _ => {
                all.extend(extension(23, &[]));
                all.extend(extension(35, &[]));
            }
        }
        all
    }
}
