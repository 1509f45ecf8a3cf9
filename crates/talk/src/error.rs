//! What can go wrong on the way to an authority, and whom it concerns.

use crate::est_messages::EstError;
use crate::http::{HttpError, is_trouble};
use eskort_acme::{AcmeError, AtFault, Problem, Rejected, Step};
use eskort_core::decision::{Concerns, Fault};
use eskort_core::pki::PkiError;
use eskort_host::SecretError;
use eskort_store::StoreError;
use std::path::PathBuf;

/// What can go wrong on the way to an authority.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum AuthorityError {
    /// No answer, or none that can be taken.
    #[error(transparent)]
    Http(#[from] HttpError),
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
    #[error("the authority requires an external account")]
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
            AuthorityError::Http(HttpError::Unreachable { untrusted, .. }) => !untrusted,
            AuthorityError::Http(HttpError::TimedOut { .. }) => true,
            AuthorityError::Refused { problem, .. } => is_trouble(problem.status) && problem.status != 503,
            _ => false,
        }
    }

    /// Returns whether the order is of no more use: refused, or not known any more.
    pub fn order_is_lost(&self) -> bool {
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
    pub fn concerns(&self) -> Concerns {
        let (step, problem) = match self {
            AuthorityError::Http(_) => return Concerns::Reach,
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

    /// Returns whose fault it is.
    pub fn fault(&self) -> Fault {
        match self {
            AuthorityError::Http(_) => Fault::Network,
            AuthorityError::Rejected(_) | AuthorityError::Acme(AcmeError::Rejected(_)) => Fault::Site,
            AuthorityError::Acme(_) | AuthorityError::Est(_) | AuthorityError::AccountEnded { .. } => Fault::Authority,
            AuthorityError::Refused { step, problem, .. } => match problem.at_fault(*step) {
                AtFault::Site => Fault::Site,
                AtFault::Account => Fault::Here,
                AtFault::Authority | AtFault::Limits | AtFault::Request => Fault::Authority,
            },
            AuthorityError::Secret(_)
            | AuthorityError::Terms { .. }
            | AuthorityError::NeedsExternalAccount
            | AuthorityError::File { .. }
            | AuthorityError::AccountKey { .. }
            | AuthorityError::Store(_) => Fault::Here,
        }
    }

    /// Returns what the authority says where it refused something.
    pub fn problem(&self) -> Option<&Problem> {
        match self {
            AuthorityError::Refused { problem, .. } => Some(problem),
            _ => None,
        }
    }
}
