//! Files with certificates and keys in them, read without storing anything.

use super::whose::{OursView, whose};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::pki::{Anchors, AssembledChain, Certificate, Intake, IntakeError, Secret, assemble, key_words};
use eskort_core::renewal::Validity;
use eskort_store::StoreError;
use jiff::Timestamp;
use serde::Serialize;

/// One certificate of a file.
#[derive(Clone, Debug, Serialize)]
pub struct CertificateView {
    /// The names it is for.
    pub names: Vec<String>,
    /// Its subject; may be empty.
    pub subject: String,
    /// Its issuer.
    pub issuer: String,
    /// Its dates.
    pub validity: Validity,
    /// Its key, in words.
    pub key: String,
    /// Its serial number in hexadecimal.
    pub serial: String,
    /// The SHA-256 digest of its DER form in hexadecimal.
    pub fingerprint: String,
    /// Whether it may sign others.
    pub is_ca: bool,
    /// Whether it is signed with its own key.
    pub is_root: bool,
    /// The certificate and generation of ours that has the key.
    pub ours: Option<OursView>,
}

/// A private key in a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct KeyView {
    /// Its kind, in words.
    pub kind: String,
    /// Whether it fits the first certificate.
    pub fits: bool,
}

/// What is in a file.
#[derive(Clone, Debug, Serialize)]
pub struct FileView {
    /// The certificates: a chain from its leaf up, then the others.
    pub certificates: Vec<CertificateView>,
    /// How many of them make up the chain of the first one.
    pub in_chain: usize,
    /// The issuer that visitors need and that is not in the file.
    pub missing_issuer: Option<String>,
    /// The private keys.
    pub keys: Vec<KeyView>,
    /// What was left aside, in words.
    pub left_aside: Vec<String>,
}

/// Reads a file in any shape, and says what is in it.
///
/// # Errors
/// When there is neither certificate nor key in it, or the ledger cannot be read.
#[boxed]
pub async fn inspect(
    context: Option<&Context>,
    name: &str,
    bytes: &[u8],
    password: Option<&Secret<String>>,
    now: Timestamp,
) -> Result<FileView, InspectError> {
    let mut intake = Intake::default();
    intake.take(name, bytes, password)?;
    // The chain begins at the certificate that no other one here was issued by; where keys are in the file, at theirs.
    let issued = |c: &Certificate, other: &Certificate| other != c && other.names_issuer(c) && other.is_signed_by(c);
    let issues = |c: &Certificate| intake.certificates.iter().any(|other| issued(c, other));
    let fits = |c: &&Certificate| intake.keys.iter().any(|key| key.fits(c.public_key()));
    let leaf = intake.certificates.iter().find(fits).or_else(|| intake.certificates.iter().find(|c| !issues(c)));
    let leaf = leaf.or(intake.certificates.first());
    let mut ordered: Vec<Certificate> = Vec::new();
    let mut missing_issuer = None;
    if let Some(leaf) = leaf {
        let AssembledChain { chain, missing, .. } =
            assemble(leaf.clone(), &intake.certificates, &Anchors::default(), now);
        ordered.extend(chain.certificates().iter().cloned());
        missing_issuer = missing;
    }
    let in_chain = ordered.len();
    let others: Vec<Certificate> = intake.certificates.iter().filter(|c| !ordered.contains(c)).cloned().collect();
    ordered.extend(others);
    let keys = intake.keys.iter().map(|key| {
        let fits = ordered.first().is_some_and(|c| key.fits(c.public_key()));
        KeyView { kind: key_words(&key.public_key_der()), fits }
    });
    let keys = keys.collect();
    let mut certificates = Vec::new();
    for c in &ordered {
        certificates.push(CertificateView {
            names: c.names.iter().map(ToString::to_string).collect(),
            subject: c.subject.clone(),
            issuer: c.issuer.clone(),
            validity: Validity { not_before: c.not_before, not_after: c.not_after },
            key: key_words(c.public_key()),
            serial: c.serial.clone(),
            fingerprint: c.fingerprint().to_string(),
            is_ca: c.is_ca,
            is_root: c.is_self_issued() && c.is_signed_by(c),
            ours: match context {
                Some(context) if !c.is_ca => whose(context, c.public_key()).await?,
                _ => None,
            },
        });
    }
    let left_aside = intake.left_aside.iter().map(ToString::to_string).collect();
    Ok(FileView { certificates, in_chain, missing_issuer, keys, left_aside })
}

impl CertificateView {
    /// Returns whether it is good at an instant.
    pub fn is_good_at(&self, now: Timestamp) -> bool {
        self.validity.not_before <= now && now < self.validity.not_after
    }
}

/// Why a file says nothing.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum InspectError {
    /// Nothing in it.
    #[error(transparent)]
    Intake(#[from] IntakeError),
    /// The password that was to be read.
    #[error("{0}")]
    Password(String),
    /// The ledger.
    #[error(transparent)]
    Store(#[from] StoreError),
}
