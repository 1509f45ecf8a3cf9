//! A certificate with the intermediates that lead from it towards a root.

use crate::{Certificate, PkiError, PrivateKey};
use std::collections::BTreeMap;

/// What can be wrong with a chain that a CA sent.
#[derive(Debug, thiserror::Error)]
pub enum ChainError {
    /// No certificate at all.
    #[error("there is no certificate in it")]
    Empty,
    /// A block that cannot be read.
    #[error(transparent)]
    Unreadable(#[from] PkiError),
    /// The first certificate belongs to another key.
    #[error("the certificate is not for the key of this order")]
    WrongKey,
    /// The first certificate leaves out names that were asked for.
    #[error("the certificate lacks {}", missing.join(", "))]
    MissingNames {
        /// The names that were asked for and are not in it.
        missing: Vec<String>,
    },
    /// The first certificate is not good yet.
    #[error("the certificate is not good before {from}")]
    NotYet {
        /// Its first instant.
        from: jiff::Timestamp,
    },
    /// The first certificate has run out.
    #[error("the certificate ran out on {until}")]
    Over {
        /// Its last instant.
        until: jiff::Timestamp,
    },
    /// A certificate is not the issuer of the one before it.
    #[error("`{issuer}` should come next in the chain, `{found}` stands there")]
    BrokenLink {
        /// The issuer that the certificate before names.
        issuer: String,
        /// The subject of the certificate that stands there.
        found: String,
    },
}

/// A chain that was put together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Built {
    /// The chain, as far as it goes.
    pub chain: Chain,
    /// The issuer of the leaf, when it is not among the certificates: visitors would not trust the leaf alone.
    pub missing: Option<String>,
}

/// A chain is no longer than this.
const LONGEST: usize = 8;

/// Returns the intermediates above a certificate.
fn lead_on<'c>(
    at: &Certificate,
    by_subject: &BTreeMap<&[u8], Vec<&'c Certificate>>,
    passed: &mut Vec<&'c Certificate>,
) -> Vec<&'c Certificate> {
    let mut best: Vec<&Certificate> = Vec::new();
    let candidates = by_subject.get(at.issuer_der()).into_iter().flatten();
    for candidate in candidates.copied() {
        let round = passed.iter().any(|p| p.public_key() == candidate.public_key() && p.names_same(candidate));
        if passed.len() >= LONGEST || round || candidate.is_self_issued() || !at.is_signed_by(candidate) {
            continue;
        }
        passed.push(candidate);
        let mut way = vec![candidate];
        way.extend(lead_on(candidate, by_subject, passed));
        passed.pop();
        if way.len() > best.len() {
            best = way;
        }
    }
    best
}

/// A leaf certificate and its intermediates, leaf first, each followed by its issuer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chain {
    certificates: Vec<Certificate>,
}

impl Chain {
    /// Reads the chain of PEM blocks that an ACME server sends (RFC 8555 section 9.1): leaf first, each certificate
    /// followed by its issuer. Text around the blocks and blocks of other kinds are passed over.
    ///
    /// # Errors
    /// When there is no certificate, one cannot be read, or the order is broken.
    pub fn from_pem(text: &str) -> Result<Self, ChainError> {
        Self::from_certificates(Certificate::all_from_pem(text)?)
    }

    /// Takes certificates that are already in order.
    ///
    /// # Errors
    /// As [`Chain::from_pem`].
    pub fn from_certificates(certificates: Vec<Certificate>) -> Result<Self, ChainError> {
        if certificates.is_empty() {
            return Err(ChainError::Empty);
        }
        for pair in certificates.windows(2) {
            if !pair[0].names_issuer(&pair[1]) {
                return Err(ChainError::BrokenLink { issuer: pair[0].issuer.clone(), found: pair[1].subject.clone() });
            }
        }
        Ok(Chain { certificates })
    }

    /// Puts a leaf's chain together from certificates in any order: each is signed with the key of the next, whatever its
    /// name. A root at the end is left out, since visitors have it or do not trust it. Where several lead on (a
    /// cross-signed authority), the way that leads furthest is taken, then the one that lasts longest.
    pub fn build(leaf: Certificate, pool: &[Certificate]) -> Built {
        let mut by_subject: BTreeMap<&[u8], Vec<&Certificate>> = BTreeMap::new();
        for certificate in pool {
            by_subject.entry(certificate.subject_der()).or_default().push(certificate);
        }
        // The same whatever the order they came in.
        for same in by_subject.values_mut() {
            same.sort_by_cached_key(|c| (std::cmp::Reverse(c.not_after), c.fingerprint()));
        }
        let way = lead_on(&leaf, &by_subject, &mut Vec::new());
        let above: Vec<Certificate> = way.into_iter().cloned().collect();
        let last = above.last().unwrap_or(&leaf);
        let has_root = last.is_self_issued()
            || by_subject.get(last.issuer_der()).is_some_and(|found| found.iter().any(|c| last.is_signed_by(c)));
        let missing = (above.is_empty() && !has_root && !last.is_self_issued()).then(|| leaf.issuer.clone());
        let mut certificates = vec![leaf];
        certificates.extend(above);
        Built { chain: Chain { certificates }, missing }
    }

    /// Returns the certificate itself.
    pub fn leaf(&self) -> &Certificate {
        &self.certificates[0]
    }

    /// Returns all certificates, leaf first.
    pub fn certificates(&self) -> &[Certificate] {
        &self.certificates
    }

    /// Returns the name of the issuer that the last certificate of the chain points to.
    pub fn top_issuer(&self) -> &str {
        &self.certificates[self.certificates.len() - 1].issuer
    }

    /// Returns the leaf as PEM.
    pub fn leaf_pem(&self) -> String {
        self.leaf().to_pem()
    }

    /// Returns the intermediates as PEM, empty when there are none.
    pub fn intermediates_pem(&self) -> String {
        self.certificates[1..].iter().map(Certificate::to_pem).collect()
    }

    /// Returns leaf and intermediates as PEM, as servers want it.
    pub fn bundle_pem(&self) -> String {
        self.certificates.iter().map(Certificate::to_pem).collect()
    }

    /// Checks that the chain answers an order: its leaf is for `key` and for all of `names`.
    ///
    /// # Errors
    /// [`ChainError::WrongKey`] or [`ChainError::MissingNames`].
    pub fn check_answers(&self, key: &PrivateKey, names: &[&str]) -> Result<(), ChainError> {
        if !key.fits(self.leaf().public_key()) {
            return Err(ChainError::WrongKey);
        }
        let in_leaf = |n: &str| self.leaf().names.iter().any(|have| have == n);
        let missing: Vec<String> = names.iter().filter(|n| !in_leaf(n)).map(|n| (*n).to_owned()).collect();
        if missing.is_empty() { Ok(()) } else { Err(ChainError::MissingNames { missing }) }
    }
}

/// Returns the decoded contents of each PEM block with this label, in order.
pub(crate) fn pem_blocks(text: &str, label: &'static str) -> Result<Vec<Vec<u8>>, PkiError> {
    let begin = format!("-----BEGIN {label}-----");
    let end = format!("-----END {label}-----");
    let mut blocks = Vec::new();
    let mut rest = text;
    while let Some(start) = rest.find(&begin) {
        let tail = &rest[start..];
        let stop = tail.find(&end).ok_or(PkiError::NoPemBlock { label })? + end.len();
        let (_, der) = der::pem::decode_vec(&tail.as_bytes()[..stop])
            .map_err(|e| PkiError::Der { what: "PEM block", source: e.into() })?;
        blocks.push(der);
        rest = &tail[stop..];
    }
    Ok(blocks)
}

/// Returns label and contents of each PEM block, whatever its label. Lines may end in any way and have blanks around them; a
/// block that cannot be decoded is passed over.
pub(crate) fn pem_blocks_lenient(text: &str) -> Vec<(String, Vec<u8>)> {
    const BEGIN: &str = "-----BEGIN ";
    let mut blocks = Vec::new();
    let mut rest = text;
    while let Some(start) = rest.find(BEGIN) {
        rest = &rest[start + BEGIN.len()..];
        let Some((label, body)) = rest.split_once("-----") else { break };
        let label = label.trim();
        let Some(stop) = body.find("-----END ") else { break };
        // Header lines, as old encrypted keys have them, are no part of the contents.
        let lines = body[..stop].lines().filter(|line| !line.contains(':'));
        let bare: String = lines.flat_map(str::chars).filter(|c| !c.is_whitespace()).collect();
        if let Ok(der) = base64::Engine::decode(&base64::engine::general_purpose::STANDARD, bare) {
            blocks.push((label.to_owned(), der));
        }
        rest = &body[stop..];
    }
    blocks
}
