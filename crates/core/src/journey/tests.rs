//! The journey, walked through.

use super::*;
use crate::challenge::ChallengeKind;
use crate::names::Identifier;
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
        kind: ChallengeKind::Http01,
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
        Just(Outcome::Responded { ask_again: at(5) }),
        Just(Outcome::NotYet { ask_again: at(5) }),
        Just(Outcome::Proved),
        Just(Outcome::Finalized { ask_again: at(5) }),
        Just(Outcome::Ready("https://ca.example/certificate/1".into())),
        Just(Outcome::Stored),
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
fn the_straight_way_passes_all_stages_up_to_the_stored_chain() {
    let way = [
        Outcome::Prepared,
        Outcome::Ordered(order()),
        Outcome::Challenges(vec![task()]),
        Outcome::Published,
        Outcome::SelfChecked,
        Outcome::Responded { ask_again: at(3) },
        Outcome::NotYet { ask_again: at(5) },
        Outcome::Proved,
        Outcome::Finalized { ask_again: at(7) },
        Outcome::Ready("https://ca.example/certificate/1".into()),
        Outcome::Stored,
    ];
    let mut stage = Stage::Opened;
    let mut passed = Vec::new();
    for outcome in way {
        stage = stage.apply(outcome).unwrap();
        if stage.milestone() != passed.last().copied() {
            passed.extend(stage.milestone());
        }
    }
    assert_eq!(passed, Milestone::ALL[..4]);
    assert_eq!(stage.next(at(0)), Next::Done);
}

#[test]
fn waits_until_the_instant_that_was_named() {
    let poll = Poll { asked: 1, not_before: Some(at(10)) };
    let stage = Stage::from(Acme::AwaitingCertificate { order: order(), poll });
    assert_eq!(stage.next(at(9)), Next::Wait { until: at(10), waits_for: WaitsFor::Issuance });
    assert!(matches!(stage.next(at(10)), Next::Act(Action::AwaitCertificate(_))));
    let told = Stage::from(Acme::SelfChecked { order: order(), tasks: vec![task()] });
    let told = told.apply(Outcome::Responded { ask_again: at(10) }).unwrap();
    assert_eq!(told.next(at(9)), Next::Wait { until: at(10), waits_for: WaitsFor::Validation });
    assert!(matches!(told.next(at(10)), Next::Act(Action::AwaitProof(..))));
}

#[test]
fn saved_stages_of_older_versions_are_still_read() {
    let task = r#"{"name":"lampholm.example","challenge":"c","token":"t","key_authorization":"t.k"}"#;
    let saved = format!(
        r#"{{"stage":"challenged","order":{{"url":"u","finalize":"f","authorizations":[]}},"tasks":[{task}]}}"#
    );
    let stage: Stage = Stage::from_saved(1, &saved).unwrap();
    assert_eq!((stage.tasks()[0].kind, &stage.tasks()[0].proof), (ChallengeKind::Http01, &None));
    let stage: Stage = Stage::from_saved(1, r#"{"stage":"handed-over"}"#).unwrap();
    assert_eq!(stage, HandedOver::default().into());
    let saved = r#"{"stage":"awaiting-certificate","order":{"url":"u","finalize":"f","authorizations":["a"]},"poll":{"asked":2,"not_before":"2026-03-02T10:00:00Z"}}"#;
    let stage: Stage = Stage::from_saved(2, saved).unwrap();
    assert_eq!((stage.polls(), stage.milestone()), (2, Some(Milestone::Proved)));
    let stage = Stage::from_saved(2, r#"{"stage":"enrolling","poll":{"asked":3,"not_before":null}}"#).unwrap();
    assert_eq!((stage.polls(), stage.authority_kind()), (3, Some("est")));
    for plain in ["opened", "prepared", "issued"] {
        let saved = format!(r#"{{"stage":"{plain}"}}"#);
        assert_eq!(Stage::from_saved(2, &saved).unwrap(), Stage::from_saved(3, &saved).unwrap());
    }
}

#[test]
fn a_saved_stage_with_something_unknown_in_it_is_refused() {
    let good = r#"{"stage":"acquiring","from":"acme","at":"ready","certificate":"c"}"#;
    assert_eq!(Stage::from_saved(4, good).unwrap(), Acme::Ready { certificate: "c".into() }.into());
    for bad in [
        good.replace("\"c\"", "\"c\",\"more\":1"),
        good.replace("acme", "post"),
        good.replace("ready", "done"),
        r#"{"stage":"acquiring","from":"csr","notes":{},"more":1}"#.to_owned(),
        "[]".to_owned(),
    ] {
        assert!(Stage::from_saved(4, &bad).is_err(), "{bad}");
        let _ = Stage::from_saved(1, &bad);
    }
}
