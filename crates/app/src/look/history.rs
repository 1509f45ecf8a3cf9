//! What happened: to certificates, and in runs.

use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::words;
use eskort_store::{EventRow, GenerationRow, RunRow, Store, StoreError};
use serde::Serialize;

/// What happened lately, newest first.
#[derive(Debug, Serialize)]
pub struct History {
    /// To certificates.
    pub events: Vec<HistoryEvent>,
    /// Runs of `keep`; none where one certificate was asked about.
    pub runs: Vec<RunRow>,
}

/// Something that happened to a certificate.
#[derive(Debug, Serialize)]
pub struct HistoryEvent {
    /// The certificate.
    pub certificate: String,
    /// When, and what.
    #[serde(flatten)]
    pub event: EventRow,
    /// How the generation that came differs from the one before; empty for other events.
    pub differs: Vec<String>,
}

/// Returns what happened lately: to one certificate, or with `None` to all of them and in runs.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn history(context: &Context, certificate: Option<&str>, most: u32) -> Result<History, StoreError> {
    let mut history = History { events: Vec::new(), runs: Vec::new() };
    let Some(store) = Store::open_existing(&context.state)? else { return Ok(history) };
    let events: Vec<(String, EventRow)> = match certificate {
        Some(name) => store.events(name, most).await?.into_iter().map(|event| (name.to_owned(), event)).collect(),
        None => store.all_events(most).await?,
    };
    for (certificate, event) in events {
        let differs = match event.event.brought() {
            Some(generation) => differences(&store.generations(&certificate).await?, generation),
            None => Vec::new(),
        };
        history.events.push(HistoryEvent { certificate, event, differs });
    }
    if certificate.is_none() {
        history.runs = store.runs(most).await?;
    }
    Ok(history)
}

/// Returns how a generation differs from the one before it, in words.
fn differences(generations: &[GenerationRow], number: u32) -> Vec<String> {
    let Some(new) = generations.iter().find(|row| row.number == number) else { return Vec::new() };
    let before = generations.iter().filter(|row| row.number < number).max_by_key(|row| row.number);
    let Some(old) = before else { return Vec::new() };
    let mut differs = Vec::new();
    let names = |row: &GenerationRow| row.specification.names.iter().map(ToString::to_string).collect::<Vec<_>>();
    let (new_names, old_names) = (names(new), names(old));
    let only = |these: &[String], those: &[String]| {
        these.iter().filter(|name| !those.contains(name)).cloned().collect::<Vec<_>>()
    };
    let (came, went) = (only(&new_names, &old_names), only(&old_names, &new_names));
    if !came.is_empty() {
        differs.push(format!("with {}", words::list(&came)));
    }
    if !went.is_empty() {
        differs.push(format!("without {}", words::list(&went)));
    }
    let pairs = [("key", &old.specification.key, &new.specification.key), ("issuer", &old.issuer, &new.issuer)];
    differs.extend(
        pairs
            .iter()
            .filter(|(_, old, new)| old != new)
            .map(|(what, old, new)| format!("{what} {new} instead of {old}")),
    );
    // A day more or less is no other lifetime.
    let days = |row: &GenerationRow| (row.validity.lifetime().as_hours() + 12) / 24;
    if days(new) != days(old) {
        differs.push(format!("good for {} days instead of {}", days(new), days(old)));
    }
    differs
}
