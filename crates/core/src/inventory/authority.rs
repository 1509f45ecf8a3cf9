//! Certificate authorities, and how they are talked to.

use super::SecretSource;
use jiff::SignedDuration;
use std::path::PathBuf;
use std::time::Duration;

/// A certificate authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Authority {
    /// How it is talked to.
    pub kind: AuthorityKind,
    /// PEM file with the roots that visitors of the sites have, beside the system's: for private authorities.
    pub visitor_roots: Option<PathBuf>,
    /// How long one run waits for it: for a single answer, for its validation, for the certificate.
    pub timeout: Duration,
    /// Whether issuers that are missing in its answers are fetched from the addresses that certificates name, and from which
    /// hosts of this network; `None` where they are not.
    pub fetch_issuers: Option<Vec<String>>,
    /// How long before the end of a certificate its renewal has to begin at the latest; `None` leaves that to the lifetime.
    pub renew_before: Option<SignedDuration>,
    /// How many orders may be under way there at once; at least one.
    pub at_once: usize,
    /// How many names it puts on one certificate at the most; `None` when that is not known.
    pub most_names: Option<usize>,
    /// How much is asked of it within a time at the most.
    pub limits: Limits,
}

/// How often something may be within a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limit {
    /// How often; at least once.
    pub most: u32,
    /// Within how long.
    pub within: SignedDuration,
}

impl Limit {
    /// Makes a limit.
    pub const fn new(most: u32, within: SignedDuration) -> Self {
        Limit { most, within }
    }
}

/// How much is asked of an authority within a time at the most; `None` where there is no limit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// Orders.
    pub orders: Option<Limit>,
    /// Certificates with names of one registered domain.
    pub per_domain: Option<Limit>,
    /// Certificates for the very same names.
    pub same_names: Option<Limit>,
    /// Failed validations of one name.
    pub failures: Option<Limit>,
}

impl Limits {
    /// What most public authorities allow, and some less: a renewal has to find room, too.
    pub const CAREFUL: Limits = Limits {
        orders: Some(Limit::new(200, SignedDuration::from_hours(3))),
        per_domain: Some(Limit::new(40, SignedDuration::from_hours(7 * 24))),
        same_names: Some(Limit::new(4, SignedDuration::from_hours(7 * 24))),
        failures: Some(Limit::new(4, SignedDuration::from_hours(1))),
    };

    /// Returns the longest time within which anything is counted.
    pub fn longest(&self) -> SignedDuration {
        let all = [self.orders, self.per_domain, self.same_names, self.failures];
        all.into_iter().flatten().map(|limit| limit.within).max().unwrap_or_default()
    }
}

/// The kinds of authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AuthorityKind {
    /// One that speaks ACME.
    Acme(AcmeAuthority),
    /// One that a person carries a CSR to.
    Csr(CsrAuthority),
    /// One that speaks EST.
    Est(EstAuthority),
}

impl Authority {
    /// Returns what is needed to speak ACME with it; `None` for the other kinds.
    pub fn acme(&self) -> Option<&AcmeAuthority> {
        match &self.kind {
            AuthorityKind::Acme(acme) => Some(acme),
            AuthorityKind::Csr(_) | AuthorityKind::Est(_) => None,
        }
    }

    /// Returns which hosts of this machine or network may be asked about its certificates, and whether all may, since it is one's own.
    pub fn reach(&self) -> (&[String], bool) {
        let hosts = self.fetch_issuers.as_deref().unwrap_or_default();
        (hosts, self.acme().is_some_and(|acme| acme.api_roots.is_some()))
    }

    /// Returns what is needed to carry a CSR to it; `None` for the other kinds.
    pub fn csr(&self) -> Option<&CsrAuthority> {
        match &self.kind {
            AuthorityKind::Csr(csr) => Some(csr),
            AuthorityKind::Acme(_) | AuthorityKind::Est(_) => None,
        }
    }

    /// Returns what is needed to speak EST with it; `None` for the other kinds.
    pub fn est(&self) -> Option<&EstAuthority> {
        match &self.kind {
            AuthorityKind::Est(est) => Some(est),
            AuthorityKind::Acme(_) | AuthorityKind::Csr(_) => None,
        }
    }

    /// Returns what stands for it where orders are counted: several sections may lead to the same authority. `name` is that of its
    /// section.
    pub fn counted_as<'a>(&'a self, name: &'a str) -> &'a str {
        self.acme().map_or(name, |acme| &acme.directory)
    }

    /// Returns its kind and address in one line: what stays the same as long as it is the same authority.
    pub fn reached(&self) -> String {
        match &self.kind {
            AuthorityKind::Acme(acme) => format!("acme {}", acme.directory),
            AuthorityKind::Est(est) => format!("est {}", est.address),
            AuthorityKind::Csr(_) => "csr".to_owned(),
        }
    }

    /// Returns the word for its kind.
    pub fn kind_word(&self) -> &'static str {
        match self.kind {
            AuthorityKind::Acme(_) => "acme",
            AuthorityKind::Csr(_) => "csr",
            AuthorityKind::Est(_) => "est",
        }
    }

    pub(super) fn paths_mut(&mut self) -> Vec<&mut PathBuf> {
        let mut paths: Vec<&mut PathBuf> = self.visitor_roots.iter_mut().collect();
        match &mut self.kind {
            AuthorityKind::Acme(acme) => {
                paths.extend(&mut acme.api_roots);
                paths.extend(acme.external_account.iter_mut().map(|e| &mut e.key_file));
            }
            AuthorityKind::Csr(csr) => paths.extend(csr.requests_folder.iter_mut().chain(&mut csr.answers_folder)),
            AuthorityKind::Est(est) => {
                paths.extend(&mut est.api_roots);
                paths.extend(est.login.iter_mut().filter_map(|(_, password)| password.path_mut()));
                paths.extend(est.client.iter_mut().flat_map(|(certificate, key)| [certificate, key]));
            }
        }
        paths
    }
}

/// A certificate authority that speaks ACME.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AcmeAuthority {
    /// The address of its directory (RFC 8555 section 7.1.1).
    pub directory: String,
    /// The address of the directory of its authority for rehearsals, where it has one.
    pub rehearsal: Option<String>,
    /// Whether its terms of service are agreed to.
    pub accept_terms: bool,
    /// Mail address for this authority; `None` for the inventory's own.
    pub contact: Option<String>,
    /// PEM file with the roots that the authority's own TLS is checked against; `None` for the system's.
    pub api_roots: Option<PathBuf>,
    /// The top issuer to prefer where the authority offers several chains.
    pub top_issuer: Option<String>,
    /// External account binding (RFC 8555 section 7.3.4).
    pub external_account: Option<ExternalAccount>,
}

/// A certificate authority that a person carries a CSR to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CsrAuthority {
    /// Where the person goes with it: shown as it is.
    pub submit_to: Option<String>,
    /// Folder that the CSR is copied into.
    pub requests_folder: Option<PathBuf>,
    /// Folder in which the answer is looked for.
    pub answers_folder: Option<PathBuf>,
}

/// A certificate authority that speaks EST (RFC 7030).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EstAuthority {
    /// The beginning of its addresses, up to and with `/.well-known/est` or the label behind that.
    pub address: String,
    /// PEM file with the roots that its own TLS is checked against; `None` for the system's.
    pub api_roots: Option<PathBuf>,
    /// User name and password for HTTP basic authentication.
    pub login: Option<(String, SecretSource)>,
    /// PEM file with the TLS client certificate and what stands above it, and one with its key.
    pub client: Option<(PathBuf, PathBuf)>,
}

/// What an authority gave out of band to bind the ACME account to an account there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExternalAccount {
    /// The key's identifier.
    pub key_id: String,
    /// File with the MAC key in base64url.
    pub key_file: PathBuf,
}
