//! The journey: one attempt to take a certificate through its six stages.
//!
//! [`Stage`] is saved whole after each step. [`Stage::next`] says the one thing to do, [`Stage::apply`] takes in what came
//! of it; both are pure and total. Every action may be run twice: whoever carries it out looks first at how things are.

use crate::manual::{AskedProof, OrderNotes};
use crate::names::Identifier;
use crate::record::{Record, challenge_record};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::fmt;

/// The version of the saved form of [`Stage`]. Readers take any older one, and refuse a newer one.
pub const STAGE_VERSION: u32 = 2;

/// One of the six stages that people see, whichever way the authority works.
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

/// A way to show control of a name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// A text on the site (RFC 8555 section 8.3).
    #[default]
    Http,
    /// A TXT record (RFC 8555 section 8.4).
    Dns,
    /// A TXT record below a label of the account's own (draft-ietf-acme-dns-account-label).
    DnsAccount,
    /// A TXT record that stands for good (draft-ietf-acme-dns-persist).
    DnsPersist,
    /// A certificate shown in a TLS handshake (RFC 8737).
    Tls,
}

impl Way {
    /// Returns the name of the challenge.
    pub fn challenge(self) -> &'static str {
        match self {
            Way::Http => "http-01",
            Way::Dns => "dns-01",
            Way::DnsAccount => "dns-account-01",
            Way::DnsPersist => "dns-persist-01",
            Way::Tls => "tls-alpn-01",
        }
    }

    /// Returns whether it proves wildcards too: over DNS only (RFC 8555 section 7.1.3).
    pub fn proves_wildcards(self) -> bool {
        matches!(self, Way::Dns | Way::DnsAccount | Way::DnsPersist)
    }

    /// Returns whether it proves addresses too: not over DNS (RFC 8738 section 7).
    pub fn proves_addresses(self) -> bool {
        matches!(self, Way::Http | Way::Tls)
    }
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
    /// How it is published.
    #[serde(default)]
    pub way: Way,
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

/// Where a journey stands. Every variant holds all that a restart needs to go on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "stage", rename_all = "kebab-case")]
pub enum Stage {
    /// Nothing done yet.
    Opened,
    /// Key and CSR are stored.
    Prepared,
    /// The CSR was handed to a person, who brings the answer.
    HandedOver {
        /// What the person found out meanwhile.
        #[serde(default)]
        notes: OrderNotes,
    },
    /// The authority has the CSR and takes its time: the same is to be asked again (RFC 7030 section 4.2.3).
    Enrolling {
        /// How often it was asked, and when next.
        poll: Poll,
    },
    /// The authority has the order.
    Ordered {
        /// The order.
        order: OrderRef,
    },
    /// It is known what to publish for which name.
    Challenged {
        /// The order.
        order: OrderRef,
        /// What is to be published; names that the authority takes as proved already are not in it.
        tasks: Vec<ProofTask>,
    },
    /// All is published.
    Published {
        /// The order.
        order: OrderRef,
        /// What was published.
        tasks: Vec<ProofTask>,
    },
    /// All was seen from here, as the authority would.
    SelfChecked {
        /// The order.
        order: OrderRef,
        /// What was seen.
        tasks: Vec<ProofTask>,
    },
    /// The authority was told, and is looking.
    AwaitingProof {
        /// The order.
        order: OrderRef,
        /// What must stay published meanwhile.
        tasks: Vec<ProofTask>,
        /// How often the order was asked for, and when next.
        poll: Poll,
    },
    /// Control of every name is shown.
    Proved {
        /// The order.
        order: OrderRef,
    },
    /// The authority has the CSR and is issuing.
    AwaitingCertificate {
        /// The order.
        order: OrderRef,
        /// How often the order was asked for, and when next.
        poll: Poll,
    },
    /// The certificate can be fetched.
    Ready {
        /// Its address.
        certificate: String,
    },
    /// The chain is received, matched to the key and stored.
    Issued,
    /// It is on every server named.
    Installed,
    /// It was seen live. The end.
    Confirmed,
    /// It is on every server named, and could not be looked at from here. The end too: that says nothing against it.
    Unconfirmed {
        /// Why not.
        why: String,
    },
}

/// How often something was asked for, and when to ask again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Poll {
    /// How often it was asked for.
    pub asked: u32,
    /// Not to be asked for before this instant.
    pub not_before: Option<Timestamp>,
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
    /// Put it on every server.
    Install,
    /// Look at it as a visitor would.
    Confirm,
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
            Action::Install => "install the certificate",
            Action::Confirm => "check the site as a visitor",
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
            Action::Install => "install",
            Action::Confirm => "confirm",
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

/// What [`Stage::next`] says.
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
    Responded,
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
    /// Every server serves it.
    Installed,
    /// It was seen live.
    Confirmed,
    /// No look was possible from here.
    Unreachable {
        /// Why not.
        why: String,
    },
}

/// An outcome that does not belong to the stage it came to: a bug in Eskort.
#[derive(Debug, thiserror::Error)]
#[error("the outcome {outcome:?} does not belong to the stage {stage:?}")]
pub struct Unexpected {
    /// Where the journey stood.
    pub stage: Stage,
    /// What came.
    pub outcome: Outcome,
}

impl Stage {
    /// Returns the next thing to do, or until when to wait.
    pub fn next(&self, now: Timestamp) -> Next {
        let unless_early = |poll: &Poll, waits_for, action| match poll.not_before {
            Some(until) if until > now => Next::Wait { until, waits_for },
            _ => Next::Act(action),
        };
        match self {
            Stage::Opened => Next::Act(Action::Prepare),
            Stage::Prepared => Next::Act(Action::PlaceOrder),
            Stage::HandedOver { notes } => Next::Act(Action::TakeAnswer(notes.clone())),
            Stage::Enrolling { poll } => unless_early(poll, WaitsFor::Approval, Action::AskAgain),
            Stage::Ordered { order } => Next::Act(Action::ChooseChallenges(order.clone())),
            Stage::Challenged { tasks, .. } => Next::Act(Action::Publish(tasks.clone())),
            Stage::Published { tasks, .. } => Next::Act(Action::SelfCheck(tasks.clone())),
            Stage::SelfChecked { order, tasks } => Next::Act(Action::Respond(order.clone(), tasks.clone())),
            Stage::AwaitingProof { order, tasks, poll } => {
                unless_early(poll, WaitsFor::Validation, Action::AwaitProof(order.clone(), tasks.clone()))
            }
            Stage::Proved { order } => Next::Act(Action::Finalize(order.clone())),
            Stage::AwaitingCertificate { order, poll } => {
                unless_early(poll, WaitsFor::Issuance, Action::AwaitCertificate(order.clone()))
            }
            Stage::Ready { certificate } => Next::Act(Action::Fetch(certificate.clone())),
            Stage::Issued => Next::Act(Action::Install),
            Stage::Installed => Next::Act(Action::Confirm),
            Stage::Confirmed | Stage::Unconfirmed { .. } => Next::Done,
        }
    }

    /// Takes in what came of the action that [`Stage::next`] named.
    ///
    /// # Errors
    /// [`Unexpected`] when the outcome does not belong to this stage.
    pub fn apply(self, outcome: Outcome) -> Result<Stage, Box<Unexpected>> {
        use Outcome as O;
        use Stage as S;
        Ok(match (self, outcome) {
            (S::Opened, O::Prepared) => S::Prepared,
            (S::Prepared, O::Ordered(order)) => S::Ordered { order },
            (S::Prepared, O::HandedOver) => S::HandedOver { notes: OrderNotes::default() },
            (S::HandedOver { .. } | S::Prepared | S::Enrolling { .. }, O::Stored) => S::Issued,
            (S::Prepared, O::NotYet { ask_again }) => S::Enrolling { poll: Poll::default().again(ask_again) },
            (S::Enrolling { poll }, O::NotYet { ask_again }) => S::Enrolling { poll: poll.again(ask_again) },
            // Nothing to publish: the authority remembers earlier proofs of every name.
            (S::Ordered { order }, O::Challenges(tasks)) if tasks.is_empty() => S::Proved { order },
            (S::Ordered { order }, O::Challenges(tasks)) => S::Challenged { order, tasks },
            (S::Challenged { order, tasks }, O::Published) => S::Published { order, tasks },
            (S::Published { order, tasks }, O::SelfChecked) => S::SelfChecked { order, tasks },
            (S::SelfChecked { order, tasks }, O::Responded) => S::AwaitingProof { order, tasks, poll: Poll::default() },
            (S::AwaitingProof { order, tasks, poll }, O::NotYet { ask_again }) => {
                S::AwaitingProof { order, tasks, poll: poll.again(ask_again) }
            }
            (S::AwaitingProof { order, .. }, O::Proved) => S::Proved { order },
            // The order may turn out to be further along than the ledger knew.
            (S::AwaitingProof { .. } | S::Proved { .. } | S::AwaitingCertificate { .. }, O::Ready(certificate)) => {
                S::Ready { certificate }
            }
            (S::AwaitingProof { order, .. } | S::Proved { order }, O::Finalized { ask_again }) => {
                S::AwaitingCertificate { order, poll: Poll { asked: 1, not_before: Some(ask_again) } }
            }
            (S::AwaitingCertificate { order, poll }, O::NotYet { ask_again }) => {
                S::AwaitingCertificate { order, poll: poll.again(ask_again) }
            }
            (S::Ready { .. }, O::Stored) => S::Issued,
            (S::Issued, O::Installed) => S::Installed,
            (S::Installed, O::Confirmed) => S::Confirmed,
            (S::Installed, O::Unreachable { why }) => S::Unconfirmed { why },
            (stage, outcome) => return Err(Box::new(Unexpected { stage, outcome })),
        })
    }

    /// Returns the last of the six stages that is passed; `None` before the first.
    pub fn milestone(&self) -> Option<Milestone> {
        match self {
            Stage::Opened => None,
            Stage::HandedOver { notes } if notes.is_ordered() => Some(Milestone::Ordered),
            Stage::Prepared | Stage::HandedOver { .. } => Some(Milestone::Prepared),
            Stage::Ordered { .. }
            | Stage::Enrolling { .. }
            | Stage::Challenged { .. }
            | Stage::Published { .. }
            | Stage::SelfChecked { .. }
            | Stage::AwaitingProof { .. } => Some(Milestone::Ordered),
            Stage::Proved { .. } | Stage::AwaitingCertificate { .. } | Stage::Ready { .. } => Some(Milestone::Proved),
            Stage::Issued => Some(Milestone::Issued),
            Stage::Installed | Stage::Unconfirmed { .. } => Some(Milestone::Installed),
            Stage::Confirmed => Some(Milestone::Confirmed),
        }
    }

    /// Returns the kind of authority that a journey in this stage talks to; `None` where that shows in none or any.
    pub fn authority_kind(&self) -> Option<&'static str> {
        match self {
            Stage::HandedOver { .. } => Some("csr"),
            Stage::Enrolling { .. } => Some("est"),
            Stage::Ordered { .. }
            | Stage::Challenged { .. }
            | Stage::Published { .. }
            | Stage::SelfChecked { .. }
            | Stage::AwaitingProof { .. }
            | Stage::Proved { .. }
            | Stage::AwaitingCertificate { .. }
            | Stage::Ready { .. } => Some("acme"),
            Stage::Opened
            | Stage::Prepared
            | Stage::Issued
            | Stage::Installed
            | Stage::Confirmed
            | Stage::Unconfirmed { .. } => None,
        }
    }

    /// Returns what is or will be published in this stage; empty in the stages that publish nothing.
    pub fn tasks(&self) -> &[ProofTask] {
        match self {
            Stage::Challenged { tasks, .. }
            | Stage::Published { tasks, .. }
            | Stage::SelfChecked { tasks, .. }
            | Stage::AwaitingProof { tasks, .. } => tasks,
            _ => &[],
        }
    }

    /// Returns how often the authority was asked for the order in this stage.
    pub fn polls(&self) -> u32 {
        match self {
            Stage::AwaitingProof { poll, .. } | Stage::AwaitingCertificate { poll, .. } | Stage::Enrolling { poll } => {
                poll.asked
            }
            _ => 0,
        }
    }

    /// Returns whether anything published must still be there in this stage.
    pub fn needs_publication(&self) -> bool {
        match self {
            Stage::HandedOver { notes } => notes.asked.as_ref().is_some_and(AskedProof::is_published),
            other => !other.tasks().is_empty(),
        }
    }
}

impl Poll {
    fn again(self, ask_again: Timestamp) -> Poll {
        Poll { asked: self.asked + 1, not_before: Some(ask_again) }
    }
}

/// Returns how long to wait before asking for an order again.
///
/// The authority's `Retry-After` rules when there is one, between one second and a day. Otherwise the wait grows
/// threefold each time, from 60 milliseconds up to 20 seconds, with `jitter` (0.0 to 1.0) adding up to a quarter.
pub fn poll_delay(asked: u32, retry_after: Option<SignedDuration>, jitter: f64) -> SignedDuration {
    if let Some(asked_for) = retry_after {
        return asked_for.clamp(SignedDuration::from_secs(1), SignedDuration::from_hours(24));
    }
    let base = SignedDuration::from_millis(60 * 3_i64.pow(asked.min(6))).min(SignedDuration::from_secs(20));
    base + base.mul_f64(jitter.clamp(0.0, 1.0) / 4.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn order() -> OrderRef {
        OrderRef {
            url: "https://ca.example/order/1".into(),
            finalize: "https://ca.example/order/1/finalize".into(),
            authorizations: vec!["https://ca.example/authz/1".into()],
        }
    }

    fn task() -> ProofTask {
        ProofTask {
            name: Identifier::parse("lampholm.example").unwrap(),
            challenge: "https://ca.example/challenge/1".into(),
            token: "dG9rZW4".into(),
            key_authorization: "dG9rZW4.thumb".into(),
            way: Way::Http,
            proof: Some("pages".into()),
            record: None,
        }
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn outcomes() -> impl Strategy<Value = Outcome> {
        prop_oneof![
            Just(Outcome::Prepared),
            Just(Outcome::Ordered(order())),
            Just(Outcome::HandedOver),
            Just(Outcome::Challenges(vec![task()])),
            Just(Outcome::Challenges(vec![])),
            Just(Outcome::Published),
            Just(Outcome::SelfChecked),
            Just(Outcome::Responded),
            Just(Outcome::NotYet { ask_again: at(5) }),
            Just(Outcome::Proved),
            Just(Outcome::Finalized { ask_again: at(5) }),
            Just(Outcome::Ready("https://ca.example/certificate/1".into())),
            Just(Outcome::Stored),
            Just(Outcome::Installed),
            Just(Outcome::Confirmed),
            Just(Outcome::Unreachable { why: "no connection".into() }),
        ]
    }

    proptest! {
        #[test]
        fn any_sequence_of_outcomes_is_taken_or_refused(sequence in prop::collection::vec(outcomes(), 0..40)) {
            let mut stage = Stage::Opened;
            let mut furthest = None;
            for outcome in sequence {
                let _ = stage.next(at(9));
                if let Ok(next) = stage.clone().apply(outcome) {
                    prop_assert!(next.milestone() >= furthest, "a journey never goes back");
                    furthest = next.milestone();
                    stage = next;
                }
                let saved = serde_json::to_string(&stage).unwrap();
                prop_assert_eq!(&serde_json::from_str::<Stage>(&saved).unwrap(), &stage);
            }
        }
    }

    #[test]
    fn the_straight_way_passes_all_six() {
        let way = [
            Outcome::Prepared,
            Outcome::Ordered(order()),
            Outcome::Challenges(vec![task()]),
            Outcome::Published,
            Outcome::SelfChecked,
            Outcome::Responded,
            Outcome::NotYet { ask_again: at(5) },
            Outcome::Proved,
            Outcome::Finalized { ask_again: at(7) },
            Outcome::Ready("https://ca.example/certificate/1".into()),
            Outcome::Stored,
            Outcome::Installed,
            Outcome::Confirmed,
        ];
        let mut stage = Stage::Opened;
        let mut passed = Vec::new();
        for outcome in way {
            stage = stage.apply(outcome).unwrap();
            if stage.milestone() != passed.last().copied() {
                passed.extend(stage.milestone());
            }
        }
        assert_eq!(passed, Milestone::ALL);
        assert_eq!(stage.next(at(0)), Next::Done);
    }

    #[test]
    fn waits_until_the_instant_that_was_named() {
        let poll = Poll { asked: 1, not_before: Some(at(10)) };
        let stage = Stage::AwaitingCertificate { order: order(), poll };
        assert_eq!(stage.next(at(9)), Next::Wait { until: at(10), waits_for: WaitsFor::Issuance });
        assert!(matches!(stage.next(at(10)), Next::Act(Action::AwaitCertificate(_))));
    }

    #[test]
    fn the_delay_obeys_the_authority_and_stays_in_bounds() {
        let seconds = SignedDuration::from_secs;
        for (asked, hint, jitter, millis) in [
            (0, None, 0.0, 60),
            (0, None, 1.0, 75),
            (4, None, 0.0, 4_860),
            (40, None, 0.0, 20_000),
            (3, Some(seconds(7)), 1.0, 7_000),
            (3, Some(seconds(0)), 0.0, 1_000),
            (3, Some(seconds(86_400)), 0.0, 86_400_000),
            (3, Some(seconds(900_000)), 0.0, 86_400_000),
        ] {
            assert_eq!(poll_delay(asked, hint, jitter).as_millis(), millis, "{asked} {hint:?}");
        }
    }

    #[test]
    fn a_saved_stage_of_version_1_is_still_read() {
        let task = r#"{"name":"lampholm.example","challenge":"c","token":"t","key_authorization":"t.k"}"#;
        let saved = format!(
            r#"{{"stage":"challenged","order":{{"url":"u","finalize":"f","authorizations":[]}},"tasks":[{task}]}}"#
        );
        let stage: Stage = serde_json::from_str(&saved).unwrap();
        assert_eq!((stage.tasks()[0].way, &stage.tasks()[0].proof), (Way::Http, &None));
        let stage: Stage = serde_json::from_str(r#"{"stage":"handed-over"}"#).unwrap();
        assert_eq!(stage, Stage::HandedOver { notes: OrderNotes::default() });
        let saved = r#"{"stage":"awaiting-certificate","order":{"url":"u","finalize":"f","authorizations":["a"]},"poll":{"asked":2,"not_before":"2026-03-02T10:00:00Z"}}"#;
        let stage: Stage = serde_json::from_str(saved).unwrap();
        assert_eq!((stage.polls(), stage.milestone()), (2, Some(Milestone::Proved)));
    }
}
