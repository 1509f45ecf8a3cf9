//! What can stop a journey.

use eskort_core::budget::Room;
use eskort_core::decision::{Concerns, Fault};
use eskort_core::finding::Finding;
use eskort_core::journey::{Unexpected, WaitsFor};
use eskort_core::names::Identifier;
use eskort_core::pki::{ChainError, IntakeError, PkiError};
use eskort_core::record::RecordToPlace;
use eskort_core::words;
use eskort_install::InstallError;
use eskort_probe::TrustError;
use eskort_prove::ProofError;
use eskort_store::StoreError;
use eskort_talk::AuthorityError;
use jiff::{SignedDuration, Timestamp};
use std::path::PathBuf;

/// Why a step of a journey failed.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum StepError {
    /// The state folder.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Nothing to install.
    #[error("no certificate is stored yet")]
    NothingStored,
    /// Nothing to go back from.
    #[error("no generation is in use")]
    NotInstalled,
    /// What was there before is not stored any more.
    #[error("what was there before generation {generation} is not stored any more")]
    Swept {
        /// The generation in use.
        generation: u32,
    },
    /// The records of its key were published just now.
    #[error("the TLSA records of its key are published; others may remember those of before until {}", words::instant(*until))]
    AwaitsTtl {
        /// When nobody remembers them any more.
        until: Timestamp,
    },
    /// A person has to place records first.
    #[error("its key has no TLSA records yet")]
    ToPlace {
        /// The records.
        records: Vec<RecordToPlace>,
    },
    /// What is stored is of no use any more.
    #[error("generation {generation} has ended on {day}")]
    Ended {
        /// Its number.
        generation: u32,
        /// When.
        day: String,
    },
    /// The authority, or the way to it.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// The proof could not be put up.
    #[error(transparent)]
    Proof(#[from] ProofError),
    /// What was brought is no answer.
    #[error(transparent)]
    Answer(#[from] AnswerError),
    /// The practice authority of a rehearsal.
    #[error("cannot start a practice authority: {what}")]
    Rehearsal {
        /// What came back.
        what: String,
    },
    /// The timer, or what runs it.
    #[error("cannot {job}: {what}")]
    Schedule {
        /// What was tried.
        job: &'static str,
        /// What came back.
        what: String,
    },
    /// The authority does not offer the kind of certificate that the inventory asks for.
    #[error("the authority has no profile `{wanted}`")]
    NoProfile {
        /// What the inventory asks for.
        wanted: String,
        /// What the authority offers.
        offered: Vec<String>,
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
    #[error("the authority's chain cannot be used: {0}")]
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
    /// A domain does not let the authority issue.
    #[error("{name}: {text}")]
    Forbidden {
        /// The name.
        name: Identifier,
        /// What its CAA records say.
        text: String,
        /// What to do about it.
        advice: String,
    },
    /// A budget of the authority has no room for the order.
    #[error("the budget for {} ({}) is used up until {}", budget.words(), budget.limit_words(), words::instant(*until))]
    NoRoom {
        /// When there is room again.
        until: Timestamp,
        /// The budget.
        budget: Box<Room>,
    },
    /// The authority of the journey is of another kind than the one of the inventory.
    #[error("the journey is not for an authority of kind `{kind}`")]
    OtherKind {
        /// The kind in the inventory.
        kind: &'static str,
    },
    /// A bug of ours, met in the work on one certificate.
    #[error("a bug in Eskort: {what}")]
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

impl StepError {
    /// Returns whether the journey is over: going on with the same order cannot help.
    pub fn ends_journey(&self) -> bool {
        match self {
            StepError::Chain(_) | StepError::NoChallenge { .. } | StepError::OtherKind { .. } => true,
            StepError::Authority(error) => error.order_is_lost(),
            StepError::Store(_)
            | StepError::Proof(_)
            | StepError::Answer(_)
            | StepError::Key { .. }
            | StepError::KeyFile { .. }
            | StepError::Install(_)
            | StepError::NotConfirmed { .. }
            | StepError::Trust(_)
            | StepError::Stuck { .. }
            | StepError::NoRoom { .. }
            | StepError::Forbidden { .. }
            | StepError::NoProfile { .. }
            | StepError::Schedule { .. }
            | StepError::Rehearsal { .. }
            | StepError::Interrupted
            | StepError::Panic { .. }
            | StepError::NothingStored
            | StepError::NotInstalled
            | StepError::Swept { .. }
            | StepError::AwaitsTtl { .. }
            | StepError::ToPlace { .. }
            | StepError::Ended { .. }
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

    /// Returns whose fault it is.
    pub fn fault(&self) -> Fault {
        match self {
            StepError::Authority(error) => error.fault(),
            StepError::Chain(_) | StepError::NoChallenge { .. } | StepError::Stuck { .. } => Fault::Authority,
            StepError::Proof(error) => match error {
                ProofError::Write { .. }
                | ProofError::NoFolder { host: None, .. }
                | ProofError::NoSiteFolder { .. }
                | ProofError::PlacesNoRecords { .. }
                | ProofError::Occupied { .. }
                | ProofError::Key { .. }
                | ProofError::Secret(_)
                | ProofError::Store(_)
                | ProofError::Listen { .. } => Fault::Here,
                _ => Fault::Site,
            },
            StepError::Forbidden { .. } | StepError::Install(_) | StepError::NotConfirmed { .. } => Fault::Site,
            _ => Fault::Here,
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

/// Why what was brought is no answer.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum AnswerError {
    /// A file that cannot be read.
    #[error("cannot read {}: {source}", path.display())]
    Read {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The password that was to be read.
    #[error("{0}")]
    Password(String),
    /// Nothing in it.
    #[error(transparent)]
    Intake(#[from] IntakeError),
    /// It fits a key of ours and not what was asked for.
    #[error("the answer cannot be used: {0}")]
    Chain(#[from] ChainError),
    /// It does not allow what was asked for.
    #[error("the certificate does not allow {}", words::list(usages))]
    Forbids {
        /// The uses.
        usages: Vec<&'static str>,
    },
    /// Nobody has said yet that whoever issued it may.
    #[error("the certificate is issued by `{issuer}`, which is not known to be the authority's")]
    UnknownIssuer {
        /// The issuer's name.
        issuer: String,
        /// The issuer's fingerprint, where its certificate was brought.
        fingerprint: Option<String>,
        /// The certificate of the inventory.
        certificate: String,
        /// The authority of the inventory.
        authority: String,
    },
    /// There is no key in what is to be taken in.
    #[error("it contains no private key")]
    NoKey,
    /// The key belongs to another certificate.
    #[error("the private key matches none of the certificates")]
    KeyFitsNone,
    /// A journey would bring another generation.
    #[error("a journey of `{certificate}` is under way")]
    UnderWay {
        /// The certificate.
        certificate: String,
    },
    /// The answer to a CSR of ours would bring another generation.
    #[error("a CSR of ours waits for an answer for `{certificate}`")]
    CsrWaits {
        /// The certificate.
        certificate: String,
    },
    /// It is ours already.
    #[error("this is the newest generation of `{certificate}` already")]
    Known {
        /// The certificate.
        certificate: String,
    },
    /// It was taken in before.
    #[error("this is generation {generation} of `{certificate}`, which is stored already")]
    Earlier {
        /// The certificate.
        certificate: String,
        /// Its generation.
        generation: u32,
    },
    /// There is nothing to note.
    #[error("no journey of `{certificate}` waits for an authority's answer")]
    NotWaiting {
        /// The certificate.
        certificate: String,
    },
    /// No journey waits.
    #[error("no journey waits for an answer")]
    NothingWaits,
    /// Its certificate is for other keys.
    #[error("{} {}", words::list(titles), if *generation == 0 { "matches no stored private key".to_owned() } else { format!("does not match the waiting key; it matches that of generation {generation} of `{certificate}`") })]
    FitsNone {
        /// What the certificates are for.
        titles: Vec<String>,
        /// The certificate of the inventory that it fits, if any.
        certificate: String,
        /// Its generation; 0 when there is none.
        generation: u32,
    },
}
