//! Carries a journey's actions out in the real world.

mod acme;
mod by_hand;

use crate::StepError;
use crate::keep::steps::Actions;
use crate::look::check::{self, EndpointReport};
use eskort_acme::{AcmeError, OrderStatus, Step, new_order, parse_order};
use eskort_core::context::Context;
use eskort_core::decision::Specification;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{AuthorityKind, CertificateEntry, DnsProof, Part, Proof, RecordWriter, SecretSource};
use eskort_core::journey::{Action, OrderRef, Outcome, ProofTask};
use eskort_core::pki::{AssembledChain, KeyKind, PkiError, PrivateKey, Secret, make_csr};
use eskort_core::progress::Progress;
use eskort_host::obeyed;
use eskort_host::read_secret;
use eskort_install::{self as install, Facts, Placement};
use eskort_prove::{Listener, Proving};
use eskort_store::{InstallState, Store};
use eskort_talk::{AuthorityError, Client, Hold};
use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

/// How long to wait before an endpoint is looked at again.
const LOOK_AGAIN: Duration = Duration::from_millis(200);

/// The actions for one certificate's journey.
pub(crate) struct JourneyActions<'a> {
    pub(crate) context: &'a Context,
    pub(crate) store: &'a Store,
    pub(crate) certificate: &'a str,
    pub(crate) entry: &'a CertificateEntry,
    pub(crate) specification: Specification,
    pub(crate) generation: u32,
    /// The conversations of this run, by authority.
    pub(crate) clients: &'a mut BTreeMap<String, Client>,
    /// How many endpoints were looked at in the end.
    pub(crate) looked_at: usize,
    /// When this run has installed the generation.
    pub(crate) installed_since: Option<Instant>,
    /// Whether this run has made sure that everything is published.
    pub(crate) published: bool,
    /// An answer that a person has brought.
    pub(crate) answer: Option<AssembledChain>,
    /// Open while the authority looks.
    pub(crate) listeners: Vec<Listener>,
    /// What was seen of each authorization during a long wait: its name, and whether it is proved.
    pub(crate) seen: BTreeMap<String, (String, bool)>,
    /// Since when the authority looks, in this run.
    pub(crate) looked_since: Option<Instant>,
    /// The address of an order that was ready when it was made.
    pub(crate) ready_order: Option<String>,
}

impl Actions for JourneyActions<'_> {
    async fn act(&mut self, action: &Action, polls: u32, again: bool) -> Result<Outcome, StepError> {
        self.context.report(&Progress::Doing(action.words()));
        match self.carry_out(action, polls, again).await {
            Err(StepError::Authority(error)) => Err(self.look_after_account(error).await?.into()),
            done => done,
        }
    }
}

impl JourneyActions<'_> {
    async fn carry_out(&mut self, action: &Action, polls: u32, again: bool) -> Result<Outcome, StepError> {
        match action {
            Action::Prepare => self.prepare().await,
            Action::PlaceOrder => self.place_order().await,
            Action::TakeAnswer(notes) => self.take_answer(notes).await,
            Action::AskAgain => self.enroll(polls).await,
            Action::ChooseChallenges(order) => self.choose_challenges(order).await,
            Action::Publish(tasks) => self.publish(tasks).await.map(|()| Outcome::Published),
            Action::SelfCheck(tasks) => {
                self.ensure_published(tasks).await?;
                self.proving().self_check(tasks).await?;
                Ok(Outcome::SelfChecked)
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
        let (store, name) = (self.store, self.specification.authority.clone());
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
        let proofs =
            self.specification.names.iter().filter_map(|name| self.context.inventory.proof_of(self.entry, name));
        proofs.into_iter().any(|(_, proof)| by_hand(proof))
    }

    fn talks_acme(&self) -> bool {
        self.context.inventory.authorities[&self.specification.authority].acme().is_some()
    }

    /// Returns the conversation with the journey's authority, begun when it is first needed.
    fn client(&mut self) -> Result<&mut Client, StepError> {
        let (context, name) = (self.context, &self.specification.authority);
        if !self.clients.contains_key(name) {
            let authority = &context.inventory.authorities[name];
            let acme = authority.acme().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
            let client =
                Client::open(name, acme, authority.timeout, self.store, context.progress.clone(), context.now.clone())?;
            self.clients.insert(name.clone(), client);
        }
        Ok(self.clients.get_mut(name).expect("it was just put in"))
    }

    /// Makes the key, unless it is stored already, and checks that a CSR can be made with it.
    async fn prepare(&mut self) -> Result<Outcome, StepError> {
        let kind: KeyKind = self.specification.key.parse().map_err(|source| self.key_error(source))?;
        let folder = self.store.generation_folder(self.certificate, self.generation);
        folder.forget_request()?;
        for name in self.specification.names.iter().filter(|name| !name.is_qualified()) {
            let text = format!(
                "`{name}` is not a fully qualified name: only a private authority will issue for it, and it means something else on every network"
            );
            self.context.report(&Progress::Note(text));
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
        make_csr(&key, &self.specification.names, &self.entry.wish).map_err(|source| self.key_error(source))?;
        Ok(Outcome::Prepared)
    }

    /// Returns the key of the newest generation when the inventory says to keep it.
    /// Returns the key that the inventory names, or that of the generation before where it is kept.
    fn kept_key(&self, kind: KeyKind) -> Result<Option<PrivateKey>, StepError> {
        if let Some(path) = &self.entry.key_file {
            let key = self.read_key_file(path)?;
            if key.kind() != kind {
                let why =
                    format!("it is {}; say `key = \"{}\"` of the certificate", key.kind().word(), key.kind().word());
                return Err(StepError::KeyFile { path: path.clone(), why });
            }
            return Ok(Some(key));
        }
        if !self.entry.keep_key {
            return Ok(None);
        }
        let Some(newest) = self.store.newest(self.certificate)? else { return Ok(None) };
        let Some(pem) = self.store.generation_folder(self.certificate, newest.number).key()? else { return Ok(None) };
        let key = PrivateKey::from_pem(&pem).map_err(|source| self.key_error(source))?;
        Ok(Some(key).filter(|k| k.kind() == kind))
    }

    /// Reads a key that somebody else keeps.
    fn read_key_file(&self, path: &Path) -> Result<PrivateKey, StepError> {
        let fail = |path: &Path| {
            let path = path.to_owned();
            move |why| StepError::KeyFile { path, why }
        };
        let password = match &self.entry.key_password_file {
            Some(path) => {
                let read = read_secret(&SecretSource::File(path.clone()));
                Some(read.map_err(|error| fail(path)(error.why))?)
            }
            None => None,
        };
        let bytes = obeyed::read(path).map_err(fail(path))?;
        let pem = Secret::new(String::from_utf8_lossy(&bytes).into_owned());
        let read = match PrivateKey::from_any_pem(&pem, password.as_ref()) {
            Err(PkiError::NoPemBlock { .. }) => PrivateKey::from_pkcs8_der(&bytes),
            read => read,
        };
        read.map_err(|error| fail(path)(error.to_string()))
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
        let (context, store) = (self.context, self.store);
        let wanted = self.specification.clone();
        let authority = match &context.inventory.authorities[&wanted.authority].kind {
            AuthorityKind::Acme(authority) => authority,
            AuthorityKind::Csr(_) => return self.hand_over(),
            AuthorityKind::Est(_) => return self.enroll(0).await,
        };
        let contact = authority.contact.as_deref().or(context.inventory.contact.as_deref());
        let client = self.client()?;
        let mut tries = 0;
        let answer = loop {
            client.ensure_account(&wanted.authority, authority, contact, store).await?;
            let directory = client.directory().await?;
            let sent = client.send(Step::NewOrder, Hold::Once, |s, n| new_order(s, n, &directory, &wanted.names)).await;
            tries += 1;
            let error = match sent {
                Ok(answer) => break answer,
                Err(error) => client.explain(error).await,
            };
            match &error {
                AuthorityError::AccountEnded { url } if tries == 1 => {
                    let text = format!("the authority has ended the account {url}");
                    context.report(&Progress::Note(text));
                    client.leave_account(&wanted.authority, store)?;
                }
                other if tries == 1 && other.problem().is_some_and(|p| p.kind == "accountDoesNotExist") => {
                    client.forget_account(&wanted.authority, store)?;
                }
                _ => return Err(error.into()),
            }
        };
        let order = parse_order(&answer).map_err(AuthorityError::from)?;
        let wrong = |found: &str| {
            AuthorityError::from(AcmeError::NotProtocol {
                expected: "the order that was asked for",
                found: found.into(),
            })
        };
        if order.authorizations.len() > self.specification.names.len() {
            return Err(wrong("it has more authorizations than names").into());
        }
        let url = answer.location.ok_or_else(|| wrong("it has no Location"))?;
        if !url.starts_with("https://") {
            return Err(wrong("its Location does not begin with https://").into());
        }
        self.ready_order = (order.status == OrderStatus::Ready).then(|| url.clone());
        Ok(Outcome::Ordered(OrderRef { url, finalize: order.finalize, authorizations: order.authorizations }))
    }

    fn proving(&self) -> Proving<'_> {
        Proving { context: self.context, store: self.store, certificate: self.certificate, entry: self.entry }
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

    fn placement(&self) -> Placement<'_> {
        Placement::of(self.certificate, self.entry, &self.specification.names, self.generation)
    }

    async fn install(&mut self) -> Result<Outcome, StepError> {
        let placement = self.placement();
        let plans = install::plan(self.context, self.store, &placement, &Facts::default())?;
        for finding in plans.iter().flat_map(|p| &p.findings) {
            let advice = finding.advice.as_ref().map(|advice| format!(" ({advice})")).unwrap_or_default();
            self.context.report(&Progress::Note(format!("{}{advice}", finding.text)));
        }
        install::apply(self.context, self.store, &plans, &placement).await?;
        self.installed_since = Some(Instant::now());
        Ok(Outcome::Installed)
    }

    /// Looks at every endpoint, and again while one shows another certificate and the servers may still need time: during a
    /// reload the processes of before and the new ones take connections side by side.
    async fn look_at_endpoints(&self) -> Result<Vec<EndpointReport>, StepError> {
        let timeouts =
            self.entry.install.iter().map(|install| self.context.inventory.servers[&install.server].reload_timeout);
        let timeout = timeouts.max().unwrap_or_default();
        loop {
            let placement = self.placement();
            let reports =
                check::look_at(self.context, self.store, self.certificate, &placement, &Facts::default()).await?;
            let other = |f: &Finding| f.topic == Topic::Installed && f.severity == Severity::Bad;
            let shown = !reports.iter().flat_map(|report| &report.findings).any(other);
            if shown || self.installed_since.is_none_or(|since| since.elapsed() >= timeout) {
                return Ok(reports);
            }
            tokio::time::sleep(LOOK_AGAIN).await;
        }
    }

    /// Looks as a visitor would. An endpoint that cannot be reached from here says nothing against the generation: a machine at
    /// home does not reach itself by name. One that shows something else does.
    async fn confirm(&mut self) -> Result<Outcome, StepError> {
        let reports = self.look_at_endpoints().await?;
        let mut unreachable = Vec::new();
        for report in &reports {
            if report.address.is_none() {
                unreachable.extend(report.findings.iter().map(|f| format!("{}: {}", report.endpoint(), f.text)));
                continue;
            }
            self.looked_at += 1;
            // Whether this machine trusts the root says little about the visitors of a private authority.
            let (trust, bad): (Vec<_>, Vec<_>) = report
                .findings
                .iter()
                .filter(|f| f.severity == Severity::Bad)
                .cloned()
                .partition(|f| f.topic == Topic::Trust);
            if !bad.is_empty() {
                return Err(StepError::NotConfirmed { endpoint: report.endpoint(), findings: bad });
            }
            for finding in trust {
                self.context.report(&Progress::Note(format!("{}: {}", report.endpoint(), finding.text)));
            }
        }
        let (now, why) = ((self.context.now)(), unreachable.join("; "));
        let servers = self.entry.install.iter().map(|install| install.server.as_str());
        let record =
            |state, seen| self.store.record_installs(self.certificate, servers, self.generation, state, seen, now);
        if unreachable.is_empty() {
            record(InstallState::Confirmed, None)?;
            self.store.mark_confirmed(self.certificate, self.generation, now)?;
            return Ok(Outcome::Confirmed);
        }
        record(InstallState::Installed, Some(&why))?;
        let text = format!(
            "installed, but not confirmed from here: {why}. A machine that cannot reach itself by name needs `check-address`"
        );
        self.context.report(&Progress::Note(text));
        Ok(Outcome::Unreachable { why })
    }
}
