//! Telling people what is new, each once, and again only what could not be delivered.

use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::Notify;
use eskort_core::news::{Failing, Message, News, Standing, news};
use eskort_core::progress::Progress;
use eskort_core::renewal::Renewal;
use eskort_core::words;
use eskort_host::crash_point;
use eskort_notify::{NotifyError, deliver};
use eskort_store::{FailedOverview, Overview, Store, StoreError, UndeliveredRow};
use futures_util::future::{BoxFuture, join_all};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// How somebody stands who is told what is new.
#[derive(Clone, Debug, Serialize)]
pub struct NotifyView {
    /// The name in the inventory.
    pub name: String,
    /// The kind.
    pub kind: &'static str,
    /// Where it goes.
    pub to: String,
    /// How much waits to be delivered.
    pub waiting: usize,
    /// Since when.
    pub since: Option<Timestamp>,
    /// Why it was not delivered, the last time.
    pub trouble: Option<String>,
}

/// Tells people what a run has brought. What cannot be delivered is told by the next run.
pub(crate) async fn tell_news(context: &Context, store: &Store) -> Result<(), StoreError> {
    if context.inventory.notify.is_empty() {
        return Ok(());
    }
    let now = context.now();
    let overview = store.overview().await?;
    let standings: Vec<Standing> =
        context.inventory.certificates.keys().map(|name| standing(context, name, overview.get(name))).collect();
    store
        .record_news(now, |told| {
            let (mut after, mut found) = (Vec::new(), Vec::new());
            for standing in &standings {
                let before = told.get(&standing.certificate).cloned().unwrap_or_default();
                let (one, next) = news(standing, &before, now);
                if next != before {
                    after.push((standing.certificate.clone(), next));
                }
                found.extend(one.map(|one| (!standing.by_hand, one)));
            }
            // The most urgent first; what no machine does before what is tried again anyway.
            found.sort_by_key(|(by_machine, news)| (news.what, *by_machine, news.ends));
            let mut letters = Vec::new();
            for (name, notify) in &context.inventory.notify {
                let wanted = |news: &&News| notify.wants.is_empty() || notify.wants.contains(&news.what);
                letters.extend(found.iter().map(|(_, news)| news).filter(wanted).map(|n| (name.clone(), n.clone())));
            }
            (after, letters)
        })
        .await?;
    let all: Vec<BoxFuture<'_, _>> = context
        .inventory
        .notify
        .iter()
        .map(|(name, notify)| -> BoxFuture<'_, _> { Box::pin(deliver_to(context, store, name, notify)) })
        .collect();
    let gone: Vec<UndeliveredRow> = store
        .undelivered()
        .await?
        .into_iter()
        .filter(|row| !context.inventory.notify.contains_key(&row.notify))
        .collect();
    store.delivered(&gone).await?;
    join_all(all).await.into_iter().collect()
}

fn standing(context: &Context, name: &str, overview: Option<&Overview>) -> Standing {
    let entry = &context.inventory.certificates[name];
    let newest = overview.and_then(|known| known.gone_back.flatten().or(known.newest));
    let asked = overview.and_then(|known| known.asked_renewal);
    let timing = context.inventory.timing_of(name);
    let by_hand =
        context.inventory.awaits_person(entry) || context.inventory.authorities[&entry.authority].csr().is_some();
    let failing = overview.and_then(|known| known.failed.clone());
    Standing {
        certificate: name.to_owned(),
        names: entry.names.iter().map(ToString::to_string).collect(),
        newest: newest.map(|(number, validity)| (number, validity, Renewal::of(&validity, &timing, asked).at)),
        failing: failing.map(|FailedOverview { count, reason, fault, .. }| Failing::new(count, reason, fault)),
        by_hand,
    }
}

/// Delivers what waits for somebody, in one message.
async fn deliver_to(context: &Context, store: &Store, name: &str, notify: &Notify) -> Result<(), StoreError> {
    let now = context.now();
    let longest = SignedDuration::try_from(notify.timeout * 2).unwrap_or(SignedDuration::MAX);
    let rows = store.take_undelivered(name, longest, now).await?;
    let Some(last) = rows.last() else { return Ok(()) };
    let id = format!("{}-{}", rows[0].since.as_second(), last.id);
    let message = message(id, rows.iter().map(|row| row.news.clone()).collect(), now);
    match deliver(notify, &message, context.folder()).await {
        Ok(()) => {
            crash_point("told");
            let what = words::count(rows.len() as u64, "piece");
            context.report(&Progress::Note(format!("`{name}` was told: {what} of news")));
            store.delivered(&rows).await
        }
        Err(error) => {
            let trouble = words::printable(&error.to_string(), 300);
            context.report(&Progress::Note(format!(
                "news could not be delivered to `{name}` ({trouble}); the next run tries again"
            )));
            store.not_delivered(&rows, &trouble).await
        }
    }
}

fn message(id: String, news: Vec<News>, at: Timestamp) -> Message {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let machine = words::printable(name.trim(), 100);
    Message { id, machine: if machine.is_empty() { "this machine".into() } else { machine }, at, news }
}

/// Sends a test to those who are told what is new, or to some of them.
#[boxed]
pub async fn test_news<'a>(context: &'a Context, only: &[String]) -> Vec<(&'a str, Result<(), NotifyError>)> {
    let now = context.now();
    let chosen = context.inventory.notify.iter().filter(|(name, _)| only.is_empty() || only.contains(name));
    let test = |(name, notify): (&'a String, &'a Notify)| -> BoxFuture<'a, _> {
        Box::pin(async move {
            let message = message(format!("test-{}-{name}", now.as_second()), Vec::new(), now);
            (name.as_str(), deliver(notify, &message, context.folder()).await)
        })
    };
    join_all(chosen.map(test)).await
}

/// Returns those who are told what is new, and what waits for them.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn look_at_news(context: &Context) -> Result<Vec<NotifyView>, StoreError> {
    let waiting = match Store::open_existing(&context.state)? {
        Some(store) => store.undelivered().await?,
        None => Vec::new(),
    };
    let view = |(name, notify): (&String, &Notify)| {
        let theirs: Vec<&UndeliveredRow> = waiting.iter().filter(|row| row.notify == *name).collect();
        NotifyView {
            name: name.clone(),
            kind: notify.kind_word(),
            to: notify.goes_to(),
            waiting: theirs.len(),
            since: theirs.first().map(|row| row.since),
            trouble: theirs.iter().rev().find_map(|row| row.trouble.clone()),
        }
    };
    Ok(context.inventory.notify.iter().map(view).collect())
}
