//! What is told of work under way.

use super::manual_step;
use crate::draw::table::{Cell, Page, draw, wrap};
use crate::draw::tone::Tone;
use crate::ui::Ui;
use eskort_core::journey::Milestone;
use eskort_core::pki::{Certificate, Chain};
use eskort_core::progress::{FileChange, Progress};
use eskort_core::words;

/// Says how a run goes on.
pub(crate) fn show(ui: &Ui, progress: &Progress) {
    match progress {
        Progress::Certificate { name, decision } => {
            ui.settle();
            if decision.acts() {
                ui.talk_wrapped(&format!("{}: ", Tone::Strong.paint(name)), &decision.words(), Tone::Plain);
            }
        }
        Progress::Doing(words) => ui.spin(format!("{words} …")),
        Progress::Waiting { waits_for, .. } => ui.spin(format!("waiting for {} …", waits_for.words())),
        Progress::Passed { milestone, detail } => passed(ui, *milestone, detail),
        Progress::AwaitsPerson(records) => ui.talk(&manual_step::records_to_place(records)),
        Progress::AnswerTaken { certificate, chain } => ui.talk(&answer(certificate, chain, ui.page())),
        Progress::Names(names) => ui.names(names),
        Progress::Change { host, path, how } => {
            let there = host.as_ref().map(|host| format!(" on host `{host}`")).unwrap_or_default();
            ui.talk(&change(&format!("{}{there}", path.display()), how));
        }
        Progress::Note(text) => ui.talk_wrapped("  note: ", text, Tone::Notice),
        Progress::Request { method, url, status } if ui.is_verbose() => {
            ui.talk(&Tone::Faint.paint(&format!("  {status} {method} {}", words::printable(url, 200))));
        }
        Progress::Request { .. } => {}
    }
}

fn passed(ui: &Ui, milestone: Milestone, detail: &str) {
    ui.forget_names();
    let reached = Milestone::ALL.iter().position(|m| *m == milestone).unwrap_or(0) + 1;
    let steps = format!("{}{}", "■".repeat(reached), "□".repeat(Milestone::ALL.len() - reached));
    let word = format!("{:<9}", milestone.word());
    let indent = 2 + Milestone::ALL.len() + 2 + word.len() + 2;
    let lines = wrap(detail, ui.width().saturating_sub(indent).max(20));
    ui.talk(&format!("  {}  {}  {}", Tone::Good.paint(&steps), Tone::Strong.paint(&word), lines[0]));
    for line in &lines[1..] {
        ui.talk(&format!("{}{line}", " ".repeat(indent)));
    }
}

/// Returns how a file changes, in lines.
pub(crate) fn change(path: &str, how: &FileChange) -> String {
    let lines = match how {
        FileChange::Whole(part) => return format!("  writes {path} ({part})"),
        FileChange::Lines(lines) => lines,
    };
    let paint = |line: &str| {
        let tone = match line.as_bytes().first() {
            Some(b'+') => Tone::Good,
            Some(b'-') => Tone::Bad,
            Some(b'@') => Tone::Faint,
            _ => Tone::Plain,
        };
        format!("\n    {}", tone.paint(&words::printable(&line.replace('\t', "    "), 200)))
    };
    lines.lines().fold(format!("  changes {path}"), |text, line| text + &paint(line))
}

/// Returns the chain of an answer as it was put together.
fn answer(certificate: &str, chain: &Chain, page: Page) -> String {
    let row = |(n, c): (usize, &Certificate)| {
        let what = if n == 0 { "  certificate" } else { "  intermediate" };
        vec![
            Cell::toned(what, Tone::Faint),
            Cell::toned(if n == 0 { c.title() } else { c.subject_or_title() }, Tone::Strong),
            Cell::plain(format!("by `{}`", words::printable(&c.issuer, 60))),
            Cell::plain(format!("until {}", words::day(c.not_after))),
        ]
    };
    let rows: Vec<Vec<Cell>> = chain.certificates().iter().enumerate().map(row).collect();
    let head = format!("{}: the answer matches the key that waits for it", Tone::Strong.paint(certificate));
    format!("{head}\n{}", draw(&["", "", "", ""], &rows, page).trim_end())
}
