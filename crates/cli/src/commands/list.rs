//! `eskort list`

use super::block_on;
use crate::args::ListArgs;
use crate::draw::bar::lifetime_bar;
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{ListFilter, ListRow, State};
use eskort_core::context::Context;
use eskort_core::words;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

pub(crate) fn run(ui: &Ui, context: &Context, args: ListArgs) -> ExitStatus {
    let filter = ListFilter { states: args.state, names: args.name };
    let rows = match block_on(eskort_app::list(context, &filter)) {
        Ok(rows) => rows,
        Err(error) => return errors::print_store(ui, &error),
    };
    let within = args.fail_within.or(args.as_plugin.then(|| SignedDuration::from_hours(7 * 24)));
    let soon = within.map(|within| ends_within(&rows, within, context.now()));
    if args.as_plugin {
        return plugin(ui, &rows, &soon.unwrap_or_default(), context.now());
    }
    let is_filtered = !filter.states.is_empty() || !filter.names.is_empty();
    if rows.is_empty() && is_filtered && !ui.is_json() {
        ui.result("No certificate fits.");
        return ExitStatus::Well;
    }
    print(ui, &rows, context.now());
    if let Some(soon) = soon.filter(|soon| !soon.is_empty()) {
        let names: Vec<String> = soon.iter().map(|row| format!("`{}`", row.certificate)).collect();
        ui.talk(&format!("ends within the time of --fail-within: {}", words::list(&names)));
        return ExitStatus::Failed;
    }
    rows.iter().map(|r| status(&r.state)).max().unwrap_or(ExitStatus::Well)
}

/// Returns the certificates of the inventory that end within a time, or have ended.
fn ends_within(rows: &[ListRow], within: SignedDuration, now: Timestamp) -> Vec<&ListRow> {
    let soon = |row: &&ListRow| row.validity.is_some_and(|validity| validity.not_after.duration_since(now) <= within);
    rows.iter().filter(|row| row.state != State::NotInInventory).filter(soon).collect()
}

/// Says how the certificates stand in one line, as plug-ins of monitoring systems do.
fn plugin(ui: &Ui, rows: &[ListRow], soon: &[&ListRow], now: Timestamp) -> ExitStatus {
    let worth = rows.iter().filter(|row| row.state.needs_attention()).count();
    let next = rows.iter().filter_map(|row| Some((row.validity?.not_after, &row.certificate))).min();
    let next =
        next.map(|(at, name)| format!("; the next ends in {} ({name})", words::duration(at.duration_since(now))));
    let said = format!("{}{}", counted(rows), next.unwrap_or_default());
    let (word, status) = match (soon.is_empty(), worth) {
        (false, _) => ("CRITICAL", ExitStatus::Critical),
        (true, 0) => ("OK", ExitStatus::Well),
        (true, _) => ("WARNING", ExitStatus::Warning),
    };
    ui.result(&format!("CERTIFICATES {word} - {said}"));
    status
}

/// The exit code that `keep` has for the same.
fn status(state: &State) -> ExitStatus {
    match state {
        State::AwaitsPerson { .. } | State::LosesNames { .. } => ExitStatus::AwaitsPerson,
        other if other.needs_attention() => ExitStatus::NeedsAttention,
        _ => ExitStatus::Well,
    }
}

/// Prints the list.
pub(crate) fn print(ui: &Ui, rows: &[ListRow], now: Timestamp) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct Report<'a> {
            at: Timestamp,
            certificates: &'a [ListRow],
        }
        return ui.json("list", &Report { at: now, certificates: rows });
    }
    if rows.is_empty() {
        return ui.result("No certificate yet: add a [certificate.NAME] section to the inventory.");
    }
    let cells: Vec<Vec<Cell>> = rows.iter().map(|r| row(r, now)).collect();
    ui.result(&draw(&["CERTIFICATE", "STATE", "LIFE LEFT", "", "RENEWAL", "NAMES"], &cells, ui.page()));
    if rows.len() > 1 {
        ui.result(&format!("\n{}", counted(rows)));
    }
}

/// Counts the certificates by how they stand: "31 certificates: 1 waiting for you, 2 due, 28 good".
fn counted(rows: &[ListRow]) -> String {
    let mut counts: Vec<(&'static str, usize)> = Vec::new();
    for words in rows.iter().map(|row| row.state.kind_words()) {
        match counts.iter_mut().find(|(known, _)| *known == words) {
            Some((_, count)) => *count += 1,
            None => counts.push((words, 1)),
        }
    }
    let counts: Vec<String> = counts.iter().map(|(words, count)| format!("{count} {words}")).collect();
    format!("{}: {}", words::count(rows.len() as u64, "certificate"), counts.join(", "))
}

/// Returns how a state is toned.
pub(crate) fn tone(state: &State) -> Tone {
    match state {
        State::Good => Tone::Good,
        State::Missing
        | State::Unconfirmed { .. }
        | State::PartlyInstalled { .. }
        | State::WentBack { .. }
        | State::UnderWay { .. }
        | State::AwaitsPerson { .. }
        | State::LosesNames { .. }
        | State::Due => Tone::Notice,
        State::Expired | State::Failing { .. } => Tone::Bad,
        State::NotInInventory => Tone::Faint,
    }
}

fn row(row: &ListRow, now: Timestamp) -> Vec<Cell> {
    let (bar, left, renewal) = match row.validity.as_ref().zip(row.renew_at) {
        None => (Cell::plain(""), Cell::plain(""), String::new()),
        Some((v, renew_at)) => {
            let (bar, tone) = lifetime_bar(v, renew_at, now);
            let left = v.not_after.duration_since(now);
            let left = if left.is_negative() { "over".to_owned() } else { words::duration(left) };
            let renewal = if now >= renew_at { "due".to_owned() } else { words::day(renew_at) };
            (Cell::toned(bar, tone), Cell::plain(left), renewal)
        }
    };
    vec![
        Cell::toned(&row.certificate, Tone::Strong),
        Cell::toned(row.state.words(), tone(&row.state)),
        bar,
        left,
        Cell::plain(renewal),
        Cell::plain(row.names.join(" ")),
    ]
}
