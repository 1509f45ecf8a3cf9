//! A certificate with the intermediates that lead from it towards a root.

use crate::names::Identifier;
use crate::{Certificate, PkiError, PrivateKey};

/// Why a chain must not be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ChainFault {
    /// Its issuer lies beside it and has not made this signature.
    #[error("`{title}` was damaged or changed: its signature by `{issuer}` is not valid")]
    Damaged {
        /// What the certificate is for.
        title: String,
        /// Its issuer.
        issuer: String,
    },
    /// Who has signed it may not.
    #[error("`{issuer}`, which has signed it, is not a certificate authority")]
    IssuerIsNoAuthority {
        /// The issuer.
        issuer: String,
    },
}

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
    #[error("the certificate is not valid before {from}")]
    NotYet {
        /// Its first instant.
        from: jiff::Timestamp,
    },
    /// The first certificate has run out.
    #[error("the certificate expired on {until}")]
    Over {
        /// Its last instant.
        until: jiff::Timestamp,
    },
    /// It was put together from certificates that do not hold.
    #[error(transparent)]
    Fault(#[from] ChainFault),
    /// The first certificate is an authority's own.
    #[error("the certificate is one of a certificate authority (CA:TRUE): servers that use it are refused")]
    IsAuthority,
    /// The first certificate is only the announcement of one (RFC 6962 section 3.1).
    #[error("this is a precertificate, which no visitor accepts; the final certificate has the same serial number")]
    Precertificate,
    /// A certificate is not the issuer of the one before it.
    #[error("`{issuer}` should come next in the chain, `{found}` stands there")]
    BrokenLink {
        /// The issuer that the certificate before names.
        issuer: String,
        /// The subject of the certificate that stands there.
        found: String,
    },
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

    /// Takes certificates that were put in order here.
    pub(crate) fn of(certificates: Vec<Certificate>) -> Self {
        Chain { certificates }
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
    /// [`ChainError::WrongKey`], [`ChainError::MissingNames`], or what it is instead of a server's certificate.
    pub fn check_answers(&self, key: &PrivateKey, names: &[Identifier]) -> Result<(), ChainError> {
        if !key.fits(self.leaf().public_key()) {
            return Err(ChainError::WrongKey);
        }
        if self.leaf().is_precertificate {
            return Err(ChainError::Precertificate);
        }
        // One that somebody has made for themselves is what it is.
        if self.leaf().is_ca && !self.leaf().is_self_issued() {
            return Err(ChainError::IsAuthority);
        }
        let in_leaf = |n: &Identifier| self.leaf().names.iter().any(|have| have.usable() == Some(n));
        let missing: Vec<String> = names.iter().filter(|n| !in_leaf(n)).map(ToString::to_string).collect();
        if missing.is_empty() { Ok(()) } else { Err(ChainError::MissingNames { missing }) }
    }
}
