//! Everything that an authority would do to validate, and that installing needs, tried without asking the authority for anything that counts.

mod authority;
mod firewall;
mod names;
mod proofs;
pub(crate) mod renewal;
mod servers;

use crate::StepError;
use crate::keep::resolver;
use authority::Asked;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::progress::Progress;
use eskort_dns::{KnownCaa, KnownServers, names_of_hosts};
use eskort_host::Machines;
use eskort_prove::{ProofContext, Proving, SharedProofs, pay_debts_of};
use eskort_store::{RunLock, Store};
use firewall::PacketFilters;
use futures_util::future::{BoxFuture, join_all};
use futures_util::{FutureExt, StreamExt, TryStreamExt};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tokio::sync::Semaphore;

/// So many certificates are rehearsed at the same time.
const CERTIFICATES: usize = 16;
/// So many proofs are looked at at the same time.
const LOOKS: usize = 64;

/// What is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trial {
    /// Whether the authority answers, and takes us.
    Authority,
    /// Whether the authority's budgets have room for an order.
    Budget,
    /// Whether the name's domain lets the authority issue.
    Caa,
    /// Where the name leads.
    Address,
    /// Whether control can be shown.
    Proof,
    /// Whether the machine's packet filter lets visitors in.
    Firewall,
    /// Whether the server could be changed now.
    Install,
    /// Whether another authority gives a certificate.
    Renewal,
}

impl Trial {
    /// Returns the word for it.
    pub fn word(self) -> &'static str {
        match self {
            Trial::Authority => "authority",
            Trial::Budget => "budget",
            Trial::Caa => "caa",
            Trial::Address => "address",
            Trial::Proof => "proof",
            Trial::Firewall => "firewall",
            Trial::Install => "install",
            Trial::Renewal => "renewal",
        }
    }
}

/// What came of it.
#[derive(Clone, Debug)]
pub enum Tried {
    /// It would work.
    Good(String),
    /// It may not work, or cannot be tried.
    Risky {
        /// What was seen.
        text: String,
        /// What to do about it.
        advice: String,
    },
    /// It would fail.
    Fatal {
        /// What was seen.
        text: String,
        /// What to do about it.
        advice: String,
    },
    /// It has failed.
    Failed(Arc<StepError>),
}

/// One trial.
#[derive(Debug)]
pub struct Rehearsed {
    /// What was tried.
    pub trial: Trial,
    /// With which name, authority or server.
    pub of: String,
    /// What came of it.
    pub tried: Tried,
}

impl Rehearsed {
    fn of(trial: Trial, of: &str, tried: Tried) -> Self {
        Rehearsed { trial, of: of.to_owned(), tried }
    }
}

/// The rehearsal of one certificate.
#[derive(Debug)]
pub struct Rehearsal {
    /// The certificate.
    pub certificate: String,
    /// What was tried.
    pub trials: Vec<Rehearsed>,
}
/// Rehearses certificates of the inventory; all of them where none is named. What is published for it is removed at the end.
///
/// # Errors
/// When another run is at work, or the ledger fails.
///
/// # Panics
/// When a certificate is not in the inventory: callers look first.
#[boxed]
pub async fn rehearse(context: &Context, only: &[String]) -> Result<Vec<Rehearsal>, StepError> {
    let _lock = RunLock::take(&context.state, "eskort rehearse", context.now())?;
    let store = Store::open(&context.state)?;
    let (machines, shared) = (Machines::default(), SharedProofs::default());
    let all: Vec<&String> = match only {
        [] => context.inventory.certificates.keys().collect(),
        _ => only.iter().collect(),
    };
    context.report(&Progress::Doing("rehearse"));
    // Each authority is asked once, and what it lacks is told of with each certificate.
    let used: BTreeSet<&str> = all.iter().map(|name| &*context.inventory.certificates[*name].authority).collect();
    let ask = |name| authority::ask(context, &store, name);
    let (resolver, asked) = tokio::join!(resolver(), join_all(used.iter().map(|name| ask(name))));
    let rehearsing = Rehearsing {
        around: ProofContext { context, store: &store, machines: &machines, shared: &shared },
        authorities: used.into_iter().zip(asked).filter_map(|(name, asked)| Some((name, asked?))).collect(),
        resolver,
        hosts: names_of_hosts(&std::fs::read_to_string("/etc/hosts").unwrap_or_default()),
        servers: Arc::default(),
        caa: Arc::default(),
        looks: Semaphore::new(LOOKS),
        filters: PacketFilters::default(),
        leads_to_ipv6: AtomicBool::new(false),
    };
    let each: Vec<BoxFuture<'_, _>> = all.into_iter().map(|name| rehearsing.certificate(name).boxed()).collect();
    let rehearsals = futures_util::stream::iter(each).buffered(CERTIFICATES).try_collect().await;
    machines.hang_up().await;
    rehearsals
}

/// What the rehearsals of a run share.
struct Rehearsing<'a> {
    around: ProofContext<'a>,
    authorities: BTreeMap<&'a str, Asked>,
    /// The system's resolver; `None` when it has none that answers.
    resolver: Option<SocketAddr>,
    /// The names of this machine's own table.
    hosts: BTreeMap<String, BTreeSet<IpAddr>>,
    servers: Arc<KnownServers>,
    caa: Arc<KnownCaa>,
    looks: Semaphore,
    filters: PacketFilters,
    /// Whether some name leads to an IPv6 address.
    leads_to_ipv6: AtomicBool,
}

impl Rehearsing<'_> {
    async fn certificate(&self, name: &str) -> Result<Rehearsal, StepError> {
        let context = self.around.context;
        let entry = &context.inventory.certificates[name];
        let asked = self.authorities.get(&*entry.authority);
        let answer = |asked: &Asked| Rehearsed::of(Trial::Authority, &entry.authority, asked.tried.clone());
        let mut trials: Vec<Rehearsed> = asked.map(answer).into_iter().collect();
        trials.extend(authority::budget(context, self.around.store, entry).await?);
        let issuer = asked.and_then(|asked| asked.issuer.as_ref());
        let mut doors = self.doors(entry);
        let proofs = async {
            if asked.is_none() {
                return Ok(Vec::new());
            }
            // Nobody has a certificate of this name: whatever a run that was killed leaves published goes with the next.
            let owner = format!("rehearsal of {name}");
            let proved = self.proofs(&Proving { around: self.around, certificate: &owner, entry }).await;
            pay_debts_of(&self.around, &owner).await.map(|()| proved)
        };
        let (named, proved, (installed, endpoints), ()) = tokio::join!(
            self.names(entry, issuer),
            proofs,
            servers::installation(self.around, name, entry),
            self.read_filters(&doors)
        );
        trials.extend(named);
        trials.extend(proved?);
        doors.extend(endpoints);
        trials.extend(self.firewalls(&doors).await);
        trials.extend(installed);
        Ok(Rehearsal { certificate: name.to_owned(), trials })
    }
}
