//! What can stop a journey.

use crate::{AnswerError, ApiError, Errand};
use eskort_core::decision::Concerns;
use eskort_core::desk::AskedError;
use eskort_core::finding::Finding;
use eskort_core::journey::{Unexpected, WaitsFor};
use eskort_core::pki::{ChainError, PkiError};
use eskort_core::record::RecordToPlace;
use eskort_core::words;
use eskort_dns::{AskError, Propagation, UpdateError};
use eskort_host::HostError;
use eskort_host::{CommandError, SecretError};
use eskort_install::InstallError;
use eskort_probe::{NotVisible, TrustError};
use eskort_store::StoreError;
use eskort_talk::AuthorityError;
use jiff::{SignedDuration, Timestamp};
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

/// Why a step of a journey failed.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum StepError {
    /// The state folder.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The authority, or the way to it.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// The proof could not be put up.
    #[error(transparent)]
    Proof(#[from] ProofError),
    /// The proof cannot be seen from here.
    #[error("{name}: {seen}{}", also(others))]
    NotVisible {
        /// The first name whose proof is not visible.
        name: String,
        /// What was seen instead.
        seen: Box<NotVisible>,
        /// The other names whose proofs are not visible either.
        others: Vec<String>,
    },
    /// The proof's certificate is not what is shown at the name.
    #[error("{name}: {what}")]
    NotShown {
        /// The name.
        name: String,
        /// What was seen instead.
        what: String,
    },
    /// A person has to place records first.
    #[error("waits for a person to place {}", words::count(to_place.len() as u64, "record"))]
    AwaitsPerson {
        /// The records.
        to_place: Vec<RecordToPlace>,
    },
    /// A person has to carry the CSR to the authority, and bring the answer.
    #[error("waits for the answer of authority `{}`", .0.authority)]
    AwaitsAnswer(Box<Errand>),
    /// Somebody at the authority has to approve first.
    #[error("waits for the authority to approve; to be asked again at {until}")]
    AwaitsApproval {
        /// When it wants to be asked again.
        until: Timestamp,
    },
    /// What was brought is no answer.
    #[error(transparent)]
    Answer(#[from] AnswerError),
    /// Not every name server that answers has the records.
    #[error("{} after {}", not_everywhere(found, *of), words::duration((*after).try_into().unwrap_or_default()))]
    NotEverywhere {
        /// What they say.
        found: Propagation,
        /// How many servers there are.
        of: usize,
        /// How long they were asked.
        after: Duration,
    },
    /// The authority offers no challenge that the proof can meet.
    #[error("the authority offers no {} challenge for {name}", challenges.join(" or "))]
    NoChallenge {
        /// The name.
        name: String,
        /// The challenges that the proof can meet.
        challenges: Vec<&'static str>,
    },
    /// The chain does not answer the order.
    #[error("the authority's chain is of no use: {0}")]
    Chain(#[from] ChainError),
    /// A key of ours.
    #[error("{}: {source}", path.display())]
    Key {
        /// The key's file.
        path: PathBuf,
        /// What is wrong with it.
        source: PkiError,
    },
    /// A key that exists already.
    #[error("the key in {} cannot be used: {why}", path.display())]
    KeyFile {
        /// Its file, or that of its password.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// A server.
    #[error(transparent)]
    Install(#[from] InstallError),
    /// A look at the live site.
    #[error("{endpoint}: {}", findings.iter().map(|f| f.text.as_str()).collect::<Vec<_>>().join("; "))]
    NotConfirmed {
        /// Name and port.
        endpoint: String,
        /// What is bad about it.
        findings: Vec<Finding>,
    },
    /// Roots that cannot be read.
    #[error(transparent)]
    Trust(#[from] TrustError),
    /// The authority did not come to an end in time.
    #[error("still waiting for {} after {}", waits_for.words(), words::duration(*waited))]
    Stuck {
        /// What for.
        waits_for: WaitsFor,
        /// How long in this run.
        waited: SignedDuration,
    },
    /// The authority of the journey is of another kind than the one of the inventory.
    #[error("the journey is not for an authority of kind `{kind}`")]
    OtherKind {
        /// The kind in the inventory.
        kind: &'static str,
    },
    /// A bug of ours, met in the work on one certificate.
    #[error("a bug of Eskort's own: {what}")]
    Panic {
        /// What it says.
        what: String,
    },
    /// Somebody stopped the run.
    #[error("stopped by a signal")]
    Interrupted,
    /// A bug of ours.
    #[error(transparent)]
    Bug(#[from] Box<Unexpected>),
}

/// Why a proof could not be put up.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum ProofError {
    /// A file or folder.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The path.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// The document root.
    #[error("the folder {} does not exist{}", path.display(), on_host(host.as_ref()))]
    NoFolder {
        /// The host it should be on; `None` for this machine.
        host: Option<String>,
        /// The folder.
        path: PathBuf,
    },
    /// A proof that puts no files anywhere.
    #[error("the inventory has no proof `{proof}` of kind http-folder")]
    NoSiteFolder {
        /// Its name.
        proof: String,
    },
    /// A proof that places no records.
    #[error("the inventory has no proof `{proof}` that places records")]
    PlacesNoRecords {
        /// Its name.
        proof: String,
    },
    /// What an authority cannot have asked for.
    #[error(transparent)]
    Asked(#[from] AskedError),
    /// Another file is in the way.
    #[error("{} is there already and holds something else", path.display())]
    Occupied {
        /// The file.
        path: PathBuf,
    },
    /// The key of a dynamic update.
    #[error("cannot use the key {key}: {why}")]
    Key {
        /// Its file or its name.
        key: String,
        /// Why not.
        why: String,
    },
    /// A question to a name server.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// A dynamic update.
    #[error(transparent)]
    Update(#[from] UpdateError),
    /// A certificate for a challenge.
    #[error("cannot make the certificate for the challenge: {0}")]
    Certificate(#[source] PkiError),
    /// The primary name server that a zone names.
    #[error("the zone {zone} names {primary} as its primary name server, which has no address")]
    NoPrimary {
        /// The zone.
        zone: String,
        /// The server.
        primary: String,
    },
    /// A secret.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// An HTTP API.
    #[error(transparent)]
    Api(#[from] ApiError),
    /// Another machine.
    #[error(transparent)]
    Host(#[from] HostError),
    /// A machine that is not in the inventory any more.
    #[error("the host `{host}` is not in the inventory any more")]
    NoHost {
        /// Its name.
        host: String,
    },
    /// A file that was put on a machine and is not there.
    #[error("{} is not on host `{host}`, where it was put", path.display())]
    NotOnHost {
        /// The host.
        host: String,
        /// The file.
        path: PathBuf,
    },
    /// A link in the place of a folder that challenge files go into.
    #[error("{} on host `{host}` is a symbolic link, and is not followed", path.display())]
    LinkOnHost {
        /// The host.
        host: String,
        /// The link.
        path: PathBuf,
    },
    /// The ledger.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A program that places records.
    #[error(transparent)]
    Program(#[from] CommandError),
    /// The proof that published something is not in the inventory any more.
    #[error("the proof `{proof}` is not in the inventory any more")]
    Gone {
        /// Its name.
        proof: String,
    },
    /// A listener.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// Why not.
        source: io::Error,
    },
}

fn on_host(host: Option<&String>) -> String {
    host.map(|host| format!(" on host `{host}`")).unwrap_or_default()
}

fn also(others: &[String]) -> String {
    if others.is_empty() { String::new() } else { format!("; nor for {}", words::list(others)) }
}

/// Says how many name servers do not have the records.
fn not_everywhere(found: &Propagation, of: usize) -> String {
    match found.behind.len() {
        0 => format!("none of {of} name servers can be reached"),
        // Several addresses of one server may be behind.
        behind => format!("{} of {of} name servers do not have the records", behind.min(of)),
    }
}

impl StepError {
    /// Returns whether the journey is over: going on with the same order cannot help.
    pub fn ends_journey(&self) -> bool {
        match self {
            StepError::Chain(_) | StepError::NoChallenge { .. } | StepError::OtherKind { .. } => true,
            StepError::Authority(error) => error.order_is_lost(),
            StepError::Store(_)
            | StepError::Proof(_)
            | StepError::NotVisible { .. }
            | StepError::NotShown { .. }
            | StepError::NotEverywhere { .. }
            | StepError::AwaitsPerson { .. }
            | StepError::AwaitsAnswer(_)
            | StepError::AwaitsApproval { .. }
            | StepError::Answer(_)
            | StepError::Key { .. }
            | StepError::KeyFile { .. }
            | StepError::Install(_)
            | StepError::NotConfirmed { .. }
            | StepError::Trust(_)
            | StepError::Stuck { .. }
            | StepError::Interrupted
            | StepError::Panic { .. }
            | StepError::Bug(_) => false,
        }
    }

    /// Returns whom it concerns: what is left alone for a while, so that asking again soon does not count against us.
    pub(crate) fn concerns(&self) -> Concerns {
        match self {
            StepError::Chain(_) | StepError::NoChallenge { .. } => Concerns::Certificate,
            StepError::Authority(error) => error.concerns(),
            _ => Concerns::Nobody,
        }
    }

    /// Returns when the authority says that it may be asked again.
    pub fn authority_says(&self, now: Timestamp) -> Option<Timestamp> {
        let StepError::Authority(error) = self else { return None };
        let problem = error.problem()?;
        let wait = eskort_acme::retry_after(problem.retry_after.as_deref()?, now)?;
        // No authority holds anybody off for longer than its longest window.
        Some(now + wait.min(SignedDuration::from_hours(24 * 8)))
    }
}
