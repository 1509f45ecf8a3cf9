//! EST's messages as plain values (RFC 7030, with the corrections of RFC 8951): nothing is sent here.

use eskort_acme::retry_after;
use eskort_core::decision::Concerns;
use eskort_core::pki::{Certificate, base64, parse_pkcs7};
use eskort_core::words::printable;
use jiff::{SignedDuration, Timestamp};

/// A person may have to look at the request: longer than this nobody waits without asking again.
const LONGEST_WAIT: SignedDuration = SignedDuration::from_hours(24 * 7);
/// What is waited for where it does not say how long.
const USUAL_WAIT: SignedDuration = SignedDuration::from_secs(5);

/// A request: a GET without a body, a POST of `application/pkcs10` in base64 with one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct EstRequest {
    /// The whole address.
    pub(crate) url: String,
    /// The CSR in base64.
    pub(crate) body: Option<String>,
}

/// A response, with what the protocol uses of it.
#[derive(Clone, Debug, Default)]
pub(crate) struct EstResponse {
    /// What was asked for.
    pub(crate) url: String,
    /// The HTTP status.
    pub(crate) status: u16,
    /// `Retry-After`, as sent.
    pub(crate) retry_after: Option<String>,
    /// The body.
    pub(crate) body: Vec<u8>,
}

/// What came of asking for a certificate.
#[derive(Clone, Debug)]
pub enum Enrolled {
    /// Its certificates, in no order.
    Certificates(Vec<Certificate>),
    /// Not yet: the same is to be asked again then.
    NotYet(Timestamp),
}

/// Asks for the authority's own certificates (RFC 7030 section 4.1.2).
pub(crate) fn ca_certificates(address: &str) -> EstRequest {
    EstRequest { url: format!("{address}/cacerts"), body: None }
}

/// Asks for a certificate with a CSR in DER, for the first time or to renew one (RFC 7030 section 4.2.1, 4.2.2).
pub(crate) fn enroll(address: &str, csr: &[u8], renews: bool) -> EstRequest {
    let operation = if renews { "simplereenroll" } else { "simpleenroll" };
    EstRequest { url: format!("{address}/{operation}"), body: Some(base64(csr)) }
}

/// Reads the authority's own certificates (RFC 7030 section 4.1.3).
///
/// # Errors
/// When it refuses, or sends something else.
pub(crate) fn parse_ca_certificates(response: &EstResponse) -> Result<Vec<Certificate>, EstError> {
    match response.status {
        200 => parse_certificates(response),
        _ => Err(refused(response)),
    }
}

/// Reads what came of asking for a certificate (RFC 7030 section 4.2.3), at `now`.
///
/// # Errors
/// When it refuses, or sends something else.
pub(crate) fn parse_enrolled(response: &EstResponse, now: Timestamp) -> Result<Enrolled, EstError> {
    match response.status {
        200 => parse_certificates(response).map(Enrolled::Certificates),
        202 => {
            let asked = response.retry_after.as_deref().and_then(|value| retry_after(value, now));
            let wait = match asked {
                Some(wait) => wait.clamp(SignedDuration::from_secs(1), LONGEST_WAIT),
                None => USUAL_WAIT,
            };
            Ok(Enrolled::NotYet(now + wait))
        }
        _ => Err(refused(response)),
    }
}

fn parse_certificates(response: &EstResponse) -> Result<Vec<Certificate>, EstError> {
    let found = parse_pkcs7(&response.body).filter(|certificates| !certificates.is_empty());
    let (url, what) = (&response.url, "without a PKCS#7 container of certificates");
    found.ok_or_else(|| EstError::NotProtocol { url: url.clone(), what })
}

fn refused(response: &EstResponse) -> EstError {
    let said = printable(String::from_utf8_lossy(&response.body).trim(), 200);
    let (url, status) = (response.url.clone(), response.status);
    match status {
        401 => EstError::LoginRefused { url, said },
        _ => EstError::Refused { url, status, said },
    }
}

/// Why an EST authority gave no certificate.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum EstError {
    /// It does not know who asks.
    #[error("{url} refused the login (401){}", said_words(said))]
    LoginRefused {
        /// What was asked for.
        url: String,
        /// What it says, tamed.
        said: String,
    },
    /// It refused.
    #[error("{url} was answered with {status}{}", said_words(said))]
    Refused {
        /// What was asked for.
        url: String,
        /// The HTTP status.
        status: u16,
        /// What it says, tamed.
        said: String,
    },
    /// An answer that is none.
    #[error("{url} answers {what}")]
    NotProtocol {
        /// What was asked for.
        url: String,
        /// What is wrong with the answer.
        what: &'static str,
    },
}

fn said_words(said: &str) -> String {
    if said.is_empty() { String::new() } else { format!(": {said}") }
}

impl EstError {
    /// Returns whom it concerns.
    pub fn concerns(&self) -> Concerns {
        match self {
            EstError::LoginRefused { .. } | EstError::NotProtocol { .. } => Concerns::Authority { mistake: true },
            EstError::Refused { status: 500.., .. } => Concerns::Reach,
            EstError::Refused { .. } => Concerns::Certificate,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn response(status: u16, retry_after: Option<&str>, body: &str) -> EstResponse {
        let url = "https://ca.example/.well-known/est/simpleenroll".to_owned();
        EstResponse { url, status, retry_after: retry_after.map(str::to_owned), body: body.into() }
    }

    #[test]
    fn a_response_is_certificates_a_wait_or_a_refusal() {
        let now: Timestamp = "2026-03-02T10:00:00Z".parse().unwrap();
        let waits = |header| match parse_enrolled(&response(202, header, "later"), now) {
            Ok(Enrolled::NotYet(until)) => until.duration_since(now).as_secs(),
            other => panic!("{other:?}"),
        };
        for (header, seconds) in [
            (Some("90"), 90),
            (Some("0"), 1),
            (Some("Mon, 02 Mar 2026 10:05:00 GMT"), 300),
            (Some("99999999"), 7 * 86_400),
            (Some("soon"), 5),
            (None, 5),
        ] {
            assert_eq!(waits(header), seconds, "{header:?}");
        }
        for (status, body, wanted) in [
            (401, "who is it?", "refused the login (401): who is it?"),
            (403, "", "was answered with 403"),
            (503, "\u{1b}[2Jlamp is out", "was answered with 503: "),
            (200, "a page", "answers without a PKCS#7 container of certificates"),
            (200, "", "answers without a PKCS#7 container of certificates"),
        ] {
            let error = parse_enrolled(&response(status, None, body), now).unwrap_err().to_string();
            assert!(error.contains(wanted) && !error.contains('\u{1b}'), "{error}");
            assert!(parse_ca_certificates(&response(status, None, body)).is_err());
        }
        assert!(parse_ca_certificates(&response(202, None, "")).is_err(), "nobody waits for these");
    }

    #[test]
    fn requests_name_their_operation() {
        let address = "https://ca.example/.well-known/est";
        let url = |renews| enroll(address, b"csr", renews).url;
        assert_eq!([url(false), url(true)], [format!("{address}/simpleenroll"), format!("{address}/simplereenroll")]);
        assert_eq!(enroll(address, b"csr", false).body.as_deref(), Some("Y3Ny"));
        assert_eq!(ca_certificates(address), EstRequest { url: format!("{address}/cacerts"), body: None });
    }
}
