//! The crash matrix in memory: the real driver and ledger, with actions that work on a small model of the world and are cut
//! off at every point, at every pair of points, and at every point followed by giving up: one journey alone, and two side by side
//! that share an authority, something published, and a server.

use crate::{Acted, Actions, Driver, Step, StepError};
use eskort_core::challenge::ChallengeKind;
use eskort_core::debt::Debt;
use eskort_core::decision::Specification;
use eskort_core::journey::{Action, OrderRef, Outcome, ProofTask, Stage};
use eskort_core::names::Identifier;
use eskort_core::pki::KeyKind;
use eskort_store::{DebtRow, Store};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Mistakes that the matrix has to find: it would be worth nothing if it found none.
#[derive(Clone, Copy, Default)]
struct Mistake {
    publishes_before_owing: bool,
    keeps_key_in_memory: bool,
    finalizes_blindly: bool,
    removes_what_others_need: bool,
}

/// What survives a crash outside the ledger: the disk, the authority, the site, the server.
#[derive(Default)]
struct World {
    kept: BTreeMap<&'static str, Kept>,
    keys_made: u32,
    orders: BTreeMap<String, Order>,
    published: BTreeSet<PathBuf>,
    /// The key of each certificate on the server.
    installed: BTreeMap<&'static str, u32>,
    confirmed: BTreeSet<&'static str>,
    complaints: Vec<String>,
}

/// What is on the disk for one certificate.
#[derive(Default)]
struct Kept {
    key: Option<u32>,
    stored: Option<u32>,
}

#[derive(Default, Clone)]
struct Order {
    of: &'static str,
    proved: bool,
    certified_key: Option<u32>,
    certificates: u32,
}

/// Pulls the plug at the `at`th point it is asked about.
#[derive(Default)]
struct Fuse {
    asked: u32,
    at: Option<u32>,
    /// Where the machine's power goes, too: what the ledger loses then.
    disk: Option<Disk>,
}

/// A ledger as the machine's sudden end leaves it: as it was when it was brought to the disk the last time.
struct Disk {
    ledger: PathBuf,
    kept: PathBuf,
    /// How often it is still brought there.
    left: u32,
}

impl Disk {
    fn copy(from: &Path, to: &Path) {
        for file in ["ledger.sqlite", "ledger.sqlite-wal"] {
            std::fs::copy(from.join(file), to.join(file)).unwrap();
        }
    }
}

impl Fuse {
    /// Takes in that the ledger is on the disk.
    fn flushed(&mut self) {
        if let Some(disk) = self.disk.as_mut().filter(|disk| disk.left > 0) {
            disk.left -= 1;
            Disk::copy(&disk.ledger, &disk.kept);
        }
    }

    fn point(&mut self) -> Result<(), StepError> {
        self.asked += 1;
        if self.at == Some(self.asked - 1) { Err(StepError::Interrupted) } else { Ok(()) }
    }
}

struct ModelActions<'a> {
    store: &'a Store,
    certificate: &'static str,
    world: &'a mut World,
    fuse: &'a mut Fuse,
    mistake: Mistake,
    /// Does every action twice.
    twice: bool,
    memory: Memory,
}

/// What a journey keeps for the length of a run.
#[derive(Clone, Copy, Default)]
struct Memory {
    key: Option<u32>,
    /// Whether this run has made sure that everything is published.
    published: bool,
}

impl Actions for ModelActions<'_> {
    async fn write_before(&mut self, _: &Action) -> Result<bool, StepError> {
        Ok(false)
    }

    async fn act(&mut self, action: &Action, polls: u32, again: bool) -> Result<Acted, StepError> {
        if self.twice {
            self.once(action, polls, again).await?;
            return Ok(self.once(action, polls, true).await?.into());
        }
        Ok(self.once(action, polls, again).await?.into())
    }

    fn take_requests(&self) -> u32 {
        0
    }
}

impl ModelActions<'_> {
    async fn once(&mut self, action: &Action, polls: u32, again: bool) -> Result<Outcome, StepError> {
        if !action.can_be_repeated() {
            self.fuse.flushed();
        }
        self.fuse.point()?;
        let outcome = self.carry_out(action, polls, again).await?;
        self.fuse.point()?;
        Ok(outcome)
    }

    fn key(&self) -> Option<u32> {
        if self.mistake.keeps_key_in_memory {
            self.memory.key
        } else {
            self.world.kept.get(self.certificate).and_then(|kept| kept.key)
        }
    }

    async fn carry_out(&mut self, action: &Action, polls: u32, again: bool) -> Result<Outcome, StepError> {
        Ok(match action {
            Action::AskAgain | Action::TakeAnswer(_) => unreachable!("this journey goes over ACME"),
            Action::Prepare => {
                if self.key().is_none() {
                    self.world.keys_made += 1;
                    let made = Some(self.world.keys_made);
                    if self.mistake.keeps_key_in_memory {
                        self.memory.key = made;
                    } else {
                        self.world.kept.entry(self.certificate).or_default().key = made;
                    }
                }
                Outcome::Prepared
            }
            Action::PlaceOrder => {
                let url = format!("order/{}", self.world.orders.len());
                self.world.orders.insert(url.clone(), Order { of: self.certificate, ..Order::default() });
                // An authority may have one authorization for the orders of several certificates.
                let authorizations = vec![format!("{url}/a"), "shared".to_owned()];
                Outcome::Ordered(OrderRef { finalize: format!("{url}/finalize"), url, authorizations })
            }
            Action::ChooseChallenges(order) => {
                let task = |url: &String| ProofTask {
                    name: Identifier::parse("lampholm.example").unwrap(),
                    challenge: url.clone(),
                    token: url.clone(),
                    key_authorization: "text".into(),
                    kind: ChallengeKind::Http01,
                    proof: None,
                    record: None,
                };
                Outcome::Challenges(order.authorizations.iter().map(task).collect())
            }
            Action::Publish(tasks) => {
                self.publish(tasks).await?;
                Outcome::Published
            }
            Action::SelfCheck(tasks) => {
                self.ensure(tasks).await?;
                Outcome::SelfChecked
            }
            Action::Respond(_, tasks) => {
                self.ensure(tasks).await?;
                Outcome::Responded { ask_again: Timestamp::UNIX_EPOCH }
            }
            Action::AwaitProof(order, tasks) => {
                self.ensure(tasks).await?;
                if polls == 1 {
                    return Ok(Outcome::NotYet { ask_again: Timestamp::UNIX_EPOCH });
                }
                let all = tasks.iter().all(|t| self.world.published.contains(Path::new(&t.token)));
                if !all {
                    self.world.complaints.push("the authority looked while a proof was missing".into());
                }
                self.world.orders.get_mut(&order.url).unwrap().proved = true;
                Outcome::Proved
            }
            Action::Finalize(order) => {
                let key = self.key();
                let at_authority = self.world.orders.get_mut(&order.url).unwrap();
                assert!(at_authority.proved);
                let known = again && !self.mistake.finalizes_blindly && at_authority.certified_key.is_some();
                if !known {
                    assert!(key.is_some(), "a CSR without its key");
                    at_authority.certified_key = key;
                    at_authority.certificates += 1;
                }
                Outcome::Finalized { ask_again: Timestamp::UNIX_EPOCH }
            }
            Action::AwaitCertificate(order) if polls == 1 => {
                let _ = order;
                Outcome::NotYet { ask_again: Timestamp::UNIX_EPOCH }
            }
            Action::AwaitCertificate(order) => Outcome::Ready(order.url.clone()),
            Action::Fetch(url) => {
                let key = self.world.orders[url].certified_key;
                self.world.kept.entry(self.certificate).or_default().stored = key;
                Outcome::Stored
            }
        })
    }

    async fn ensure(&mut self, tasks: &[ProofTask]) -> Result<(), StepError> {
        if self.memory.published { Ok(()) } else { self.publish(tasks).await }
    }

    async fn publish(&mut self, tasks: &[ProofTask]) -> Result<(), StepError> {
        for task in tasks {
            let path = PathBuf::from(&task.token);
            let owed = self.store.debts().await?;
            let owed_by = |ours: bool| {
                let of = |row: &&DebtRow| (row.certificate == self.certificate) == ours;
                owed.iter().filter(of).any(|row| row.debt.path() == Some(&path))
            };
            // What stands there and is nobody's debt is somebody else's file.
            if self.world.published.contains(&path) && (owed_by(true) || !owed_by(false)) {
                continue;
            }
            let debt = Debt::File { host: None, path: path.clone(), folders: Vec::new(), passing: None };
            let now = Timestamp::UNIX_EPOCH;
            if self.mistake.publishes_before_owing {
                self.world.published.insert(path);
                self.fuse.point()?;
                self.store.owe(self.certificate, std::slice::from_ref(&debt), now).await?;
            } else {
                self.store.owe(self.certificate, std::slice::from_ref(&debt), now).await?;
                self.store.flush().await?;
                self.fuse.flushed();
                self.fuse.point()?;
                self.world.published.insert(path);
            }
            self.fuse.point()?;
        }
        self.memory.published = true;
        Ok(())
    }
}

/// Takes away what is owed for the certificates; what another one needs goes with the last.
async fn pay(
    store: &Store,
    world: &mut World,
    fuse: &mut Fuse,
    mistake: Mistake,
    whose: &[&'static str],
) -> Result<(), StepError> {
    for row in store.debts().await?.into_iter().filter(|row| whose.contains(&row.certificate.as_str())) {
        if mistake.removes_what_others_need || !store.pass_on(&row).await? {
            world.published.remove(row.debt.path().expect("the model publishes files only"));
            fuse.point()?;
        }
        store.paid(&[row.id]).await?;
    }
    Ok(())
}

/// One run of the program: takes up the journeys, or begins them, and goes on with each in turn until all have ended or the plug
/// is pulled. `ahead` is how many steps the first goes before the others begin.
async fn run(
    store: &Store,
    world: &mut World,
    fuse: &mut Fuse,
    mistake: Mistake,
    twice: bool,
    (all, ahead): (&[&'static str], usize),
) -> Result<(), StepError> {
    let now = Timestamp::UNIX_EPOCH;
    let mut under_way = Vec::new();
    for certificate in all {
        let names = vec![Identifier::parse("lampholm.example").unwrap()];
        let wanted = Specification {
            names,
            authority: "public".into(),
            reached: None,
            key: KeyKind::P256.word().into(),
            request: None,
        };
        let journey = match store.open_journey(certificate).await? {
            Some(journey) => journey,
            None if world.kept.get(certificate).is_some_and(|kept| kept.stored.is_some()) => continue,
            None => store.start_journey(certificate, 1, &wanted, Stage::Opened, now).await?,
        };
        under_way.push((*certificate, Driver::new(store, certificate, journey), Memory::default()));
    }
    let mut turns = 0;
    while !under_way.is_empty() {
        let next = if turns < ahead { 0 } else { turns % under_way.len() };
        turns += 1;
        fuse.point()?;
        let (certificate, driver, memory) = &mut under_way[next];
        let certificate = *certificate;
        let mut actions = ModelActions { store, certificate, world, fuse, mistake, twice, memory: *memory };
        let step = driver.step(&mut actions, now).await?;
        *memory = actions.memory;
        if !driver.unflushed {
            fuse.flushed();
        }
        match step {
            Step::Done => drop(under_way.remove(next)),
            Step::Wait(..) | Step::Awaits(_) => unreachable!("the model waits for nothing"),
            Step::Did(_) if !driver.journey().stage.needs_publication() => {
                pay(store, world, fuse, mistake, &[certificate]).await?;
            }
            Step::Did(_) => {}
        }
    }
    // What follows the journeys needs no more than what is stored: all of it or nothing.
    fuse.point()?;
    let stored = |kept: &Kept| kept.stored;
    world.installed = world.kept.iter().filter_map(|(name, kept)| Some((*name, stored(kept)?))).collect();
    fuse.point()?;
    world.confirmed = world.installed.keys().copied().collect();
    fuse.point()
}

async fn check(store: &Store, world: &World, all: &[&'static str], most_orders: usize) -> Result<(), String> {
    for certificate in all {
        let orders = || world.orders.values().filter(|order| order.of == *certificate);
        let certificates: u32 = orders().map(|o| o.certificates).sum();
        let key = world.kept.get(certificate).and_then(|kept| kept.key);
        let complaint = if certificates != 1 {
            format!("{certificates} certificates")
        } else if key.is_none() || world.installed.get(certificate).copied() != key {
            "what is installed has no stored key".into()
        } else if !world.confirmed.contains(certificate) {
            "not confirmed".into()
        } else if orders().count() > most_orders {
            format!("{} orders", orders().count())
        } else {
            continue;
        };
        return Err(complaint);
    }
    if let Some(complaint) = world.complaints.first() {
        return Err(complaint.clone());
    }
    nothing_left(store, world).await
}

async fn nothing_left(store: &Store, world: &World) -> Result<(), String> {
    if !world.published.is_empty() {
        return Err("something stays published".into());
    }
    if store.debts().await.unwrap().is_empty() { Ok(()) } else { Err("a debt is left".into()) }
}

const ALONE: (&[&str], usize) = (&["website"], 0);

/// Crashes at each of `cuts` in turn, then lets it end; or gives up instead and only pays what is owed.
async fn trial(
    mistake: Mistake,
    cuts: &[u32],
    twice: bool,
    give_up: bool,
    whose: (&'static [&'static str], usize),
) -> Result<(), String> {
    let store = Store::in_memory(Path::new("/nowhere")).unwrap();
    let mut world = World::default();
    let mut crashes = 0_usize;
    for at in cuts {
        let mut fuse = Fuse { at: Some(*at), ..Fuse::default() };
        crashes += usize::from(run(&store, &mut world, &mut fuse, mistake, twice, whose).await.is_err());
    }
    let mut whole = Fuse::default();
    if give_up {
        pay(&store, &mut world, &mut whole, mistake, whose.0).await.unwrap();
        return nothing_left(&store, &world).await;
    }
    run(&store, &mut world, &mut whole, mistake, twice, whose).await.map_err(|e| e.to_string())?;
    // The one leak that cannot be closed: an order whose address was not saved, at most one for each crash.
    let orders_a_try = if twice { 2 } else { 1 };
    check(&store, &world, whose.0, orders_a_try * (1 + crashes)).await
}

/// Lets the machine lose its power at each of `cuts` in turn, then lets it end. The ledger reaches the disk `flushes` times at the most.
async fn power_loss(cuts: &[u32], flushes: u32, whose: (&'static [&'static str], usize)) -> Result<(), String> {
    let mut world = World::default();
    let mut folder = tempfile::tempdir().unwrap();
    let mut crashes = 0_usize;
    for at in cuts.iter().copied().map(Some).chain([None]) {
        let next = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let disk = Disk { ledger: folder.path().to_owned(), kept: next.path().to_owned(), left: flushes };
        Disk::copy(&disk.ledger, &disk.kept);
        let mut fuse = Fuse { at, disk: Some(disk), ..Fuse::default() };
        let ended = run(&store, &mut world, &mut fuse, Mistake::default(), false, whose).await;
        match (ended, at) {
            (Err(_), Some(_)) => crashes += 1,
            (ended, _) => ended.map_err(|e| e.to_string())?,
        }
        if at.is_none() {
            return check(&store, &world, whose.0, 1 + crashes).await;
        }
        folder = next;
    }
    unreachable!("the last run is not cut")
}

#[tokio::test]
async fn a_machine_that_loses_its_power_loses_no_more_than_what_can_be_repeated() {
    let both: (&[&str], usize) = (&["archive", "website"], 4);
    for whose in [ALONE, both] {
        let count = points(false, whose).await;
        let mut unflushed = 0;
        for i in 0..count {
            power_loss(&[i], u32::MAX, whose).await.unwrap_or_else(|e| panic!("cut at {i}: {e}"));
            if i % 3 == 0 {
                let then = i * 7 % count;
                power_loss(&[i, then], u32::MAX, whose).await.unwrap_or_else(|e| panic!("cut at {i}, {then}: {e}"));
                unflushed += u32::from(power_loss(&[i], 0, whose).await.is_err());
            }
        }
        assert!(unflushed > 0, "it matters that the ledger is brought to the disk");
    }
}

/// Kills a run, which gathers what it writes, at each of `cuts` in turn, then lets one end. Returns how often something was lost by that.
async fn killed_while_gathering(cuts: &[u32], whose: (&'static [&'static str], usize)) -> Result<u32, String> {
    let (folder, mut world, mut crashes, mut lost) = (tempfile::tempdir().unwrap(), World::default(), 0, 0);
    let mut before = None;
    for at in cuts.iter().copied().map(Some).chain([None]) {
        let store = Store::open(folder.path()).unwrap();
        let stage = async || store.open_journey("website").await.unwrap().map(|open| open.stage);
        lost += u32::from(match before.take() {
            Some(before) => before != stage().await,
            None => false,
        });
        let gathering = store.gather();
        let mut fuse = Fuse { at, ..Fuse::default() };
        let ended = run(&store, &mut world, &mut fuse, Mistake::default(), false, whose).await;
        crashes += usize::from(ended.is_err());
        if at.is_none() {
            ended.map_err(|e| e.to_string())?;
            return check(&store, &world, whose.0, 1 + crashes).await.map(|()| lost);
        }
        before = Some(stage().await);
        // One that is killed commits nothing any more.
        std::mem::forget(gathering);
    }
    unreachable!("the last run is not cut")
}

#[tokio::test]
async fn killed_while_it_gathers_a_run_loses_no_more_than_what_can_be_repeated() {
    let both: (&[&str], usize) = (&["archive", "website"], 4);
    let count = points(false, both).await;
    let mut lost = 0;
    for i in 0..count {
        for cuts in [&[i][..], &[i, i * 7 % count]] {
            let ended = killed_while_gathering(cuts, both).await;
            lost += ended.unwrap_or_else(|e| panic!("cut at {cuts:?}: {e}"));
        }
    }
    assert!(lost > 0, "what was gathered last is lost");
}

async fn points(twice: bool, whose: (&'static [&'static str], usize)) -> u32 {
    let store = Store::in_memory(Path::new("/nowhere")).unwrap();
    let mut fuse = Fuse::default();
    run(&store, &mut World::default(), &mut fuse, Mistake::default(), twice, whose).await.unwrap();
    fuse.asked
}

#[tokio::test]
async fn cut_at_every_point_and_pair_it_ends_with_one_certificate_and_nothing_published() {
    let count = points(false, ALONE).await;
    assert!(count > 40, "a clean run passes {count} points");
    let right = Mistake::default();
    for i in 0..count {
        trial(right, &[i], false, false, ALONE).await.unwrap_or_else(|e| panic!("cut at {i}: {e}"));
        trial(right, &[i], false, true, ALONE).await.unwrap_or_else(|e| panic!("given up at {i}: {e}"));
        for j in 0..count {
            trial(right, &[i, j], false, false, ALONE).await.unwrap_or_else(|e| panic!("cut at {i}, {j}: {e}"));
        }
    }
}

#[tokio::test]
async fn two_side_by_side_end_with_one_certificate_each_wherever_they_are_cut() {
    let right = Mistake::default();
    for ahead in [0, 4, 7] {
        let both: (&[&str], usize) = (&["archive", "website"], ahead);
        let count = points(false, both).await;
        assert!(count > 80, "a clean run passes {count} points");
        for i in 0..count {
            trial(right, &[i], false, false, both).await.unwrap_or_else(|e| panic!("{ahead} ahead, cut at {i}: {e}"));
            trial(right, &[i], false, true, both)
                .await
                .unwrap_or_else(|e| panic!("{ahead} ahead, given up at {i}: {e}"));
            for j in (i % 17..count).step_by(17) {
                let ended = trial(right, &[i, j], false, false, both).await;
                ended.unwrap_or_else(|e| panic!("{ahead} ahead, cut at {i}, {j}: {e}"));
            }
        }
    }
}

#[tokio::test]
async fn doing_every_action_twice_changes_nothing_but_the_leaked_order() {
    for i in 0..points(true, ALONE).await {
        trial(Mistake::default(), &[i], true, false, ALONE).await.unwrap_or_else(|e| panic!("cut at {i}: {e}"));
    }
}

#[tokio::test]
async fn each_mistake_is_found() {
    let mistakes = [
        (Mistake { publishes_before_owing: true, ..Mistake::default() }, true),
        (Mistake { finalizes_blindly: true, ..Mistake::default() }, false),
    ];
    for (mistake, give_up) in mistakes {
        let mut found = 0;
        for i in 0..points(false, ALONE).await {
            found += u32::from(trial(mistake, &[i], false, give_up, ALONE).await.is_err());
        }
        assert!(found > 0);
    }
    let forgetful = Mistake { keeps_key_in_memory: true, ..Mistake::default() };
    let ended = trial(forgetful, &[], false, false, ALONE).await;
    assert_eq!(ended, Err("what is installed has no stored key".into()));
    let careless = Mistake { removes_what_others_need: true, ..Mistake::default() };
    let ended = trial(careless, &[], false, false, (&["archive", "website"], 1)).await;
    assert_eq!(ended, Err("the authority looked while a proof was missing".into()));
}
