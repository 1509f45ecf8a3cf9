//! Talks to an authority over EST.

use crate::AuthorityError;
use crate::est_messages::{self as messages, Enrolled, EstRequest, EstResponse};
use crate::http::{self, failure};
use eskort_acme::LARGEST_RESPONSE;
use eskort_core::boxed;
use eskort_core::inventory::EstAuthority;
use eskort_core::pki::{Certificate, Secret};
use eskort_core::progress::{Progress, Teller};
use eskort_host::obeyed;
use eskort_host::read_secret;
use jiff::Timestamp;
use std::path::{Path, PathBuf};
use std::time::Duration;

const LONGEST_RESPONSE: Duration = Duration::from_secs(60);
/// A conversation with an EST authority.
pub struct Est<'a> {
    authority: &'a EstAuthority,
    login: Option<(String, Secret<String>)>,
    http: reqwest::Client,
    longest: Duration,
    progress: Teller,
}

impl<'a> Est<'a> {
    /// Opens a conversation; nothing is sent yet. `in_use` is the certificate to be renewed with its key: it stands in where
    /// the inventory names no client certificate (RFC 7030 section 3.3.2).
    pub fn open(
        authority: &'a EstAuthority,
        in_use: Option<Secret<String>>,
        timeout: Duration,
        progress: Teller,
    ) -> Result<Self, AuthorityError> {
        let longest = timeout.min(LONGEST_RESPONSE);
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

    /// Returns the authority's own certificates.
    #[boxed]
    pub async fn ca_certificates(&self) -> Result<Vec<Certificate>, AuthorityError> {
        let response = self.exchange(messages::ca_certificates(&self.authority.address)).await?;
        Ok(messages::parse_ca_certificates(&response)?)
    }

    /// Asks for a certificate with a CSR in DER, for the first time or to renew one.
    #[boxed]
    pub async fn enroll(&self, csr: &[u8], renews: bool, now: Timestamp) -> Result<Enrolled, AuthorityError> {
        let response = self.exchange(messages::enroll(&self.authority.address, csr, renews)).await?;
        Ok(messages::parse_enrolled(&response, now)?)
    }

    async fn exchange(&self, request: EstRequest) -> Result<EstResponse, AuthorityError> {
        let EstRequest { url, body } = request;
        let (method, word) = match body {
            Some(_) => (reqwest::Method::POST, "POST"),
            None => (reqwest::Method::GET, "GET"),
        };
        let mut sending = self.http.request(method, &url);
        if let Some((user, password)) = &self.login {
            sending = sending.basic_auth(user, Some(password.reveal()));
        }
        if let Some(body) = body {
            sending = sending.header("content-type", "application/pkcs10");
            sending = sending.header("content-transfer-encoding", "base64").body(body);
        }
        let sent = sending.send().await.map_err(|e| failure(&url, self.longest, &e))?;
        let status = sent.status().as_u16();
        let retry_after = sent.headers().get("retry-after").and_then(|v| v.to_str().ok()).map(str::to_owned);
        let body = http::body(sent, LARGEST_RESPONSE, &url, self.longest).await?;
        self.progress.tell(&Progress::Request { method: word, url: url.clone(), status });
        Ok(EstResponse { url, status, retry_after, body })
    }
}
