//! Orders at authorities without ACME: notes on them, what such an authority asks as proof, and what a person has to do.

use crate::is_public_suffix;
use crate::names::{DnsName, Identifier};
use crate::record::{Record, RecordToPlace, RecordType};
use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// The local parts of the addresses that an authority may construct from a domain name (CA/Browser Forum's Baseline
/// Requirements, section 3.2.2.4.4).
pub const CONSTRUCTED: [&str; 5] = ["admin", "administrator", "hostmaster", "postmaster", "webmaster"];

/// What is known of an order that a person placed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderNotes {
    /// What the authority calls the order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub order: Option<String>,
    /// The day on which it was placed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub placed: Option<Date>,
    /// The address at which it can be looked up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
    /// Anything else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
    /// What the authority asks as proof.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked: Option<AskedProof>,
    /// When the person notified the authority that it may look, or did what its mail asks for.
    #[serde(default, alias = "told", skip_serializing_if = "Option::is_none")]
    pub notified: Option<Timestamp>,
}

/// What an authority without ACME asks as proof, and who publishes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AskedProof {
    /// The proof of the inventory that publishes it; `None` when a person does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// What it is.
    pub what: Asked,
}

/// The ways in which control is shown outside ACME.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Asked {
    /// A file on the site.
    File {
        /// Its path on the site, without the first slash; see [`site_path`].
        path: String,
        /// What it holds, to the last byte.
        text: String,
    },
    /// A record in the zone.
    Record(Record),
    /// A mail to a constructed address, whose receiver does what it says.
    Mail {
        /// The address.
        to: String,
    },
}

/// Why something cannot be what an authority asks for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AskedError {
    /// The path.
    #[error("`{0}` is not a path that can be used in a URL as it is")]
    Path(String),
    /// The record's name.
    #[error("`{0}` is not a fully qualified DNS name")]
    RecordName(String),
    /// A record elsewhere.
    #[error("`{0}` belongs to none of the certificate's names")]
    Elsewhere(String),
    /// The record's text.
    #[error("the text of a record has up to 2000 printable characters")]
    Text,
    /// The target of a CNAME record.
    #[error("`{0}` is not a valid target for a CNAME record")]
    Target(String),
    /// The mail address.
    #[error("`{0}` is not one of the five addresses that an authority may write to")]
    Address(String),
}

impl OrderNotes {
    /// Returns whether they say that the authority knows of the order.
    pub fn is_ordered(&self) -> bool {
        self.order.is_some() || self.placed.is_some() || self.asked.is_some() || self.notified.is_some()
    }
}

impl AskedProof {
    /// Returns whether Eskort publishes it, and takes it away in the end.
    pub fn is_published(&self) -> bool {
        self.by.is_some()
    }
}

impl Asked {
    /// Returns a file to publish.
    ///
    /// # Errors
    /// [`AskedError::Path`].
    pub fn file(path: &str, text: &str) -> Result<Self, AskedError> {
        let plain = site_path(path).ok_or_else(|| AskedError::Path(path.to_owned()))?;
        Ok(Asked::File { path: plain.to_owned(), text: text.to_owned() })
    }

    /// Returns a record to publish for a certificate's names.
    ///
    /// # Errors
    /// When the name is none, is not at or below one of the names or the domains above them, or the data does not fit.
    pub fn record(name: &str, kind: RecordType, text: &str, names: &[Identifier]) -> Result<Self, AskedError> {
        let plain = host_name(name).ok_or_else(|| AskedError::RecordName(name.to_owned()))?;
        if !domains(names).any(|domain| is_at_or_below(&plain, domain)) {
            return Err(AskedError::Elsewhere(plain));
        }
        let text = match kind {
            RecordType::Txt
                if text.is_empty() || text.len() > 2000 || !text.bytes().all(|b| (b' '..=b'~').contains(&b)) =>
            {
                return Err(AskedError::Text);
            }
            RecordType::Txt => text.to_owned(),
            // No authority asks for such a one.
            RecordType::Tlsa => return Err(AskedError::Text),
            RecordType::Cname => host_name(text).ok_or_else(|| AskedError::Target(text.to_owned()))?,
        };
        Ok(Asked::Record(Record { name: plain, kind, text }))
    }

    /// Returns a mail to wait for.
    ///
    /// # Errors
    /// [`AskedError::Address`].
    pub fn mail(to: &str, names: &[Identifier]) -> Result<Self, AskedError> {
        let to = to.trim().to_ascii_lowercase();
        let fits = to
            .split_once('@')
            .is_some_and(|(local, domain)| CONSTRUCTED.contains(&local) && domains(names).any(|known| known == domain));
        if fits { Ok(Asked::Mail { to }) } else { Err(AskedError::Address(to)) }
    }
}

/// Returns the addresses that an authority may write to about names: for the shortest domains, then for those below.
pub fn constructed_addresses(names: &[Identifier]) -> Vec<String> {
    let mut found: Vec<&str> = domains(names).collect();
    found.sort_by_key(|domain| (domain.matches('.').count(), *domain));
    found.dedup();
    found.iter().flat_map(|domain| CONSTRUCTED.map(|local| format!("{local}@{domain}"))).collect()
}

/// Returns a path without its first slash, when it can stand in an address as it is and leads nowhere upwards.
pub fn site_path(path: &str) -> Option<&str> {
    let path = path.strip_prefix('/').unwrap_or(path);
    let plain = |c: u8| c.is_ascii_alphanumeric() || b"-._~".contains(&c);
    let good = |part: &str| !part.is_empty() && part != "." && part != ".." && part.bytes().all(plain);
    (path.len() <= 500 && path.split('/').all(good)).then_some(path)
}

/// Returns the names without their stars, and the domains above them below a public suffix (as `co.uk` is one). Addresses have none.
fn domains(names: &[Identifier]) -> impl Iterator<Item = &str> {
    let named = names.iter().filter_map(Identifier::domain);
    named
        .flat_map(|name| std::iter::successors(Some(name), |n| n.split_once('.').map(|(_, up)| up)))
        .filter(|domain| domain.contains('.') && !is_public_suffix(domain))
}

fn is_at_or_below(name: &str, domain: &str) -> bool {
    name.strip_suffix(domain).is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
}

/// Returns a name of two labels or more in lower case and without its final dot; labels may have underscores.
fn host_name(text: &str) -> Option<String> {
    DnsName::parse(text.trim()).filter(DnsName::is_qualified).map(|name| name.as_str().to_owned())
}

/// What a person has to do for a journey that waits for an answer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ManualStep {
    /// The certificate's name in the inventory.
    pub certificate: String,
    /// The CSR's file.
    pub csr: PathBuf,
    /// The CSR in PEM.
    #[serde(skip)]
    pub csr_pem: String,
    /// The authority's name in the inventory.
    pub authority: String,
    /// Where to go with it, as the inventory says.
    pub submit_to: Option<String>,
    /// Where a copy of the CSR was put.
    pub copy: Option<PathBuf>,
    /// Where the answer is looked for.
    pub answers_folder: Option<PathBuf>,
    /// What the person has found out so far.
    pub notes: OrderNotes,
    /// Whether what the authority asks as proof can be seen.
    pub proof: Option<ProofSight>,
}

/// Whether what an authority asks as proof can be seen from here.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum ProofSight {
    /// Everywhere the authority may look.
    Seen {
        /// Where: addresses, or the record's name.
        at: Vec<String>,
    },
    /// Not yet, or not everywhere.
    NotSeen {
        /// What was seen instead.
        why: String,
        /// The records that a person has to place.
        to_place: Vec<RecordToPlace>,
    },
    /// It cannot be looked at: a mail.
    Mail,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names() -> Vec<Identifier> {
        ["*.stock.lampholm.example", "lampholm.example", "192.0.2.7"].map(|n| Identifier::parse(n).unwrap()).to_vec()
    }

    #[test]
    fn a_path_is_taken_only_when_it_stays_on_the_site() {
        assert_eq!(site_path("/.well-known/pki-validation/A-1_b~.txt"), Some(".well-known/pki-validation/A-1_b~.txt"));
        assert_eq!(site_path("lamp.txt"), Some("lamp.txt"));
        for bad in ["", "/", "//x", "/a/../b", "/a/./b", "/a/", "/a b", "/a%2e", "/a\\b", "/a?b", "/a#b", "/ä", "/a\0"]
        {
            assert_eq!(site_path(bad), None, "{bad}");
        }
    }

    #[test]
    fn a_record_belongs_to_the_names() {
        use RecordType::{Cname, Txt};
        for (name, kind, text, wanted) in [
            (
                "_A1.Stock.Lampholm.Example.",
                Cname,
                "B2.ca.example.",
                Ok(("_a1.stock.lampholm.example", "b2.ca.example")),
            ),
            ("lampholm.example", Txt, "lamp=1; \"x\"", Ok(("lampholm.example", "lamp=1; \"x\""))),
            ("_a1", Txt, "x", Err(AskedError::RecordName("_a1".into()))),
            ("_a1.harbour.example", Txt, "x", Err(AskedError::Elsewhere("_a1.harbour.example".into()))),
            ("badlampholm.example", Txt, "x", Err(AskedError::Elsewhere("badlampholm.example".into()))),
            ("lampholm.example", Txt, "a\nb", Err(AskedError::Text)),
            ("_a.lampholm.example", Cname, "two words.example", Err(AskedError::Target("two words.example".into()))),
        ] {
            let made = Asked::record(name, kind, text, &names());
            let wanted = wanted.map(|(n, t)| Asked::Record(Record { name: n.into(), kind, text: t.into() }));
            assert_eq!(made, wanted, "{name} {text}");
        }
        let long = "x".repeat(2001);
        assert_eq!(Asked::record("lampholm.example", Txt, &long, &names()), Err(AskedError::Text));
    }

    #[test]
    fn mails_go_to_the_constructed_addresses_of_the_names_and_the_domains_above() {
        let all = constructed_addresses(&names());
        assert_eq!(
            (all.len(), all[0].as_str(), all[9].as_str()),
            (10, "admin@lampholm.example", "webmaster@stock.lampholm.example")
        );
        assert!(all.iter().all(|to| Asked::mail(to, &names()).is_ok()));
        for bad in ["keeper@lampholm.example", "admin@example", "admin@harbour.example", "admin", "admin@192.0.2.7"] {
            assert_eq!(Asked::mail(bad, &names()), Err(AskedError::Address(bad.into())));
        }
        assert_eq!(constructed_addresses(&[Identifier::parse("192.0.2.7").unwrap()]), Vec::<String>::new());
        // Nobody has a mailbox at a public suffix.
        let british = constructed_addresses(&[Identifier::parse("www.lampholm.co.uk").unwrap()]);
        assert_eq!((british.len(), british[0].as_str()), (10, "admin@lampholm.co.uk"));
    }
}
