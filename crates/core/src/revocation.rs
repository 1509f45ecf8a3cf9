//! Why certificates are revoked.

use serde::Serialize;

/// The reasons that somebody who has a certificate may give (RFC 5280 section 5.3.1); the others are for authorities.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    Serialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
    strum::VariantArray,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Revocation {
    /// No reason is given.
    Unspecified,
    /// Somebody else may have the key.
    KeyCompromise,
    /// What it says of its owner is not true any more.
    AffiliationChanged,
    /// Another one has taken its place.
    Superseded,
    /// Its site was given up.
    CessationOfOperation,
}

impl Revocation {
    /// Returns the reason's code.
    pub fn code(self) -> u8 {
        match self {
            Revocation::Unspecified => 0,
            Revocation::KeyCompromise => 1,
            Revocation::AffiliationChanged => 3,
            Revocation::Superseded => 4,
            Revocation::CessationOfOperation => 5,
        }
    }

    /// Returns the reason that a code stands for; `None` for those that only authorities give.
    pub fn of(code: &u8) -> Option<Self> {
        <Self as strum::VariantArray>::VARIANTS.iter().copied().find(|reason| reason.code() == *code)
    }

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Revocation::Unspecified => "no reason was given",
            Revocation::KeyCompromise => "somebody else may have its key",
            Revocation::AffiliationChanged => "what it says of its owner has changed",
            Revocation::Superseded => "another one has taken its place",
            Revocation::CessationOfOperation => "its site was given up",
        }
    }
}
