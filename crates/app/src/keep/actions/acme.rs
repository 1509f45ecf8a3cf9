//! The steps at an ACME authority, from the challenges to the chain.

use super::waiting::Waiting;
use super::work::{Work, beside};
use crate::StepError;
use crate::by_hand::answer::fitting;
use crate::keep::domain::{Caa, look_at_caa, resolver};
use eskort_acme::{
    AcmeError, Authorization, NewOrder, Order, OrderStatus, Problem, Rejected, Response, Signer, Step, finalize,
    has_looked, new_order, parse_authorization, parse_certificate, parse_order, post_as_get, respond_to_challenge,
};
use eskort_core::caa::Issuance;
use eskort_core::challenge::ChallengeKind;
use eskort_core::context::Context;
use eskort_core::inventory::{DnsProof, Proof, RecordWriter};
use eskort_core::journey::{OrderRef, Outcome, ProofTask, WaitsFor};
use eskort_core::names::Identifier;
use eskort_core::pki::{Certificate, Chain, ChainError};
use eskort_core::progress::{NameState, Progress};
use eskort_core::record::{Record, StandingRecord, account_record, challenge_record};
use eskort_core::words;
use eskort_dns::KnownCaa;
use eskort_store::Store;
use eskort_talk::{AuthorityError, Conversation, Repeat};
use futures_util::future::{BoxFuture, try_join_all};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// After so many pauses the wait for the authority is more than a moment.
const LONG_WAIT: u32 = 5;
/// What an answer to a challenge says of later is obeyed so far: the order says itself when to ask for it again.
const LONGEST_FIRST_PAUSE: SignedDuration = SignedDuration::from_secs(10);
/// How often an empty answer is taken for one that is not there yet.
const EMPTY_TRIES: u32 = 4;
/// How many names are asked about one by one.
const MOST_ASKED: usize = 25;

/// How an order stands, when the authority says so.
enum OrderNow {
    /// The order, and the answer it came in.
    Is(Box<(Order, Response)>),
    /// It was asked for too often: not to be asked for again before this instant.
    AskAgain(Timestamp),
}

/// The conversations of a run with ACME authorities, each begun when it is first needed.
#[derive(Default)]
pub(crate) struct Conversations {
    open: Mutex<BTreeMap<String, Conversation>>,
    /// Held while one is opened: the account's key is made once.
    opening: tokio::sync::Mutex<()>,
}

impl Conversations {
    fn all(&self) -> MutexGuard<'_, BTreeMap<String, Conversation>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the conversation with an authority of the inventory.
    pub(crate) async fn with(&self, context: &Context, store: &Store, name: &str) -> Result<Conversation, StepError> {
        let known = || self.all().get(name).map(|known| known.telling(&context.progress));
        if let Some(known) = known() {
            return Ok(known);
        }
        let _opening = self.opening.lock().await;
        if let Some(known) = known() {
            return Ok(known);
        }
        let authority = &context.inventory.authorities[name];
        let acme = authority.acme().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
        let opened = Conversation::open(context, name, acme, store).await?;
        self.all().insert(name.to_owned(), opened.clone());
        Ok(opened)
    }

    /// Returns whether an authority has answered in this run, or is not talked to over ACME.
    pub(crate) fn has_reached(&self, name: &str) -> bool {
        self.all().get(name).is_none_or(Conversation::has_reached)
    }

    /// Ends all conversations: they are begun anew where they are needed.
    pub(crate) fn end(&self) {
        self.all().clear();
    }
}

/// The conversation with an ACME authority about one order, and what is known of that.
pub(crate) struct AcmeOrders<'a> {
    conversations: &'a Conversations,
    /// What was seen of each authorization during a long wait: its name, and whether it is proved.
    seen: BTreeMap<String, (String, bool)>,
    waiting: Waiting,
    /// The address of an order that was ready when it was made.
    ready_order: Option<String>,
}

impl<'a> AcmeOrders<'a> {
    pub(crate) fn new(conversations: &'a Conversations) -> Self {
        AcmeOrders { conversations, seen: BTreeMap::new(), waiting: Waiting::default(), ready_order: None }
    }
}

impl AcmeOrders<'_> {
    /// Returns the conversation with the journey's authority, begun when it is first needed.
    pub(super) async fn conversation(&self, work: &Work<'_>) -> Result<Conversation, StepError> {
        self.conversations.with(work.context, work.store, &work.specification.authority).await
    }

    /// After a refusal that is about the account: forgets one that the authority does not know, and leaves one that it has ended,
    /// so that the next order is placed with a new one. Returns what to say.
    pub(super) async fn look_after_account(
        &self,
        work: &Work<'_>,
        error: AuthorityError,
    ) -> Result<AuthorityError, StepError> {
        if !work.talks_acme() {
            return Ok(error);
        }
        let conversation = self.conversation(work).await?;
        let used = conversation.signer();
        let error = conversation.explain(error).await;
        match (&error, used.account()) {
            (AuthorityError::AccountEnded { url }, _) => conversation.leave_account(url, work.store).await?,
            (other, Some(url)) if other.problem().is_some_and(|p| p.kind == "accountDoesNotExist") => {
                conversation.forget_account(url, work.store).await?;
            }
            _ => {}
        }
        Ok(error)
    }

    /// Looks whether the domains of all names let the authority issue: it would look itself, and refuse only after the order. Who asks
    /// for the certificate by its name insists: the authority may see another zone than this machine does.
    pub(super) async fn look_at_domains(&self, work: &Work<'_>) -> Result<(), StepError> {
        if !work.talks_acme() || work.insist {
            return Ok(());
        }
        let conversation = self.conversation(work).await?;
        let identities = conversation.directory().await?.meta.caa_identities.clone();
        if identities.is_empty() {
            return Ok(());
        }
        let Some(resolver) = *work.resolver.get_or_init(resolver).await else { return Ok(()) };
        let (used, known) = (conversation.signer(), KnownCaa::default());
        let look = |name: &Identifier| -> BoxFuture<'_, Result<(), StepError>> {
            let proof = work.context.inventory.proof_of(work.entry, name).map(|(_, proof)| proof);
            let method = proof.and_then(|proof| proof.challenges().first()).map_or("", |kind| kind.word());
            let (name, identities, account, known) = (name.clone(), &identities, used.account(), &known);
            Box::pin(async move {
                let issuance = Issuance { identities, wildcard: name.is_wildcard(), account, method };
                match look_at_caa(&name.to_string(), &issuance, resolver, known).await {
                    Some(Caa::Forbids { text, advice }) => Err(StepError::Forbidden { name, text, advice }),
                    _ => Ok(()),
                }
            })
        };
        let domains = work.specification.names.iter().filter(|name| name.address().is_none());
        try_join_all(domains.map(look)).await.map(drop)
    }

    pub(super) async fn place_order(&mut self, work: &Work<'_>) -> Result<Outcome, StepError> {
        let (context, store) = (work.context, work.store);
        let conversation = self.conversation(work).await?;
        let mut replaces = match conversation.directory().await?.renewal_info {
            Some(_) => replaced(work).await?,
            None => None,
        };
        let profile = work.entry.profile.as_deref();
        let offered = &conversation.directory().await?.meta.profiles;
        if let Some(wanted) = profile.filter(|wanted| !offered.contains_key(*wanted)) {
            let offered = offered.keys().map(|name| words::printable(name, 60)).collect();
            return Err(StepError::NoProfile { wanted: wanted.to_owned(), offered });
        }
        let mut tries = 0;
        let response = loop {
            conversation.ensure_account(store).await?;
            let used = conversation.signer();
            let directory = conversation.directory().await?;
            let names = &work.specification.names;
            let order = NewOrder { identifiers: names, replaces: replaces.as_deref(), profile };
            let sent = conversation.send(Step::NewOrder, Repeat::Once, |s, n| new_order(s, n, directory, &order)).await;
            tries += 1;
            let error = match sent {
                Ok(response) => break response,
                Err(error) => conversation.explain(error).await,
            };
            match &error {
                AuthorityError::AccountEnded { url } if tries == 1 => {
                    let text = format!("the authority has ended the account {url}");
                    context.report(&Progress::Note(text));
                    conversation.leave_account(url, store).await?;
                }
                // That it was replaced before, or by somebody else, keeps nobody from a new one (RFC 9773 section 5).
                other if replaces.is_some() && other.problem().is_some_and(is_about_replacing) => {
                    let said = other.problem().map(|problem| problem.kind.clone()).unwrap_or_default();
                    let text = format!(
                        "the authority does not take the order as a replacement (`{said}`): it is placed without that word"
                    );
                    context.report(&Progress::Note(text));
                    (replaces, tries) = (None, 0);
                }
                other if tries == 1 && other.problem().is_some_and(|p| p.kind == "accountDoesNotExist") => {
                    conversation.forget_account(used.account().unwrap_or_default(), store).await?;
                }
                _ => return Err(error.into()),
            }
        };
        let order = parse_order(&response).map_err(AuthorityError::from)?;
        let wrong = |found: &str| {
            AuthorityError::from(AcmeError::NotProtocol {
                expected: "the order that was asked for",
                found: found.into(),
            })
        };
        if order.authorizations.len() > work.specification.names.len() {
            return Err(wrong("it has more authorizations than names").into());
        }
        let url = response.location.ok_or_else(|| wrong("it has no Location"))?;
        if !url.starts_with("https://") {
            return Err(wrong("its Location does not begin with https://").into());
        }
        self.ready_order = (order.status == OrderStatus::Ready).then(|| url.clone());
        Ok(Outcome::Ordered(OrderRef { url, finalize: order.finalize, authorizations: order.authorizations }))
    }

    pub(super) async fn ask(&self, work: &Work<'_>, step: Step, url: &str) -> Result<Response, StepError> {
        Ok(self.conversation(work).await?.send(step, Repeat::Idempotent, |s, n| post_as_get(s, n, url)).await?)
    }

    pub(super) async fn ask_order(&self, work: &Work<'_>, order: &OrderRef) -> Result<(Order, Response), StepError> {
        let response = self.ask(work, Step::Order, &order.url).await?;
        Ok((parse_order(&response).map_err(AuthorityError::from)?, response))
    }

    async fn ask_authorization(&self, work: &Work<'_>, url: &str) -> Result<Authorization, StepError> {
        let response = self.ask(work, Step::Authorization, url).await?;
        Ok(parse_authorization(&response).map_err(AuthorityError::from)?)
    }

    pub(super) async fn choose_challenges(&mut self, work: &Work<'_>, order: &OrderRef) -> Result<Outcome, StepError> {
        // An order that was ready when it was made has nothing left to prove.
        if self.ready_order.as_ref() == Some(&order.url) {
            return Ok(Outcome::Challenges(Vec::new()));
        }
        let mut tasks = Vec::new();
        let mut rejected = Vec::new();
        for url in &order.authorizations {
            let authorization = self.ask_authorization(work, url).await?;
            match authorization.failed {
                Some(failed) => rejected.push(failed),
                None if authorization.proved => {}
                None => tasks.push(self.choose_challenge(work, authorization).await?),
            }
        }
        if !rejected.is_empty() {
            return Err(AuthorityError::Rejected(rejected).into());
        }
        Ok(Outcome::Challenges(tasks))
    }

    /// Chooses the challenge that the name's proof can meet, and says what to publish for it.
    async fn choose_challenge(&self, work: &Work<'_>, authorization: Authorization) -> Result<ProofTask, StepError> {
        let base = Identifier::parse_any(&authorization.name).ok();
        let ours =
            |n: &&Identifier| n.is_wildcard() == authorization.wildcard && base.as_ref() == Some(&n.without_wildcard());
        let foreign = || AcmeError::NotProtocol {
            expected: "an authorization for a name of the order",
            found: format!("one for `{}`", authorization.name),
        };
        let name =
            work.specification.names.iter().find(ours).ok_or_else(foreign).map_err(AuthorityError::from)?.clone();
        let (proof_name, proof) =
            work.context.inventory.proof_of(work.entry, &name).expect("an ACME order has its proofs");
        let proof_name = proof_name.to_owned();
        let offered = |kind: &ChallengeKind| Some((*kind, authorization.challenge(*kind)?));
        let all: Vec<_> = proof.challenges().iter().filter_map(offered).collect();
        let good = all.iter().position(|(_, challenge)| challenge.is_ok());
        let Some((kind, challenge)) = all.into_iter().nth(good.unwrap_or(0)) else {
            let challenges = proof.challenges().iter().map(|kind| kind.word()).collect();
            return Err(StepError::NoChallenge { name: name.to_string(), challenges });
        };
        let challenge = challenge.map_err(AuthorityError::from)?.clone();
        let signer = self.conversation(work).await?.signer();
        let key_authorization = match kind {
            ChallengeKind::DnsPersist01 => String::new(),
            ChallengeKind::Http01 | ChallengeKind::Dns01 | ChallengeKind::DnsAccount01 | ChallengeKind::TlsAlpn01 => {
                signer.key_authorization(&challenge.token)
            }
        };
        let account = signer.account().unwrap_or_default().to_owned();
        let record = match kind {
            ChallengeKind::Http01 | ChallengeKind::TlsAlpn01 => None,
            ChallengeKind::Dns01 => Some(challenge_record(&name.base(), &key_authorization)),
            ChallengeKind::DnsAccount01 => Some(account_record(&name.base(), &account, &key_authorization)),
            ChallengeKind::DnsPersist01 => {
                let issuer = challenge.issuers[0].clone();
                Some(self.standing_record(work, proof, &name, issuer, account))
            }
        };
        let (challenge, token) = (challenge.url, challenge.token);
        Ok(ProofTask { name, challenge, token, key_authorization, kind, proof: Some(proof_name), record })
    }

    /// One record serves a name and its wildcard alike.
    fn standing_record(
        &self,
        work: &Work<'_>,
        proof: &Proof,
        name: &Identifier,
        issuer: String,
        account: String,
    ) -> Record {
        let (wildcard, until) = match proof {
            Proof::Dns(DnsProof { writer: RecordWriter::Standing { wildcard, until }, .. }) => (*wildcard, *until),
            _ => (false, None),
        };
        let has_wildcard = work.specification.names.iter().any(|n| n.is_wildcard() && n.base() == name.base());
        StandingRecord { issuer, account, wildcard: wildcard || has_wildcard, until }.record(&name.base())
    }

    pub(super) async fn respond(
        &mut self,
        work: &Work<'_>,
        order: &OrderRef,
        tasks: &[ProofTask],
    ) -> Result<Outcome, StepError> {
        let now = work.context.now();
        let mut ask_again = now;
        for task in tasks {
            let make = |s: &Signer, n: &str| respond_to_challenge(s, n, &task.challenge);
            let conversation = self.conversation(work).await?;
            let error = match conversation.send(Step::Challenge, Repeat::Idempotent, make).await {
                // Asked at once, an authority that only begins to look has nothing to say yet.
                Ok(response) if !has_looked(&response) => {
                    ask_again = ask_again
                        .max(conversation.ask_again(&response, WaitsFor::Validation, 0))
                        .min(now + LONGEST_FIRST_PAUSE);
                    continue;
                }
                Ok(_) => continue,
                Err(error) => error,
            };
            // A cut connection, or an earlier run: it may have got through already. The authorization knows.
            let refused = error.problem().is_some_and(|p| (400..500).contains(&p.status) && p.status != 429);
            if !refused || !self.was_told(work, order, task).await? {
                return Err(error.into());
            }
        }
        self.waiting = Waiting::begin();
        Ok(Outcome::Responded { ask_again })
    }

    /// Returns whether a task's challenge was responded to, whatever the authority made of it.
    async fn was_told(&self, work: &Work<'_>, order: &OrderRef, task: &ProofTask) -> Result<bool, StepError> {
        for url in &order.authorizations {
            let found = self.ask_authorization(work, url).await?;
            if found.wildcard == task.name.is_wildcard() && found.name.eq_ignore_ascii_case(&task.name.base()) {
                return Ok(found.responded);
            }
        }
        Ok(false)
    }

    /// Asks for the order.
    async fn order_now(&self, work: &Work<'_>, order: &OrderRef) -> Result<OrderNow, StepError> {
        match self.ask_order(work, order).await {
            Ok((order, response)) => Ok(OrderNow::Is(Box::new((order, response)))),
            Err(StepError::Authority(error)) => match self.conversation(work).await?.asks_to_wait(&error) {
                Some(ask_again) => Ok(OrderNow::AskAgain(ask_again)),
                None => Err(error.into()),
            },
            Err(other) => Err(other),
        }
    }

    pub(super) async fn await_proof(
        &mut self,
        work: &Work<'_>,
        order_ref: &OrderRef,
        polls: u32,
    ) -> Result<Outcome, StepError> {
        let (order, response) = match self.order_now(work, order_ref).await? {
            OrderNow::Is(found) => *found,
            OrderNow::AskAgain(ask_again) => return Ok(Outcome::NotYet { ask_again }),
        };
        match order.status {
            OrderStatus::Pending => {
                self.say_who_waits(work, order_ref, polls).await;
                self.waiting.goes_on();
                let ask_again = self.conversation(work).await?.ask_again(&response, WaitsFor::Validation, polls);
                Ok(Outcome::NotYet { ask_again })
            }
            OrderStatus::Ready => {
                self.waiting.ends(&self.conversation(work).await?, WaitsFor::Validation);
                Ok(Outcome::Proved)
            }
            OrderStatus::Invalid => Err(self.why_invalid(work, order_ref, order).await),
            OrderStatus::Processing | OrderStatus::Valid => self.issuing(work, &order, &response, 0).await,
        }
    }

    /// Says how names stand, once the wait is more than a moment: asks for one authorization at a time, in turn, and not any
    /// more for those that are proved.
    async fn say_who_waits(&mut self, work: &Work<'_>, order: &OrderRef, polls: u32) {
        let since = self.waiting.since();
        if polls < LONG_WAIT {
            return;
        }
        let proved = |url: &&String| self.seen.get(*url).is_some_and(|(_, proved)| *proved);
        let waiting: Vec<&String> = order.authorizations.iter().take(MOST_ASKED).filter(|url| !proved(url)).collect();
        let Some(url) = waiting.get(polls as usize % waiting.len().max(1)).map(|url| (*url).clone()) else { return };
        if let Ok(found) = self.ask_authorization(work, &url).await {
            let star = if found.wildcard { "*." } else { "" };
            self.seen.insert(url, (format!("{star}{}", found.name), found.proved));
        }
        let state = |(name, proved): &(String, bool)| {
            let state = if *proved { "proved" } else { "validation in progress" };
            NameState { name: name.clone(), state: state.into(), since: Some(since) }
        };
        work.context.report(&Progress::Names(self.seen.values().map(state).collect()));
    }

    /// An invalid order often keeps its reasons in its authorizations: all of them are told, since each costs a failed try.
    async fn why_invalid(&self, work: &Work<'_>, order_ref: &OrderRef, order: Order) -> StepError {
        let mut rejected = Vec::new();
        for url in &order_ref.authorizations {
            rejected.extend(self.ask_authorization(work, url).await.ok().and_then(|found| found.failed));
        }
        if rejected.is_empty() {
            rejected.push(Rejected { name: None, problem: order.error });
        }
        AuthorityError::Rejected(rejected).into()
    }

    /// What an order says once its CSR is in.
    async fn issuing(
        &mut self,
        work: &Work<'_>,
        order: &Order,
        response: &Response,
        polls: u32,
    ) -> Result<Outcome, StepError> {
        let conversation = self.conversation(work).await?;
        if let Some(url) = order.certificate_url().map_err(AuthorityError::from)? {
            if polls > 0 {
                self.waiting.ends(&conversation, WaitsFor::Issuance);
            }
            return Ok(Outcome::Ready(url.to_owned()));
        }
        match polls {
            0 => self.waiting = Waiting::begin(),
            _ => self.waiting.goes_on(),
        }
        Ok(Outcome::Finalized { ask_again: conversation.ask_again(response, WaitsFor::Issuance, polls) })
    }

    pub(super) async fn finalize(
        &mut self,
        work: &Work<'_>,
        order_ref: &OrderRef,
        again: bool,
    ) -> Result<Outcome, StepError> {
        let csr = work.csr()?;
        let mut ask_first = again;
        let mut unknown: Option<AuthorityError> = None;
        loop {
            if ask_first {
                let (order, response) = self.ask_order(work, order_ref).await?;
                match order.status {
                    OrderStatus::Ready => {}
                    OrderStatus::Invalid => return Err(self.why_invalid(work, order_ref, order).await),
                    _ => return self.issuing(work, &order, &response, 0).await,
                }
            }
            let make = |s: &Signer, n: &str| finalize(s, n, &order_ref.finalize, csr);
            match self.conversation(work).await?.send(Step::Finalize, Repeat::Once, make).await {
                // It may have arrived: the order knows. What went wrong the first time is the cause of what follows.
                Err(error) if error.outcome_unknown() && unknown.is_none() => {
                    (ask_first, unknown) = (true, Some(error));
                }
                Err(error) => return Err(unknown.unwrap_or(error).into()),
                Ok(response) => {
                    let order = parse_order(&response).map_err(AuthorityError::from)?;
                    return self.issuing(work, &order, &response, 0).await;
                }
            }
        }
    }

    pub(super) async fn await_certificate(
        &mut self,
        work: &Work<'_>,
        order_ref: &OrderRef,
        polls: u32,
    ) -> Result<Outcome, StepError> {
        let (order, response) = match self.order_now(work, order_ref).await? {
            OrderNow::Is(found) => *found,
            OrderNow::AskAgain(ask_again) => return Ok(Outcome::NotYet { ask_again }),
        };
        let outcome = match order.status {
            OrderStatus::Invalid => return Err(self.why_invalid(work, order_ref, order).await),
            // The CSR never arrived.
            OrderStatus::Ready => self.finalize(work, order_ref, false).await?,
            _ => self.issuing(work, &order, &response, polls).await?,
        };
        Ok(match outcome {
            Outcome::Finalized { ask_again } => Outcome::NotYet { ask_again },
            other => other,
        })
    }

    pub(super) async fn fetch(&self, work: &Work<'_>, url: &str) -> Result<Outcome, StepError> {
        let (mut chain, alternates) = self.fetch_chain(work, url).await?;
        let authority = work.context.inventory.authorities[&work.specification.authority].acme();
        if let Some(top) = authority.and_then(|acme| acme.top_issuer.as_ref())
            && chain.top_issuer() != top
        {
            match self.alternate(work, &alternates, top).await? {
                Some(other) => chain = other,
                None => {
                    let text =
                        format!("the authority offers no chain that ends at `{top}`; using `{}`", chain.top_issuer());
                    work.context.report(&Progress::Note(text));
                }
            }
        }
        chain.check_answers(work.key()?, &work.specification.names)?;
        if work.entry.csr.must_staple && !chain.leaf().must_staple {
            let text = "the certificate does not say that servers have to staple, though the inventory asks for it";
            work.context.report(&Progress::Note(text.into()));
        }
        let folder = work.store.generation_folder(work.certificate, work.generation);
        let chain = beside(move || folder.save_chain(&chain).map(|()| chain)).await?;
        let now = work.context.now();
        work.store.record_generation(work.certificate, work.generation, &work.specification, &chain, None, now).await?;
        Ok(Outcome::Stored)
    }

    /// Fetches a chain, again as long as nothing is in the answer, and puts it in order where it came in another. Returns the
    /// addresses of alternates too.
    async fn fetch_chain(&self, work: &Work<'_>, url: &str) -> Result<(Chain, Vec<String>), StepError> {
        let mut tries = 0;
        loop {
            let response = self.ask(work, Step::Certificate, url).await?;
            tries += 1;
            if response.body.trim_ascii().is_empty() && tries < EMPTY_TRIES {
                work.context.clock.wait(Duration::from_millis(500)).await;
                continue;
            }
            let certificates = Certificate::all_from_pem(&parse_certificate(&response).map_err(AuthorityError::from)?);
            let certificates = certificates.map_err(ChainError::from)?;
            let chain = match Chain::from_certificates(certificates.clone()) {
                Err(broken @ ChainError::BrokenLink { .. }) => {
                    let assembled = fitting(work.context, &work.entry.authority, &certificates, work.key()?)?;
                    let assembled = assembled.filter(|assembled| assembled.missing.is_none()).ok_or(broken)?;
                    match assembled.fault {
                        Some(fault) => return Err(ChainError::from(fault).into()),
                        None => assembled.chain,
                    }
                }
                other => other?,
            };
            return Ok((chain, response.alternates));
        }
    }

    async fn alternate(&self, work: &Work<'_>, urls: &[String], top: &str) -> Result<Option<Chain>, StepError> {
        for url in urls {
            let (chain, _) = self.fetch_chain(work, url).await?;
            if chain.top_issuer() == top {
                return Ok(Some(chain));
            }
        }
        Ok(None)
    }
}

/// Returns what the certificate is called, at the same authority, that an order is to replace.
async fn replaced(work: &Work<'_>) -> Result<Option<String>, StepError> {
    let newest = work.store.newest(work.certificate).await?;
    let theirs = newest.filter(|newest| newest.specification.authority == work.specification.authority);
    Ok(theirs.and_then(|newest| work.store.renewal_id(work.certificate, newest.number)))
}

/// Whether an authority may have refused an order for the certificate that it is to replace.
fn is_about_replacing(problem: &Problem) -> bool {
    problem.status == 409 || matches!(&*problem.kind, "alreadyReplaced" | "malformed")
}
