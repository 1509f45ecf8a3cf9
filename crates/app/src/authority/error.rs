//! What can go wrong on the way to an authority, and whom it concerns.

use crate::EstError;
use crate::turn::Concerns;
use eskort_acme::{AcmeError, AtFault, Problem, Rejected, Step};
use eskort_core::pki::PkiError;
use eskort_host::SecretError;
use eskort_store::StoreError;
use std::path::PathBuf;
use std::time::Duration;

/// What can go wrong on the way to an authority.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum AuthorityError {
    /// No connection, or none that can be trusted.
    #[error("cannot reach {url}: {what}")]
    Unreachable {
        /// What was asked for.
        url: String,
        /// What happened, from the outside in.
        what: String,
        /// Whether the authority's certificate was refused.
        untrusted: bool,
    },
    /// No answer in time.
    #[error("no answer from {url} within {}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    TimedOut {
        /// What was asked for.
        url: String,
        /// How long was waited.
        after: Duration,
    },
    /// An answer without end.
    #[error("the answer from {url} is larger than any should be")]
    TooLarge {
        /// What was asked for.
        url: String,
    },
    /// It says no.
    #[error("{problem}\n(asked to {}, {url})", step.words())]
    Refused {
        /// What it was asked to do.
        step: Step,
        /// The address.
        url: String,
        /// What it says.
        problem: Box<Problem>,
    },
    /// It rejects what was to be proved, name by name.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
    Rejected(Vec<Rejected>),
    /// The account is deactivated or revoked.
    #[error("the authority has ended the account {url}")]
    AccountEnded {
        /// Its address.
        url: String,
    },
    /// What it answered.
    #[error(transparent)]
    Acme(#[from] AcmeError),
    /// What it answered over EST.
    #[error(transparent)]
    Est(#[from] EstError),
    /// A secret.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// Its terms are not agreed to.
    #[error("the authority's terms of service have to be agreed to first: {url}")]
    Terms {
        /// Where they are.
        url: String,
    },
    /// It wants an external account.
    #[error("the authority only serves customers: it wants an external account")]
    NeedsExternalAccount,
    /// A file that the inventory names.
    #[error("cannot use {}: {why}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// Why not.
        why: String,
    },
    /// The account key.
    #[error("cannot use the account key {}: {source}", path.display())]
    AccountKey {
        /// Its file.
        path: PathBuf,
        /// What is wrong with it.
        source: PkiError,
    },
    /// The ledger.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl AuthorityError {
    /// Returns whether it is unknown if the authority acted: the request may have arrived, or got lost within.
    pub fn outcome_unknown(&self) -> bool {
        match self {
            AuthorityError::Unreachable { untrusted, .. } => !untrusted,
            AuthorityError::TimedOut { .. } => true,
            AuthorityError::Refused { problem, .. } => is_trouble(problem.status) && problem.status != 503,
            _ => false,
        }
    }

    /// Returns whether the order is of no more use: refused, or not known any more.
    pub(crate) fn order_is_lost(&self) -> bool {
        match self {
            AuthorityError::Rejected(_) | AuthorityError::AccountEnded { .. } => true,
            AuthorityError::Acme(AcmeError::Rejected(_)) => true,
            AuthorityError::Refused { problem, .. } => {
                let kinds = ["badCSR", "badPublicKey", "accountDoesNotExist"];
                problem.status == 404 || kinds.contains(&problem.kind.as_str())
            }
            _ => false,
        }
    }

    /// Returns whom it concerns.
    pub(crate) fn concerns(&self) -> Concerns {
        let (step, problem) = match self {
            AuthorityError::Unreachable { .. } | AuthorityError::TimedOut { .. } | AuthorityError::TooLarge { .. } => {
                return Concerns::Reach;
            }
            AuthorityError::Est(error) => return error.concerns(),
            AuthorityError::Rejected(_) | AuthorityError::Acme(AcmeError::Rejected(_)) => return Concerns::Certificate,
            AuthorityError::Acme(AcmeError::NotProtocol { .. }) => return Concerns::Reach,
            AuthorityError::Terms { .. } | AuthorityError::NeedsExternalAccount => {
                return Concerns::Authority { mistake: true };
            }
            AuthorityError::Refused { step, problem, .. } => (*step, problem),
            _ => return Concerns::Nobody,
        };
        match problem.at_fault(step) {
            AtFault::Authority => Concerns::Reach,
            AtFault::Limits => Concerns::Authority { mistake: false },
            // A new account is asked for at once.
            AtFault::Account if problem.kind == "accountDoesNotExist" => Concerns::Nobody,
            AtFault::Account => Concerns::Authority { mistake: true },
            // What does not exist any more is asked for anew.
            _ if problem.status == 404 => Concerns::Nobody,
            AtFault::Site | AtFault::Request => Concerns::Certificate,
        }
    }

    /// Returns what the authority says where it refused something.
    pub(crate) fn problem(&self) -> Option<&Problem> {
        match self {
            AuthorityError::Refused { problem, .. } => Some(problem),
            _ => None,
        }
    }
}

pub(super) fn is_trouble(status: u16) -> bool {
    status >= 500
}
