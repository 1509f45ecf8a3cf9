//! Talks to an ACME authority: sends requests, keeps nonces, tries again what may be tried again.

use crate::trusted;
use crate::turn::Concerns;
use crate::{EstError, Progress, SecretError, Watch};
use eskort_acme::{
    AcmeError, Answer, AtFault, Directory, ExternalBinding, LARGEST_ANSWER, Method, Problem, Request, Signer, new_account,
    read_account, read_directory, retry_after,
};
use eskort_core::inventory::AcmeAuthority;
use eskort_core::pki::{KeyKind, PkiError, PrivateKey, Secret, base64url_decode};
use eskort_store::{AccountRow, Store, StoreError};
use jiff::Timestamp;
use std::path::PathBuf;
use std::time::Duration;

/// How often a refused nonce is tried again. A server that refuses one in five refuses nine in a row once in two million.
const NONCE_TRIES: u32 = 9;
/// How often a request is tried again after the authority's own trouble.
const TROUBLE_TRIES: u32 = 3;
const LONGEST_ANSWER: Duration = Duration::from_secs(30);
/// Longer waits that the authority asks for are left to the next run.
const LONGEST_HOLD: Duration = Duration::from_secs(10);

/// What can go wrong on the way to an authority.
#[derive(Debug, thiserror::Error)]
pub enum AuthorityError {
    /// No connection, or none that can be trusted.
    #[error("cannot reach {url}: {what}")]
    Unreachable {
        /// What was asked for.
        url: String,
        /// What happened, from the outside in.
        what: String,
        /// Whether the authority's certificate was refused.
        untrusted: bool,
    },
    /// No answer in time.
    #[error("no answer from {url} within {}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    TimedOut {
        /// What was asked for.
        url: String,
        /// How long was waited.
        after: Duration,
    },
    /// An answer without end.
    #[error("the answer from {url} is larger than any should be")]
    TooLarge {
        /// What was asked for.
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
    #[error("the authority only serves customers: it wants an external account")]
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
    /// Returns whether it is unknown if the authority acted: the request may have arrived.
    pub fn outcome_unknown(&self) -> bool {
        matches!(self, AuthorityError::Unreachable { untrusted: false, .. } | AuthorityError::TimedOut { .. })
    }

    /// Returns whether the order is of no more use: refused, or not known any more.
    pub(crate) fn order_is_lost(&self) -> bool {
        match self {
            AuthorityError::Acme(AcmeError::Rejected(_)) => true,
            AuthorityError::Acme(AcmeError::Problem(p)) => p.status == 404 || matches!(p.kind.as_str(), "badCSR" | "badPublicKey"),
            _ => false,
        }
    }

    /// Returns whom it concerns.
    pub(crate) fn concerns(&self) -> Concerns {
        let problem = match self {
            AuthorityError::Unreachable { .. } | AuthorityError::TimedOut { .. } | AuthorityError::TooLarge { .. } => {
                return Concerns::Reach;
            }
            AuthorityError::Est(error) => return error.concerns(),
            AuthorityError::Acme(AcmeError::Problem(problem)) => problem,
            AuthorityError::Acme(AcmeError::Rejected(_)) => return Concerns::Certificate,
            AuthorityError::Acme(AcmeError::NotProtocol { .. }) => return Concerns::Reach,
            _ => return Concerns::Nobody,
        };
        match problem.at_fault() {
            AtFault::Authority => Concerns::Reach,
            AtFault::Limits => Concerns::Authority { mistake: false },
            AtFault::Account => Concerns::Authority { mistake: true },
            // What does not exist any more is asked for anew.
            _ if problem.status == 404 => Concerns::Nobody,
            AtFault::Site | AtFault::Request => Concerns::Certificate,
        }
    }

    fn problem(&self) -> Option<&Problem> {
        match self {
            AuthorityError::Acme(AcmeError::Problem(problem)) => Some(problem),
            _ => None,
        }
    }
}

/// Whether a request may be sent again when it is unknown if the first one arrived.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hold {
    /// Doing it twice is the same as once.
    Repeatable,
    /// Only after an answer that says it was not done.
    Once,
}

/// A conversation with one authority, for one run.
pub struct Client {
    http: reqwest::Client,
    directory_url: String,
    directory: Option<Directory>,
    nonces: Vec<String>,
    signer: Signer,
    longest: Duration,
    watch: Watch,
    now: crate::Now,
}

impl Client {
    /// Opens a conversation; nothing is sent yet.
    ///
    /// # Errors
    /// When the account key or a file of the inventory cannot be used.
    pub fn open(
        name: &str,
        authority: &AcmeAuthority,
        patience: Duration,
        store: &Store,
        watch: Watch,
        now: crate::Now,
    ) -> Result<Self, AuthorityError> {
        let path = store.account_key_path(name);
        let key_error = |source| AuthorityError::AccountKey { path: path.clone(), source };
        let key = match store.account_key(name)? {
            Some(pem) => PrivateKey::from_pem(&pem).map_err(key_error)?,
            None => {
                let key = PrivateKey::generate(KeyKind::P256).map_err(key_error)?;
                store.save_account_key(name, &key)?;
                key
            }
        };
        let account = store.account(name, &authority.directory)?.map(|account| account.url);
        let longest = patience.min(LONGEST_ANSWER);
        Ok(Client {
            http: http_client(authority, longest)?,
            directory_url: authority.directory.clone(),
            directory: None,
            nonces: Vec::new(),
            signer: Signer::new(key, account)?,
            longest,
            watch,
            now,
        })
    }

    /// Returns what signs.
    pub fn signer(&self) -> &Signer {
        &self.signer
    }

    /// Returns the directory; it is fetched once a run.
    ///
    /// # Errors
    /// When it cannot be had, or is none.
    pub async fn directory(&mut self) -> Result<Directory, AuthorityError> {
        if let Some(known) = &self.directory {
            return Ok(known.clone());
        }
        let request = Request { method: Method::Get, url: self.directory_url.clone(), body: None };
        let answer = self.exchange_patiently(&request, Hold::Repeatable).await?;
        let directory = read_directory(&answer)?;
        self.directory = Some(directory.clone());
        Ok(directory)
    }

    /// Makes sure that there is an account: known from the ledger, or asked for.
    ///
    /// # Errors
    /// When the terms are not agreed to, an external account is lacking, or the authority refuses.
    pub async fn ensure_account(
        &mut self,
        name: &str,
        authority: &AcmeAuthority,
        contact: Option<&str>,
        store: &Store,
    ) -> Result<(), AuthorityError> {
        if self.signer.account().is_some() {
            return Ok(());
        }
        let directory = self.directory().await?;
        if let Some(terms) = &directory.meta.terms_of_service {
            let url = eskort_core::words::printable(terms, 200);
            if !authority.accept_terms {
                return Err(AuthorityError::Terms { url });
            }
            (self.watch)(&Progress::Note(format!("a new account; the authority's terms are agreed to: {url}")));
        }
        let binding = external_binding(authority)?;
        if directory.meta.external_account_required && binding.is_none() {
            return Err(AuthorityError::NeedsExternalAccount);
        }
        let make = |s: &Signer, nonce: &str| new_account(s, nonce, &directory, contact, binding.as_ref());
        let url = read_account(&self.send(Hold::Repeatable, make).await?)?;
        let account = AccountRow { url: url.clone(), thumbprint: Some(self.signer.thumbprint()), contact: contact.map(str::to_owned) };
        store.save_account(name, &authority.directory, &account, (self.now)())?;
        self.signer.set_account(url);
        Ok(())
    }

    /// Sends a signed request; a refused nonce is replaced and the request signed again.
    ///
    /// # Errors
    /// When no answer comes. A problem document is an answer: reading it makes the error.
    pub async fn send(
        &mut self,
        hold: Hold,
        make: impl Fn(&Signer, &str) -> Result<Request, AcmeError>,
    ) -> Result<Answer, AuthorityError> {
        let mut answer = Answer::default();
        for _ in 0..NONCE_TRIES {
            let nonce = self.nonce().await?;
            let request = make(&self.signer, &nonce)?;
            answer = self.exchange_patiently(&request, hold).await?;
            match answer.success() {
                Err(AcmeError::Problem(problem)) if problem.is_bad_nonce() => {}
                _ => break,
            }
        }
        Ok(answer)
    }

    async fn nonce(&mut self) -> Result<String, AuthorityError> {
        if let Some(nonce) = self.nonces.pop() {
            return Ok(nonce);
        }
        let url = self.directory().await?.new_nonce;
        // The directory's answer may have brought one (RFC 8555 section 6.5 lets any answer do so).
        if let Some(nonce) = self.nonces.pop() {
            return Ok(nonce);
        }
        self.exchange_patiently(&Request { method: Method::Head, url, body: None }, Hold::Repeatable).await?;
        let found = "an answer without Replay-Nonce".to_owned();
        self.nonces.pop().ok_or(AcmeError::NotProtocol { expected: "a fresh nonce", found }.into())
    }

    /// Sends a request, again after the authority's own trouble as far as `hold` allows.
    async fn exchange_patiently(&mut self, request: &Request, hold: Hold) -> Result<Answer, AuthorityError> {
        let mut tries = 0;
        loop {
            tries += 1;
            let result = self.exchange(request).await;
            let wait = match &result {
                Err(AuthorityError::Unreachable { untrusted: false, .. }) if hold == Hold::Repeatable => None,
                Ok(answer) if answer.status >= 500 => self.hold_of(answer),
                _ => return result,
            };
            let wait = wait.unwrap_or(Duration::from_millis(400 << tries));
            if tries >= TROUBLE_TRIES || wait > LONGEST_HOLD {
                return result;
            }
            tokio::time::sleep(wait).await;
        }
    }

    fn hold_of(&self, answer: &Answer) -> Option<Duration> {
        let wait = retry_after(answer.retry_after.as_deref()?, (self.now)())?;
        Duration::try_from(wait).ok()
    }

    async fn exchange(&mut self, request: &Request) -> Result<Answer, AuthorityError> {
        let (method, word) = match request.method {
            Method::Get => (reqwest::Method::GET, "GET"),
            Method::Head => (reqwest::Method::HEAD, "HEAD"),
            Method::Post => (reqwest::Method::POST, "POST"),
        };
        let mut sending = self.http.request(method, &request.url);
        if let Some(body) = &request.body {
            sending = sending.header("content-type", "application/jose+json").body(body.clone());
        }
        let failed = |e| failure(&request.url, self.longest, &e);
        let mut response = sending.send().await.map_err(failed)?;
        let mut answer = read_head(&response);
        while let Some(chunk) = response.chunk().await.map_err(failed)? {
            if answer.body.len() + chunk.len() > LARGEST_ANSWER {
                return Err(AuthorityError::TooLarge { url: request.url.clone() });
            }
            answer.body.extend_from_slice(&chunk);
        }
        self.nonces.extend(answer.nonce.clone());
        (self.watch)(&Progress::Request { method: word, url: request.url.clone(), status: answer.status });
        Ok(answer)
    }

    /// Forgets the account when the authority does not know it, so that the next try asks for a new one.
    pub(crate) fn forget_unknown_account(
        &mut self,
        error: &AuthorityError,
        name: &str,
        store: &Store,
    ) -> Result<bool, StoreError> {
        if error.problem().is_none_or(|p| p.kind != "accountDoesNotExist") {
            return Ok(false);
        }
        store.forget_account(name, &self.directory_url)?;
        self.signer.forget_account();
        Ok(true)
    }

    /// Returns the time until which an answer asks to wait.
    pub(crate) fn ask_again(&self, answer: &Answer, asked: u32) -> Timestamp {
        let now = (self.now)();
        let hint = answer.retry_after.as_deref().and_then(|v| retry_after(v, now));
        // A nonce is as good as a die, and the run has one at hand.
        let jitter = self.nonces.last().map_or(0.5, |n| f64::from(n.bytes().fold(0_u8, u8::wrapping_add)) / 255.0);
        now + eskort_core::journey::poll_delay(asked, hint, jitter)
    }
}

fn read_head(response: &reqwest::Response) -> Answer {
    let text = |name: &str| response.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let usable = |n: &String| n.len() <= 512 && n.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b));
    let links = response.headers().get_all("link").iter().filter_map(|v| v.to_str().ok());
    let alternates = links.flat_map(|line| line.split(",<")).filter(|l| l.contains("rel=\"alternate\""));
    Answer {
        status: response.status().as_u16(),
        content_type: text("content-type").unwrap_or_default(),
        location: text("location"),
        retry_after: text("retry-after"),
        nonce: text("replay-nonce").filter(usable),
        alternates: alternates
            .filter_map(|l| l.trim().trim_start_matches('<').split('>').next())
            .filter_map(|target| response.url().join(target).ok())
            .map(|url| url.to_string())
            .take(10)
            .collect(),
        body: Vec::new(),
    }
}

fn http_client(authority: &AcmeAuthority, longest: Duration) -> Result<reqwest::Client, AuthorityError> {
    let mut builder = reqwest::Client::builder()
        .user_agent(concat!("eskort/", env!("CARGO_PKG_VERSION")))
        .https_only(true)
        .redirect(reqwest::redirect::Policy::limited(3))
        // Shorter than any server's patience, so that no request goes into a connection that is just being closed.
        .pool_idle_timeout(Duration::from_secs(20))
        .connect_timeout(longest.min(Duration::from_secs(10)))
        .timeout(longest);
    if let Some(path) = &authority.api_roots {
        let fail = |why: String| AuthorityError::File { path: path.clone(), why };
        let pem = trusted::read(path).map_err(fail)?;
        let roots = reqwest::Certificate::from_pem_bundle(&pem).map_err(|e| fail(e.to_string()))?;
        if roots.is_empty() {
            return Err(fail("there is no certificate in it".into()));
        }
        builder = builder.tls_certs_only(roots);
    }
    builder.build().map_err(|e| failure(&authority.directory, longest, &e))
}

fn external_binding(authority: &AcmeAuthority) -> Result<Option<ExternalBinding>, AuthorityError> {
    let Some(external) = &authority.external_account else { return Ok(None) };
    let fail = |why: String| AuthorityError::File { path: external.key_file.clone(), why };
    let text = trusted::read_text(&external.key_file).map_err(fail)?;
    let key = base64url_decode(&text).filter(|k| !k.is_empty());
    let key = key.ok_or_else(|| fail("it should hold the key in base64url, and nothing else".into()))?;
    Ok(Some(ExternalBinding { key_id: external.key_id.clone(), mac_key: Secret::new(key) }))
}

pub(crate) fn failure(url: &str, longest: Duration, error: &reqwest::Error) -> AuthorityError {
    if error.is_timeout() {
        return AuthorityError::TimedOut { url: url.to_owned(), after: longest };
    }
    let (what, untrusted) = innermost(error);
    AuthorityError::Unreachable { url: url.to_owned(), what, untrusted }
}

/// Returns what happened at the bottom of a failed request, and whether it was that a certificate was refused.
pub(crate) fn innermost(error: &reqwest::Error) -> (String, bool) {
    let mut what = Vec::new();
    let mut untrusted = false;
    let mut cause: Option<&(dyn std::error::Error + 'static)> = Some(error);
    while let Some(e) = cause {
        let tls = e.downcast_ref::<rustls::Error>();
        untrusted |= matches!(tls, Some(rustls::Error::InvalidCertificate(_)));
        what.push(e.to_string());
        cause = match e.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref) {
            Some(inner) => Some(inner),
            None => e.source(),
        };
    }
    // Each cause repeats its own source or the address; the innermost says what happened.
    (what.pop().unwrap_or_default(), untrusted)
}
