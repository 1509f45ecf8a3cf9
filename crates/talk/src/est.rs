//! Talks to an authority over EST (RFC 7030, with the corrections of RFC 8951).

use crate::http::{self, failure};
use crate::{AuthorityError, EstError};
use eskort_acme::{LARGEST_RESPONSE, retry_after};
use eskort_core::inventory::EstAuthority;
use eskort_core::journey::poll_delay;
use eskort_core::pki::{Certificate, Secret, base64, parse_pkcs7};
use eskort_core::progress::{Progress, ProgressSink};
use eskort_core::words::printable;
use eskort_host::obeyed;
use eskort_host::read_secret;
use jiff::{SignedDuration, Timestamp};
use std::path::{Path, PathBuf};
use std::time::Duration;

const LONGEST_ANSWER: Duration = Duration::from_secs(60);
/// A person may have to look at the request: longer than this nobody waits without asking again.
const LONGEST_WAIT: SignedDuration = SignedDuration::from_hours(24 * 7);

/// What came of asking for a certificate.
pub enum Enrolled {
    /// Its certificates, in no order.
    Certificates(Vec<Certificate>),
    /// Not yet: the same is to be asked again then.
    NotYet(Timestamp),
}

/// A conversation with an EST authority.
pub struct Est<'a> {
    authority: &'a EstAuthority,
    login: Option<(String, Secret<String>)>,
    http: reqwest::Client,
    longest: Duration,
    progress: ProgressSink,
}

impl<'a> Est<'a> {
    /// Opens a conversation; nothing is sent yet. `in_use` is the certificate to be renewed with its key: it stands in where
    /// the inventory names no client certificate (RFC 7030 section 3.3.2).
    pub fn open(
        authority: &'a EstAuthority,
        in_use: Option<Secret<String>>,
        timeout: Duration,
        progress: ProgressSink,
    ) -> Result<Self, AuthorityError> {
        let longest = timeout.min(LONGEST_ANSWER);
        let fail = |path: &Path, why: String| AuthorityError::File { path: path.to_owned(), why };
        let read = |path: &PathBuf| obeyed::read(path).map_err(|why| fail(path, why));
        let mut builder = http::client(&authority.address)
            .https_only(true)
            // A redirect could carry the login elsewhere (RFC 7030 section 3.2.1 wants a person to agree).
            .redirect(reqwest::redirect::Policy::none())
            .connect_timeout(longest.min(Duration::from_secs(10)))
            .timeout(longest);
        if let Some(path) = &authority.api_roots {
            builder = builder.tls_certs_only(http::roots(path).map_err(|why| fail(path, why))?);
        }
        let identity = match &authority.client {
            Some((certificate, key)) => {
                let pem = Secret::new([read(certificate)?, b"\n".to_vec(), read(key)?].concat());
                Some((pem, certificate.clone()))
            }
            None => in_use.map(|pem| (Secret::new(pem.reveal().clone().into_bytes()), PathBuf::from("the key in use"))),
        };
        if let Some((pem, path)) = identity {
            let identity = reqwest::Identity::from_pem(pem.reveal());
            builder = builder.identity(identity.map_err(|_| fail(&path, "it is no certificate with its key".into()))?);
        }
        let login = match &authority.login {
            None => None,
            Some((user, password)) => Some((user.clone(), read_secret(password)?)),
        };
        let http = builder.build().map_err(|e| failure(&authority.address, longest, &e))?;
        Ok(Est { authority, login, http, longest, progress })
    }

    /// Returns the authority's own certificates (RFC 7030 section 4.1).
    pub async fn ca_certificates(&self) -> Result<Vec<Certificate>, AuthorityError> {
        let url = format!("{}/cacerts", self.authority.address);
        let (status, body, _) = self.exchange(reqwest::Method::GET, &url, None).await?;
        match status {
            200 => certificates(&url, &body),
            _ => Err(refused(&url, status, &body).into()),
        }
    }

    /// Asks for a certificate with a CSR in DER, for the first time or to renew one (RFC 7030 section 4.2).
    pub async fn enroll(&self, csr: &[u8], renews: bool, now: Timestamp) -> Result<Enrolled, AuthorityError> {
        let operation = if renews { "simplereenroll" } else { "simpleenroll" };
        let url = format!("{}/{operation}", self.authority.address);
        let (status, body, again) = self.exchange(reqwest::Method::POST, &url, Some(base64(csr))).await?;
        match status {
            200 => certificates(&url, &body).map(Enrolled::Certificates),
            202 => {
                let asked = again.as_deref().and_then(|value| retry_after(value, now));
                let wait = match asked {
                    Some(wait) => wait.clamp(SignedDuration::from_secs(1), LONGEST_WAIT),
                    None => poll_delay(4, None, 0.5),
                };
                Ok(Enrolled::NotYet(now + wait))
            }
            _ => Err(refused(&url, status, &body).into()),
        }
    }

    async fn exchange(
        &self,
        method: reqwest::Method,
        url: &str,
        body: Option<String>,
    ) -> Result<(u16, Vec<u8>, Option<String>), AuthorityError> {
        let word = if body.is_some() { "POST" } else { "GET" };
        let mut sending = self.http.request(method, url);
        if let Some((user, password)) = &self.login {
            sending = sending.basic_auth(user, Some(password.reveal()));
        }
        if let Some(body) = body {
            sending = sending.header("content-type", "application/pkcs10");
            sending = sending.header("content-transfer-encoding", "base64").body(body);
        }
        let answer = sending.send().await.map_err(|e| failure(url, self.longest, &e))?;
        let status = answer.status().as_u16();
        let again = answer.headers().get("retry-after").and_then(|v| v.to_str().ok()).map(str::to_owned);
        let bytes = http::body(answer, LARGEST_RESPONSE, url, self.longest).await?;
        (self.progress)(&Progress::Request { method: word, url: url.to_owned(), status });
        Ok((status, bytes, again))
    }
}

fn certificates(url: &str, body: &[u8]) -> Result<Vec<Certificate>, AuthorityError> {
    let found = parse_pkcs7(body).filter(|certificates| !certificates.is_empty());
    found.ok_or_else(|| {
        EstError::NotProtocol { url: url.to_owned(), what: "without a PKCS#7 container of certificates" }.into()
    })
}

fn refused(url: &str, status: u16, body: &[u8]) -> EstError {
    let (url, said) = (url.to_owned(), printable(String::from_utf8_lossy(body).trim(), 200));
    match status {
        401 => EstError::NotLetIn { url, said },
        _ => EstError::Refused { url, status, said },
    }
}
