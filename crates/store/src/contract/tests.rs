//! What every ledger has to do, whatever keeps it.

use crate::*;
use eskort_core::budget::{Counted, Spent, rooms};
use eskort_core::challenge::ChallengeKind;
use eskort_core::debt::Debt;
use eskort_core::decision::{AuthorityHold, Fault, Specification};
use eskort_core::event::{Event, GivenUp};
use eskort_core::inventory::{Limit, Limits};
use eskort_core::journey::{Acme, Milestone, OrderRef, ProofTask, Stage};
use eskort_core::names::Identifier;
use eskort_core::pki::KeyKind;
use jiff::Timestamp;

/// Checks a point on each kind of ledger, with nothing in it.
async fn on_each(check: impl AsyncFn(&Store)) {
    let folder = tempfile::tempdir().unwrap();
    check(&Store::in_memory(folder.path()).unwrap()).await;
    check(&Store::open(&folder.path().join("state")).unwrap()).await;
}

/// Other databases have to take the same statements.
#[test]
fn no_statement_has_what_only_sqlite_knows() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut read = 0;
    for path in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        if path.is_dir() || path.ends_with("schema.rs") {
            continue;
        }
        let text = std::fs::read_to_string(&path).unwrap();
        let code = text.split("#[cfg(test)]\nmod tests").next().unwrap();
        for word in ["OR REPLACE", "OR IGNORE", "json_", "last_insert_rowid", " IS ?", "IS NOT ?", "?1", "nullif("] {
            assert!(!code.contains(word), "{}: {word}", path.display());
        }
        read += 1;
    }
    assert!(read > 12);
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(second).unwrap()
}

fn specification() -> Specification {
    let names = vec![Identifier::parse("lampholm.example").unwrap()];
    Specification { names, authority: "public".into(), reached: None, key: KeyKind::P256.word().into(), request: None }
}

#[tokio::test]
async fn a_journey_is_saved_step_by_step_and_only_one_is_open() {
    on_each(journeys).await;
}

async fn journeys(store: &Store) {
    let journey = store.start_journey("website", 1, &specification(), Stage::Opened, at(1)).await.unwrap();
    let again = store.start_journey("website", 2, &specification(), Stage::Opened, at(1)).await;
    assert!(matches!(again, Err(StoreError::Leased { .. })), "{again:?}");
    let prepared = Event::Passed { stage: Milestone::Prepared, generation: 1, requests: 3 };
    store.save_stage("website", journey.id, &Stage::Prepared, Some(&prepared), at(2)).await.unwrap();
    let open = store.open_journey("website").await.unwrap().unwrap();
    assert_eq!(
        (open.stage.milestone(), open.started, open.specification),
        (Some(Milestone::Prepared), at(1), specification())
    );
    assert_eq!(store.next_generation("website", None).await.unwrap(), 2);
    assert_eq!(store.next_generation("website", Some(1)).await.unwrap(), 1, "what is discarded gives its number back");
    store.give_up_journey("website", journey.id, GivenUp::InventoryChanged, at(3)).await.unwrap();
    assert!(store.open_journey("website").await.unwrap().is_none());
    let happened: Vec<_> = store.events("website", 9).await.unwrap().into_iter().map(|e| e.event).collect();
    assert_eq!(happened, [Event::GivenUp { why: GivenUp::InventoryChanged }, prepared]);
    // The stored chain is the end.
    let journey = store.start_journey("website", 2, &specification(), Stage::Opened, at(4)).await.unwrap();
    store.save_stage("website", journey.id, &Stage::Issued, None, at(5)).await.unwrap();
    assert!(store.open_journey("website").await.unwrap().is_none());
}

#[tokio::test]
async fn a_debt_is_one_however_often_it_is_written_and_outlives_its_journey() {
    on_each(debts).await;
}

async fn debts(store: &Store) {
    let debt = Debt::File { host: None, path: "/srv/www/x".into(), folders: vec!["/srv/www".into()], passing: None };
    store.owe("website", std::slice::from_ref(&debt), at(1)).await.unwrap();
    // Now that the folder exists it is the same debt still.
    let again = Debt::File { host: None, path: "/srv/www/x".into(), folders: Vec::new(), passing: None };
    store.owe("website", &[again], at(2)).await.unwrap();
    let first = store.debts().await.unwrap()[0].id;
    store.trouble_with_debt(first, "no such host").await.unwrap();
    let trouble = Some("no such host".into());
    assert_eq!(store.debts().await.unwrap(), [DebtRow { id: first, certificate: "website".into(), debt, trouble }]);
    store.paid(&[first]).await.unwrap();
    assert!(store.debts().await.unwrap().is_empty());
}

#[tokio::test]
async fn failures_count_up_until_cleared() {
    on_each(failures).await;
}

fn failure<'a>(code: &'a str, reason: &'a str, hold_until: Option<Timestamp>) -> Failure<'a> {
    let fault = if code == "acme" { Fault::Authority } else { Fault::Here };
    Failure { code, reason, fault, authority: "public", hold_until }
}

async fn failures(store: &Store) {
    store.record_failure("website", &failure("acme", "refused", None), at(5)).await.unwrap();
    store.record_failure("website", &failure("acme", "limits", Some(at(90))), at(7)).await.unwrap();
    let (failures, reason) = store.failures("website").await.unwrap().unwrap();
    assert_eq!((failures.count, failures.last, failures.hold_until), (2, at(7), Some(at(90))));
    assert_eq!(reason, "limits");
    // A later failure of another kind does not shorten what the authority asked for.
    store.record_failure("website", &failure("io", "disk full", None), at(8)).await.unwrap();
    let failures = store.failures("website").await.unwrap().unwrap().0;
    assert_eq!((failures.hold_until, failures.authority_since), (Some(at(90)), Some(at(5))));
    assert_eq!((failures.fault, failures.authority.as_deref()), (Some(Fault::Here), Some("public")));
    let newest = store.events("website", 1).await.unwrap().remove(0);
    assert_eq!(newest.event, Event::Failed { code: "io".into(), cause: "disk full".into() });
    store.clear_failures("website").await.unwrap();
    assert!(store.failures("website").await.unwrap().is_none());
}

#[tokio::test]
async fn a_hold_grows_and_one_that_came_from_the_inventory_ends_with_its_change() {
    on_each(holds).await;
}

async fn holds(store: &Store) {
    let now = at(1_000_000);
    let minutes = |hold: &AuthorityHold| hold.until.duration_since(now).as_mins();
    assert_eq!(minutes(&store.hold_authority("public", "", "slow", None, now).await.unwrap()), 15);
    assert_eq!(minutes(&store.hold_authority("public", "", "slow", None, now).await.unwrap()), 30);
    let hold = store.authority_hold("public", || "any".into()).await.unwrap().unwrap();
    assert_eq!((minutes(&hold), &*hold.reason), (30, "slow"));
    store.end_authority_hold("public").await.unwrap();
    store.hold_authority("public", "as it was", "no such account", None, now).await.unwrap();
    assert!(store.authority_hold("public", || "as it was".into()).await.unwrap().is_some());
    assert!(store.authority_hold("public", || "mended".into()).await.unwrap().is_none());
    assert!(store.authority_hold("other", || "as it was".into()).await.unwrap().is_none());
}

#[tokio::test]
async fn a_server_has_one_row_for_a_certificate_and_moves_with_its_machine() {
    on_each(installs).await;
}

async fn installs(store: &Store) {
    let row = |machine: &str, generation, state| InstallRow {
        machine: machine.into(),
        server: "front".into(),
        generation,
        state,
        seen: None,
        changed: at(1),
    };
    store.record_installs("website", &[row("", 1, InstallState::Installed)], None, at(1)).await.unwrap();
    store.record_installs("website", &[row("", 1, InstallState::Confirmed)], None, at(2)).await.unwrap();
    let known = store.installs("website").await.unwrap();
    assert_eq!(known, [row("", 1, InstallState::Confirmed)]);
    assert!(known[0].is_settled_with(1) && !known[0].has(2));
    store.record_installs("website", &[row("node", 2, InstallState::Failed)], None, at(3)).await.unwrap();
    let known = store.installs("website").await.unwrap();
    assert_eq!(known, [row("node", 2, InstallState::Failed)]);
    assert!(!known[0].has(2));
}

#[tokio::test]
async fn an_account_is_the_last_that_was_saved() {
    on_each(accounts).await;
}

async fn accounts(store: &Store) {
    let account = |url: &str| AccountRow { url: url.into(), thumbprint: Some("t".into()), contact: None };
    store.save_account("public", "https://ca.example/directory", &account("a"), at(1)).await.unwrap();
    store.save_account("public", "https://ca.example/directory", &account("b"), at(2)).await.unwrap();
    assert_eq!(store.account("public", "https://ca.example/directory").await.unwrap(), Some(account("b")));
    store.forget_account("public", "https://ca.example/directory").await.unwrap();
    assert_eq!(store.account("public", "https://ca.example/directory").await.unwrap(), None);
}

#[tokio::test]
async fn what_is_written_together_is_kept_together_or_not_at_all() {
    on_each(transactions).await;
}

async fn transactions(store: &Store) {
    let failed: Result<(), StoreError> = store.in_one_transaction(|| {
        store.write_event("website", &Event::Stopped, at(1))?;
        Err(StoreError::Path { path: "/nowhere".into() })
    });
    assert!(failed.is_err() && store.events("website", 9).await.unwrap().is_empty());
}

#[tokio::test]
async fn the_overview_tells_of_the_newest_generation_the_open_journey_and_the_last_failure() {
    on_each(overview).await;
}

async fn overview(store: &Store) {
    let order = OrderRef { url: "u".into(), finalize: "f".into(), authorizations: vec![] };
    let task = ProofTask {
        name: Identifier::parse("lampholm.example").unwrap(),
        challenge: "c".into(),
        token: "t".into(),
        key_authorization: "t.k".into(),
        kind: ChallengeKind::Http01,
        proof: None,
        record: None,
    };
    let journey = store.start_journey("website", 1, &specification(), Stage::Opened, at(4)).await.unwrap();
    let published = Acme::Published { order, tasks: vec![task] }.into();
    store.save_stage("website", journey.id, &published, None, at(5)).await.unwrap();
    store.record_failure("mail", &failure("acme", "refused", None), at(6)).await.unwrap();
    let all = store.overview().await.unwrap();
    let open = all["website"].open.as_ref().unwrap();
    assert_eq!((open.published, open.handed_over, open.since), (true, false, at(4)));
    let failed = all["mail"].failed.as_ref().unwrap();
    assert_eq!((failed.count, failed.last, &*failed.reason), (1, at(6), "refused"));
    assert_eq!(failed.fault, Some(Fault::Authority));
    assert!(all["mail"].newest.is_none() && all["mail"].installed_on.is_empty());
}

#[tokio::test]
async fn a_journey_is_of_one_run_until_that_lets_go_of_it_or_ends() {
    let folder = tempfile::tempdir().unwrap();
    let [first, second] = [(); 2].map(|()| Store::open(folder.path()).unwrap());
    let journey = first.start_journey("website", 1, &specification(), Stage::Opened, at(1)).await.unwrap().id;
    first.lease("website", journey, at(1)).await.unwrap();
    first.lease("website", journey, at(2)).await.unwrap();
    let refused = second.lease("website", journey, at(2)).await.unwrap_err().to_string();
    assert!(refused.contains("`website`") && refused.contains(&std::process::id().to_string()), "{refused}");
    assert!(second.save_stage("website", journey, &Stage::Prepared, None, at(2)).await.is_err());
    assert_eq!(second.open_journey("website").await.unwrap().unwrap().stage, Stage::Opened);
    assert_eq!(first.leased_by_another("website", at(2)).await.unwrap(), None);
    // A run on whose journey nothing moves for hours, one that has ended, and one that lets go.
    second.lease("website", journey, at(2 + 2 * 3600)).await.unwrap();
    drop(second);
    first.lease("website", journey, at(9000)).await.unwrap();
    first.release("website").await.unwrap();
    Store::open(folder.path()).unwrap().lease("website", journey, at(9000)).await.unwrap();
    let left = std::fs::read_dir(folder.path().join("workers")).unwrap().count();
    assert_eq!(left, 1, "a run that has ended leaves no file");
}

#[tokio::test]
async fn what_several_owe_goes_with_the_last() {
    on_each(async |store: &Store| {
        let debt = |folders: &[&str]| Debt::File {
            host: None,
            path: "/srv/www/x".into(),
            folders: folders.iter().map(Into::into).collect(),
            passing: None,
        };
        store.owe("a", &[debt(&["/srv/www"])], at(1)).await.unwrap();
        store.owe("b", &[debt(&[])], at(2)).await.unwrap();
        let rows = store.debts().await.unwrap();
        let of = |name: &str| rows.iter().find(|row| row.certificate == name).unwrap();
        assert!(rows.iter().all(|row| row.debt == debt(&["/srv/www"])), "all know the folders that were made");
        assert!(store.pass_on(of("a")).await.unwrap());
        assert_eq!(store.debts().await.unwrap().len(), 1, "the other still owes it");
        assert!(!store.pass_on(of("b")).await.unwrap());
        store.strike("a", &[debt(&[])]).await.unwrap();
        assert_eq!(store.debts().await.unwrap().len(), 1);
        store.strike("b", &[debt(&[])]).await.unwrap();
        assert!(store.debts().await.unwrap().is_empty());
    })
    .await;
}

#[tokio::test]
async fn orders_are_counted_and_taken_back() {
    on_each(budgets).await;
}

async fn budgets(store: &Store) {
    let limit = |most| Some(Limit::new(most, jiff::SignedDuration::from_secs(100)));
    let limits = Limits { orders: limit(3), per_domain: limit(2), ..Limits::default() };
    let names = [Identifier::parse("www.lampholm.example").unwrap()];
    let needs = Needs { authority: "https://ca.example/directory", limits: &limits, names: &names };
    let order = |generation| Counting { needs, certificate: "website", generation };
    let spend = async |generation, beyond, second| {
        let waits = store.spend(&order(generation), beyond, at(second)).await.unwrap();
        waits.map(|(room, until)| (room.words(), until.as_second()))
    };
    let domain = |until| Some(("certificates for lampholm.example".to_owned(), until));
    assert_eq!(spend(1, false, 1).await, None);
    // An order for the same generation again is another order, and no other certificate.
    assert_eq!(spend(1, false, 2).await, None);
    assert_eq!(spend(2, false, 3).await, None);
    assert_eq!(spend(3, false, 4).await, domain(102), "the one that lets it wait the longest");
    // The authority has not taken it.
    store.not_spent("website", 2).await.unwrap();
    assert_eq!(spend(2, false, 5).await, None);
    assert_eq!(spend(3, false, 101).await, domain(102));
    assert_eq!(spend(3, true, 101).await, None, "insisted on");
    // One that is given up brings no certificate.
    let journey = store.start_journey("website", 3, &specification(), Stage::Opened, at(101)).await.unwrap();
    store.give_up_journey("website", journey.id, GivenUp::OrderLost, at(102)).await.unwrap();
    assert_eq!(spend(4, false, 103).await, None);
    let failed = ["www.lampholm.example".to_owned()];
    store.spend_failures("https://ca.example/directory", "website", &failed, at(104)).await.unwrap();
    let spent = store.spent("https://ca.example/directory", &limits, at(104)).await.unwrap();
    let failures: Vec<&Spent> = spent.iter().filter(|one| one.counted == Counted::Failures).collect();
    assert_eq!((failures.len(), failures[0].subject.as_str(), failures[0].at), (1, "www.lampholm.example", at(104)));
    assert!(store.spent("another", &limits, at(104)).await.unwrap().is_empty());
    // Counted by the tables or by the core, the rooms are the same.
    let limits = Limits { same_names: limit(1), failures: limit(0), ..limits };
    for second in [101, 102, 103, 104, 150, 202, 203] {
        let needs = Needs { limits: &limits, ..needs };
        let (by_tables, spent) =
            (store.rooms(&needs, at(second)).await, store.spent(needs.authority, &limits, at(second)).await);
        assert_eq!(by_tables.unwrap(), rooms(&limits, &spent.unwrap(), &names, at(second)), "{second}");
    }
}

#[tokio::test]
async fn what_a_clock_wrote_that_was_ahead_counts_from_now_on() {
    on_each(mended).await;
}

async fn mended(store: &Store) {
    store.record_failure("website", &failure("acme", "refused", Some(at(900))), at(800)).await.unwrap();
    store.record_failure("mail", &failure("acme", "refused", Some(at(900))), at(5)).await.unwrap();
    store.hold_authority("public", "", "limits", None, at(800)).await.unwrap();
    store.spend_failures("ca", "website", &["lampholm.example".to_owned()], at(800)).await.unwrap();
    store.mend_clock(at(10)).await.unwrap();
    let failures = store.failures("website").await.unwrap().unwrap().0;
    assert_eq!((failures.last, failures.hold_until, failures.authority_since), (at(10), None, Some(at(10))));
    assert_eq!(store.failures("mail").await.unwrap().unwrap().0.hold_until, Some(at(900)));
    assert_eq!(store.authority_hold("public", String::new).await.unwrap(), None);
    let limit = Some(Limit::new(4, jiff::SignedDuration::from_hours(1)));
    let limits = Limits { failures: limit, ..Limits::default() };
    let spent = store.spent("ca", &limits, at(10)).await.unwrap();
    assert_eq!(spent.iter().map(|one| one.at).collect::<Vec<_>>(), [at(10)]);
}
