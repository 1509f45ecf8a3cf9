//! `eskort report`

use super::block_on;
use crate::args::ReportArgs;
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{ReportKind, report, write_page, write_report};
use eskort_core::context::Context;
use eskort_core::page::{Page, PageCertificate};
use eskort_core::words;
use jiff::Timestamp;
use std::path::Path;

pub(crate) fn run(ui: &Ui, context: &Context, args: &ReportArgs) -> ExitStatus {
    let wanted = [(ReportKind::Metrics, &args.metrics), (ReportKind::Calendar, &args.calendar)];
    for (kind, path) in wanted {
        let Some(path) = path else { continue };
        let text = match block_on(report(context, kind)) {
            Ok(text) => text,
            Err(error) => return errors::print_store(ui, &error),
        };
        if path == Path::new("-") {
            ui.result(text.trim_end_matches(['\r', '\n']));
        } else if let Err(error) = write_report(path, &text) {
            let text = ErrorText::coded("write", format!("cannot write {}: {error}", path.display()));
            errors::print(
                ui,
                "the report was not written",
                &text.hint("a collector's folder has to be writable for this user"),
            );
            return ExitStatus::Failed;
        }
    }
    let other = args.metrics.is_some() || args.calendar.is_some();
    if other && args.page.is_none() {
        return ExitStatus::Well;
    }
    let page = match block_on(eskort_app::page(context, !args.without_looks)) {
        Ok(page) => page,
        Err(error) => return errors::print_store(ui, &error),
    };
    ui.settle();
    match &args.page {
        Some(path) if path == Path::new("-") => ui.result(page.to_html().trim_end()),
        Some(folder) => {
            if let Err(error) = write_page(folder, &page) {
                let text = ErrorText::coded("write", format!("cannot write into {}: {error}", folder.display()));
                errors::print(ui, "the page was not written", &text.hint("name a folder that this user may write to"));
                return ExitStatus::Failed;
            }
        }
        None if ui.is_json() => ui.json("report", &page),
        None => print(ui, &page),
    }
    match page.certificates.iter().any(|one| one.needs_attention) {
        true => ExitStatus::NeedsAttention,
        false => ExitStatus::Well,
    }
}

/// The page in text.
fn print(ui: &Ui, page: &Page) {
    ui.result_wrapped("", &page.summary());
    ui.result("");
    let row = |one: &PageCertificate| {
        let day = |at: Option<Timestamp>| at.map_or(String::new(), words::day);
        let rating = one.rating().map_or(String::new(), |rating| format!("{} {}", rating.points, rating.word));
        let tone = if one.needs_attention { Tone::Bad } else { Tone::Plain };
        vec![
            Cell::toned(&one.certificate, Tone::Strong),
            Cell::toned(&one.state, tone),
            Cell::plain(day(one.validity.map(|validity| validity.not_after))),
            Cell::plain(day(one.renew_at)),
            Cell::plain(rating),
        ]
    };
    let rows: Vec<Vec<Cell>> = page.certificates.iter().map(row).collect();
    ui.result(&draw(&["CERTIFICATE", "STATE", "GOOD UNTIL", "RENEWED ON", "RATING"], &rows, ui.page()));
    let found = page.worth_mending();
    if !found.is_empty() {
        ui.result("\nWhat could be better:");
    }
    for (finding, at) in found {
        let (word, tone) = super::check::mark(finding.severity);
        let lead = format!("  {}  ", tone.paint(&format!("{word:6}")));
        let more = match at.len() {
            0 | 1 => String::new(),
            count => format!(" and {} more", count - 1),
        };
        ui.result_wrapped(&lead, &format!("{} ({}{more})", finding.text, at.first().copied().unwrap_or_default()));
    }
}
