//! The kinds of challenge by which control of a name is proved over ACME.

use serde::{Deserialize, Serialize};
use std::fmt;

/// A kind of challenge.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum ChallengeKind {
    /// A file on the site (RFC 8555 section 8.3).
    #[default]
    #[serde(rename = "http-01", alias = "http")]
    Http01,
    /// A TXT record (RFC 8555 section 8.4).
    #[serde(rename = "dns-01", alias = "dns")]
    Dns01,
    /// A TXT record below a label of the account's own (draft-ietf-acme-dns-account-label).
    #[serde(rename = "dns-account-01", alias = "dns-account")]
    DnsAccount01,
    /// A TXT record that stands for good (draft-ietf-acme-dns-persist).
    #[serde(rename = "dns-persist-01", alias = "dns-persist")]
    DnsPersist01,
    /// A certificate shown in a TLS handshake (RFC 8737).
    #[serde(rename = "tls-alpn-01", alias = "tls")]
    TlsAlpn01,
}

impl ChallengeKind {
    /// All kinds.
    pub const ALL: [ChallengeKind; 5] = [
        ChallengeKind::Http01,
        ChallengeKind::Dns01,
        ChallengeKind::DnsAccount01,
        ChallengeKind::DnsPersist01,
        ChallengeKind::TlsAlpn01,
    ];

    /// Returns its registered name (RFC 8555 section 9.7.8).
    pub fn word(self) -> &'static str {
        match self {
            ChallengeKind::Http01 => "http-01",
            ChallengeKind::Dns01 => "dns-01",
            ChallengeKind::DnsAccount01 => "dns-account-01",
            ChallengeKind::DnsPersist01 => "dns-persist-01",
            ChallengeKind::TlsAlpn01 => "tls-alpn-01",
        }
    }

    /// Returns the kind with a registered name; `None` for those that are not understood.
    pub fn parse(word: &str) -> Option<Self> {
        ChallengeKind::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// Returns whether it proves wildcards too: over DNS only (RFC 8555 section 7.1.3).
    pub fn proves_wildcards(self) -> bool {
        matches!(self, ChallengeKind::Dns01 | ChallengeKind::DnsAccount01 | ChallengeKind::DnsPersist01)
    }

    /// Returns whether it proves addresses too: not over DNS (RFC 8738 section 7).
    pub fn proves_addresses(self) -> bool {
        matches!(self, ChallengeKind::Http01 | ChallengeKind::TlsAlpn01)
    }
}

impl fmt::Display for ChallengeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
