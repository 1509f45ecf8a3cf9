//! DNS names and addresses as they may stand on a certificate.

use crate::printable;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

/// A DNS name in lower case and ASCII without its final dot: labels of letters, digits, hyphens and underscores (RFC 1035 section
/// 2.3.4 for the lengths). The last label is not a number, which would be an address.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct DnsName(String);

impl DnsName {
    /// Reads a name of one label or more; `None` when it is none. Letters beyond ASCII are not turned into anything here.
    pub fn parse(text: &str) -> Option<Self> {
        let name = text.strip_suffix('.').unwrap_or(text).to_ascii_lowercase();
        let plain = |c: u8| c.is_ascii_alphanumeric() || matches!(c, b'-' | b'_');
        let good = |label: &str| (1..=63).contains(&label.len()) && label.bytes().all(plain);
        let numeric = |label: &str| label.bytes().all(|b| b.is_ascii_digit());
        let last = name.rsplit('.').next()?;
        (name.len() <= 253 && name.split('.').all(good) && !numeric(last)).then_some(DnsName(name))
    }

    /// Returns whether it has all its labels: a single one means something else on every network.
    pub fn is_qualified(&self) -> bool {
        self.0.contains('.')
    }

    /// Returns the name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// What a DNS name on a certificate stands for.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum DnsPattern {
    /// `*.` and this name: all names with one label more (RFC 9525 section 6.3).
    Below(DnsName),
    /// This name.
    Exact(DnsName),
}

impl DnsPattern {
    /// Reads a name that may have `*` as its first label; `None` when it is none.
    pub fn parse(text: &str) -> Option<Self> {
        match text.strip_prefix("*.") {
            Some(base) => DnsName::parse(base).map(DnsPattern::Below),
            None => DnsName::parse(text).map(DnsPattern::Exact),
        }
    }

    /// Returns the name without a leading `*.`.
    pub fn base(&self) -> &DnsName {
        match self {
            DnsPattern::Exact(name) | DnsPattern::Below(name) => name,
        }
    }

    /// Returns whether a certificate with it is good for a host.
    pub fn covers(&self, host: &str) -> bool {
        match self {
            DnsPattern::Exact(name) => name.0.eq_ignore_ascii_case(host),
            DnsPattern::Below(base) => host.split_once('.').is_some_and(|(_, up)| base.0.eq_ignore_ascii_case(up)),
        }
    }
}

/// A name for a certificate (RFC 8555 section 9.7.7, RFC 8738). DNS names have at least two labels; [`Identifier::parse_any`] lets a
/// single one through too, for authorities of one's own.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Identifier {
    /// A DNS name, perhaps with `*` as its first label.
    Dns(DnsPattern),
    /// An address.
    Ip(IpAddr),
}

/// A name as it stands in a certificate or a request for one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SubjectName {
    /// One that visitors can ask for.
    Usable(Identifier),
    /// A text in a DNS name's place that is none, as an address there: visitors take it for nothing.
    Unusable(String),
}

impl SubjectName {
    /// Reads what stands in a DNS name's place.
    pub(crate) fn from_dns(text: &str) -> Self {
        match DnsPattern::parse(text) {
            Some(pattern) => SubjectName::Usable(Identifier::Dns(pattern)),
            None => SubjectName::Unusable(printable(text)),
        }
    }

    /// Returns the name, when visitors can ask for it.
    pub fn usable(&self) -> Option<&Identifier> {
        match self {
            SubjectName::Usable(name) => Some(name),
            SubjectName::Unusable(_) => None,
        }
    }
}

impl fmt::Display for SubjectName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SubjectName::Usable(name) => name.fmt(f),
            SubjectName::Unusable(text) => write!(f, "DNS:{text}"),
        }
    }
}

/// Why a text is no name for a certificate.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing there.
    #[error("the name is empty")]
    Empty,
    /// A web address where a name belongs.
    #[error("`{0}` is a web address, not a name")]
    WebAddress(String),
    /// A port behind the name.
    #[error("`{0}` has a port; certificates are for names only")]
    Port(String),
    /// Only one label.
    #[error("`{0}` has no dot; public authorities certify full names only")]
    NotQualified(String),
    /// A star that is not the whole first label.
    #[error("`{0}` has a `*` in the wrong place; it may only be the whole first label")]
    Star(String),
    /// A character that cannot stand in a name.
    #[error("`{name}` has `{found}` in it, which no DNS name may have")]
    Character {
        /// The name as given.
        name: String,
        /// The character that is in the way.
        found: char,
    },
    /// Labels that are empty, too long, or begin or end with a hyphen.
    #[error("`{0}` is not a valid DNS name")]
    Label(String),
}

impl NameError {
    /// Returns what to write instead, when that can be guessed.
    pub fn advice(&self) -> Option<String> {
        match self {
            NameError::WebAddress(text) => {
                let rest = text.split_once("://").map_or(text.as_str(), |(_, rest)| rest);
                let host = rest.split(['/', ':', '?']).next().unwrap_or_default();
                Identifier::parse(host).ok().map(|name| format!("write just the name: \"{name}\""))
            }
            NameError::Port(text) => text.split(':').next().map(|n| format!("leave the port out: \"{n}\"")),
            _ => None,
        }
    }
}

impl Identifier {
    /// Reads a name that public authorities may certify. Letters beyond ASCII are turned into their `xn--` form (IDNA, RFC 5891); a final dot is dropped, and so
    /// are brackets around an address.
    ///
    /// # Errors
    /// A [`NameError`] that says what is in the way.
    pub fn parse(text: &str) -> Result<Self, NameError> {
        let name = Identifier::parse_any(text)?;
        if name.is_qualified() { Ok(name) } else { Err(NameError::NotQualified(text.trim().to_owned())) }
    }

    /// Reads a name as [`Identifier::parse`] does, also one of a single label.
    ///
    /// # Errors
    /// As [`Identifier::parse`].
    pub fn parse_any(text: &str) -> Result<Self, NameError> {
        let given = text.trim();
        let named = || given.to_owned();
        if given.is_empty() {
            return Err(NameError::Empty);
        }
        if given.contains("://") || given.contains('/') {
            return Err(NameError::WebAddress(named()));
        }
        if let Ok(address) = given.trim_matches(['[', ']']).parse() {
            return Ok(Identifier::Ip(address));
        }
        if given.split_once(':').is_some_and(|(_, port)| port.bytes().all(|b| b.is_ascii_digit())) {
            return Err(NameError::Port(named()));
        }
        let (kind, base): (fn(DnsName) -> DnsPattern, &str) = match given.strip_prefix("*.") {
            Some(rest) => (DnsPattern::Below, rest),
            None => (DnsPattern::Exact, given),
        };
        if base.contains('*') {
            return Err(NameError::Star(named()));
        }
        let odd = |c: &char| c.is_ascii() && !c.is_ascii_alphanumeric() && !matches!(c, '-' | '.');
        if let Some(found) = base.chars().find(odd) {
            return Err(NameError::Character { name: named(), found });
        }
        let ascii = idna::domain_to_ascii_strict(base.trim_end_matches('.')).ok();
        let name = ascii.and_then(|ascii| DnsName::parse(&ascii)).ok_or_else(|| NameError::Label(named()))?;
        Ok(Identifier::Dns(kind(name)))
    }

    /// Returns whether it is an address, or a name with all its labels.
    pub fn is_qualified(&self) -> bool {
        match self {
            Identifier::Dns(pattern) => pattern.base().is_qualified(),
            Identifier::Ip(_) => true,
        }
    }

    /// Returns the address, when it is one.
    pub fn address(&self) -> Option<IpAddr> {
        match self {
            Identifier::Dns(_) => None,
            Identifier::Ip(ip) => Some(*ip),
        }
    }

    /// Returns the DNS name without a leading `*.`, when it is one.
    pub fn domain(&self) -> Option<&str> {
        match self {
            Identifier::Dns(pattern) => Some(pattern.base().as_str()),
            Identifier::Ip(_) => None,
        }
    }

    /// Returns an international name in its own letters (RFC 5891); `None` for all others, and where the letters are none.
    pub fn in_own_letters(&self) -> Option<String> {
        let text = self.to_string();
        let has_encoded = text.split('.').any(|label| label.starts_with("xn--"));
        let (own, read) = idna::domain_to_unicode(&text);
        (has_encoded && read.is_ok()).then_some(own)
    }

    /// Returns the name as it stands in a web address and in a server's configuration: IPv6 in brackets.
    pub fn in_url(&self) -> String {
        match self {
            Identifier::Ip(IpAddr::V6(ip)) => format!("[{ip}]"),
            _ => self.to_string(),
        }
    }

    /// Returns whether the first label is `*`.
    pub fn is_wildcard(&self) -> bool {
        matches!(self, Identifier::Dns(DnsPattern::Below(_)))
    }

    /// Returns the text without a leading `*.`.
    pub fn base(&self) -> Cow<'_, str> {
        self.domain().map_or_else(|| self.to_string().into(), Cow::Borrowed)
    }

    /// Returns the name without a leading `*.`: what an ACME authorization is for (RFC 8555 section 7.1.3).
    #[must_use]
    pub fn without_wildcard(&self) -> Self {
        match self {
            Identifier::Dns(DnsPattern::Below(base)) => Identifier::Dns(DnsPattern::Exact(base.clone())),
            other => other.clone(),
        }
    }

    /// Returns whether a certificate for this name is good for `host`, a DNS name or an address.
    pub fn covers(&self, host: &str) -> bool {
        match self {
            Identifier::Dns(pattern) => pattern.covers(host),
            Identifier::Ip(ip) => host.parse() == Ok(*ip),
        }
    }
}

impl FromStr for Identifier {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        Identifier::parse_any(text)
    }
}

impl TryFrom<String> for Identifier {
    type Error = NameError;

    fn try_from(text: String) -> Result<Self, NameError> {
        Identifier::parse_any(&text)
    }
}

impl From<Identifier> for String {
    fn from(name: Identifier) -> String {
        name.to_string()
    }
}

impl fmt::Display for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Identifier::Dns(DnsPattern::Exact(name)) => f.write_str(&name.0),
            Identifier::Dns(DnsPattern::Below(base)) => write!(f, "*.{}", base.0),
            Identifier::Ip(ip) => ip.fmt(f),
        }
    }
}

impl fmt::Debug for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_names_and_refuses_what_is_none() {
        let good = [
            ("lampholm.example", "lampholm.example"),
            ("WWW.Lampholm.Example.", "www.lampholm.example"),
            (" *.archive.lampholm.example ", "*.archive.lampholm.example"),
            ("leuchttürm.example", "xn--leuchttrm-w9a.example"),
            ("192.0.2.7", "192.0.2.7"),
            ("[2001:DB8:0::7]", "2001:db8::7"),
        ];
        for (given, wanted) in good {
            assert_eq!(Identifier::parse(given).unwrap().to_string(), wanted);
        }
        let bad = [
            ("", "the name is empty"),
            ("https://lampholm.example/visit", "is a web address"),
            ("lampholm.example:443", "has a port"),
            ("192.0.2.7:443", "has a port"),
            ("192.0.2.700", "not a valid"),
            ("localhost", "has no dot"),
            ("www.*.example", "wrong place"),
            ("lamp_holm.example", "`_`"),
            ("lamp holm.example", "` `"),
            ("-lamp.example", "not a valid"),
            ("lamp..example", "not a valid"),
        ];
        for (given, wanted) in bad {
            let said = Identifier::parse(given).unwrap_err().to_string();
            assert!(said.contains(wanted), "{given}: {said}");
        }
        let long = format!("{}.example", "a".repeat(64));
        assert!(Identifier::parse(&long).is_err());
    }

    #[test]
    fn a_single_label_is_for_authorities_of_ones_own() {
        let name = Identifier::parse_any("Stock").unwrap();
        assert_eq!((name.to_string().as_str(), name.is_qualified()), ("stock", false));
        for (text, qualified) in [("*.lamps", false), ("a.b", true), ("2001:db8::7", true)] {
            assert_eq!(Identifier::parse_any(text).unwrap().is_qualified(), qualified, "{text}");
        }
    }

    #[test]
    fn advice_names_what_to_write() {
        let advice = Identifier::parse("https://lampholm.example/visit").unwrap_err().advice().unwrap();
        assert!(advice.contains("\"lampholm.example\""), "{advice}");
    }

    #[test]
    fn what_a_name_on_a_certificate_is_good_for() {
        // A name in a DNS name's place; how it is shown; a host, and whether it is good for it.
        for (text, shown, host, covered) in [
            ("*.Lampholm.example", "*.lampholm.example", "WWW.lampholm.example", true),
            ("*.lampholm.example", "*.lampholm.example", "lampholm.example", false),
            ("*.lampholm.example", "*.lampholm.example", "a.b.lampholm.example", false),
            ("old_site.lampholm.example", "old_site.lampholm.example", "old_site.lampholm.example", true),
            ("stock", "stock", "stock", true),
            ("192.0.2.7", "DNS:192.0.2.7", "192.0.2.7", false),
            ("f*.lampholm.example", "DNS:f*.lampholm.example", "f*.lampholm.example", false),
            ("*", "DNS:*", "lampholm", false),
            ("", "DNS:", "", false),
            ("lamp\u{202e}holm.example", "DNS:lampholm.example", "lampholm.example", false),
        ] {
            let name = SubjectName::from_dns(text);
            let covers = name.usable().is_some_and(|name| name.covers(host));
            assert_eq!((name.to_string().as_str(), covers), (shown, covered), "{text}");
        }
        let address: Identifier = "2001:db8::7".parse().unwrap();
        assert!(address.covers("2001:DB8:0::7") && !address.covers("2001:db8::8"));
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_or_refused_and_what_is_read_reads_again(text in ".{0,80}") {
            if let Ok(name) = Identifier::parse_any(&text) {
                proptest::prop_assert_eq!(Identifier::parse_any(&name.to_string()).unwrap(), name);
            }
        }
    }
}
