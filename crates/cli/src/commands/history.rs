//! `eskort history`

use super::{block_on, known_certificate};
use crate::args::HistoryArgs;
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::errors;
use crate::exit::ExitStatus;
use crate::texts::event::event;
use crate::ui::Ui;
use eskort_app::{History, HistoryEvent, RunRow};
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::words;
use jiff::Timestamp;

pub(crate) fn run(ui: &Ui, context: &Context, args: &HistoryArgs) -> ExitStatus {
    if let Some(name) = &args.name
        && let Err(status) = known_certificate(ui, context, name)
    {
        return status;
    }
    let history = match block_on(eskort_app::history(context, args.name.as_deref(), args.last)) {
        Ok(history) => history,
        Err(error) => return errors::print_store(ui, &error),
    };
    if ui.is_json() {
        ui.json("history", &history);
        return ExitStatus::Well;
    }
    let History { events, runs } = &history;
    if events.is_empty() && runs.is_empty() {
        ui.result("Nothing has happened yet.");
        return ExitStatus::Well;
    }
    let mut rows: Vec<(Timestamp, Vec<Cell>)> = events.iter().map(event_row).chain(runs.iter().map(run_row)).collect();
    // What came later stands above; a run stands below what happened in it.
    rows.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    rows.truncate(usize::try_from(args.last).unwrap_or(usize::MAX));
    let rows: Vec<Vec<Cell>> = rows.into_iter().map(|(_, cells)| cells).collect();
    ui.result(&draw(&["WHEN", "CERTIFICATE", "WHAT HAPPENED"], &rows, ui.page()));
    ExitStatus::Well
}

fn event_row(happened: &HistoryEvent) -> (Timestamp, Vec<Cell>) {
    let HistoryEvent { certificate, event: row, differs } = happened;
    let tone = if matches!(row.event, Event::Failed { .. }) { Tone::Bad } else { Tone::Plain };
    let differs = if differs.is_empty() { String::new() } else { format!(": {}", differs.join("; ")) };
    let text = format!("{}{differs}", event(&row.event));
    (row.at, vec![Cell::plain(words::instant(row.at)), Cell::toned(certificate, Tone::Strong), Cell::toned(text, tone)])
}

fn run_row(run: &RunRow) -> (Timestamp, Vec<Cell>) {
    let RunRow { began, by_timer, certificates, failed, waiting, .. } = run;
    let by = if *by_timer { "the timer" } else { "somebody" };
    let mut text = format!("{by} had {} looked after", words::count(*certificates as u64, "certificate"));
    for (count, what) in [(failed, "failed"), (waiting, "waited for a person")] {
        if *count > 0 {
            text += &format!(", {count} {what}");
        }
    }
    (*began, vec![Cell::plain(words::instant(*began)), Cell::plain(""), Cell::toned(text, Tone::Faint)])
}
