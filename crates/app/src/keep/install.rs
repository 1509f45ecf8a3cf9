//! Installs what is stored, or goes back to the generation before. Nothing is ordered.

use super::deploy::Deploying;
use super::tlsa::{Readiness, Tlsa};
use crate::StepError;
use crate::stop::Stop;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::https::{Hsts, RampStep};
use eskort_core::inventory::CertificateEntry;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::Machines;
use eskort_install::{self as install, Facts as ServerFacts, Placement};
use eskort_prove::{ProofContext, SharedProofs};
use eskort_store::{GoneBack, RunLock, Store};
use jiff::SignedDuration;
use std::path::PathBuf;

/// What came of it.
#[derive(Debug)]
pub enum InstallEnding {
    /// The generation is on all servers.
    InUse {
        /// Its number.
        generation: u32,
        /// The generation that it took the place of, when somebody went back.
        instead_of: Option<u32>,
        /// Whether anything was changed.
        changed: bool,
        /// Why it could not be looked at from here.
        unconfirmed: Option<String>,
    },
    /// There was no generation before: what was changed for the certificate is as it was.
    Restored {
        /// The generation that was taken off.
        generation: u32,
        /// The files that were put back.
        files: Vec<PathBuf>,
    },
}

/// Puts the newest generation of a certificate on all its servers; with `back` the one before that which is in use, which then stays until a newer one
/// comes, or somebody installs again.
///
/// # Errors
/// When another run is at work, nothing is stored, there is nothing to go back to, or a server fails: everything is put back then.
///
/// # Panics
/// When the certificate is not in the inventory: callers look first.
#[boxed]
pub async fn install_stored(context: &Context, name: &str, back: bool) -> Result<InstallEnding, StepError> {
    let context = &context.about(name);
    let entry = &context.inventory.certificates[name];
    let _lock = RunLock::take(&context.state, "eskort install", context.now())?;
    let store = Store::open(&context.state)?;
    let machines = Machines::default();
    install::recover(context, &store, &machines).await?;
    let known = store.generations(name).await?;
    let newest = known.iter().max_by_key(|row| row.number);
    let (row, gone) = match (store.current_generation(name), newest) {
        (_, None) => return Err(StepError::NothingStored),
        (_, Some(newest)) if !back => (newest, None),
        (None, Some(_)) => return Err(StepError::NotInstalled),
        (Some(current), Some(newest)) => {
            let before = known.iter().filter(|row| row.number < current).max_by_key(|row| row.number);
            if before.is_some_and(|before| before.swept.is_some()) {
                return Err(StepError::Swept { generation: current });
            }
            let Some(before) = before else {
                let files = install::restore(context, &store, &machines, name).await?;
                let gone = GoneBack { generation: newest.number, instead: None };
                store.go_back(name, Some(gone), context.now()).await?;
                store.forget_installs(name).await?;
                store.clear_failures(name).await?;
                forget_ramps(context, &store, name, entry).await?;
                let event = Event::WentBack { generation: current, instead: None };
                store.add_event(name, &event, context.now()).await?;
                machines.hang_up().await;
                return Ok(InstallEnding::Restored { generation: current, files });
            };
            // From the newest, too, if that one was never installed: only a newer one counts.
            (before, Some((current, newest.number)))
        }
    };
    if row.validity.not_after <= context.now() {
        return Err(StepError::Ended { generation: row.number, day: words::day(row.validity.not_after) });
    }
    let servers = ServerFacts::about(&machines);
    let placement = Placement::of(name, entry, &entry.names, row.number);
    let deployment = install::deployment(context, &store, &placement, &servers).await?;
    let shared = SharedProofs::default();
    let around = ProofContext { context, store: &store, machines: &machines, shared: &shared };
    let tlsa = Tlsa { around, servers: &servers, name, entry };
    match tlsa.before_install(row.number).await? {
        Readiness::Ready => {}
        Readiness::Waits(until) => return Err(StepError::AwaitsTtl { until }),
        Readiness::Place(records) => return Err(StepError::ToPlace { records }),
    }
    let stop = Stop::listen();
    let deploying =
        Deploying { context, store: &store, stop: &stop, placement, servers: &servers, installed_since: None };
    let changed = deployment.is_to_install();
    context.report(&Progress::Doing("install the certificate"));
    // Visitors should get this generation from now on; when that fails, everything is put back, this too.
    let before = store.gone_back(name).await?;
    let instead = Some(row.number);
    let away = gone.map(|(_, newest)| GoneBack { generation: newest, instead });
    store.go_back(name, away, context.now()).await?;
    let deployed = match deploying.run(&deployment).await {
        Ok(deployed) => deployed,
        Err(error) => {
            store.go_back(name, before, context.now()).await?;
            return Err(error);
        }
    };
    if let Some((generation, _)) = gone {
        // What failed was to bring what nobody wants there now.
        store.clear_failures(name).await?;
        store.add_event(name, &Event::WentBack { generation, instead }, context.now()).await?;
    }
    tlsa.after_install(row.number).await?;
    machines.hang_up().await;
    Ok(InstallEnding::InUse {
        generation: row.number,
        instead_of: gone.map(|(current, _)| current),
        changed,
        unconfirmed: deployed.unconfirmed,
    })
}

/// Says what browsers go on remembering when a site no longer tells them to come back over https.
async fn forget_ramps(context: &Context, store: &Store, name: &str, entry: &CertificateEntry) -> Result<(), StepError> {
    for install in &entry.install {
        let remembered = match install.wishes.hsts {
            Some(Hsts::Ramp) => store.ramp(name, &install.server).await?.map_or(0, RampStep::max_age),
            Some(Hsts::Fixed(seconds)) => seconds,
            Some(Hsts::Off) | None => 0,
        };
        if remembered > 0 {
            let time = words::duration(SignedDuration::from_secs(i64::from(remembered)));
            let text = format!(
                "browsers that have seen the site with HSTS come to server `{}` over https alone for {time} more; `hsts = \"off\"` makes them forget, as long as https is served",
                install.server
            );
            context.report(&Progress::Note(text));
        }
    }
    Ok(store.forget_ramps(name).await?)
}
