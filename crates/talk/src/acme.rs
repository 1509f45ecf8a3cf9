//! Talks to an ACME authority: sends requests, keeps nonces, tries again what may be tried again.

mod account;
mod wait;

use crate::AuthorityError;
use crate::http::{self, HttpError, failure, is_trouble};
use eskort_acme::{
    AcmeError, Directory, ExternalBinding, LARGEST_RESPONSE, Method, Problem, Request, Response, Signer, Step,
    change_contact, http_date, is_account_usable, new_account, parse_account, parse_directory, parse_renewal_info,
    post_as_get, retry_after,
};
use eskort_core::boxed;
use eskort_core::context::{Clock, Context};
use eskort_core::inventory::AcmeAuthority;
use eskort_core::pki::{KeyKind, PrivateKey, Secret, base64url_decode};
use eskort_core::progress::{Progress, Teller};
use eskort_core::renewal::Window;
use eskort_core::words;
use eskort_host::obeyed;
use eskort_store::{AccountRow, Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;
use tokio::sync::OnceCell;

/// So many refused nonces in a row cost no pause; after that each costs a little more.
const QUICK_NONCES: u32 = 12;
const LONGEST_PAUSE: Duration = Duration::from_secs(2);
/// No more nonces are kept than this.
const MOST_NONCES: usize = 64;
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

/// The account at an authority: what signs as it, and what the authority was told of it.
struct Account {
    /// Signs; knows the account's address, once there is one.
    signer: Arc<Signer>,
    /// The contact that the authority was last told.
    contact: Option<String>,
}

/// Makes a request, signed with an account's key and a nonce.
type Make<'m> = dyn Fn(&Signer, &str) -> Result<Request, AcmeError> + Send + Sync + 'm;

/// One authority, for one run: what all orders there share.
struct Shared {
    name: String,
    authority: AcmeAuthority,
    /// Whom the authority may write to.
    wanted_contact: Option<String>,
    http: reqwest::Client,
    directory: OnceCell<Directory>,
    /// Fresh nonces, the newest last.
    nonces: Mutex<Vec<String>>,
    account: Mutex<Account>,
    /// Whether an account that was known was looked after.
    known_account: OnceCell<()>,
    /// By how much this machine's clock is ahead of the authority's, once that is known.
    ahead: OnceLock<SignedDuration>,
    /// Held while the account is looked after: one asks for it, and the others find it.
    account_care: tokio::sync::Mutex<()>,
    usual: Mutex<wait::Usual>,
    longest: Duration,
    timeout: Duration,
    clock: Clock,
}

/// A conversation with an authority. Clones share all that the authority gave: directory, account, nonces, connections.
#[derive(Clone)]
pub struct Conversation {
    shared: Arc<Shared>,
    progress: Teller,
}

impl Conversation {
    /// Opens a conversation; nothing is sent yet. An account that was made with another key is forgotten: the same key is the only
    /// way to use it.
    ///
    /// # Errors
    /// When the account key or a file of the inventory cannot be used, or when the authority does not speak ACME.
    #[boxed]
    pub async fn open(
        context: &Context,
        name: &str,
        acme: &AcmeAuthority,
        store: &Store,
    ) -> Result<Self, AuthorityError> {
        let timeout = context.inventory.authorities[name].timeout;
        let path = store.account_key_path(name);
        let key_error = |source| AuthorityError::AccountKey { path: path.clone(), source };
        let mut account = store.account(name, &acme.directory).await?;
        let key = match store.account_key(name)? {
            Some(pem) => PrivateKey::from_pem(&pem).map_err(key_error)?,
            None => {
                // Whatever account there was, its key is gone.
                if account.take().is_some() {
                    store.forget_account(name, &acme.directory).await?;
                }
                new_account_key(name, store)?
            }
        };
        let mut signer = Signer::new(key, None);
        let thumbprint = signer.thumbprint();
        if account.as_ref().and_then(|account| account.thumbprint.as_ref()).is_some_and(|of| *of != thumbprint) {
            store.forget_account(name, &acme.directory).await?;
            account = None;
        }
        let contact = account.as_ref().and_then(|account| account.contact.clone());
        if let Some(account) = account {
            signer.set_account(account.url);
        }
        let longest = timeout.min(LONGEST_ANSWER);
        let shared = Shared {
            name: name.to_owned(),
            authority: acme.clone(),
            wanted_contact: acme.contact.clone().or_else(|| context.inventory.contact.clone()),
            http: http_client(acme, longest)?,
            directory: OnceCell::new(),
            nonces: Mutex::default(),
            account: Mutex::new(Account { signer: Arc::new(signer), contact }),
            known_account: OnceCell::new(),
            ahead: OnceLock::new(),
            account_care: tokio::sync::Mutex::default(),
            usual: Mutex::default(),
            longest,
            timeout,
            clock: context.clock.clone(),
        };
        Ok(Conversation { shared: Arc::new(shared), progress: context.progress.clone() })
    }

    /// Returns the same conversation, which tells how it goes elsewhere.
    pub fn telling(&self, progress: &Teller) -> Self {
        Conversation { shared: Arc::clone(&self.shared), progress: progress.clone() }
    }

    /// Returns whether the authority has answered.
    pub fn has_reached(&self) -> bool {
        self.shared.directory.initialized()
    }

    /// Returns what signs just now.
    pub fn signer(&self) -> Arc<Signer> {
        Arc::clone(&self.account().signer)
    }

    fn account(&self) -> MutexGuard<'_, Account> {
        self.shared.account.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn nonces(&self) -> MutexGuard<'_, Vec<String>> {
        self.shared.nonces.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the directory; it is fetched once a run.
    ///
    /// # Errors
    /// When it cannot be had, or is none.
    pub async fn directory(&self) -> Result<&Directory, AuthorityError> {
        self.shared.directory.get_or_try_init(|| self.fetch_directory()).await
    }

    #[boxed]
    async fn fetch_directory(&self) -> Result<Directory, AuthorityError> {
        let url = self.shared.authority.directory.clone();
        let response = self.fetch(Step::Directory, &Request { method: Method::Get, url, body: None }).await?;
        Ok(parse_directory(&response)?)
    }

    /// Asks when a certificate is to be renewed (RFC 9773 section 4.1). Returns the window and, where the authority says it, after which time to ask
    /// again; `None` from an authority that does not speak of renewals.
    ///
    /// # Errors
    /// When no answer comes, or one that is no renewal information.
    #[boxed]
    pub async fn renewal_info(&self, id: &str) -> Result<Option<(Window, Option<Duration>)>, AuthorityError> {
        let Some(base) = &self.directory().await?.renewal_info else { return Ok(None) };
        let url = format!("{}/{id}", base.trim_end_matches('/'));
        let response = self.fetch(Step::RenewalInfo, &Request { method: Method::Get, url, body: None }).await?;
        let again = self.hold_of(&response);
        Ok(Some((parse_renewal_info(&response)?, again)))
    }

    /// Makes sure that there is an account: known from the ledger, or asked for.
    ///
    /// # Errors
    /// When the terms are not agreed to, an external account is lacking, or the authority refuses.
    #[boxed]
    pub async fn ensure_account(&self, store: &Store) -> Result<(), AuthorityError> {
        let (authority, contact) = (&self.shared.authority, self.shared.wanted_contact.as_deref());
        let _care = self.shared.account_care.lock().await;
        // Once is enough: others may wait for their orders.
        let known = || async {
            self.finish_key_change(store).await?;
            if self.signer().account().is_some() { self.look_at_terms(store).await } else { Ok(()) }
        };
        self.shared.known_account.get_or_try_init(known).await?;
        let signer = self.signer();
        if let Some(url) = signer.account() {
            if self.account().contact.as_deref() != contact {
                self.bring_contact(url, contact, store).await?;
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
        let make = |s: &Signer, nonce: &str| new_account(s, nonce, directory, contact, agreed, binding.as_ref());
        let response = self.send(Step::Account, Repeat::Idempotent, make).await?;
        let url = parse_account(&response)?;
        // RFC 8555 section 7.3.1: 201 for a new one, 200 for one that the key had already.
        if response.status == 201 {
            let agreed = terms.map(|url| format!("; the authority's terms are agreed to: {url}")).unwrap_or_default();
            self.progress.tell(&Progress::Note(format!("a new account{agreed}")));
        }
        self.save_account(&url, contact, store).await?;
        if let Some(terms) = &directory.meta.terms_of_service {
            store.save_terms(&self.shared.name, &authority.directory, terms).await?;
        }
        Ok(())
    }

    /// Writes down how the clocks stand, and says once that the authority's terms are others than those that were agreed to.
    async fn look_at_terms(&self, store: &Store) -> Result<(), AuthorityError> {
        // Its answer brings the time, too.
        self.directory().await?;
        let (name, directory) = (&self.shared.name, &self.shared.authority.directory);
        if let Some(ahead) = self.shared.ahead.get() {
            store.save_clock(name, directory, *ahead).await?;
        }
        let Some(now) = self.directory().await?.meta.terms_of_service.as_ref() else { return Ok(()) };
        let before = store.terms(name, directory).await?;
        if before.as_ref() == Some(now) {
            return Ok(());
        }
        if let Some(before) = before {
            let [now, before] = [now, &before].map(|terms| eskort_core::words::printable(terms, 200));
            self.progress
                .tell(&Progress::Note(format!("the authority's terms have changed: {now} (before: {before})")));
        }
        Ok(store.save_terms(name, directory, now).await?)
    }

    async fn save_account(&self, url: &str, contact: Option<&str>, store: &Store) -> Result<(), StoreError> {
        let Shared { name, authority, clock, .. } = &*self.shared;
        let contact = contact.map(str::to_owned);
        let mut signer = Signer::clone(&self.signer());
        let row = AccountRow { url: url.to_owned(), thumbprint: Some(signer.thumbprint()), contact: contact.clone() };
        store.save_account(name, &authority.directory, &row, clock.now()).await?;
        signer.set_account(url.to_owned());
        *self.account() = Account { signer: Arc::new(signer), contact };
        Ok(())
    }

    /// Tells the authority a contact that has changed. That it does not take it is no reason not to renew.
    async fn bring_contact(&self, account: &str, contact: Option<&str>, store: &Store) -> Result<(), AuthorityError> {
        let make = |s: &Signer, nonce: &str| change_contact(s, nonce, account, contact);
        match self.send(Step::Account, Repeat::Idempotent, make).await {
            Ok(_) => Ok(self.save_account(account, contact, store).await?),
            Err(AuthorityError::Refused { problem, .. }) if problem.kind.ends_with("Contact") => {
                let text = format!("the authority does not take the new contact: {problem}");
                self.progress.tell(&Progress::Note(text));
                // It is told once in a run.
                self.account().contact = contact.map(str::to_owned);
                Ok(())
            }
            Err(error) => Err(error),
        }
    }

    /// Begins anew with another account, where the authority has ended the one at `url`: with a new key, since the old one stays
    /// bound to it. The old key is kept beside the new one. Somebody else may have done so already.
    ///
    /// # Errors
    /// When the ledger or a key file cannot be written.
    #[boxed]
    pub async fn leave_account(&self, url: &str, store: &Store) -> Result<(), AuthorityError> {
        let _care = self.shared.account_care.lock().await;
        if self.signer().account() != Some(url) {
            return Ok(());
        }
        let Shared { name, authority, clock, .. } = &*self.shared;
        let aside = store.put_account_key_aside(name, clock.now())?;
        store.forget_account(name, &authority.directory).await?;
        let signer = Arc::new(Signer::new(new_account_key(name, store)?, None));
        *self.account() = Account { signer, contact: None };
        let text = format!("the account's key is kept in {}; a new account is asked for", aside.display());
        self.progress.tell(&Progress::Note(text));
        Ok(())
    }

    /// Forgets the account when the authority does not know it, so that the next try asks for a new one. `url` is the one that
    /// it did not know.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    #[boxed]
    pub async fn forget_account(&self, url: &str, store: &Store) -> Result<(), StoreError> {
        let _care = self.shared.account_care.lock().await;
        if self.signer().account() != Some(url) {
            return Ok(());
        }
        store.forget_account(&self.shared.name, &self.shared.authority.directory).await?;
        let mut signer = Signer::clone(&self.signer());
        signer.forget_account();
        *self.account() = Account { signer: Arc::new(signer), contact: None };
        Ok(())
    }

    /// Looks after a refusal that may mean that the account is ended, and says so then.
    #[boxed]
    pub async fn explain(&self, error: AuthorityError) -> AuthorityError {
        let ours = matches!(&error, AuthorityError::Refused { step, problem, .. }
            if *step != Step::Challenge && problem.kind == "unauthorized");
        let signer = self.signer();
        let Some(url) = signer.account().filter(|_| ours).map(str::to_owned) else { return error };
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
        &self,
        step: Step,
        repeat: Repeat,
        make: impl Fn(&Signer, &str) -> Result<Request, AcmeError> + Send + Sync,
    ) -> Result<Response, AuthorityError> {
        self.send_made(step, repeat, &make).await
    }

    #[boxed]
    async fn send_made(&self, step: Step, repeat: Repeat, make: &Make<'_>) -> Result<Response, AuthorityError> {
        let begun = self.shared.clock.now();
        let mut troubles = 0;
        let mut nonces: u32 = 0;
        let mut trouble: Option<AuthorityError> = None;
        loop {
            let nonce = self.nonce().await?;
            let request = make(&self.signer(), &nonce)?;
            let sent = self.exchange(&request).await;
            let refusal = match &sent {
                Ok(response) => response.success().err(),
                Err(_) => None,
            };
            if let Some(AcmeError::Problem(problem)) = &refusal
                && problem.is_bad_nonce()
            {
                nonces += 1;
                if self.elapsed_since(begun) >= self.shared.timeout {
                    return Err(trouble.unwrap_or_else(|| refused(step, &request.url, problem.clone())));
                }
                let pause = Duration::from_millis(50) * nonces.saturating_sub(QUICK_NONCES);
                self.shared.clock.wait(pause.min(LONGEST_PAUSE)).await;
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
            self.shared.clock.wait(wait).await;
        }
    }

    async fn nonce(&self) -> Result<String, AuthorityError> {
        if let Some(nonce) = self.nonces().pop() {
            return Ok(nonce);
        }
        let url = self.directory().await?.new_nonce.clone();
        // The directory's answer may have brought one (RFC 8555 section 6.5 lets any answer do so).
        if let Some(nonce) = self.nonces().pop() {
            return Ok(nonce);
        }
        let answer = self.fetch(Step::Nonce, &Request { method: Method::Head, url, body: None }).await?;
        let found = "an answer without Replay-Nonce".to_owned();
        answer.nonce.ok_or(AcmeError::NotProtocol { expected: "a fresh nonce", found }.into())
    }

    /// Sends a request that is not signed, again after the authority's own trouble.
    async fn fetch(&self, step: Step, request: &Request) -> Result<Response, AuthorityError> {
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
            self.shared.clock.wait(wait).await;
        }
    }

    fn elapsed_since(&self, begun: Timestamp) -> Duration {
        self.shared.clock.now().duration_since(begun).unsigned_abs()
    }

    fn hold_of(&self, response: &Response) -> Option<Duration> {
        let wait = retry_after(response.retry_after.as_deref()?, self.shared.clock.now())?;
        Duration::try_from(wait).ok()
    }

    async fn exchange(&self, request: &Request) -> Result<Response, AuthorityError> {
        let (method, word) = match request.method {
            Method::Get => (reqwest::Method::GET, "GET"),
            Method::Head => (reqwest::Method::HEAD, "HEAD"),
            Method::Post => (reqwest::Method::POST, "POST"),
        };
        let mut sending = self.shared.http.request(method, &request.url);
        if let Some(body) = &request.body {
            sending = sending.header("content-type", "application/jose+json").body(body.clone());
        }
        let failed = |e| failure(&request.url, self.shared.longest, &e);
        let sent = sending.send().await.map_err(failed)?;
        let mut response = head_of(&sent);
        self.compare_clocks(&response);
        response.body = http::body(sent, LARGEST_RESPONSE, &request.url, self.shared.longest).await?;
        // One that was asked for is for who asked.
        if let Some(nonce) = response.nonce.clone().filter(|_| request.method != Method::Head) {
            let mut nonces = self.nonces();
            // The oldest are the first that the authority forgets.
            if nonces.len() >= MOST_NONCES {
                nonces.remove(0);
            }
            nonces.push(nonce);
        }
        self.progress.tell(&Progress::Request { method: word, url: request.url.clone(), status: response.status });
        Ok(response)
    }

    /// Compares this machine's clock with the authority's, once, and says when one of them is wrong.
    fn compare_clocks(&self, response: &Response) {
        let now = self.shared.clock.now();
        let Some(theirs) = response.date.as_deref().and_then(|date| http_date(date, now)) else { return };
        let ahead = now.duration_since(theirs);
        let is_first = self.shared.ahead.set(ahead).is_ok();
        if let Some(off) = words::clock_off(ahead).filter(|_| is_first) {
            let text = format!("this machine's clock is {off} that of `{}`: set it right", self.shared.name);
            self.progress.tell(&Progress::Note(text));
        }
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
        next: of("rel=\"next\"").into_iter().next(),
        date: text("date"),
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
