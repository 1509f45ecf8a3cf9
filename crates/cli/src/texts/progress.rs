//! What is told of work under way.

use super::log::Fact;
use super::manual_step;
use crate::draw::board::{Board, place_of, steps};
use crate::draw::table::{Cell, Page, draw, wrap};
use crate::draw::tone::Tone;
use crate::ui::{MOST_NAMES, Ui};
use eskort_core::journey::Milestone;
use eskort_core::pki::{Certificate, Chain};
use eskort_core::progress::{FileChange, Progress, TurnEnd};
use eskort_core::words;
use jiff::Timestamp;
use std::path::Path;
use std::time::Instant;

/// Says how a run goes on: with one certificate, or with the run as a whole.
pub(crate) fn show(ui: &Ui, about: Option<&str>, progress: &Progress) {
    if matches!(progress, Progress::Request { .. }) && !ui.is_verbose() {
        return;
    }
    if ui.logs().is_some() {
        return Fact::of(about, progress, Timestamp::now()).iter().for_each(|fact| ui.fact(fact));
    }
    if let Progress::SideBySide { certificates } = progress {
        return ui.side_by_side(certificates);
    }
    match about {
        Some(name) => match ui.on_board(|board| on_board(board, name, progress)) {
            Some(Some((lead, changed))) => beside_others(ui, (name, &lead), progress, changed),
            Some(None) => {}
            None => one_by_one(ui, about, progress),
        },
        None => one_by_one(ui, about, progress),
    }
}

/// Takes in what a certificate is at that is worked on beside others. Returns its name as it stands at the beginning of a line, and
/// whether it is at something else than before; nothing where that is not said in a line of its own.
fn on_board(board: &mut Board, name: &str, progress: &Progress) -> Option<(String, bool)> {
    let now = Instant::now();
    let changed = match progress {
        Progress::Certificate { .. } => board.doing(name, "begin", now),
        Progress::Doing(words) => {
            board.doing(name, words, now);
            return None;
        }
        Progress::Waiting { waits_for, .. } => {
            board.doing(name, &format!("wait for {}", waits_for.words()), now);
            return None;
        }
        Progress::Names(names) => {
            names.first().is_some_and(|one| board.doing(name, &format!("{}: {}", one.name, one.state), now))
        }
        Progress::Passed { milestone, .. } => {
            board.passed(name, *milestone, now);
            true
        }
        Progress::Ended(end) => {
            board.ended(name, end);
            true
        }
        Progress::SideBySide { .. }
        | Progress::AwaitsPerson(_)
        | Progress::AnswerTaken { .. }
        | Progress::Change { .. }
        | Progress::Note(_)
        | Progress::Request { .. } => false,
    };
    Some((board.lead(name), changed))
}

/// Says how it goes with a certificate that is worked on beside others: in lines that each begin with its name. What the board
/// shows is not said.
fn beside_others(ui: &Ui, (name, lead): (&str, &str), progress: &Progress, changed: bool) {
    let seen = ui.shows_board();
    match progress {
        Progress::Certificate { decision, .. } if !seen && decision.acts() => {
            ui.talk_wrapped(lead, &decision.words(), Tone::Plain);
        }
        Progress::Passed { milestone, detail } if !seen => {
            let steps = Tone::Good.paint(&steps(place_of(*milestone)));
            let word = Tone::Strong.paint(&format!("{:<9}", milestone.word()));
            ui.talk_wrapped(&format!("{lead}{steps}  {word}  "), detail, Tone::Plain);
        }
        Progress::Names(names) if changed && !seen => {
            for one in names.iter().take(MOST_NAMES) {
                ui.talk_wrapped(lead, &format!("{}: {}", one.name, one.state), Tone::Plain);
            }
        }
        Progress::Ended(TurnEnd::Failed(why)) => ui.talk_wrapped(&format!("{lead}failed: "), why, Tone::Bad),
        Progress::Ended(TurnEnd::Waits) if !seen => ui.talk_wrapped(lead, "waits for somebody", Tone::Notice),
        Progress::Note(text) => ui.talk_wrapped(&format!("{lead}note: "), text, Tone::Notice),
        Progress::Request { .. } => request(ui, lead, progress),
        Progress::Change { how: FileChange::Whole(_), .. } if seen => {}
        Progress::Change { host, path, how } => {
            let text = change(&there(path, host.as_deref()), how);
            ui.talk(&format!("{lead}{}", text.trim_start()));
        }
        Progress::AwaitsPerson(_) | Progress::AnswerTaken { .. } => one_by_one(ui, Some(name), progress),
        Progress::Certificate { .. }
        | Progress::SideBySide { .. }
        | Progress::Passed { .. }
        | Progress::Ended(_)
        | Progress::Doing(_)
        | Progress::Waiting { .. }
        | Progress::Names(_) => {}
    }
}

/// Says how it goes where one certificate is worked on after the other: below a headline with its name.
fn one_by_one(ui: &Ui, about: Option<&str>, progress: &Progress) {
    let said_below = matches!(progress, Progress::Passed { .. } | Progress::Change { .. } | Progress::Note(_));
    match about {
        Some(name) if said_below => ui.headline(name, None),
        None if said_below => ui.no_headline(),
        _ => {}
    }
    match progress {
        Progress::Certificate { name, decision } => {
            ui.settle();
            if decision.acts() {
                ui.headline(name, Some(&decision.words()));
            }
        }
        Progress::Doing(words) => ui.spin(format!("{words} …")),
        Progress::Waiting { waits_for, .. } => ui.spin(format!("waiting for {} …", waits_for.words())),
        Progress::Passed { milestone, detail } => passed(ui, *milestone, detail),
        Progress::AwaitsPerson(records) => ui.talk(&manual_step::records_to_place(records)),
        Progress::AnswerTaken { certificate, chain } => ui.talk(&answer(certificate, chain, ui.page())),
        Progress::Names(names) => ui.names(names),
        Progress::Change { host, path, how } => {
            ui.talk(&change(&there(path, host.as_deref()), how));
        }
        Progress::Note(text) => ui.talk_wrapped("  note: ", text, Tone::Notice),
        Progress::Request { .. } => request(ui, "  ", progress),
        Progress::Ended(_) | Progress::SideBySide { .. } => {}
    }
}

/// Returns a file and the machine it is on.
fn there(path: &Path, host: Option<&str>) -> String {
    host.map_or_else(|| path.display().to_string(), |host| format!("{} on host `{host}`", path.display()))
}

fn request(ui: &Ui, lead: &str, progress: &Progress) {
    if let Progress::Request { method, url, status } = progress
        && ui.is_verbose()
    {
        let text = format!("{status} {method} {}", words::printable(url, 200));
        ui.talk(&format!("{lead}{}", Tone::Faint.paint(&text)));
    }
}

fn passed(ui: &Ui, milestone: Milestone, detail: &str) {
    ui.forget_names();
    let steps = steps(place_of(milestone));
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
    let verb = if lines.starts_with("@@ -0,0 ") { "makes" } else { "changes" };
    lines.lines().fold(format!("  {verb} {path}"), |text, line| text + &paint(line))
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
