//! Talks to an ACME authority: sends requests, keeps nonces, tries again what may be tried again.

use crate::AuthorityError;
use crate::http::{self, HttpError, failure, is_trouble};
use eskort_acme::{
    AcmeError, Directory, ExternalBinding, LARGEST_RESPONSE, Method, Problem, Request, Response, Signer, Step,
    change_contact, is_account_usable, new_account, parse_account, parse_directory, post_as_get, retry_after,
};
use eskort_core::inventory::AcmeAuthority;
use eskort_core::pki::{KeyKind, PrivateKey, Secret, base64url_decode};
use eskort_core::progress::{Progress, ProgressSink};
use eskort_host::obeyed;
use eskort_store::{AccountRow, Store, StoreError};
use jiff::Timestamp;
use std::time::{Duration, Instant};

/// So many refused nonces in a row cost no pause; after that each costs a little more.
const QUICK_NONCES: u32 = 12;
const LONGEST_PAUSE: Duration = Duration::from_secs(2);
/// How often a request is tried again after the authority's own trouble.
const TROUBLE_TRIES: u32 = 3;
const LONGEST_ANSWER: Duration = Duration::from_secs(30);
/// Longer waits that the authority asks for are left to the next run.
const LONGEST_RETRY_AFTER: Duration = Duration::from_secs(10);

/// Whether a request may be sent again when it is unknown if the first one arrived.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Repeat {
    /// Doing it twice is the same as once.
    Idempotent,
    /// Only after an answer that says it was not done.
    Once,
}

/// A conversation with one authority, for one run.
pub struct Conversation {
    http: reqwest::Client,
    directory_url: String,
    directory: Option<Directory>,
    nonces: Vec<String>,
    signer: Signer,
    /// The contact that the authority was last told.
    contact: Option<String>,
    longest: Duration,
    timeout: Duration,
    progress: ProgressSink,
    now: eskort_core::context::Now,
}

impl Conversation {
    /// Opens a conversation; nothing is sent yet. An account that was made with another key is forgotten: the same key is the only
    /// way to use it.
    ///
    /// # Errors
    /// When the account key or a file of the inventory cannot be used.
    pub fn open(
        name: &str,
        authority: &AcmeAuthority,
        timeout: Duration,
        store: &Store,
        progress: ProgressSink,
        now: eskort_core::context::Now,
    ) -> Result<Self, AuthorityError> {
        let path = store.account_key_path(name);
        let key_error = |source| AuthorityError::AccountKey { path: path.clone(), source };
        let mut account = store.account(name, &authority.directory)?;
        let key = match store.account_key(name)? {
            Some(pem) => PrivateKey::from_pem(&pem).map_err(key_error)?,
            None => {
                // Whatever account there was, its key is gone.
                if account.take().is_some() {
                    store.forget_account(name, &authority.directory)?;
                }
                new_account_key(name, store)?
            }
        };
        let mut signer = Signer::new(key, None);
        let thumbprint = signer.thumbprint();
        if account.as_ref().and_then(|account| account.thumbprint.as_ref()).is_some_and(|of| *of != thumbprint) {
            store.forget_account(name, &authority.directory)?;
            account = None;
        }
        let contact = account.as_ref().and_then(|account| account.contact.clone());
        if let Some(account) = account {
            signer.set_account(account.url);
        }
        let longest = timeout.min(LONGEST_ANSWER);
        Ok(Conversation {
            http: http_client(authority, longest)?,
            directory_url: authority.directory.clone(),
            directory: None,
            nonces: Vec::new(),
            signer,
            contact,
            longest,
            timeout,
            progress,
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
        let response = self.fetch(Step::Directory, &request).await?;
        let directory = parse_directory(&response)?;
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
        if let Some(url) = self.signer.account() {
            if self.contact.as_deref() != contact {
                let url = url.to_owned();
                self.bring_contact(name, &url, contact, store).await?;
            }
            return Ok(());
        }
        let directory = self.directory().await?;
        let terms = directory.meta.terms_of_service.as_ref().map(|terms| eskort_core::words::printable(terms, 200));
        if let Some(url) = terms.clone().filter(|_| !authority.accept_terms) {
            return Err(AuthorityError::Terms { url });
        }
        let binding = external_binding(authority)?;
        if directory.meta.external_account_required && binding.is_none() {
            return Err(AuthorityError::NeedsExternalAccount);
        }
        let agreed = terms.is_some() && authority.accept_terms;
        let make = |s: &Signer, nonce: &str| new_account(s, nonce, &directory, contact, agreed, binding.as_ref());
        let response = self.send(Step::Account, Repeat::Idempotent, make).await?;
        let url = parse_account(&response)?;
        // RFC 8555 section 7.3.1: 201 for a new one, 200 for one that the key had already.
        if response.status == 201 {
            let agreed = terms.map(|url| format!("; the authority's terms are agreed to: {url}")).unwrap_or_default();
            (self.progress)(&Progress::Note(format!("a new account{agreed}")));
        }
        self.save_account(name, url, contact, store)?;
        Ok(())
    }

    fn save_account(
        &mut self,
        name: &str,
        url: String,
        contact: Option<&str>,
        store: &Store,
    ) -> Result<(), StoreError> {
        let contact = contact.map(str::to_owned);
        let thumbprint = Some(self.signer.thumbprint());
        let account = AccountRow { url: url.clone(), thumbprint, contact: contact.clone() };
        store.save_account(name, &self.directory_url, &account, (self.now)())?;
        self.contact = contact;
        self.signer.set_account(url);
        Ok(())
    }

    /// Tells the authority a contact that has changed. That it does not take it is no reason not to renew.
    async fn bring_contact(
        &mut self,
        name: &str,
        account: &str,
        contact: Option<&str>,
        store: &Store,
    ) -> Result<(), AuthorityError> {
        let make = |s: &Signer, nonce: &str| change_contact(s, nonce, account, contact);
        match self.send(Step::Account, Repeat::Idempotent, make).await {
            Ok(_) => Ok(self.save_account(name, account.to_owned(), contact, store)?),
            Err(AuthorityError::Refused { problem, .. }) if problem.kind.ends_with("Contact") => {
                (self.progress)(&Progress::Note(format!("the authority does not take the new contact: {problem}")));
                Ok(())
            }
            Err(error) => Err(error),
        }
    }

    /// Begins anew with another account, where the authority has ended this one: with a new key, since the old one stays bound
    /// to it. The old key is kept beside the new one.
    ///
    /// # Errors
    /// When the ledger or a key file cannot be written.
    pub fn leave_account(&mut self, name: &str, store: &Store) -> Result<(), AuthorityError> {
        let aside = store.put_account_key_aside(name, (self.now)())?;
        store.forget_account(name, &self.directory_url)?;
        self.signer = Signer::new(new_account_key(name, store)?, None);
        self.contact = None;
        let text = format!("the account's key is kept in {}; a new account is asked for", aside.display());
        (self.progress)(&Progress::Note(text));
        Ok(())
    }

    /// Looks after a refusal that may mean that the account is ended, and says so then.
    pub async fn explain(&mut self, error: AuthorityError) -> AuthorityError {
        let ours = matches!(&error, AuthorityError::Refused { step, problem, .. }
            if *step != Step::Challenge && problem.kind == "unauthorized");
        let Some(url) = self.signer.account().filter(|_| ours).map(str::to_owned) else { return error };
        let asked = self.send(Step::Account, Repeat::Idempotent, |s, n| post_as_get(s, n, &url)).await;
        match asked {
            Ok(response) if is_account_usable(&response).unwrap_or(true) => error,
            Ok(_) => AuthorityError::AccountEnded { url },
            // RFC 8555 section 7.3.6: requests of an ended account are answered with 401.
            Err(AuthorityError::Refused { problem, .. }) if problem.kind == "unauthorized" => {
                AuthorityError::AccountEnded { url }
            }
            Err(_) => error,
        }
    }

    /// Sends a signed request, signed anew for each try: a nonce is good for one. A refused nonce is no failure as long as the
    /// run's time lasts; the authority's own trouble is ridden out where sending twice is the same as once.
    ///
    /// # Errors
    /// When no answer comes, or one that says no.
    pub async fn send(
        &mut self,
        step: Step,
        repeat: Repeat,
        make: impl Fn(&Signer, &str) -> Result<Request, AcmeError>,
    ) -> Result<Response, AuthorityError> {
        let begun = Instant::now();
        let mut troubles = 0;
        let mut nonces: u32 = 0;
        let mut trouble: Option<AuthorityError> = None;
        loop {
            let nonce = self.nonce().await?;
            let request = make(&self.signer, &nonce)?;
            let sent = self.exchange(&request).await;
            let refusal = match &sent {
                Ok(response) => response.success().err(),
                Err(_) => None,
            };
            if let Some(AcmeError::Problem(problem)) = &refusal
                && problem.is_bad_nonce()
            {
                nonces += 1;
                if begun.elapsed() >= self.timeout {
                    return Err(trouble.unwrap_or_else(|| refused(step, &request.url, problem.clone())));
                }
                let pause = Duration::from_millis(50) * nonces.saturating_sub(QUICK_NONCES);
                tokio::time::sleep(pause.min(LONGEST_PAUSE)).await;
                continue;
            }
            let (error, wait) = match (sent, refusal) {
                (Ok(response), None) => return Ok(response),
                (Ok(response), Some(AcmeError::Problem(problem))) => {
                    let wait = self.hold_of(&response);
                    let again = is_trouble(problem.status) && (repeat == Repeat::Idempotent || problem.status == 503);
                    let error = refused(step, &request.url, problem);
                    if !again {
                        return Err(error);
                    }
                    (error, wait)
                }
                (Ok(_), Some(other)) => return Err(other.into()),
                (Err(error @ AuthorityError::Http(HttpError::Unreachable { untrusted: false, .. })), _)
                    if repeat == Repeat::Idempotent =>
                {
                    (error, None)
                }
                (Err(error), _) => return Err(error),
            };
            troubles += 1;
            let wait = wait.unwrap_or(Duration::from_millis(400 << troubles));
            if troubles >= TROUBLE_TRIES || wait > LONGEST_RETRY_AFTER {
                return Err(error);
            }
            trouble = Some(error);
            tokio::time::sleep(wait).await;
        }
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
        self.fetch(Step::Nonce, &Request { method: Method::Head, url, body: None }).await?;
        let found = "an answer without Replay-Nonce".to_owned();
        self.nonces.pop().ok_or(AcmeError::NotProtocol { expected: "a fresh nonce", found }.into())
    }

    /// Sends a request that is not signed, again after the authority's own trouble.
    async fn fetch(&mut self, step: Step, request: &Request) -> Result<Response, AuthorityError> {
        let mut tries = 0;
        loop {
            tries += 1;
            let result = self.exchange(request).await;
            let wait = match &result {
                Err(AuthorityError::Http(HttpError::Unreachable { untrusted: false, .. })) => None,
                Ok(response) if is_trouble(response.status) => self.hold_of(response),
                _ => Some(Duration::MAX),
            };
            let wait = wait.unwrap_or(Duration::from_millis(400 << tries));
            if tries >= TROUBLE_TRIES || wait > LONGEST_RETRY_AFTER {
                let response = result?;
                return match response.success() {
                    // A nonce may come with any answer.
                    Err(AcmeError::Problem(_)) if step == Step::Nonce => Ok(response),
                    Err(AcmeError::Problem(problem)) => Err(refused(step, &request.url, problem)),
                    _ => Ok(response),
                };
            }
            tokio::time::sleep(wait).await;
        }
    }

    fn hold_of(&self, response: &Response) -> Option<Duration> {
        let wait = retry_after(response.retry_after.as_deref()?, (self.now)())?;
        Duration::try_from(wait).ok()
    }

    async fn exchange(&mut self, request: &Request) -> Result<Response, AuthorityError> {
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
        let sent = sending.send().await.map_err(failed)?;
        let mut response = head_of(&sent);
        response.body = http::body(sent, LARGEST_RESPONSE, &request.url, self.longest).await?;
        self.nonces.extend(response.nonce.clone());
        (self.progress)(&Progress::Request { method: word, url: request.url.clone(), status: response.status });
        Ok(response)
    }

    /// Forgets the account when the authority does not know it, so that the next try asks for a new one.
    pub fn forget_account(&mut self, name: &str, store: &Store) -> Result<(), StoreError> {
        store.forget_account(name, &self.directory_url)?;
        self.signer.forget_account();
        self.contact = None;
        Ok(())
    }

    /// Returns when the authority may be asked again after it said that it was asked too often, if that is within the run's time.
    pub fn asks_to_wait(&self, error: &AuthorityError) -> Option<Timestamp> {
        let problem = error.problem().filter(|problem| problem.status == 429)?;
        let now = (self.now)();
        let wait = retry_after(problem.retry_after.as_deref()?, now)?;
        (Duration::try_from(wait).ok()? <= self.timeout).then(|| now + wait)
    }

    /// Returns the time until which an answer asks to wait.
    pub fn ask_again(&self, response: &Response, asked: u32) -> Timestamp {
        let now = (self.now)();
        let hint = response.retry_after.as_deref().and_then(|v| retry_after(v, now));
        // A nonce is as good as a die, and the run has one at hand.
        let jitter = self.nonces.last().map_or(0.5, |n| f64::from(n.bytes().fold(0_u8, u8::wrapping_add)) / 255.0);
        now + eskort_core::journey::poll_delay(asked, hint, jitter)
    }
}

fn refused(step: Step, url: &str, problem: Box<Problem>) -> AuthorityError {
    AuthorityError::Refused { step, url: eskort_core::words::printable(url, 200), problem }
}

fn new_account_key(name: &str, store: &Store) -> Result<PrivateKey, AuthorityError> {
    let path = store.account_key_path(name);
    let key = PrivateKey::generate(KeyKind::P256).map_err(|source| AuthorityError::AccountKey { path, source })?;
    store.save_account_key(name, &key)?;
    Ok(key)
}

fn head_of(response: &reqwest::Response) -> Response {
    let text = |name: &str| response.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let usable = |n: &String| n.len() <= 512 && n.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b));
    let links = response.headers().get_all("link").iter().filter_map(|v| v.to_str().ok());
    let links: Vec<&str> = links.flat_map(|line| line.split(",<")).collect();
    let of = |rel: &str| {
        let links = links.iter().filter(|link| link.contains(rel));
        let targets = links.filter_map(|link| link.trim().trim_start_matches('<').split('>').next());
        let absolute = targets.filter_map(|target| response.url().join(target).ok());
        absolute.map(|url| url.to_string()).take(10).collect::<Vec<_>>()
    };
    Response {
        status: response.status().as_u16(),
        content_type: text("content-type").unwrap_or_default(),
        // RFC 9110 section 10.2.2: it may be relative to the address that was asked for.
        location: text("location").and_then(|to| response.url().join(&to).ok()).map(|url| url.to_string()),
        retry_after: text("retry-after"),
        nonce: text("replay-nonce").filter(usable),
        alternates: of("rel=\"alternate\""),
        terms: of("rel=\"terms-of-service\"").into_iter().next(),
        body: Vec::new(),
    }
}

fn http_client(authority: &AcmeAuthority, longest: Duration) -> Result<reqwest::Client, AuthorityError> {
    let mut builder = http::client(&authority.directory)
        .https_only(true)
        .redirect(reqwest::redirect::Policy::limited(3))
        // Shorter than any server's timeout, so that no request goes into a connection that is just being closed.
        .pool_idle_timeout(Duration::from_secs(20))
        .connect_timeout(longest.min(Duration::from_secs(10)))
        .timeout(longest);
    if let Some(path) = &authority.api_roots {
        let roots = http::roots(path).map_err(|why| AuthorityError::File { path: path.clone(), why })?;
        builder = builder.tls_certs_only(roots);
    }
    builder.build().map_err(|e| failure(&authority.directory, longest, &e).into())
}

fn external_binding(authority: &AcmeAuthority) -> Result<Option<ExternalBinding>, AuthorityError> {
    let Some(external) = &authority.external_account else { return Ok(None) };
    let fail = |why: String| AuthorityError::File { path: external.key_file.clone(), why };
    let text = obeyed::read_text(&external.key_file).map_err(fail)?;
    let key = base64url_decode(&text).filter(|k| !k.is_empty());
    let key = key.ok_or_else(|| fail("it should hold the key in base64url, and nothing else".into()))?;
    Ok(Some(ExternalBinding { key_id: external.key_id.clone(), mac_key: Secret::new(key) }))
}
