//! What the stages of a journey are made of, and what is done and comes of it.

use crate::challenge::ChallengeKind;
use crate::manual::OrderNotes;
use crate::names::Identifier;
use crate::record::{Record, challenge_record};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fmt;

/// One of the six stages that people see, whichever way the authority works: four of the journey, two of the deployment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Milestone {
    /// Key and request exist.
    Prepared,
    /// The authority knows.
    Ordered,
    /// Control of every name is shown.
    Proved,
    /// The chain is received, matched and stored.
    Issued,
    /// It is on every server named.
    Installed,
    /// It was seen live from outside.
    Confirmed,
}

impl Milestone {
    /// All six in order.
    pub const ALL: [Milestone; 6] = [
        Milestone::Prepared,
        Milestone::Ordered,
        Milestone::Proved,
        Milestone::Issued,
        Milestone::Installed,
        Milestone::Confirmed,
    ];

    /// Returns the stage's word.
    pub fn word(self) -> &'static str {
        match self {
            Milestone::Prepared => "prepared",
            Milestone::Ordered => "ordered",
            Milestone::Proved => "proved",
            Milestone::Issued => "issued",
            Milestone::Installed => "installed",
            Milestone::Confirmed => "confirmed",
        }
    }
}

impl fmt::Display for Milestone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// The addresses that an order has at its authority.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderRef {
    /// The order itself.
    pub url: String,
    /// Where its CSR goes.
    pub finalize: String,
    /// One authorization for each name.
    pub authorizations: Vec<String>,
}

/// What has to be published for one name, and where the authority is told that it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProofTask {
    /// The name to prove.
    pub name: Identifier,
    /// The challenge's address at the authority.
    pub challenge: String,
    /// The challenge's token, checked to be base64url (RFC 8555 section 8.1); empty where the challenge has none.
    pub token: String,
    /// The text to publish: token, a dot, the account key's thumbprint; empty where there is no token.
    pub key_authorization: String,
    /// The kind of challenge.
    #[serde(default, alias = "way")]
    pub kind: ChallengeKind,
    /// The proof of the inventory that publishes it; `None` in journeys of before there could be several.
    #[serde(default)]
    pub proof: Option<String>,
    /// The TXT record to publish, where it is not that of dns-01.
    #[serde(default)]
    pub record: Option<Record>,
}

impl ProofTask {
    /// Returns the TXT record that answers the challenge over DNS.
    pub fn record(&self) -> Record {
        self.record.clone().unwrap_or_else(|| challenge_record(&self.name.base(), &self.key_authorization))
    }
}

/// How often something was asked for, and when to ask again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Poll {
    /// How often it was asked for.
    pub asked: u32,
    /// Not to be asked for before this instant.
    pub not_before: Option<Timestamp>,
}

impl Poll {
    /// Returns the action, or until when to wait with it.
    pub(super) fn next(&self, now: Timestamp, waits_for: WaitsFor, action: Action) -> Next {
        match self.not_before {
            Some(until) if until > now => Next::Wait { until, waits_for },
            _ => Next::Act(action),
        }
    }

    pub(super) fn again(&self, ask_again: Timestamp) -> Poll {
        Poll { asked: self.asked + 1, not_before: Some(ask_again) }
    }
}

/// The one thing to do next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Make and store key and CSR.
    Prepare,
    /// Place the order, or hand the CSR over.
    PlaceOrder,
    /// Take the answer that a person brings, match it to the key, store it; publish what the authority asks for meanwhile.
    TakeAnswer(OrderNotes),
    /// Ask for the certificate again, with the same CSR.
    AskAgain,
    /// Fetch the authorizations and choose a challenge of each.
    ChooseChallenges(OrderRef),
    /// Publish what the challenges ask for.
    Publish(Vec<ProofTask>),
    /// Look at what was published, as the authority would.
    SelfCheck(Vec<ProofTask>),
    /// Tell the authority that it may look (RFC 8555 section 7.5.1).
    Respond(OrderRef, Vec<ProofTask>),
    /// Ask how the order stands, with everything still published.
    AwaitProof(OrderRef, Vec<ProofTask>),
    /// Send the CSR.
    Finalize(OrderRef),
    /// Ask whether the certificate is there.
    AwaitCertificate(OrderRef),
    /// Fetch the chain, match it to the key, store it.
    Fetch(String),
}

impl Action {
    /// Returns what is being done, for progress and errors: "place the order".
    pub fn words(&self) -> &'static str {
        match self {
            Action::Prepare => "make the key and the CSR",
            Action::PlaceOrder => "place the order",
            Action::TakeAnswer(_) => "look for the answer",
            Action::AskAgain => "ask for the certificate again",
            Action::ChooseChallenges(_) => "get the challenges",
            Action::Publish(_) => "publish the proof",
            Action::SelfCheck(_) => "check the proof from here",
            Action::Respond(..) => "ask the authority to validate",
            Action::AwaitProof(..) => "wait for the authority to validate",
            Action::Finalize(_) => "send the CSR",
            Action::AwaitCertificate(_) => "wait for the certificate",
            Action::Fetch(_) => "fetch the certificate",
        }
    }

    /// Whether doing it once more changes nothing out there, whatever came after it: it only asks, says what it publishes before it does, or
    /// tells the authority something that it remembers.
    pub fn can_be_repeated(&self) -> bool {
        match self {
            Action::ChooseChallenges(_)
            | Action::Publish(_)
            | Action::SelfCheck(_)
            | Action::Respond(..)
            | Action::AwaitProof(..)
            | Action::AwaitCertificate(_)
            | Action::Fetch(_) => true,
            Action::Prepare | Action::PlaceOrder | Action::TakeAnswer(_) | Action::AskAgain | Action::Finalize(_) => {
                false
            }
        }
    }

    /// Returns a short name for crash points and the ledger: `place-order`.
    pub fn slug(&self) -> &'static str {
        match self {
            Action::Prepare => "prepare",
            Action::PlaceOrder => "place-order",
            Action::TakeAnswer(_) => "take-answer",
            Action::AskAgain => "ask-again",
            Action::ChooseChallenges(_) => "choose-challenges",
            Action::Publish(_) => "publish",
            Action::SelfCheck(_) => "self-check",
            Action::Respond(..) => "respond",
            Action::AwaitProof(..) => "await-proof",
            Action::Finalize(_) => "finalize",
            Action::AwaitCertificate(_) => "await-certificate",
            Action::Fetch(_) => "fetch",
        }
    }
}

/// What a journey can wait for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum WaitsFor {
    /// The authority looks at the proofs.
    Validation,
    /// The authority issues.
    Issuance,
    /// Somebody at the authority approves.
    Approval,
}

impl WaitsFor {
    /// Returns the words for "waiting for …".
    pub fn words(self) -> &'static str {
        match self {
            WaitsFor::Validation => "the authority to validate",
            WaitsFor::Issuance => "the authority to issue",
            WaitsFor::Approval => "the authority to approve",
        }
    }
}

/// What `next` of a stage says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Next {
    /// Do this.
    Act(Action),
    /// Nothing to do before this instant.
    Wait {
        /// The instant.
        until: Timestamp,
        /// What is waited for.
        waits_for: WaitsFor,
    },
    /// The journey is at its end.
    Done,
}

/// Where an acquisition is after an outcome.
pub(super) enum After<T> {
    /// Still on its way.
    At(T),
    /// The chain is stored.
    Issued,
}

/// What came of an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// Key and CSR are stored.
    Prepared,
    /// The authority took the order.
    Ordered(OrderRef),
    /// The CSR is where a person finds it.
    HandedOver,
    /// What to publish.
    Challenges(Vec<ProofTask>),
    /// All is published.
    Published,
    /// All was seen from here.
    SelfChecked,
    /// The authority was told.
    Responded {
        /// When to ask what it found.
        ask_again: Timestamp,
    },
    /// The authority is still at it.
    NotYet {
        /// When to ask again.
        ask_again: Timestamp,
    },
    /// Every authorization is valid.
    Proved,
    /// The CSR was taken; the certificate is not there yet.
    Finalized {
        /// When to ask for it.
        ask_again: Timestamp,
    },
    /// The certificate can be fetched from this address.
    Ready(String),
    /// The chain is stored.
    Stored,
}
