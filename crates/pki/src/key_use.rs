//! What a certificate's key may be used for (RFC 5280 sections 4.2.1.3 and 4.2.1.12).

use const_oid::ObjectIdentifier;
use x509_cert::ext::pkix::KeyUsages;

/// What a key may be used for: key usages (RFC 5280 section 4.2.1.3) and extended ones (section 4.2.1.12).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum KeyUse {
    /// Signatures, as handshakes have them.
    DigitalSignature,
    /// Signatures that cannot be denied later.
    NonRepudiation,
    /// Encryption of keys, as old handshakes with RSA have it.
    KeyEncipherment,
    /// Encryption of data.
    DataEncipherment,
    /// Agreement on keys.
    KeyAgreement,
    /// Servers in TLS.
    ServerAuth,
    /// Clients in TLS.
    ClientAuth,
    /// Signatures of programs.
    CodeSigning,
    /// Mail.
    EmailProtection,
}

impl KeyUse {
    /// All uses, in the standard's order.
    pub const ALL: [KeyUse; 9] = [
        KeyUse::DigitalSignature,
        KeyUse::NonRepudiation,
        KeyUse::KeyEncipherment,
        KeyUse::DataEncipherment,
        KeyUse::KeyAgreement,
        KeyUse::ServerAuth,
        KeyUse::ClientAuth,
        KeyUse::CodeSigning,
        KeyUse::EmailProtection,
    ];

    /// Returns the word that the inventory uses.
    pub fn word(self) -> &'static str {
        match self {
            KeyUse::DigitalSignature => "digital-signature",
            KeyUse::NonRepudiation => "non-repudiation",
            KeyUse::KeyEncipherment => "key-encipherment",
            KeyUse::DataEncipherment => "data-encipherment",
            KeyUse::KeyAgreement => "key-agreement",
            KeyUse::ServerAuth => "server-auth",
            KeyUse::ClientAuth => "client-auth",
            KeyUse::CodeSigning => "code-signing",
            KeyUse::EmailProtection => "email-protection",
        }
    }

    /// Returns the use with this word.
    pub fn parse(word: &str) -> Option<Self> {
        KeyUse::ALL.into_iter().find(|usage| usage.word() == word)
    }

    pub(crate) fn usage(self) -> Option<KeyUsages> {
        match self {
            KeyUse::DigitalSignature => Some(KeyUsages::DigitalSignature),
            KeyUse::NonRepudiation => Some(KeyUsages::NonRepudiation),
            KeyUse::KeyEncipherment => Some(KeyUsages::KeyEncipherment),
            KeyUse::DataEncipherment => Some(KeyUsages::DataEncipherment),
            KeyUse::KeyAgreement => Some(KeyUsages::KeyAgreement),
            _ => None,
        }
    }

    pub(crate) fn extended(self) -> Option<ObjectIdentifier> {
        use const_oid::db::rfc5280;
        match self {
            KeyUse::ServerAuth => Some(rfc5280::ID_KP_SERVER_AUTH),
            KeyUse::ClientAuth => Some(rfc5280::ID_KP_CLIENT_AUTH),
            KeyUse::CodeSigning => Some(rfc5280::ID_KP_CODE_SIGNING),
            KeyUse::EmailProtection => Some(rfc5280::ID_KP_EMAIL_PROTECTION),
            _ => None,
        }
    }
}
