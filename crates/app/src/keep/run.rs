//! One run: how the turns of its certificates go on side by side.
//!
//! The run lock is held for deciding and for installing. Between them, while authorities are waited for, other runs may go on with
//! other certificates.

use super::common::Common;
use super::deploy::{finished, install};
use super::entry::{Ending, Insistence, KeepEntry};
use super::group::Groups;
use super::renewal_info;
use super::rest::Known;
use super::revocation;
use super::turn::{Obtained, Turn, guarded};
use crate::StepError;
use crate::stop::Stop;
use eskort_core::context::Context;
use eskort_core::deployment::Deployment;
use eskort_core::journey::Milestone;
use eskort_core::pki::AssembledChain;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::Machines;
use eskort_install::Placement;
use eskort_prove::ProofContext;
use eskort_store::{RunLock, Store, StoreError};
use futures_util::future::BoxFuture;
use futures_util::stream::{FuturesUnordered, StreamExt};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What has arrived is installed when no other certificate for the same servers is under way any more, or after this long.
const LONGEST_GATHERING: Duration = Duration::from_secs(300);
/// How often it is looked whether another run lets go of the lock.
const LOCK_AGAIN: Duration = Duration::from_millis(200);
/// So many certificates are checked live at once.
const CHECKS_AT_ONCE: usize = 16;

/// One run.
pub(crate) struct Run {
    common: Arc<Common>,
    /// The command that takes the lock.
    command: String,
    /// The lock of the state folder, while this run decides or installs.
    lock: tokio::sync::Mutex<Option<RunLock>>,
}

/// Held while this run decides or installs.
type Held<'r> = tokio::sync::MutexGuard<'r, Option<RunLock>>;

/// What a step of the run ends with.
enum Done {
    /// A generation is stored; it has to be put on its servers.
    Stored(Box<Arrived>),
    /// A certificate's turn is over; `None` for one that was not begun.
    Over(Option<Box<KeepEntry>>),
    /// The turns of what was installed are over.
    Installed(Vec<KeepEntry>),
}

/// A generation that is stored, and not yet on its servers.
struct Arrived {
    turn: Turn,
    generation: u32,
    since: Instant,
}

/// A generation that servers lack.
struct Lacking {
    turn: Turn,
    deployment: Deployment,
}

impl Run {
    /// Begins a run, which holds the lock.
    pub(crate) fn new(
        context: &Context,
        store: &Arc<Store>,
        machines: Machines,
        lock: RunLock,
        insistence: Insistence,
    ) -> Self {
        let common = Arc::new(Common::new(context, Arc::clone(store), machines, insistence));
        let command = lock.command().to_owned();
        Run { common, command, lock: tokio::sync::Mutex::new(Some(lock)) }
    }

    /// Gives the run an answer that a person has brought.
    pub(crate) fn bring(&self, certificate: &str, answer: AssembledChain) {
        self.common.bring(certificate, answer);
    }

    /// Returns whether somebody asked the program to stop.
    pub(crate) fn stop(&self) -> &Stop {
        &self.common.stop
    }

    /// Returns what is around the proofs of the run.
    pub(crate) fn around(&self) -> ProofContext<'_> {
        self.common.around()
    }

    fn report(&self, progress: &Progress) {
        self.common.context.report(progress);
    }

    /// Forgets what was read of servers: something was changed, or time has passed.
    async fn forget(&self) {
        self.common.servers.forget().await;
    }

    /// Waits for the lock, unless this run has it.
    async fn hold(&self) -> Result<Held<'_>, StepError> {
        let mut lock = self.lock.lock().await;
        let mut told = false;
        while lock.is_none() {
            match RunLock::try_take(&self.common.context.state, &self.command, self.common.context.now()) {
                Err(StoreError::Busy { .. }) if !told => {
                    told = true;
                    self.report(&Progress::Doing("wait for another run to finish its installation"));
                }
                Err(StoreError::Busy { .. }) => {}
                taken => {
                    *lock = Some(taken?);
                    break;
                }
            }
            tokio::select! {
                () = tokio::time::sleep(LOCK_AGAIN) => {}
                () = self.common.stop.asked(1) => return Err(StepError::Interrupted),
            }
        }
        Ok(lock)
    }

    /// Looks after one certificate.
    pub(crate) async fn process(&self, name: &str) -> KeepEntry {
        let ended = self.process_all(&[name]).await.pop();
        ended.unwrap_or_else(|| KeepEntry::interrupted(name))
    }

    /// Looks after certificates: decides about all of them, puts on servers what is stored and lacking there, and obtains what is
    /// due, several at once. The failure of one does not stop the others.
    pub(crate) async fn process_all(&self, chosen: &[&str]) -> Vec<KeepEntry> {
        let mut entries = Vec::new();
        let obtaining = match self.hold().await {
            Ok(mut lock) => {
                let mut known = Known::read(&self.common).await.unwrap_or_default();
                renewal_info::refresh(&self.common, chosen, &mut known).await;
                revocation::refresh(&self.common, chosen, &mut known).await;
                let obtaining = self.decide_and_install(chosen, &known, &mut entries).await;
                if !obtaining.is_empty()
                    && let Err(error) = self.common.store.begin_work(self.common.context.now())
                {
                    self.report(&Progress::Note(error.to_string()));
                }
                *lock = None;
                obtaining
            }
            Err(error) => {
                self.report(&Progress::Note(error.to_string()));
                return entries;
            }
        };
        // The gates let them in in this order.
        let (mut obtaining, now) = (obtaining, self.common.context.now());
        obtaining.sort_by_key(|turn| turn.urgency(now));
        self.obtain_all(obtaining, &mut entries).await;
        entries.sort_by(|a, b| words::natural_order(&a.certificate, &b.certificate));
        entries
    }

    /// Decides about certificates, and puts on servers what is stored and lacking there. Returns those for which a generation has
    /// to be obtained.
    async fn decide_and_install(&self, chosen: &[&str], known: &Known, entries: &mut Vec<KeepEntry>) -> Vec<Turn> {
        let (mut turns, mut lacking) = (Vec::new(), Vec::new());
        for name in chosen {
            if self.common.stop.is_asked() {
                break;
            }
            if let Some(entry) = known.at_rest(&self.common, name).await {
                entries.push(entry);
                continue;
            }
            let mut turn = Turn::new(&self.common, name);
            match turn.decide().await {
                Ok(Some(deployment)) => lacking.push(Lacking { turn, deployment }),
                Ok(None) => turns.push(turn),
                Err(error) => entries.push(turn.failed(error).await),
            }
        }
        for (mut turn, placed) in self.install_all(lacking).await {
            turn.placed(placed);
            turns.push(turn);
        }
        let mut obtaining = Vec::new();
        for turn in turns {
            if turn.obtains() {
                turn.open_conversation().await;
                obtaining.push(turn);
            } else {
                entries.push(turn.end_at_rest().await);
            }
        }
        obtaining
    }

    /// Obtains generations, several at once, and puts them on their servers.
    async fn obtain_all(&self, turns: Vec<Turn>, entries: &mut Vec<KeepEntry>) {
        let mut under_way: FuturesUnordered<BoxFuture<'_, Done>> = FuturesUnordered::new();
        // The servers of the certificates that are still to come.
        let mut to_come: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let several = turns.len() > 1;
        if several {
            let certificates = turns.iter().map(|turn| turn.name.clone()).collect();
            self.report(&Progress::SideBySide { certificates });
        }
        for turn in turns {
            to_come.insert(turn.name.clone(), turn.servers());
            under_way.push(Box::pin(take_turn(Arc::clone(&self.common), turn)));
        }
        let mut arrived: Vec<Arrived> = Vec::new();
        let mut installing = false;
        let gathering = several.then(|| self.common.store.gather());
        let mut settling = std::pin::pin!(async {
            match &gathering {
                Some(gathering) => gathering.settle_in_time().await,
                None => std::future::pending().await,
            }
        });
        loop {
            if !installing {
                let ready = take_ready(&mut arrived, &to_come);
                installing = !ready.is_empty();
                if installing {
                    under_way.push(Box::pin(self.install_arrived(ready)));
                }
            }
            let gathered_for_long = tokio::time::sleep(LONGEST_GATHERING);
            let done = tokio::select! {
                done = under_way.next() => done,
                () = &mut settling => continue,
                () = gathered_for_long, if !arrived.is_empty() => continue,
            };
            match done {
                None => break,
                Some(Done::Stored(one)) => {
                    to_come.remove(&one.turn.name);
                    arrived.push(*one);
                }
                Some(Done::Over(entry)) => {
                    if let Some(entry) = &entry {
                        to_come.remove(&entry.certificate);
                    }
                    entries.extend(entry.map(|entry| *entry));
                }
                Some(Done::Installed(ended)) => {
                    installing = false;
                    entries.extend(ended);
                }
            }
        }
        // Somebody asked the program to stop: the next run installs what is stored.
        for Arrived { turn, .. } in arrived {
            entries.push(turn.failed(StepError::Interrupted).await);
        }
        if several {
            self.report(&Progress::SideBySide { certificates: Vec::new() });
        }
    }

    /// Puts what has arrived on its servers.
    async fn install_arrived(&self, arrived: Vec<Arrived>) -> Done {
        let mut ended = Vec::new();
        match self.hold().await {
            Err(error) => {
                let mut error = Some(error);
                for Arrived { turn, .. } in arrived {
                    ended.push(turn.failed(error.take().unwrap_or(StepError::Interrupted)).await);
                }
            }
            Ok(mut lock) => {
                // Much may have changed on a server while the authority was at work.
                if arrived.iter().any(|one| !one.turn.servers().is_empty()) {
                    self.forget().await;
                }
                let mut lacking = Vec::new();
                for Arrived { turn, generation, .. } in arrived {
                    match turn.before_install(generation).await {
                        Ok(None) => {}
                        Ok(Some(ending)) => {
                            ended.push(turn.ended(ending).await);
                            continue;
                        }
                        Err(error) => {
                            ended.push(turn.failed(error).await);
                            continue;
                        }
                    }
                    match turn.deployment(generation).await {
                        Ok(deployment) => lacking.push(Lacking { turn, deployment }),
                        Err(error) => ended.push(turn.failed(error).await),
                    }
                }
                for (turn, installed) in self.install_all(lacking).await {
                    ended.push(match installed {
                        Ok(arrived) => turn.ended(arrived).await,
                        Err(error) => turn.failed(error).await,
                    });
                }
                // Who takes it next finds all that was written.
                if let Err(error) = self.common.store.settle() {
                    self.report(&Progress::Note(error.to_string()));
                }
                *lock = None;
            }
        }
        Done::Installed(ended)
    }

    /// Puts generations on the servers that lack them, and checks them there. What several certificates lack on the same servers is
    /// installed together: each server is tested and reloaded once; so is what is for no server. What cannot be installed so is
    /// installed by itself, which says why.
    async fn install_all(&self, lacking: Vec<Lacking>) -> Vec<(Turn, Result<Ending, StepError>)> {
        let (nowhere, lacking): (Vec<_>, Vec<_>) = lacking.into_iter().partition(Lacking::is_nowhere);
        let mut groups = Groups::default();
        for one in lacking {
            let to_install = one.deployment.targets.iter().filter(|target| target.is_to_install());
            let servers = to_install.map(|target| target.server.clone()).collect();
            groups.add(servers, one);
        }
        let (mut together, mut alone) = (Vec::new(), Vec::new());
        for group in groups.into_members().chain([nowhere]) {
            if group.len() > 1 && !self.common.stop.is_asked() && self.install_together(&group).await {
                let since = Instant::now();
                together.extend(group.into_iter().map(|one| (one, since)));
            } else {
                alone.extend(group);
            }
        }
        let mut ended = Vec::new();
        for Lacking { turn, deployment } in alone {
            let deployed = turn.deploy(&deployment, None).await;
            if deployment.is_to_install() {
                self.forget().await;
            }
            ended.push((turn, deployed));
        }
        let check = |(Lacking { turn, deployment }, since): (Lacking, Instant)| async move {
            let deployed = match turn.deployment(deployment.generation).await {
                Ok(deployment) => turn.deploy(&deployment, Some(since)).await,
                Err(error) => Err(error),
            };
            (turn, deployed)
        };
        let checks: Vec<BoxFuture<'_, _>> =
            together.into_iter().map(|one| -> BoxFuture<'_, _> { Box::pin(check(one)) }).collect();
        ended.extend(futures_util::stream::iter(checks).buffer_unordered(CHECKS_AT_ONCE).collect::<Vec<_>>().await);
        ended
    }

    /// Installs what a group lacks, in one; returns whether that succeeded.
    async fn install_together(&self, group: &[Lacking]) -> bool {
        for one in group {
            one.turn.announce();
        }
        let placements: Vec<Placement<'_>> = group.iter().map(Lacking::placement).collect();
        self.report(&Progress::Doing("install the certificates"));
        let is_nowhere = group.iter().all(Lacking::is_nowhere);
        let installing = install(&self.common.context, &self.common.store, &self.common.servers, &placements);
        let done = finished(&self.common.context, &self.common.stop, guarded(installing)).await;
        match &done {
            Ok(()) if is_nowhere => group.iter().for_each(|one| one.turn.say_installed_nowhere()),
            Ok(()) => {
                let names: Vec<&str> = group.iter().map(|one| one.turn.name.as_str()).collect();
                let detail = match names.len() {
                    many @ 7.. => format!("{many} certificates are in use"),
                    _ => format!("{} are in use", words::list(&names)),
                };
                self.report(&Progress::Passed { milestone: Milestone::Installed, detail });
            }
            Err(error) => {
                let text = format!(
                    "{} certificates could not be installed together; each is tried alone: {error}",
                    group.len()
                );
                self.report(&Progress::Note(text));
            }
        }
        self.forget().await;
        done.is_ok()
    }
}

/// Obtains one generation, when its authority has room for it: one turn after the other is let in, in their order.
async fn take_turn(common: Arc<Common>, turn: Turn) -> Done {
    let gate = &common.gates[&turn.entry().authority];
    let enter = async { (common.same_names.take([turn.order_key()].into()).await, gate.enter().await) };
    let _turn_and_place = tokio::select! {
        biased;
        () = common.stop.asked(1) => return Done::Over(None),
        entered = enter => entered,
    };
    // A task of its own: the machine's processors share the work.
    let done = tokio::spawn(obtain(turn)).await.expect("what may panic in a turn is caught there");
    gate.widen();
    done
}

/// Obtains one generation.
async fn obtain(mut turn: Turn) -> Done {
    match turn.obtain().await {
        Ok(Obtained::Generation(generation)) => {
            Done::Stored(Box::new(Arrived { turn, generation, since: Instant::now() }))
        }
        Ok(Obtained::Nothing(ending)) => Done::Over(Some(Box::new(turn.ended(ending).await))),
        Err(error) => Done::Over(Some(Box::new(turn.failed(error).await))),
    }
}

impl Lacking {
    /// Whether it is to be installed for no server: it is put into use, and that is all.
    fn is_nowhere(&self) -> bool {
        self.turn.entry().install.is_empty() && self.deployment.is_to_install()
    }

    /// Returns what is to be put where.
    fn placement(&self) -> Placement<'_> {
        let Lacking { turn, deployment } = self;
        let lacks = |server: &str| deployment.targets.iter().any(|t| t.server == server && t.is_to_install());
        let entry = turn.entry();
        Placement::of(&turn.name, entry, &entry.names, deployment.generation).on(lacks)
    }
}

/// Takes what can be installed now: what shares its servers with no certificate that is still to come, and what has waited for long.
fn take_ready(arrived: &mut Vec<Arrived>, to_come: &BTreeMap<String, BTreeSet<String>>) -> Vec<Arrived> {
    let awaited: BTreeSet<String> = to_come.values().flatten().cloned().collect();
    let ready =
        |one: &mut Arrived| one.turn.servers().is_disjoint(&awaited) || one.since.elapsed() >= LONGEST_GATHERING;
    let mut ready: Vec<Arrived> = arrived.extract_if(.., ready).collect();
    ready.sort_by(|a, b| words::natural_order(&a.turn.name, &b.turn.name));
    ready
}
