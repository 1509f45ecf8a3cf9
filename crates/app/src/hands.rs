//! Carries a journey's actions out in the real world.

mod by_csr;

use crate::answer::fitting;
use crate::authority::Hold;
use crate::driver::Hands;
use crate::install::{self, Placement};
use crate::proof::{Listener, Proving};
use crate::{App, AuthorityError, Client, NameState, Progress, StepError, check};
use eskort_acme::{
    AcmeError, Answer, Authorization, ChallengeKind, Order, OrderStatus, Rejected, Signer, Step, answer_challenge,
    finalize, new_order, post_as_get, read_authorization, read_certificate, read_order,
};
use eskort_core::decision::Wanted;
use eskort_core::finding::Weight;
use eskort_core::inventory::{AuthorityKind, CertificateEntry, DnsProof, Part, Proof, RecordWriter};
use eskort_core::journey::{Action, OrderRef, Outcome, ProofTask, Way};
use eskort_core::names::Identifier;
use eskort_core::pki::{Built, Certificate, Chain, ChainError, KeyKind, PrivateKey, make_csr};
use eskort_core::record::{Record, StandingRecord, account_record, challenge_record};
use eskort_store::{InstallState, Store};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// After so many questions the wait for the authority is more than a moment.
const LONG_WAIT: u32 = 4;
/// How often an empty answer is taken for one that is not there yet.
const EMPTY_TRIES: u32 = 4;
/// How many names are asked about one by one.
const MOST_ASKED: usize = 25;

/// Returns the kind of challenge that a way of proving answers.
fn kind(way: Way) -> ChallengeKind {
    match way {
        Way::Http => ChallengeKind::Http01,
        Way::Dns => ChallengeKind::Dns01,
        Way::DnsAccount => ChallengeKind::DnsAccount01,
        Way::DnsPersist => ChallengeKind::DnsPersist01,
        Way::Tls => ChallengeKind::TlsAlpn01,
    }
}

/// The hands for one certificate's journey.
pub(crate) struct RealHands<'a> {
    pub(crate) app: &'a App,
    pub(crate) store: &'a Store,
    pub(crate) certificate: &'a str,
    pub(crate) entry: &'a CertificateEntry,
    pub(crate) wanted: Wanted,
    pub(crate) generation: u32,
    /// The conversations of this run, by authority.
    pub(crate) clients: &'a mut BTreeMap<String, Client>,
    /// How many endpoints were looked at in the end.
    pub(crate) looked_at: usize,
    /// Whether this run has made sure that everything is published.
    pub(crate) published: bool,
    /// An answer that a person has brought.
    pub(crate) answer: Option<Built>,
    /// Open while the authority looks.
    pub(crate) listeners: Vec<Listener>,
    /// What was seen of each authorization during a long wait: its name, and whether it is proved.
    pub(crate) seen: BTreeMap<String, (String, bool)>,
    /// Since when the authority looks, in this run.
    pub(crate) looked_since: Option<Instant>,
    /// The address of an order that was ready when it was made.
    pub(crate) ready_order: Option<String>,
}

impl Hands for RealHands<'_> {
    async fn act(&mut self, action: &Action, polls: u32, again: bool) -> Result<Outcome, StepError> {
        (self.app.watch)(&Progress::Doing(action.words()));
        match self.carry_out(action, polls, again).await {
            Err(StepError::Authority(error)) => Err(self.look_after_account(error).await?.into()),
            done => done,
        }
    }
}

impl RealHands<'_> {
    async fn carry_out(&mut self, action: &Action, polls: u32, again: bool) -> Result<Outcome, StepError> {
        match action {
            Action::Prepare => self.prepare().await,
            Action::PlaceOrder => self.place_order().await,
            Action::TakeAnswer(notes) => self.take_answer(notes).await,
            Action::AskAgain => self.enroll(polls).await,
            Action::ChooseChallenges(order) => self.choose_challenges(order).await,
            Action::Publish(tasks) => self.publish(tasks).await.map(|()| Outcome::Published),
            Action::LookFirst(tasks) => {
                self.ensure_published(tasks).await?;
                self.proving().look_first(tasks).await.map(|()| Outcome::Seen)
            }
            Action::Answer(order, tasks) => self.answer(order, tasks).await,
            Action::AwaitProof(order, tasks) => {
                self.ensure_published(tasks).await?;
                self.await_proof(order, polls).await
            }
            Action::Finalize(order) => self.finalize(order, again).await,
            Action::AwaitCertificate(order) => self.await_certificate(order, polls).await,
            Action::Fetch(url) => self.fetch(url).await,
            Action::Install => self.install().await,
            Action::Confirm => self.confirm().await,
        }
    }

    /// After a refusal that is about the account: forgets one that the authority does not know, and leaves one that it has ended,
    /// so that the next order is placed with a new one. Returns what to say.
    async fn look_after_account(&mut self, error: AuthorityError) -> Result<AuthorityError, StepError> {
        let (store, name) = (self.store, self.wanted.authority.clone());
        if !self.clients.contains_key(&name) {
            return Ok(error);
        }
        let client = self.client()?;
        let error = client.explain(error).await;
        match &error {
            AuthorityError::AccountEnded { .. } => client.leave_account(&name, store)?,
            other if other.problem().is_some_and(|p| p.kind == "accountDoesNotExist") => {
                client.forget_account(&name, store)?;
            }
            _ => {}
        }
        Ok(error)
    }

    /// Whether a person placed records for this journey alone.
    pub(crate) fn has_records_by_hand(&self) -> bool {
        let by_hand = |proof: &Proof| matches!(proof, Proof::Dns(DnsProof { writer: RecordWriter::Person, .. }));
        let proofs = self.wanted.names.iter().filter_map(|name| self.app.inventory.proof_of(self.entry, name));
        proofs.into_iter().any(|(_, proof)| by_hand(proof))
    }

    fn talks_acme(&self) -> bool {
        self.app.inventory.authorities[&self.wanted.authority].acme().is_some()
    }

    /// Returns the conversation with the journey's authority, begun when it is first needed.
    fn client(&mut self) -> Result<&mut Client, StepError> {
        let (app, name) = (self.app, &self.wanted.authority);
        if !self.clients.contains_key(name) {
            let authority = &app.inventory.authorities[name];
            let acme = authority.acme().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
            let client = Client::open(name, acme, authority.patience, self.store, app.watch.clone(), app.now.clone())?;
            self.clients.insert(name.clone(), client);
        }
        Ok(self.clients.get_mut(name).expect("it was just put in"))
    }

    fn names(&self) -> Vec<&str> {
        self.wanted.names.iter().map(Identifier::as_str).collect()
    }

    /// Makes the key, unless it is stored already, and checks that a CSR can be made with it.
    async fn prepare(&mut self) -> Result<Outcome, StepError> {
        let kind: KeyKind = self.wanted.key.parse().map_err(|source| self.key_error(source))?;
        let folder = self.store.generation_folder(self.certificate, self.generation);
        folder.forget_request()?;
        for name in self.wanted.names.iter().filter(|name| !name.is_qualified()) {
            let text = format!(
                "`{name}` is no name in full: only an authority of your own certifies it, and on every network it means something else"
            );
            (self.app.watch)(&Progress::Note(text));
        }
        // A key of another kind than is wanted now is of no use; where its text cannot be read, that is said below.
        let stored = folder.key()?.and_then(|pem| PrivateKey::from_pem(&pem).ok());
        let other = stored.is_some_and(|key| key.kind() != kind);
        if folder.key()?.is_none() || other {
            let kept = self.kept_key(kind)?;
            let making = kept.is_none().then(|| tokio::task::spawn_blocking(move || PrivateKey::generate(kind)));
            // The first key of a process takes a while; the directory comes meanwhile. What is wrong with it stops the journey
            // only once the key is stored.
            let directory = if self.talks_acme() { self.client()?.directory().await.map(drop) } else { Ok(()) };
            let key = match (kept, making) {
                (Some(key), _) => key,
                (None, Some(making)) => {
                    making.await.expect("making a key does not panic").map_err(|source| self.key_error(source))?
                }
                (None, None) => unreachable!("a key that is not kept is made"),
            };
            folder.save_key(&key)?;
            directory?;
        }
        let key = self.key()?;
        make_csr(&key, &self.names(), &self.entry.wish).map_err(|source| self.key_error(source))?;
        Ok(Outcome::Prepared)
    }

    /// Returns the key of the newest generation when the inventory says to keep it.
    fn kept_key(&self, kind: KeyKind) -> Result<Option<PrivateKey>, StepError> {
        if !self.entry.keep_key {
            return Ok(None);
        }
        let Some(newest) = self.store.newest(self.certificate)? else { return Ok(None) };
        let Some(pem) = self.store.generation_folder(self.certificate, newest.number).key()? else { return Ok(None) };
        let key = PrivateKey::from_pem(&pem).map_err(|source| self.key_error(source))?;
        Ok(Some(key).filter(|k| k.kind() == kind))
    }

    fn key_error(&self, source: eskort_core::pki::PkiError) -> StepError {
        let folder = self.store.generation_folder(self.certificate, self.generation);
        StepError::Key { path: folder.part(Part::Key), source }
    }

    fn key(&self) -> Result<PrivateKey, StepError> {
        let folder = self.store.generation_folder(self.certificate, self.generation);
        let missing = || StepError::Key {
            path: folder.part(Part::Key),
            source: eskort_core::pki::PkiError::Key { reason: "the file is gone".into() },
        };
        let pem = folder.key()?.ok_or_else(missing)?;
        PrivateKey::from_pem(&pem).map_err(|source| self.key_error(source))
    }

    async fn place_order(&mut self) -> Result<Outcome, StepError> {
        let (app, store) = (self.app, self.store);
        let wanted = self.wanted.clone();
        let authority = match &app.inventory.authorities[&wanted.authority].kind {
            AuthorityKind::Acme(authority) => authority,
            AuthorityKind::Csr(_) => return self.hand_over(),
            AuthorityKind::Est(_) => return self.enroll(0).await,
        };
        let contact = authority.contact.as_deref().or(app.inventory.contact.as_deref());
        let names: Vec<&str> = wanted.names.iter().map(Identifier::as_str).collect();
        let client = self.client()?;
        let mut tries = 0;
        let answer = loop {
            client.ensure_account(&wanted.authority, authority, contact, store).await?;
            let directory = client.directory().await?;
            let sent = client.send(Step::NewOrder, Hold::Once, |s, n| new_order(s, n, &directory, &names)).await;
            tries += 1;
            let error = match sent {
                Ok(answer) => break answer,
                Err(error) => client.explain(error).await,
            };
            match &error {
                AuthorityError::AccountEnded { url } if tries == 1 => {
                    let text = format!("the authority has ended the account {url}");
                    (app.watch)(&Progress::Note(text));
                    client.leave_account(&wanted.authority, store)?;
                }
                other if tries == 1 && other.problem().is_some_and(|p| p.kind == "accountDoesNotExist") => {
                    client.forget_account(&wanted.authority, store)?;
                }
                _ => return Err(error.into()),
            }
        };
        let order = read_order(&answer).map_err(AuthorityError::from)?;
        let wrong = |found: &str| {
            AuthorityError::from(AcmeError::NotProtocol {
                expected: "the order that was asked for",
                found: found.into(),
            })
        };
        if order.authorizations.len() > self.wanted.names.len() {
            return Err(wrong("it has more authorizations than names").into());
        }
        let url = answer.location.ok_or_else(|| wrong("it has no Location"))?;
        if !url.starts_with("https://") {
            return Err(wrong("its Location does not begin with https://").into());
        }
        self.ready_order = (order.status == OrderStatus::Ready).then(|| url.clone());
        Ok(Outcome::Ordered(OrderRef { url, finalize: order.finalize, authorizations: order.authorizations }))
    }

    async fn ask(&mut self, step: Step, url: &str) -> Result<Answer, StepError> {
        Ok(self.client()?.send(step, Hold::Repeatable, |s, n| post_as_get(s, n, url)).await?)
    }

    async fn ask_order(&mut self, order: &OrderRef) -> Result<(Order, Answer), StepError> {
        let answer = self.ask(Step::Order, &order.url).await?;
        Ok((read_order(&answer).map_err(AuthorityError::from)?, answer))
    }

    async fn ask_authorization(&mut self, url: &str) -> Result<Authorization, StepError> {
        let answer = self.ask(Step::Authorization, url).await?;
        Ok(read_authorization(&answer).map_err(AuthorityError::from)?)
    }

    async fn choose_challenges(&mut self, order: &OrderRef) -> Result<Outcome, StepError> {
        // An order that was ready when it was made has nothing left to prove.
        if self.ready_order.as_ref() == Some(&order.url) {
            return Ok(Outcome::Challenges(Vec::new()));
        }
        let mut tasks = Vec::new();
        let mut rejected = Vec::new();
        for url in &order.authorizations {
            let authorization = self.ask_authorization(url).await?;
            match authorization.failed {
                Some(failed) => rejected.push(failed),
                None if authorization.proved => {}
                None => tasks.push(self.choose_challenge(authorization)?),
            }
        }
        if !rejected.is_empty() {
            return Err(AuthorityError::Rejected(rejected).into());
        }
        Ok(Outcome::Challenges(tasks))
    }

    /// Chooses the challenge that the name's proof can meet, and says what to publish for it.
    fn choose_challenge(&mut self, authorization: Authorization) -> Result<ProofTask, StepError> {
        let base = Identifier::parse(&authorization.name).map(|n| n.to_string()).unwrap_or_default();
        let ours = |n: &&Identifier| n.base() == base && n.is_wildcard() == authorization.wildcard;
        let foreign = || AcmeError::NotProtocol {
            expected: "an authorization for a name of the order",
            found: format!("one for `{}`", authorization.name),
        };
        let name = self.wanted.names.iter().find(ours).ok_or_else(foreign).map_err(AuthorityError::from)?.clone();
        let (proof_name, proof) = self.app.inventory.proof_of(self.entry, &name).expect("an ACME order has its proofs");
        let proof_name = proof_name.to_owned();
        let offered = |way: &Way| Some((*way, authorization.challenges.iter().find(|c| c.kind == kind(*way))?.clone()));
        let Some((way, challenge)) = proof.ways().iter().find_map(offered) else {
            let challenges = proof.ways().iter().map(|way| way.challenge()).collect();
            return Err(StepError::NoChallenge { name: name.to_string(), challenges });
        };
        let signer = self.client()?.signer();
        let key_authorization = match way {
            Way::DnsPersist => String::new(),
            Way::Http | Way::Dns | Way::DnsAccount | Way::Tls => signer.key_authorization(&challenge.token),
        };
        let account = signer.account().unwrap_or_default().to_owned();
        let record = match way {
            Way::Http | Way::Tls => None,
            Way::Dns => Some(challenge_record(name.base(), &key_authorization)),
            Way::DnsAccount => Some(account_record(name.base(), &account, &key_authorization)),
            Way::DnsPersist => {
                let issuer = challenge.issuers[0].clone();
                Some(self.standing_record(proof, &name, issuer, account))
            }
        };
        let (challenge, token) = (challenge.url, challenge.token);
        Ok(ProofTask { name, challenge, token, key_authorization, way, proof: Some(proof_name), record })
    }

    /// One record serves a name and its wildcard alike.
    fn standing_record(&self, proof: &Proof, name: &Identifier, issuer: String, account: String) -> Record {
        let (wildcard, until) = match proof {
            Proof::Dns(DnsProof { writer: RecordWriter::Standing { wildcard, until }, .. }) => (*wildcard, *until),
            _ => (false, None),
        };
        let has_wildcard = self.wanted.names.iter().any(|n| n.is_wildcard() && n.base() == name.base());
        StandingRecord { issuer, account, wildcard: wildcard || has_wildcard, until }.record(name.base())
    }

    fn proving(&self) -> Proving<'_> {
        Proving { app: self.app, store: self.store, certificate: self.certificate, entry: self.entry }
    }

    async fn publish(&mut self, tasks: &[ProofTask]) -> Result<(), StepError> {
        // Listeners of before must let go of their ports first.
        self.listeners.clear();
        self.listeners = self.proving().publish(tasks).await?;
        self.published = true;
        Ok(())
    }

    /// What an earlier run published is gone with it: its debts were paid, its listener closed.
    async fn ensure_published(&mut self, tasks: &[ProofTask]) -> Result<(), StepError> {
        if self.published { Ok(()) } else { self.publish(tasks).await }
    }

    async fn answer(&mut self, order: &OrderRef, tasks: &[ProofTask]) -> Result<Outcome, StepError> {
        self.ensure_published(tasks).await?;
        for task in tasks {
            let make = |s: &Signer, n: &str| answer_challenge(s, n, &task.challenge);
            let Err(error) = self.client()?.send(Step::Challenge, Hold::Repeatable, make).await else { continue };
            // A cut connection, or an earlier run: it may have got through already. The authorization knows.
            let refused = error.problem().is_some_and(|p| (400..500).contains(&p.status) && p.status != 429);
            if !refused || !self.was_told(order, task).await? {
                return Err(error.into());
            }
        }
        Ok(Outcome::Answered)
    }

    /// Returns whether the authority was told to look at a task, whatever it made of it.
    async fn was_told(&mut self, order: &OrderRef, task: &ProofTask) -> Result<bool, StepError> {
        for url in &order.authorizations {
            let found = self.ask_authorization(url).await?;
            if found.wildcard == task.name.is_wildcard() && found.name.eq_ignore_ascii_case(task.name.base()) {
                return Ok(found.told);
            }
        }
        Ok(false)
    }

    /// Asks for the order; says until when to wait where the authority was asked too often.
    async fn ask_patiently(&mut self, order: &OrderRef) -> Result<Result<(Order, Answer), Outcome>, StepError> {
        match self.ask_order(order).await {
            Err(StepError::Authority(error)) => match self.client()?.asks_to_wait(&error) {
                Some(ask_again) => Ok(Err(Outcome::NotYet { ask_again })),
                None => Err(error.into()),
            },
            other => other.map(Ok),
        }
    }

    async fn await_proof(&mut self, order_ref: &OrderRef, polls: u32) -> Result<Outcome, StepError> {
        let (order, answer) = match self.ask_patiently(order_ref).await? {
            Ok(found) => found,
            Err(wait) => return Ok(wait),
        };
        match order.status {
            OrderStatus::Pending => {
                self.say_who_waits(order_ref, polls).await;
                let ask_again = self.client()?.ask_again(&answer, polls);
                Ok(Outcome::NotYet { ask_again })
            }
            OrderStatus::Ready => Ok(Outcome::Proved),
            OrderStatus::Invalid => Err(self.why_invalid(order_ref, order).await),
            OrderStatus::Processing | OrderStatus::Valid => self.issuing(&order, &answer, 0),
        }
    }

    /// Says how names stand, once the wait is more than a moment: asks for one authorization at a time, in turn, and not any
    /// more for those that are proved.
    async fn say_who_waits(&mut self, order: &OrderRef, polls: u32) {
        let since = *self.looked_since.get_or_insert_with(Instant::now);
        if polls < LONG_WAIT {
            return;
        }
        let proved = |url: &&String| self.seen.get(*url).is_some_and(|(_, proved)| *proved);
        let waiting: Vec<&String> = order.authorizations.iter().take(MOST_ASKED).filter(|url| !proved(url)).collect();
        let Some(url) = waiting.get(polls as usize % waiting.len().max(1)).map(|url| (*url).clone()) else { return };
        if let Ok(found) = self.ask_authorization(&url).await {
            let star = if found.wildcard { "*." } else { "" };
            self.seen.insert(url, (format!("{star}{}", found.name), found.proved));
        }
        let state = |(name, proved): &(String, bool)| {
            let state = if *proved { "proved" } else { "the authority is looking" };
            NameState { name: name.clone(), state: state.into(), since: Some(since) }
        };
        (self.app.watch)(&Progress::Names(self.seen.values().map(state).collect()));
    }

    /// An invalid order often keeps its reasons in its authorizations: all of them are told, since each costs a failed try.
    async fn why_invalid(&mut self, order_ref: &OrderRef, order: Order) -> StepError {
        let mut rejected = Vec::new();
        for url in &order_ref.authorizations {
            rejected.extend(self.ask_authorization(url).await.ok().and_then(|found| found.failed));
        }
        if rejected.is_empty() {
            rejected.push(Rejected { name: None, problem: order.error });
        }
        AuthorityError::Rejected(rejected).into()
    }

    /// What an order says once its CSR is in.
    fn issuing(&mut self, order: &Order, answer: &Answer, polls: u32) -> Result<Outcome, StepError> {
        match order.certificate_url().map_err(AuthorityError::from)? {
            Some(url) => Ok(Outcome::Ready(url.to_owned())),
            None => Ok(Outcome::Finalized { ask_again: self.client()?.ask_again(answer, polls) }),
        }
    }

    async fn finalize(&mut self, order_ref: &OrderRef, again: bool) -> Result<Outcome, StepError> {
        let csr = make_csr(&self.key()?, &self.names(), &self.entry.wish).map_err(|source| self.key_error(source))?;
        let mut ask_first = again;
        let mut unknown: Option<AuthorityError> = None;
        loop {
            if ask_first {
                let (order, answer) = self.ask_order(order_ref).await?;
                match order.status {
                    OrderStatus::Ready => {}
                    OrderStatus::Invalid => return Err(self.why_invalid(order_ref, order).await),
                    _ => return self.issuing(&order, &answer, 0),
                }
            }
            let make = |s: &Signer, n: &str| finalize(s, n, &order_ref.finalize, &csr);
            match self.client()?.send(Step::Finalize, Hold::Once, make).await {
                // It may have arrived: the order knows. What went wrong the first time is the cause of what follows.
                Err(error) if error.outcome_unknown() && unknown.is_none() => {
                    (ask_first, unknown) = (true, Some(error));
                }
                Err(error) => return Err(unknown.unwrap_or(error).into()),
                Ok(answer) => {
                    let order = read_order(&answer).map_err(AuthorityError::from)?;
                    return self.issuing(&order, &answer, 0);
                }
            }
        }
    }

    async fn await_certificate(&mut self, order_ref: &OrderRef, polls: u32) -> Result<Outcome, StepError> {
        let (order, answer) = match self.ask_patiently(order_ref).await? {
            Ok(found) => found,
            Err(wait) => return Ok(wait),
        };
        let outcome = match order.status {
            OrderStatus::Invalid => return Err(self.why_invalid(order_ref, order).await),
            // The CSR never arrived.
            OrderStatus::Ready => self.finalize(order_ref, false).await?,
            _ => self.issuing(&order, &answer, polls)?,
        };
        Ok(match outcome {
            Outcome::Finalized { ask_again } => Outcome::NotYet { ask_again },
            other => other,
        })
    }

    async fn fetch(&mut self, url: &str) -> Result<Outcome, StepError> {
        let (mut chain, alternates) = self.fetch_chain(url).await?;
        let authority = self.app.inventory.authorities[&self.wanted.authority].acme();
        if let Some(top) = authority.and_then(|acme| acme.top_issuer.as_ref())
            && chain.top_issuer() != top
        {
            match self.alternate(&alternates, top).await? {
                Some(other) => chain = other,
                None => {
                    let text = format!("the authority offers no chain up to `{top}`; kept `{}`", chain.top_issuer());
                    (self.app.watch)(&Progress::Note(text));
                }
            }
        }
        chain.check_answers(&self.key()?, &self.names())?;
        if self.entry.wish.must_staple && !chain.leaf().must_staple {
            let text = "the certificate does not say that servers have to staple, though the inventory asks for it";
            (self.app.watch)(&Progress::Note(text.into()));
        }
        self.store.generation_folder(self.certificate, self.generation).save_chain(&chain)?;
        let now = (self.app.now)();
        self.store.record_generation(self.certificate, self.generation, &self.wanted, &chain, now)?;
        Ok(Outcome::Stored)
    }

    /// Fetches a chain, again as long as nothing is in the answer, and puts it in order where it came in another. Returns the
    /// addresses of alternates too.
    async fn fetch_chain(&mut self, url: &str) -> Result<(Chain, Vec<String>), StepError> {
        let mut tries = 0;
        loop {
            let answer = self.ask(Step::Certificate, url).await?;
            tries += 1;
            if answer.body.trim_ascii().is_empty() && tries < EMPTY_TRIES {
                tokio::time::sleep(Duration::from_millis(500)).await;
                continue;
            }
            let certificates = Certificate::all_from_pem(&read_certificate(&answer).map_err(AuthorityError::from)?);
            let certificates = certificates.map_err(ChainError::from)?;
            let chain = match Chain::from_certificates(certificates.clone()) {
                Err(broken @ ChainError::BrokenLink { .. }) => {
                    let built = fitting(&certificates, &self.key()?);
                    built.filter(|built| built.missing.is_none()).map(|built| built.chain).ok_or(broken)?
                }
                other => other?,
            };
            return Ok((chain, answer.alternates));
        }
    }

    async fn alternate(&mut self, urls: &[String], top: &str) -> Result<Option<Chain>, StepError> {
        for url in urls {
            let (chain, _) = self.fetch_chain(url).await?;
            if chain.top_issuer() == top {
                return Ok(Some(chain));
            }
        }
        Ok(None)
    }

    fn placement(&self) -> Placement<'_> {
        placement(self.app, self.certificate, self.entry, &self.wanted.names, self.generation)
    }

    async fn install(&mut self) -> Result<Outcome, StepError> {
        let placement = self.placement();
        let plans = install::plan(self.app, self.store, &placement)?;
        for finding in plans.iter().flat_map(|p| &p.findings) {
            let advice = finding.advice.as_ref().map(|advice| format!(" ({advice})")).unwrap_or_default();
            (self.app.watch)(&Progress::Note(format!("{}{advice}", finding.text)));
        }
        install::apply(self.app, self.store, &plans, &placement).await?;
        Ok(Outcome::Installed)
    }

    /// Looks as a visitor would. An endpoint that cannot be reached from here says nothing against the generation: a machine at
    /// home does not reach itself by name. One that shows something else does.
    async fn confirm(&mut self) -> Result<Outcome, StepError> {
        let reports = check::look_at(self.app, self.store, self.certificate, &self.placement()).await?;
        let mut out_of_sight = Vec::new();
        for report in &reports {
            if report.address.is_none() {
                out_of_sight.extend(report.findings.iter().map(|f| format!("{}: {}", report.endpoint(), f.text)));
                continue;
            }
            self.looked_at += 1;
            // Whether this machine trusts the root says little about the visitors of a private authority.
            let (trust, bad): (Vec<_>, Vec<_>) =
                report.findings.iter().filter(|f| f.weight == Weight::Bad).cloned().partition(|f| f.topic == "trust");
            if !bad.is_empty() {
                return Err(StepError::NotConfirmed { endpoint: report.endpoint(), findings: bad });
            }
            for finding in trust {
                (self.app.watch)(&Progress::Note(format!("{}: {}", report.endpoint(), finding.text)));
            }
        }
        let (now, why) = ((self.app.now)(), out_of_sight.join("; "));
        let servers = self.entry.install.iter().map(|install| install.server.as_str());
        let record =
            |state, seen| self.store.record_installs(self.certificate, servers, self.generation, state, seen, now);
        if out_of_sight.is_empty() {
            record(InstallState::Confirmed, None)?;
            self.store.mark_confirmed(self.certificate, self.generation, now)?;
            return Ok(Outcome::Confirmed);
        }
        record(InstallState::Installed, Some(&why))?;
        let text = format!(
            "installed, but not confirmed from here: {why}. A machine that cannot reach itself by name needs `check-address`"
        );
        (self.app.watch)(&Progress::Note(text));
        Ok(Outcome::OutOfSight { why })
    }
}

/// Returns what to put where for a certificate of the inventory.
pub(crate) fn placement<'a>(
    app: &'a App,
    certificate: &'a str,
    entry: &'a CertificateEntry,
    names: &'a [Identifier],
    generation: u32,
) -> Placement<'a> {
    // A redirecting server block goes on serving the challenges of this machine.
    let folder = |name: &Identifier| match app.inventory.proof_of(entry, name)?.1 {
        Proof::HttpFolder { folder, hosts, .. } if hosts.is_empty() => Some(folder.as_path()),
        _ => None,
    };
    let challenge_folder = names.iter().find_map(folder);
    Placement { certificate, names, generation, install: &entry.install, challenge_folder, preview: false }
}
