//! Certificate authorities, and how they are talked to.

use super::SecretSource;
use super::read::{Entry, contact, duration, kind};
use super::section::{Notes, Section};
use jiff::SignedDuration;
use std::path::PathBuf;
use std::time::Duration;

pub(super) const ACME: &[&str] = &[
    "kind",
    "directory",
    "accept-terms",
    "contact",
    "api-roots",
    "visitor-roots",
    "top-issuer",
    "patience",
    "external-key-id",
    "external-key-file",
    "most-names",
];
pub(super) const CSR: &[&str] =
    &["kind", "desk", "drop", "pick-up", "lead-days", "fetch-issuers", "visitor-roots", "most-names"];
pub(super) const EST: &[&str] = &[
    "kind",
    "address",
    "api-roots",
    "user",
    "password-file",
    "password-env",
    "client-certificate",
    "client-key",
    "fetch-issuers",
    "visitor-roots",
    "patience",
    "most-names",
];

/// RFC 7030 section 3.2.2.
const EST_PATH: &str = "/.well-known/est";
/// A person may be on holiday.
const USUAL_LEAD_DAYS: u32 = 30;
const USUAL_PATIENCE: Duration = Duration::from_secs(5 * 60);

/// A certificate authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Authority {
    /// How it is talked to.
    pub kind: AuthorityKind,
    /// PEM file with the roots that visitors of the sites have, beside the system's: for private authorities.
    pub visitor_roots: Option<PathBuf>,
    /// How long one run waits for it: for a single answer, for its look at the proofs, for the certificate.
    pub patience: Duration,
    /// Whether issuers that are missing in its answers are fetched from the addresses that certificates name, and from which
    /// hosts of this network; `None` where they are not.
    pub fetch_issuers: Option<Vec<String>>,
    /// How many names it puts on one certificate at the most; `None` when that is not known.
    pub most_names: Option<usize>,
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
            AuthorityKind::Csr(csr) => paths.extend(csr.drop.iter_mut().chain(&mut csr.pick_up)),
            AuthorityKind::Est(est) => {
                paths.extend(&mut est.api_roots);
                paths.extend(est.login.iter_mut().filter_map(|(_, password)| password.path_mut()));
                paths.extend(est.client.iter_mut().flat_map(|(certificate, key)| [certificate, key]));
            }
        }
        paths
    }

    /// Returns how long before the end of a certificate its renewal has to begin at the latest.
    pub fn lead(&self) -> SignedDuration {
        self.csr().map_or(SignedDuration::ZERO, |csr| SignedDuration::from_hours(24 * i64::from(csr.lead_days)))
    }
}

/// A certificate authority that speaks ACME.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AcmeAuthority {
    /// The address of its directory (RFC 8555 section 7.1.1).
    pub directory: String,
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
    pub desk: Option<String>,
    /// Folder that the CSR is dropped into.
    pub drop: Option<PathBuf>,
    /// Folder that the answer is picked up from.
    pub pick_up: Option<PathBuf>,
    /// How many days before the end of a certificate its renewal begins at the latest.
    pub lead_days: u32,
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

pub(super) fn read_authority<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Authority> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let (section, kind) = match kind(entry, &["acme", "csr", "est"], notes)? {
        "acme" => {
            let section = open(ACME);
            let kind = read_acme(&section).map(AuthorityKind::Acme);
            (section, kind)
        }
        "csr" => {
            let section = open(CSR);
            let kind = AuthorityKind::Csr(CsrAuthority {
                desk: section.text("desk").map(|t| t.value.to_owned()),
                drop: section.path("drop"),
                pick_up: section.path("pick-up"),
                lead_days: section.number("lead-days", 1..=365, USUAL_LEAD_DAYS),
            });
            (section, Some(kind))
        }
        _ => {
            let section = open(EST);
            let kind = read_est(&section).map(AuthorityKind::Est);
            (section, kind)
        }
    };
    let patience = duration(&section, "patience", USUAL_PATIENCE);
    let most_names = section.get("most-names").map(|_| section.number("most-names", 1..=10_000, 1) as usize);
    // Over ACME the whole chain comes.
    let fetch_issuers = match section.get("fetch-issuers").map(|value| value.get_ref().as_array().is_some()) {
        Some(true) => section.texts("fetch-issuers").map(|hosts| hosts.iter().map(|h| h.value.to_owned()).collect()),
        Some(false) => section.flag("fetch-issuers").then(Vec::new),
        None => None,
    };
    Some(Authority { kind: kind?, visitor_roots: section.path("visitor-roots"), patience, fetch_issuers, most_names })
}

fn read_acme(section: &Section<'_>) -> Option<AcmeAuthority> {
    if section.get("directory").is_none() {
        section.missing("directory", "directory = \"https://ca.example/directory\", with your authority's address");
    }
    let directory = section.parsed("directory", "an address that begins with https://", |text| {
        let url = url::Url::parse(text).ok()?;
        (url.scheme() == "https" && url.has_host()).then(|| url.to_string())
    });
    let external_account = match (section.text("external-key-id"), section.path("external-key-file")) {
        (Some(id), Some(key_file)) => Some(ExternalAccount { key_id: id.value.to_owned(), key_file }),
        (None, None) => None,
        (Some(_), None) => {
            section.missing("external-key-file", "external-key-file = \"authority.key\", a file with the key");
            None
        }
        (None, Some(_)) => {
            section.missing("external-key-id", "external-key-id = \"…\", as the authority gave it");
            None
        }
    };
    Some(AcmeAuthority {
        directory: directory?,
        accept_terms: section.flag("accept-terms"),
        contact: contact(section),
        api_roots: section.path("api-roots"),
        top_issuer: section.text("top-issuer").map(|t| t.value.to_owned()),
        external_account,
    })
}

fn read_est(section: &Section<'_>) -> Option<EstAuthority> {
    if section.get("address").is_none() {
        section.missing("address", "address = \"https://est.lampholm.internal\", with your authority's address");
    }
    let address = section.parsed("address", "an address that begins with https://", |text| {
        let url = url::Url::parse(text).ok()?;
        let plain = url.scheme() == "https" && url.has_host() && url.query().is_none() && url.fragment().is_none();
        let text = url.as_str().trim_end_matches('/');
        // Servers for several authorities have a label behind the well-known path (RFC 7030 section 3.2.2).
        let whole = if text.contains(EST_PATH) { text.to_owned() } else { format!("{text}{EST_PATH}") };
        plain.then_some(whole)
    });
    let both = |first: &str, second: &str, given: (bool, bool)| match given {
        (true, false) => section.missing(second, &format!("{second} = \"…\", which goes with `{first}`")),
        (false, true) => section.missing(first, &format!("{first} = \"…\", which goes with `{second}`")),
        _ => {}
    };
    let (user, password) = (section.text("user").map(|t| t.value.to_owned()), SecretSource::read(section, "password"));
    both("user", "password-file", (user.is_some(), password.is_some()));
    let (certificate, key) = (section.path("client-certificate"), section.path("client-key"));
    both("client-certificate", "client-key", (certificate.is_some(), key.is_some()));
    Some(EstAuthority {
        address: address?,
        api_roots: section.path("api-roots"),
        login: user.zip(password),
        client: certificate.zip(key),
    })
}
