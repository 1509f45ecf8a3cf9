//! DNS names and addresses as they may stand on a certificate.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// A name for a certificate (RFC 8555 section 9.7.7, RFC 8738): a DNS name in lower case and ASCII, of at least two labels and
/// perhaps with `*` as its first one; or an address. [`Identifier::parse_any`] lets a single label through too, for authorities
/// of one's own.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Identifier(String);

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
        if let Ok(address) = given.trim_matches(['[', ']']).parse::<IpAddr>() {
            return Ok(Identifier(address.to_string()));
        }
        if given.split_once(':').is_some_and(|(_, port)| port.bytes().all(|b| b.is_ascii_digit())) {
            return Err(NameError::Port(named()));
        }
        let (star, base) = match given.strip_prefix("*.") {
            Some(rest) => ("*.", rest),
            None => ("", given),
        };
        if base.contains('*') {
            return Err(NameError::Star(named()));
        }
        let odd = |c: &char| c.is_ascii() && !c.is_ascii_alphanumeric() && !matches!(c, '-' | '.');
        if let Some(found) = base.chars().find(odd) {
            return Err(NameError::Character { name: named(), found });
        }
        let ascii = idna::domain_to_ascii_strict(base.trim_end_matches('.')).map_err(|_| NameError::Label(named()))?;
        let numeric = ascii.rsplit('.').next().is_some_and(|last| last.bytes().all(|b| b.is_ascii_digit()));
        if ascii.split('.').any(|label| label.is_empty() || label.len() > 63) || ascii.len() > 253 || numeric {
            return Err(NameError::Label(named()));
        }
        Ok(Identifier(format!("{star}{ascii}")))
    }

    /// Returns whether it is an address, or a name with all its labels: a single one means something else on every network.
    pub fn is_qualified(&self) -> bool {
        self.base().contains(['.', ':'])
    }

    /// Returns the address, when it is one.
    pub fn address(&self) -> Option<IpAddr> {
        self.0.parse().ok()
    }

    /// Returns the name as it stands in a web address and in a server's configuration: IPv6 in brackets.
    pub fn in_url(&self) -> String {
        match self.address() {
            Some(IpAddr::V6(ip)) => format!("[{ip}]"),
            _ => self.0.clone(),
        }
    }

    /// Returns the name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns whether the first label is `*`.
    pub fn is_wildcard(&self) -> bool {
        self.0.starts_with("*.")
    }

    /// Returns the name without a leading `*.`: what an ACME authorization is for (RFC 8555 section 7.1.3).
    pub fn base(&self) -> &str {
        self.0.strip_prefix("*.").unwrap_or(&self.0)
    }

    /// Returns whether a certificate for this name is good for `host`: the same name, or one label below a wildcard.
    pub fn covers(&self, host: &str) -> bool {
        crate::pki::covers(&self.0, host)
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
        name.0
    }
}

impl fmt::Display for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
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
            assert_eq!(Identifier::parse(given).unwrap().as_str(), wanted);
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
        assert_eq!((name.as_str(), name.is_qualified()), ("stock", false));
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
    fn a_wildcard_covers_one_label() {
        let wild = Identifier::parse("*.lampholm.example").unwrap();
        for (host, covered) in
            [("www.lampholm.example", true), ("lampholm.example", false), ("a.b.lampholm.example", false)]
        {
            assert_eq!(wild.covers(host), covered, "{host}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_or_refused_and_what_is_read_reads_again(text in ".{0,80}") {
            if let Ok(name) = Identifier::parse_any(&text) {
                proptest::prop_assert_eq!(Identifier::parse_any(name.as_str()).unwrap(), name);
            }
        }
    }
}
