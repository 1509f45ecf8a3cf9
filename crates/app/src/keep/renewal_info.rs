//! Asking authorities when they want their certificates renewed (RFC 9773), before anything is decided.

use super::common::Common;
use super::rest::Known;
use crate::StepError;
use eskort_core::context::Context;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_store::{AskedRenewal, GenerationRow, Settled, Store, StoreError};
use futures_util::future::{BoxFuture, FutureExt};
use futures_util::stream::{self, StreamExt};
use jiff::SignedDuration;
use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// So many certificates are asked about side by side.
const AT_ONCE: usize = 8;
/// All questions of a run together take no longer: what is not asked then is asked by the next run.
const LONGEST: Duration = Duration::from_secs(30);
/// When to ask again where the authority does not say (section 4.3.3), and how soon and how late it may say.
const AGAIN: SignedDuration = SignedDuration::from_hours(6);
const SOONEST: SignedDuration = SignedDuration::from_mins(1);
const LATEST: SignedDuration = SignedDuration::from_hours(24);
/// After a question without an answer.
const AFTER_TROUBLE: SignedDuration = SignedDuration::from_hours(1);

/// The authorities that gave no answer in this run, and are not asked about other certificates.
#[derive(Default)]
struct Silent(Mutex<BTreeSet<String>>);

/// Asks about those of some certificates for which it is time. No answer keeps nothing from being renewed: what was known stays.
pub(super) async fn refresh(run: &Common, chosen: &[&str], known: &mut Known) {
    let mut due = Vec::new();
    for name in chosen {
        let mut authorities = run.context.inventory.certificates[*name].authorities();
        let speaks_acme = authorities.any(|authority| run.context.inventory.authorities[authority].acme().is_some());
        let asked_later = |settled: &Settled| settled.ask_again.is_some_and(|at| at > run.context.now());
        if !speaks_acme || known.of(name).is_some_and(asked_later) {
            continue;
        }
        match to_ask_about(&run.context, &run.store, name).await {
            Ok(Some(generation)) => {
                known.forget(name);
                due.push((*name, generation));
            }
            Ok(None) => {}
            Err(error) => run.context.report(&Progress::Note(error.to_string())),
        }
    }
    if due.is_empty() {
        return;
    }
    run.context.report(&Progress::Doing("ask authorities when they want renewals"));
    let silent = Silent::default();
    let ask = |(name, generation)| ask(run, name, generation, &silent).boxed();
    let questions: Vec<BoxFuture<'_, ()>> = due.into_iter().map(ask).collect();
    let all = stream::iter(questions).buffer_unordered(AT_ONCE).collect::<Vec<()>>();
    tokio::select! {
        _ = tokio::time::timeout(LONGEST, all) => {}
        () = run.stop.asked(1) => {}
    }
}

/// Returns the generation of a certificate that its authority is to be asked about now.
async fn to_ask_about(context: &Context, store: &Store, name: &str) -> Result<Option<GenerationRow>, StoreError> {
    let entry = &context.inventory.certificates[name];
    let Some(newest) = store.newest(name).await? else { return Ok(None) };
    let now = context.now();
    let issued_by = entry.authorities().find(|authority| *authority == newest.specification.authority);
    let is_acme = issued_by.is_some_and(|authority| context.inventory.authorities[authority].acme().is_some());
    let is_theirs = is_acme && now < newest.validity.not_after;
    let asked = store.asked_renewal(name).await?;
    let is_time = asked.is_none_or(|asked| asked.generation != newest.number || asked.ask_again <= now);
    Ok(Some(newest).filter(|_| is_theirs && is_time))
}

/// Asks about one certificate, unless its authority is silent in this run, and writes the answer down.
async fn ask(run: &Common, name: &str, generation: GenerationRow, silent: &Silent) {
    let (context, store) = (&run.context.about(name), &*run.store);
    let authority = &generation.specification.authority;
    let silent = || silent.0.lock().unwrap_or_else(PoisonError::into_inner);
    if silent().contains(authority) {
        return;
    }
    let now = context.now();
    let known = store.asked_renewal(name).await.ok().flatten().filter(|known| known.generation == generation.number);
    let moment = known.and_then(|known| known.moment);
    let answer = question(run, name, &generation).await;
    let asked = match answer {
        Ok(Some((window, again))) => {
            let again = again.and_then(|again| SignedDuration::try_from(again).ok()).unwrap_or(AGAIN);
            let at = window.moment(&generation.fingerprint);
            if moment.as_ref().is_none_or(|(known, _)| *known != at) {
                let why = window.explanation.as_ref().map(|url| format!("; why, says {url}")).unwrap_or_default();
                let (from, until) = (words::instant(window.start), words::instant(window.end));
                let text = format!("its authority wants it renewed between {from} and {until}{why}");
                context.report(&Progress::Note(text));
            }
            let ask_again = now + again.clamp(SOONEST, LATEST);
            AskedRenewal { generation: generation.number, moment: Some((at, window)), trouble: None, ask_again }
        }
        Ok(None) => {
            AskedRenewal { generation: generation.number, moment: None, trouble: None, ask_again: now + LATEST }
        }
        Err(error) => {
            if matches!(&error, StepError::Authority(error) if error.problem().is_none()) {
                silent().insert(authority.clone());
            }
            let trouble = words::printable(&error.to_string(), 300);
            context.report(&Progress::Note(format!(
                "its authority does not say when to renew it ({trouble}): it is renewed as {} says",
                if moment.is_some() { "the last answer" } else { "its lifetime" }
            )));
            let ask_again = now + AFTER_TROUBLE;
            AskedRenewal { generation: generation.number, moment, trouble: Some(trouble), ask_again }
        }
    };
    if let Err(error) = store.save_asked_renewal(name, &asked).await {
        context.report(&Progress::Note(error.to_string()));
    }
}

type Answer = Option<(eskort_core::renewal::Window, Option<Duration>)>;

async fn question(run: &Common, name: &str, generation: &GenerationRow) -> Result<Answer, StepError> {
    let Some(id) = run.store.renewal_id(name, generation.number) else { return Ok(None) };
    let conversation = run.conversations.with(&run.context, &run.store, &generation.specification.authority).await?;
    Ok(conversation.renewal_info(&id).await?)
}
