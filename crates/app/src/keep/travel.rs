//! How a journey goes on in a run: step after step.

use super::actions::JourneyActions;
use super::steps::{Awaited, Driver, Step};
use crate::StepError;
use crate::stop::Stop;
use eskort_core::journey::{Milestone, Stage, WaitsFor};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_prove::pay_debts_of;
use eskort_store::StoreError;
use jiff::{SignedDuration, Timestamp};
use std::time::Duration;

/// How far a journey has come in a run.
pub(super) enum Reached {
    /// Its end: the generation is stored.
    End,
    /// Something that it waits for beyond the run.
    Awaits(Awaited),
}

/// An authority that wants to be asked again only after this is not waited for.
const LONG_WAIT: SignedDuration = SignedDuration::from_mins(5);

/// Does step after step until the journey ends, or until somebody asks the program to stop; `after_each` is called in between.
/// Returns how far it came.
pub(super) async fn steps(
    actions: &mut JourneyActions<'_>,
    mut driver: Driver<'_>,
    stop: &Stop,
    after_each: impl Fn(&Stage),
) -> Result<Reached, StepError> {
    let (context, name) = (actions.work.context, actions.work.certificate);
    let timeout = context.inventory.authorities[&actions.work.entry.authority].timeout;
    let timeout = SignedDuration::try_from(timeout).unwrap_or(SignedDuration::MAX);
    let mut waiting_since: Option<Timestamp> = None;
    loop {
        let now = context.now();
        let published = driver.journey().stage.needs_publication();
        let step = tokio::select! {
            biased;
            () = stop.asked(1) => return Err(StepError::Interrupted),
            step = driver.step(actions, now) => step?,
        };
        after_each(&driver.journey().stage);
        match step {
            Step::Done => return Ok(Reached::End),
            Step::Awaits(awaited) => return Ok(Reached::Awaits(awaited)),
            Step::Wait(until, waits_for) => {
                let since = *waiting_since.get_or_insert(now);
                let waited = now.duration_since(since);
                // A person at the authority may take days, and an authority may want to be asked much later: the next runs ask
                // again. What proves control stays meanwhile, but for a listener, which ends with this run.
                let wait = until.duration_since(now);
                let much_later = wait >= LONG_WAIT && actions.publication.listeners.is_empty();
                if (waits_for == WaitsFor::Approval || much_later) && wait > timeout - waited {
                    return Ok(Reached::Awaits(Awaited::Approval(until)));
                }
                if waited >= timeout {
                    return Err(StepError::Stuck { waits_for, waited });
                }
                context.report(&Progress::Waiting { until, waits_for });
                let pause = until.duration_since(now).min(timeout - waited);
                tokio::select! {
                    () = context.clock.wait(Duration::try_from(pause).unwrap_or_default()) => {}
                    () = stop.asked(1) => return Err(StepError::Interrupted),
                }
            }
            Step::Did(passed) => {
                if published && !driver.journey().stage.needs_publication() {
                    actions.publication.listeners.clear();
                    pay_debts_of(&actions.work.around(), name).await?;
                }
                if let Some(milestone) = passed {
                    waiting_since = None;
                    let journey = driver.journey();
                    let detail = detail(actions, &journey.specification.key, milestone).await?;
                    context.report(&Progress::Passed { milestone, detail });
                    if milestone == Milestone::Proved && actions.work.has_records_by_hand() {
                        context.report(&Progress::Note("the records placed by hand can be removed now".into()));
                    }
                }
            }
        }
    }
}

/// Returns what there is to say about a stage that was passed.
async fn detail(actions: &JourneyActions<'_>, key: &str, milestone: Milestone) -> Result<String, StoreError> {
    Ok(match milestone {
        Milestone::Prepared => format!("key ({key}) stored, readable by its owner only"),
        Milestone::Ordered => {
            let names = words::count(actions.work.specification.names.len() as u64, "name");
            format!("{names} at authority `{}`", actions.work.specification.authority)
        }
        Milestone::Proved => format!("control of {} proved", words::list(&actions.work.specification.names)),
        Milestone::Issued => match actions.work.store.newest(actions.work.certificate).await? {
            Some(g) => {
                let lifetime = words::duration(g.validity.lifetime());
                let until = words::by_when(g.validity.not_after, g.validity.lifetime());
                format!("by `{}`, valid for {lifetime}, until {until}", g.issuer)
            }
            None => String::new(),
        },
        // Those of the deployment.
        Milestone::Installed | Milestone::Confirmed => String::new(),
    })
}
