//! Everything that an authority would do to validate, and that installing needs, tried without asking the authority for anything that counts.

use crate::StepError;
use crate::keep::{Caa, look_at_caa, planned_servers, resolver, rooms_for};
use eskort_core::budget::{Room, waits_for};
use eskort_core::caa::Issuance;
use eskort_core::challenge::ChallengeKind;
use eskort_core::context::Context;
use eskort_core::inventory::{AcmeAuthority, CertificateEntry, Proof};
use eskort_core::journey::ProofTask;
use eskort_core::names::Identifier;
use eskort_core::pki::{hex, sha256};
use eskort_core::progress::Progress;
use eskort_core::record::challenge_record;
use eskort_core::words;
use eskort_dns::{AddressesSeen, KnownServers, see_addresses};
use eskort_host::Machines;
use eskort_prove::{ProofContext, ProofError, Proving, SharedProofs, pay_debts};
use eskort_store::{RunLock, Store, StoreError};
use eskort_talk::Conversation;
use futures_util::StreamExt;
use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::{IpAddr, SocketAddr};

/// So many names are looked at at the same time.
const AT_ONCE: usize = 32;

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
    /// Whether the server could be changed now.
    Install,
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
            Trial::Install => "install",
        }
    }
}

/// What came of it.
#[derive(Debug)]
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
    Failed(Box<StepError>),
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
pub async fn rehearse(context: &Context, only: &[String]) -> Result<Vec<Rehearsal>, StepError> {
    let _lock = RunLock::take(&context.state, "eskort rehearse", context.now())?;
    let store = Store::open(&context.state)?;
    let machines = Machines::default();
    let shared = SharedProofs::default();
    let around = ProofContext { context, store: &store, machines: &machines, shared: &shared };
    let all: Vec<&String> = match only {
        [] => context.inventory.certificates.keys().collect(),
        _ => only.iter().collect(),
    };
    let servers = KnownServers::default();
    let asking = Asking { resolver: resolver().await, servers: &servers };
    let mut rehearsals = Vec::new();
    let mut asked: BTreeMap<&str, Asked> = BTreeMap::new();
    for certificate in all {
        let entry = &context.inventory.certificates[certificate];
        context.report(&Progress::Doing("rehearse"));
        let mut trials = Vec::new();
        let acme = context.inventory.authorities[&entry.authority].acme();
        let mut issuer = None;
        if let Some(acme) = acme {
            // It is asked once, and what it lacks is told of with each certificate.
            let name = &*entry.authority;
            let known = match asked.entry(name) {
                Entry::Occupied(known) => {
                    let tried = match &known.get().fault {
                        Some((text, advice)) => Tried::Fatal { text: text.clone(), advice: advice.clone() },
                        None => Tried::Good(ANSWERS.into()),
                    };
                    trials.push(Rehearsed { trial: Trial::Authority, of: name.to_owned(), tried });
                    known.into_mut()
                }
                Entry::Vacant(place) => {
                    let (known, tried) = authority(context, &store, name, acme).await;
                    trials.push(Rehearsed { trial: Trial::Authority, of: name.to_owned(), tried });
                    place.insert(known)
                }
            };
            issuer = known.issuer.clone();
        }
        trials.extend(budget(context, &store, entry).await?);
        trials.extend(names(context, entry, issuer.as_ref(), asking).await);
        if acme.is_some() {
            // Nobody has a certificate of this name: whatever a run that was killed leaves published goes with the next.
            let owner = format!("rehearsal of {certificate}");
            let proving = Proving { around, certificate: &owner, entry };
            trials.extend(proofs(context, &proving, entry).await);
            pay_debts(around, |whose| whose == owner).await?;
        }
        trials.extend(installation(context, &store, &machines, certificate, entry).await);
        rehearsals.push(Rehearsal { certificate: certificate.clone(), trials });
    }
    machines.hang_up().await;
    Ok(rehearsals)
}

/// Who is asked about names.
#[derive(Clone, Copy)]
struct Asking<'a> {
    /// The system's resolver; `None` when it has none that answers.
    resolver: Option<SocketAddr>,
    servers: &'a KnownServers,
}

const ANSWERS: &str = "it answers";

/// How an authority is known to domains.
#[derive(Clone)]
struct Issuer {
    /// The names by which it goes in CAA records.
    identities: Vec<String>,
    /// The address of our account, where we have one.
    account: Option<String>,
}

/// What came of asking an authority.
struct Asked {
    /// `None` for one that did not answer.
    issuer: Option<Issuer>,
    /// What stands in the way, and what to do about it.
    fault: Option<(String, String)>,
}

/// Asks an authority for its directory, and looks at what it wants.
async fn authority(context: &Context, store: &Store, name: &str, acme: &AcmeAuthority) -> (Asked, Tried) {
    let asked = async {
        let conversation = Conversation::open(context, name, acme, store).await?;
        let account = conversation.signer().account().map(str::to_owned);
        Ok::<_, StepError>((conversation.directory().await?.meta.clone(), account))
    };
    let (meta, account) = match asked.await {
        Ok(found) => found,
        Err(error) => {
            let fault = Some((error.to_string(), "it is told above what to do about this authority".to_owned()));
            return (Asked { issuer: None, fault }, Tried::Failed(Box::new(error)));
        }
    };
    let terms = meta.terms_of_service.map(|terms| words::printable(&terms, 200)).filter(|_| !acme.accept_terms);
    let fault = match terms {
        Some(terms) => Some((
            format!("you have not agreed to its terms: {terms}"),
            "read them, then write `accept-terms = true` for this authority".to_owned(),
        )),
        None if meta.external_account_required && acme.external_account.is_none() => Some((
            "it requires an external account".to_owned(),
            "get a key identifier and a key from its web site, and write external-key-id and external-key-file into its section"
                .to_owned(),
        )),
        None => None,
    };
    let tried = match &fault {
        Some((text, advice)) => Tried::Fatal { text: text.clone(), advice: advice.clone() },
        None => Tried::Good(ANSWERS.into()),
    };
    (Asked { issuer: Some(Issuer { identities: meta.caa_identities, account }), fault }, tried)
}

/// Returns whether the budgets of its authority have room for an order for a certificate; nothing where there are no limits.
async fn budget(context: &Context, store: &Store, entry: &CertificateEntry) -> Result<Option<Rehearsed>, StoreError> {
    let rooms = rooms_for(context, store, entry).await?;
    let Some(least) = rooms.iter().min_by_key(|room| room.left()) else { return Ok(None) };
    let told = |room: &Room| format!("{} of {}", room.spent, room.whole_words());
    let tried = match waits_for(rooms.clone()) {
        Some((room, until)) => Tried::Fatal {
            text: format!("no room before {}: {} are spent", words::instant(until), told(&room)),
            advice:
                "wait until then, raise the limit in the section of the authority if it allows more, or insist with \
                     `eskort keep --beyond-budget`"
                    .into(),
        },
        None if least.left() == 1 => Tried::Risky {
            text: format!("this order takes the last one: {} are spent", told(least)),
            advice: "be sure that all else is good before you go on".into(),
        },
        None => Tried::Good(format!("{} are spent", told(least))),
    };
    Ok(Some(Rehearsed { trial: Trial::Budget, of: entry.authority.clone(), tried }))
}

/// Looks where each name leads, and whether its domain lets the authority issue.
async fn names(
    context: &Context,
    entry: &CertificateEntry,
    issuer: Option<&Issuer>,
    asking: Asking<'_>,
) -> Vec<Rehearsed> {
    let look = |name: Identifier| async move {
        let mut trials = Vec::new();
        let mut say = |trial, tried| trials.push(Rehearsed { trial, of: name.to_string(), tried });
        let proof = context.inventory.proof_of(entry, &name).map(|(_, proof)| proof);
        // Who proves control over DNS, or to a person, need not have a site yet.
        let is_reached =
            matches!(proof, Some(Proof::HttpFolder { .. } | Proof::HttpListener { .. } | Proof::TlsListener { .. }));
        if is_reached && name.address().is_none() {
            for tried in address(&name.to_string(), proof, asking).await {
                say(Trial::Address, tried);
            }
        }
        if let (Some(Issuer { identities, account }), Some(proof), None) = (issuer, proof, name.address()) {
            let (method, account) = (proof.challenges().first().map_or("", |kind| kind.word()), account.as_deref());
            let issuance = Issuance { identities, wildcard: name.is_wildcard(), account, method };
            if let Some(found) = look_at_caa(&name.to_string(), &issuance, asking.resolver).await {
                say(
                    Trial::Caa,
                    match found {
                        Caa::Allows(text) => Tried::Good(text),
                        Caa::Unclear { text, advice } => Tried::Risky { text, advice },
                        Caa::Forbids { text, advice } => Tried::Fatal { text, advice },
                    },
                );
            }
        }
        trials
    };
    let all = futures_util::stream::iter(entry.names.iter().cloned().map(look)).buffered(AT_ONCE);
    all.collect::<Vec<_>>().await.into_iter().flatten().collect()
}

/// Looks where a name leads, as this machine and as all name servers see it.
async fn address(name: &str, proof: Option<&Proof>, asking: Asking<'_>) -> Vec<Tried> {
    let instead = proof.and_then(Proof::check_address).is_some();
    let all = |found: BTreeSet<IpAddr>| words::list(&found.iter().map(ToString::to_string).collect::<Vec<_>>());
    let here: io::Result<BTreeSet<IpAddr>> =
        tokio::net::lookup_host((name, 0)).await.map(|found| found.map(|address| address.ip()).collect());
    let seen = match asking.resolver {
        Some(resolver) => Some(see_addresses(resolver, name, asking.servers).await),
        None => None,
    };
    let mut tried = seen.as_ref().map(disagreements).unwrap_or_default();
    let leads_nowhere = seen.as_ref().is_some_and(|seen| seen.unresolved.is_none() && seen.resolved.is_empty());
    tried.push(match here {
        _ if seen.as_ref().is_some_and(|seen| seen.is_bogus) => Tried::Fatal {
            text: "its DNSSEC signatures do not fit: the resolver has an answer, and does not trust it".into(),
            advice: "sign the zone anew, or mend the DS record at its parent: authorities check them, too".into(),
        },
        Ok(found) if leads_nowhere && !found.is_empty() => Tried::Risky {
            text: format!("only this machine knows its addresses ({}): the DNS has none", all(found)),
            advice: "add an A or AAAA record to its zone".into(),
        },
        Ok(found) => Tried::Good(format!("it resolves to {}", all(found))),
        Err(_) if instead => Tried::Risky {
            text: "it resolves to no address from here; the inventory names another to look at".into(),
            advice: "the authority has to find it: ask a resolver outside".into(),
        },
        Err(error) => Tried::Fatal {
            text: format!("it resolves to no address: {error}"),
            advice: "add an A or AAAA record to its zone, or leave the name out".into(),
        },
    });
    tried
}

/// Says where the name servers of a zone do not agree, or do not answer: an authority may ask any of them.
fn disagreements(seen: &AddressesSeen) -> Vec<Tried> {
    let mut tried = Vec::new();
    let opinions = seen.opinions();
    if opinions.len() > 1 {
        let opinion = |(said, hosts): (&&BTreeSet<IpAddr>, &Vec<&str>)| {
            let said: Vec<String> = said.iter().map(ToString::to_string).collect();
            let said = if said.is_empty() { "no address".to_owned() } else { words::list(&said) };
            format!("{said} by {}", words::list(hosts))
        };
        let opinions: Vec<String> = opinions.iter().map(opinion).collect();
        tried.push(Tried::Risky {
            text: format!("the name servers of its zone disagree: {}", opinions.join("; ")),
            advice: "an authority may ask any of them: look why some have another version of the zone".into(),
        });
    }
    let silent = |(host, said): &(String, Result<_, String>)| Some(format!("{host} ({})", said.as_ref().err()?));
    let silent: Vec<String> = seen.servers.iter().filter_map(silent).collect();
    if !silent.is_empty() {
        tried.push(Tried::Risky {
            text: format!("not all name servers of its zone answer: {}", words::list(&silent)),
            advice: "an authority may ask any of them: mend them, or take them out of the zone's NS records".into(),
        });
    }
    tried
}

/// A token that nobody has used, and what answers it.
fn token(context: &Context, name: &Identifier, n: usize) -> (String, String) {
    let seed = format!("{} {n} {name} {}", context.now(), eskort_host::passing_name());
    let digest = hex(&sha256(seed.as_bytes()));
    (digest[..32].to_owned(), format!("{}.rehearsal", &digest[..32]))
}

/// Publishes for each name what its proof would, and looks at it as the authority would.
async fn proofs(context: &Context, proving: &Proving<'_>, entry: &CertificateEntry) -> Vec<Rehearsed> {
    let mut trials = Vec::new();
    let mut tasks: Vec<ProofTask> = Vec::new();
    for (n, name) in entry.names.iter().enumerate() {
        let Some((proof_name, proof)) = context.inventory.proof_of(entry, name) else { continue };
        if proof.awaits_person() {
            let text = format!("a person shows control (`{proof_name}`): that cannot be tried");
            let advice = "`keep` says what to place when the time has come".to_owned();
            trials.push(Rehearsed { trial: Trial::Proof, of: name.to_string(), tried: Tried::Risky { text, advice } });
            continue;
        }
        let (token, key_authorization) = token(context, name, n);
        let kind = match proof {
            Proof::Dns(_) => ChallengeKind::Dns01,
            other => other.challenges()[0],
        };
        let record = (kind == ChallengeKind::Dns01).then(|| challenge_record(&name.base(), &key_authorization));
        let proof = Some(proof_name.to_owned());
        tasks.push(ProofTask {
            name: name.clone(),
            challenge: String::new(),
            token,
            key_authorization,
            kind,
            proof,
            record,
        });
    }
    // Each proof is published by itself: one that fails says nothing about the others.
    let mut by_proof: Vec<(Option<String>, Vec<ProofTask>)> = Vec::new();
    for task in tasks {
        match by_proof.iter_mut().find(|(proof, _)| *proof == task.proof) {
            Some((_, tasks)) => tasks.push(task),
            None => by_proof.push((task.proof.clone(), vec![task])),
        }
    }
    for (proof, tasks) in by_proof {
        let proof = proof.unwrap_or_default();
        let failed = |error: ProofError| Tried::Failed(Box::new(error.into()));
        // Listeners end when they are dropped.
        let _listeners = match proving.publish(&tasks).await {
            Ok(listeners) => listeners,
            Err(error) => {
                trials.push(Rehearsed { trial: Trial::Proof, of: format!("[proof.{proof}]"), tried: failed(error) });
                continue;
            }
        };
        let look = |task: ProofTask| async move {
            let tried = match proving.self_check(std::slice::from_ref(&task)).await {
                Ok(_) => {
                    Tried::Good(format!("what `{}` publishes can be seen", task.proof.as_deref().unwrap_or_default()))
                }
                Err(error) => failed(error),
            };
            Rehearsed { trial: Trial::Proof, of: task.name.to_string(), tried }
        };
        trials.extend(
            futures_util::stream::iter(tasks.into_iter().map(look)).buffered(AT_ONCE).collect::<Vec<_>>().await,
        );
    }
    trials
}

/// Plans what would change on servers, and has each test its configuration as it is now.
async fn installation(
    context: &Context,
    store: &Store,
    machines: &Machines,
    certificate: &str,
    entry: &CertificateEntry,
) -> Vec<Rehearsed> {
    let plans = match planned_servers(context, store, certificate, entry).await {
        Ok(plans) => plans,
        Err(error) => {
            let tried = Tried::Failed(Box::new(error));
            let servers: Vec<&str> = entry.install.iter().map(|install| &*install.server).collect();
            return vec![Rehearsed { trial: Trial::Install, of: words::list(&servers), tried }];
        }
    };
    let mut trials = Vec::new();
    for plan in plans {
        let tested = match &plan.test {
            Some(words) => machines.at(context, plan.host.as_deref()).run(words, b"", &plan.rules).await,
            None => Ok(()),
        };
        let changes = words::count(plan.changes.len() as u64, "file");
        let tried = match (tested, &plan.test) {
            (Ok(()), Some(_)) => Tried::Good(format!("it accepts its configuration; {changes} would change")),
            (Ok(()), None) => Tried::Good(format!("{changes} would change")),
            (Err(error), _) => Tried::Fatal {
                text: format!("it does not accept its configuration as it is: {error}"),
                advice: "mend it first: nothing can be installed before".into(),
            },
        };
        trials.push(Rehearsed { trial: Trial::Install, of: plan.server, tried });
    }
    trials
}
