//! `eskort links`

use crate::args::{LinksCommand, LinksMendArgs, LinksPlaces};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password;
use crate::ui::Ui;
use eskort_app::{Example, LeftAlone, LinksError, LinksOptions, LinksReport, find_links, mend_links, undo_links};
use eskort_core::context::Context;
use eskort_core::words;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// So many files and hosts are named; JSON names all.
const SHOWN: usize = 15;

pub(crate) fn run(ui: &Ui, context: &Context, command: &LinksCommand) -> ExitStatus {
    match command {
        LinksCommand::Find(places) => find(ui, context, places),
        LinksCommand::Mend(args) if args.undo => undo(ui, context),
        LinksCommand::Mend(args) => mend(ui, context, args),
    }
}

fn options(places: &LinksPlaces, keep_times: bool) -> LinksOptions {
    let here = || vec![PathBuf::from(".")];
    let paths = if places.paths.is_empty() { here() } else { places.paths.clone() };
    LinksOptions { paths, hosts: places.hosts.clone(), keep_times }
}

fn find(ui: &Ui, context: &Context, places: &LinksPlaces) -> ExitStatus {
    match find_links(context, &options(places, false)) {
        Ok(report) => {
            ui.settle();
            if ui.is_json() {
                ui.json("links", &report);
            } else {
                print(ui, &report, false);
                if report.addresses > 0 {
                    ui.result("\n`eskort links mend` changes them, with `--plan` only as a preview.");
                }
            }
            if report.addresses > 0 { ExitStatus::NeedsAttention } else { ExitStatus::Well }
        }
        Err(error) => failed(ui, "links cannot be looked for", &error),
    }
}

fn mend(ui: &Ui, context: &Context, args: &LinksMendArgs) -> ExitStatus {
    let options = options(&args.places, args.keep_times);
    if args.plan || !args.yes {
        let report = match find_links(context, &options) {
            Ok(report) => report,
            Err(error) => return failed(ui, "links cannot be looked for", &error),
        };
        ui.settle();
        if args.plan && ui.is_json() {
            ui.json("links", &report);
            return ExitStatus::Well;
        }
        if !ui.is_json() {
            print(ui, &report, false);
        }
        if args.plan {
            ui.result("\nOnly a plan: nothing was changed.");
            return ExitStatus::Well;
        }
        if report.addresses == 0 {
            if ui.is_json() {
                ui.json("links", &report);
            }
            return ExitStatus::Well;
        }
        if !password::on_terminal() {
            let text = ErrorText::coded("not-confirmed", "")
                .hint("`--yes` says that it is meant, `--plan` shows what would be changed");
            errors::print(ui, "nothing is changed without being asked", &text);
            return ExitStatus::Usage;
        }
        let count = words::count(report.addresses, "address");
        let files = words::count(report.files.len() as u64, "file");
        let question = format!("This changes {count} in {files}; copies are kept. Type yes to do it");
        if !password::says_yes(ui, &question) {
            ui.talk("Nothing was changed.");
            return ExitStatus::NeedsAttention;
        }
    }
    match mend_links(context, &options) {
        Ok(report) => {
            ui.settle();
            print_mended(ui, &report);
            ExitStatus::Well
        }
        Err(error) => failed(ui, "links cannot be changed", &error),
    }
}

/// Tells what was changed.
pub(super) fn print_mended(ui: &Ui, report: &LinksReport) {
    if ui.is_json() {
        return ui.json("links", report);
    }
    print(ui, report, true);
    if let Some(copies) = &report.copies {
        let copies = copies.display();
        ui.result(&format!("\nThe files of before are in {copies}; `eskort links mend --undo` puts them back."));
    }
}

fn undo(ui: &Ui, context: &Context) -> ExitStatus {
    let undone = match undo_links(context) {
        Ok(undone) => undone,
        Err(error) => return failed(ui, "nothing was put back", &error),
    };
    if ui.is_json() {
        ui.json("links-undo", &undone);
    } else {
        ui.result(&format!("{} as before.", words::count(undone.restored.len() as u64, "file")));
        for path in &undone.left_alone {
            ui.result(&Tone::Notice.paint(&format!("  stays: {}, which was changed since", path.display())));
        }
        if let Some(copies) = &undone.copies {
            ui.result(&format!("  the files of before are in {}", copies.display()));
        }
    }
    if undone.left_alone.is_empty() { ExitStatus::Well } else { ExitStatus::NeedsAttention }
}

pub(super) fn failed(ui: &Ui, what: &str, error: &LinksError) -> ExitStatus {
    let text = ErrorText::coded(
        match error {
            LinksError::NoHosts => "no-hosts",
            LinksError::Path { .. } => "path",
            LinksError::Copy { .. } => "copy",
            LinksError::NothingToUndo => "nothing-to-undo",
        },
        error.to_string(),
    );
    let text = match error {
        LinksError::NoHosts => text.hint("name the site: --site lampholm.example"),
        LinksError::Path { .. } => text.hint("name a file or folder that exists and that you may read"),
        LinksError::Copy { .. } => text.hint("is the state folder writable, and is there room?"),
        LinksError::NothingToUndo => text.hint("only the last change by `eskort links mend` on this machine is known"),
    };
    errors::print(ui, what, &text);
    ExitStatus::Failed
}

fn print(ui: &Ui, report: &LinksReport, is_done: bool) {
    let LinksReport { hosts, read, addresses, files, left, left_alone, others, examples, .. } = report;
    let what = if is_done { "changed to https" } else { "over http" };
    let sites = if hosts.len() > 4 { words::count(hosts.len() as u64, "host") } else { words::list(hosts) };
    ui.result_wrapped(
        "",
        &format!(
            "{} of {sites} {what}, in {} ({} read).",
            Tone::Strong.paint(&words::count(*addresses, "address")),
            words::count(files.len() as u64, "file"),
            read
        ),
    );
    if !files.is_empty() {
        ui.result("");
        let row =
            |path: &Path, count: u64| vec![Cell::plain(format!("{count:>6}")), Cell::plain(path.display().to_string())];
        let rows: Vec<Vec<Cell>> = files.iter().take(SHOWN).map(|file| row(&file.path, file.addresses)).collect();
        ui.result(&draw(&[" COUNT", "FILE"], &rows, ui.page()));
        more(ui, files.len(), "file");
    }
    if !examples.is_empty() {
        ui.result(if is_done { "\nSuch as:" } else { "\nIt would read:" });
    }
    for Example { path, line, before, after } in examples {
        ui.result(&Tone::Faint.paint(&format!("  {}:{line}", path.display())));
        ui.result(&Tone::Bad.paint(&format!("  - {before}")));
        ui.result(&Tone::Good.paint(&format!("  + {after}")));
    }
    if !left.is_empty() || !left_alone.is_empty() {
        ui.result("\nThis stays as it is:");
    }
    for (why, count) in left {
        ui.result_wrapped("  ", &format!("{}: {}", words::count(*count, "address"), why.words()));
    }
    for LeftAlone { path, why } in left_alone.iter().take(SHOWN) {
        ui.result_wrapped("  ", &format!("{}: {why}", path.display()));
    }
    more(ui, left_alone.len(), "file");
    print_others(ui, others);
}

fn print_others(ui: &Ui, others: &BTreeMap<String, u64>) {
    if others.is_empty() {
        return;
    }
    ui.result("\nOf other hosts, over http too:");
    let mut sorted: Vec<(&String, &u64)> = others.iter().collect();
    sorted.sort_by(|a, b| b.1.cmp(a.1).then_with(|| a.0.cmp(b.0)));
    for (host, count) in sorted.iter().take(SHOWN) {
        ui.result(&format!("  {count:>6}  {}", words::printable(host, 80)));
    }
    more(ui, others.len(), "host");
}

fn more(ui: &Ui, count: usize, what: &str) {
    if count > SHOWN {
        ui.result(&Tone::Faint.paint(&format!("  and {} more", words::count((count - SHOWN) as u64, what))));
    }
}
