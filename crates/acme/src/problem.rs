//! Problem documents (RFC 9457, RFC 8555 section 6.7) as typed errors.

use crate::lenient::{elements, or_default};
use crate::{AcmeError, Response};
use eskort_core::words::printable;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::fmt;

/// What an authority was asked to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Show its directory.
    Directory,
    /// Give a fresh nonce.
    Nonce,
    /// Make, show or change the account.
    Account,
    /// Take an order.
    NewOrder,
    /// Show an order.
    Order,
    /// Show an authorization.
    Authorization,
    /// Look at a proof.
    Challenge,
    /// Take the CSR.
    Finalize,
    /// Give the certificate.
    Certificate,
    /// Say when a certificate is to be renewed (RFC 9773).
    RenewalInfo,
    /// Revoke a certificate.
    Revocation,
    /// Give the account another key.
    KeyChange,
}

impl Step {
    /// Returns it in words, behind "asked to".
    pub fn words(self) -> &'static str {
        match self {
            Step::Directory => "show its directory",
            Step::Nonce => "give a nonce",
            Step::Account => "make or change the account",
            Step::NewOrder => "accept the order",
            Step::Order => "show the order",
            Step::Authorization => "give the challenges",
            Step::Challenge => "validate",
            Step::Finalize => "take the CSR",
            Step::Certificate => "give the certificate",
            Step::RenewalInfo => "say when to renew",
            Step::Revocation => "revoke the certificate",
            Step::KeyChange => "change the account's key",
        }
    }
}

const ACME_PREFIX: &str = "urn:ietf:params:acme:error:";

/// Who has to do something about a problem.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AtFault {
    /// What was asked for: the inventory has to change.
    Request,
    /// The site or its DNS: what the authority looked at was not as it should be.
    Site,
    /// The account at the authority.
    Account,
    /// Too much was asked for lately: waiting helps.
    Limits,
    /// The authority itself.
    Authority,
}

/// A problem document, tamed: no control characters, bounded lengths.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize, thiserror::Error)]
#[serde(from = "Raw")]
pub struct Problem {
    /// The type without the ACME prefix: `rateLimited`; the whole URI where it is not one of ACME's.
    pub kind: String,
    /// The explanation for people.
    pub detail: String,
    /// The HTTP status, 0 when it stands inside another document.
    pub status: u16,
    /// The `Retry-After` that came with it, as sent.
    pub retry_after: Option<String>,
    /// An address at which the problem is explained, or mended by a person (RFC 9457 section 3.1.5).
    pub instance: Option<String>,
    /// The address of the terms of service, where the answer has a link to it.
    pub terms: Option<String>,
    /// The name it is about, when it says so.
    pub name: Option<String>,
    /// Its parts, one for each name concerned.
    pub parts: Vec<Problem>,
}

#[derive(Deserialize)]
struct Raw {
    #[serde(default, deserialize_with = "or_default")]
    r#type: String,
    #[serde(default, deserialize_with = "or_default")]
    detail: String,
    #[serde(default, deserialize_with = "or_default")]
    instance: Option<String>,
    #[serde(default, deserialize_with = "or_default")]
    identifier: Option<RawIdentifier>,
    #[serde(default, deserialize_with = "elements")]
    subproblems: Vec<Raw>,
}

#[derive(Deserialize)]
struct RawIdentifier {
    value: String,
}

impl From<Raw> for Problem {
    fn from(raw: Raw) -> Self {
        let kind = raw.r#type.strip_prefix(ACME_PREFIX).unwrap_or(&raw.r#type);
        Problem {
            kind: if kind.is_empty() { "about:blank".into() } else { printable(kind, 80) },
            detail: printable(&raw.detail, 600),
            status: 0,
            retry_after: None,
            instance: raw.instance.map(|text| printable(&text, 200)),
            terms: None,
            name: raw.identifier.map(|i| printable(&i.value, 253)),
            // One level: RFC 8555 section 6.7.1 forbids parts of parts.
            parts: raw.subproblems.into_iter().take(100).map(|r| Problem { parts: Vec::new(), ..r.into() }).collect(),
        }
    }
}

impl Response {
    /// Returns the answer when its status says success.
    ///
    /// # Errors
    /// The problem document otherwise; one is made up from the status where the body holds none.
    pub fn success(&self) -> Result<&Self, AcmeError> {
        if (200..300).contains(&self.status) { Ok(self) } else { Err(Box::new(Problem::parse(self)).into()) }
    }

    pub(crate) fn json<T: DeserializeOwned>(&self, expected: &'static str) -> Result<T, AcmeError> {
        self.success()?;
        // What the reader says may repeat what stands there.
        let found = |error: serde_json::Error| format!("{}; {}", printable(&error.to_string(), 200), self.begins());
        serde_json::from_slice(&self.body).map_err(|error| AcmeError::NotProtocol { expected, found: found(error) })
    }
}

impl Problem {
    /// Reads the problem of an answer that is no success.
    pub(crate) fn parse(response: &Response) -> Problem {
        let read = serde_json::from_slice::<Problem>(&response.body)
            .ok()
            .filter(|p| p.kind != "about:blank" || !p.detail.is_empty());
        let problem = read.unwrap_or_else(|| Problem {
            kind: format!("HTTP {}", response.status),
            detail: response.begins(),
            status: 0,
            retry_after: None,
            instance: None,
            terms: None,
            name: None,
            parts: Vec::new(),
        });
        let terms = response.terms.as_ref().map(|text| printable(text, 200));
        Problem { status: response.status, retry_after: response.retry_after.clone(), terms, ..problem }
    }

    /// Returns who has to do something about it (RFC 8555 section 6.7 lists the kinds).
    pub fn at_fault(&self, step: Step) -> AtFault {
        match self.kind.as_str() {
            "rateLimited" => AtFault::Limits,
            // Of a proof it says that the site shows something else; of anything else, that the account may not.
            "unauthorized" if step != Step::Challenge => AtFault::Account,
            "connection" | "dns" | "incorrectResponse" | "tls" | "unauthorized" | "caa" => AtFault::Site,
            "accountDoesNotExist"
            | "externalAccountRequired"
            | "userActionRequired"
            | "invalidContact"
            | "unsupportedContact" => AtFault::Account,
            "serverInternal" => AtFault::Authority,
            "rejectedIdentifier"
            | "unsupportedIdentifier"
            | "badCSR"
            | "badPublicKey"
            | "malformed"
            | "orderNotReady"
            | "badSignatureAlgorithm" => AtFault::Request,
            // A compound says only that its parts matter; they agree more often than not.
            "compound" => self.parts.first().map_or(AtFault::Authority, |part| part.at_fault(step)),
            _ if self.status >= 500 => AtFault::Authority,
            _ if self.status == 429 => AtFault::Limits,
            _ => AtFault::Request,
        }
    }

    /// Returns whether only the nonce was refused (RFC 8555 section 6.5).
    pub fn is_bad_nonce(&self) -> bool {
        self.kind == "badNonce"
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.detail.as_str() {
            "" => f.write_str(&self.kind)?,
            detail => write!(f, "{}: {detail}", self.kind)?,
        }
        self.parts.iter().try_for_each(|part| match &part.name {
            Some(name) => write!(f, "\n{name}: {part}"),
            None => write!(f, "\n{part}"),
        })
    }
}

/// An authorization or an order that came to nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rejected {
    /// The name, when it is about one.
    pub name: Option<String>,
    /// Why, when the authority says.
    pub problem: Option<Box<Problem>>,
}

impl fmt::Display for Rejected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(name) = &self.name {
            write!(f, "{name}: ")?;
        }
        match &self.problem {
            Some(problem) => problem.fmt(f),
            None => f.write_str("the authority gives no reason"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn problem(status: u16, body: &str) -> Problem {
        Problem::parse(&Response { status, body: body.into(), ..Response::default() })
    }

    fn kind(kind: &str) -> Problem {
        problem(403, &format!(r#"{{"type":"{ACME_PREFIX}{kind}","detail":"d"}}"#))
    }

    #[test]
    fn says_whose_fault_it_is() {
        for (word, step, fault) in [
            ("rateLimited", Step::NewOrder, AtFault::Limits),
            ("serverInternal", Step::Order, AtFault::Authority),
            ("dns", Step::Challenge, AtFault::Site),
            ("caa", Step::Finalize, AtFault::Site),
            ("unauthorized", Step::Challenge, AtFault::Site),
            ("unauthorized", Step::NewOrder, AtFault::Account),
            ("externalAccountRequired", Step::Account, AtFault::Account),
            ("rejectedIdentifier", Step::NewOrder, AtFault::Request),
            ("somethingNew", Step::NewOrder, AtFault::Request),
        ] {
            assert_eq!(kind(word).at_fault(step), fault, "{word} {step:?}");
        }
        assert_eq!(problem(502, "<html>").at_fault(Step::Order), AtFault::Authority);
        assert_eq!(problem(429, "").at_fault(Step::Order), AtFault::Limits);
    }

    #[test]
    fn parts_are_listed_and_decide_for_a_compound() {
        let body = r#"{"type":"urn:ietf:params:acme:error:compound","detail":"two failed","subproblems":[
            {"type":"urn:ietf:params:acme:error:dns","detail":"no such name","identifier":{"type":"dns","value":"a.example"}},
            {"type":"urn:ietf:params:acme:error:caa","detail":"not allowed","identifier":{"type":"dns","value":"b.example"}}]}"#;
        let found = problem(403, body);
        assert_eq!(found.at_fault(Step::Challenge), AtFault::Site);
        assert_eq!(
            found.to_string(),
            "compound: two failed\na.example: dns: no such name\nb.example: caa: not allowed"
        );
    }

    #[test]
    fn odd_fields_beside_the_kind_do_not_hide_it() {
        for more in [
            r#""detail":null"#,
            r#""subproblems":null"#,
            r#""subproblems":[null,7,{"type":"x"}]"#,
            r#""identifier":{"type":"dns"}"#,
            r#""identifier":"a.example","instance":7,"status":"400""#,
            r#""detail":["a","b"]"#,
        ] {
            let found = problem(400, &format!(r#"{{"type":"{ACME_PREFIX}badNonce",{more}}}"#));
            assert!(found.is_bad_nonce(), "{more}: {found:?}");
        }
    }

    #[test]
    fn hostile_text_is_tamed_and_nonsense_still_says_something() {
        let found = problem(400, "{\"type\":\"x\",\"detail\":\"\\u001b[2Jgone\"}");
        assert_eq!(found.to_string(), "x: [2Jgone");
        assert_eq!(problem(503, "").to_string(), "HTTP 503: status 503 and no text");
        assert_eq!(problem(500, "{}").kind, "HTTP 500");
    }
}
