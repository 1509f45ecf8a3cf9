//! `eskort survey`

use super::block_on;
use crate::args::SurveyArgs;
use crate::draw::table::{Cell, Page, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{SurveyOptions, SurveyReport, SurveyedListener, SurveyedServer, SurveyedSite, find_servers};
use eskort_core::context::Context;
use eskort_core::finding::Severity;
use eskort_core::software::Software;
use eskort_core::words;
use jiff::Timestamp;
use std::path::{Path, PathBuf};

/// Below this width files are named without their folders.
const NARROW: usize = 100;
/// From this width on there is room for the folders of pages.
const WIDE: usize = 130;

pub(crate) fn run(ui: &Ui, context: &Context, args: &SurveyArgs) -> ExitStatus {
    if let Some(host) = args.host.as_ref().filter(|host| !context.inventory.hosts.contains_key(*host)) {
        let known: Vec<&String> = context.inventory.hosts.keys().collect();
        let hint = match known[..] {
            [] => "the inventory has no host yet; add a section [host.NAME]".to_owned(),
            _ => format!("the inventory has {}", words::list(&known)),
        };
        let headline = format!("{} has no host `{host}`", context.inventory_path.display());
        errors::print(ui, &headline, &ErrorText::coded("no-such-host", "").hint(hint));
        return ExitStatus::Usage;
    }
    let kinds = if args.server.is_empty() { Software::ALL.to_vec() } else { args.server.clone() };
    let files = match args.files[..] {
        [] => block_on(find_servers(context, args.host.as_deref(), &kinds)),
        _ => match named(&args.files, &args.server) {
            Ok(files) => Ok(files),
            Err(path) => return unknown_kind(ui, &path),
        },
    };
    let surveyed = files.and_then(|files| {
        let options = SurveyOptions {
            host: args.host.clone(),
            files,
            names: args.name.clone(),
            only_findings: args.only.is_some(),
            deep: args.deep,
        };
        block_on(eskort_app::survey(context, &options))
    });
    match surveyed {
        Ok(report) => {
            print(ui, &report, context.now());
            status(&report)
        }
        Err(error) => {
            errors::print(ui, "the servers cannot be surveyed", &errors::tell_machine_error(&error));
            ExitStatus::Failed
        }
    }
}

/// Returns which server each main file is for: by `--server`, or by its name. `Err` is one of which that cannot be told.
pub(super) fn named(files: &[PathBuf], kinds: &[Software]) -> Result<Vec<(Software, PathBuf)>, PathBuf> {
    let kind = |path: &PathBuf| match kinds {
        [kind] => Some(*kind),
        _ => Software::of_file(path).filter(|kind| kinds.is_empty() || kinds.contains(kind)),
    };
    let here = |path: &PathBuf| std::path::absolute(path).unwrap_or_else(|_| path.clone());
    files.iter().map(|path| Ok((kind(path).ok_or_else(|| path.clone())?, here(path)))).collect()
}

pub(super) fn unknown_kind(ui: &Ui, path: &Path) -> ExitStatus {
    let text = ErrorText::coded("unknown-server", "its name does not say so").hint(format!(
        "say it: `eskort survey --server KIND {}`; kinds are {}",
        path.display(),
        words::list(&Software::ALL.map(Software::word))
    ));
    errors::print(ui, &format!("which server is {} for?", path.display()), &text);
    ExitStatus::Usage
}

fn status(report: &SurveyReport) -> ExitStatus {
    let of = |server: &SurveyedServer| match server {
        SurveyedServer { error: Some(_), .. } => ExitStatus::Failed,
        server if !server.left_out.is_empty() => ExitStatus::NeedsAttention,
        server if server.sites.iter().any(|site| site.worst() == Severity::Bad) => ExitStatus::NeedsAttention,
        _ => ExitStatus::Well,
    };
    report.servers.iter().map(of).max().unwrap_or(ExitStatus::Well)
}

/// Prints what was found.
pub(crate) fn print(ui: &Ui, report: &SurveyReport, now: Timestamp) {
    if ui.is_json() {
        return ui.json("survey", report);
    }
    if report.servers.is_empty() {
        let kinds = words::list(&Software::ALL.map(Software::word));
        let text = format!(
            "No server was found in the usual places (of {kinds}). `eskort survey MAIN-FILE` reads another place."
        );
        return ui.result_wrapped("", &text);
    }
    let texts: Vec<String> = report.servers.iter().map(|server| text(server, now, ui.page())).collect();
    ui.result(texts.join("\n").trim_end());
    ui.result(&format!("\n{}", counted(report)));
}

/// Counts the sites: "14 sites: 2 with faults, 1 with a notice".
fn counted(report: &SurveyReport) -> String {
    let sites: Vec<&SurveyedSite> = report.servers.iter().flat_map(|server| &server.sites).collect();
    let of = |severity| sites.iter().filter(|site| site.worst() == severity).count();
    let all: usize = report.servers.iter().map(|server| server.all_sites).sum();
    let shown = if all == sites.len() { String::new() } else { format!(" of {all}") };
    let mut counts = Vec::new();
    for (severity, words) in
        [(Severity::Bad, "with faults"), (Severity::Notice, "worth a look"), (Severity::Good, "without a finding")]
    {
        if of(severity) > 0 {
            counts.push(format!("{} {words}", of(severity)));
        }
    }
    let more = if counts.is_empty() { String::new() } else { format!(": {}", counts.join(", ")) };
    format!("{}{shown}{more}", words::count(sites.len() as u64, "site"))
}

fn text(server: &SurveyedServer, now: Timestamp, page: Page) -> String {
    let runs = match server.runs {
        Some(true) => "runs, ",
        Some(false) => "does not run, ",
        None => "",
    };
    let size = format!(
        "{runs}{}, {}",
        words::count(server.files as u64, "file"),
        words::count(server.all_sites as u64, "site")
    );
    let mut out = format!(
        "{}  {}  {}\n",
        Tone::Strong.paint(server.server),
        server.config.display(),
        Tone::Faint.paint(&format!("({size})"))
    );
    if let Some(error) = &server.error {
        let cells = vec![Cell::toned("  BAD", Tone::Bad), Cell::toned(error, Tone::Bad)];
        return out + &draw(&["", ""], &[cells], page);
    }
    if !server.sites.is_empty() {
        let folder = server.config.parent().unwrap_or(Path::new("/"));
        let mut heads = vec!["SITE", "ENDS IN", "HTTP", "DEFINED IN", "PAGES FROM", "SERVED AT"];
        let mut rows: Vec<Vec<Cell>> = server.sites.iter().map(|site| row(site, folder, page, now)).collect();
        for column in (1..heads.len()).rev() {
            let is_for_wide = heads[column] == "PAGES FROM" && page.width < WIDE;
            if is_for_wide || rows.iter().all(|row| row[column].is_empty()) {
                heads.remove(column);
                rows.iter_mut().for_each(|row| drop(row.remove(column)));
            }
        }
        out.push_str(&draw(&heads, &rows, page));
    }
    // Paths in the folder of the configuration are said from there.
    let near = server.config.parent().map(|folder| format!("{}/", folder.display())).unwrap_or_default();
    let short = |text: &str| if near.len() > 1 { text.replace(&near, "") } else { text.to_owned() };
    let mut rows = Vec::new();
    for site in &server.sites {
        for finding in &site.findings {
            let (mark, tone) = match finding.severity {
                Severity::Good | Severity::Better => continue,
                Severity::Notice => ("  notice", Tone::Notice),
                Severity::Bad => ("  BAD", Tone::Bad),
            };
            let advice = finding.advice.as_ref().map(|advice| format!(" ({advice})")).unwrap_or_default();
            let site = format!("{}:{}", label(site), site.place.line);
            rows.push(vec![
                Cell::toned(mark, tone),
                Cell::plain(site),
                Cell::toned(format!("{}{advice}", short(&finding.text)), tone),
            ]);
        }
    }
    for left in &server.left_out {
        let line = left.line.map(|line| format!(":{line}")).unwrap_or_default();
        let name = left.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let cells =
            [Cell::toned("  left out", Tone::Notice), Cell::plain(name + &line), Cell::plain(short(&left.text))];
        rows.push(cells.to_vec());
    }
    if !rows.is_empty() {
        out.push('\n');
        out.push_str(&draw(&["", "", ""], &rows, page));
    }
    out
}

/// A site in a word: its first name.
fn label(site: &SurveyedSite) -> String {
    site.names.first().cloned().unwrap_or_else(|| "(any name)".to_owned())
}

fn row(site: &SurveyedSite, folder: &Path, page: Page, now: Timestamp) -> Vec<Cell> {
    let more = if site.names.len() > 1 { format!(" +{}", site.names.len() - 1) } else { String::new() };
    let at = |listener: &SurveyedListener| match (listener.protocol, listener.security) {
        ("http", "plain") => listener.address.clone(),
        ("http", security) => format!("{} {security}", listener.address),
        (protocol, "plain") => format!("{} {protocol}", listener.address),
        (protocol, security) => format!("{} {protocol} {security}", listener.address),
    };
    // What is the same for both families is said once.
    let of_both = |l: &&SurveyedListener| {
        let port = l.address.strip_prefix("[::]:");
        port.is_some_and(|port| site.listeners.contains(&SurveyedListener { address: port.into(), ..(*l).clone() }))
    };
    let listeners: Vec<String> = site.listeners.iter().filter(|l| !of_both(l)).map(at).collect();
    let has_plain = site.listeners.iter().any(|l| l.protocol == "http" && l.security == "plain");
    let http = match (&site.redirect, has_plain) {
        (Some(_), true) => Cell::toned("to https", Tone::Good),
        (None, true) => Cell::plain("plain"),
        _ => Cell::plain(""),
    };
    let path = &site.place.path;
    let near = path.strip_prefix(folder).unwrap_or(path);
    let name = path.file_name().map_or(near, Path::new);
    let path = if page.width < NARROW { name } else { near };
    vec![
        Cell::toned(label(site) + &more, Tone::Strong),
        certificate(site, now),
        http,
        Cell::plain(format!("{}:{}", path.display(), site.place.line)),
        Cell::plain(site.document_root.clone().unwrap_or_default()),
        Cell::plain(listeners.join(", ")),
    ]
}

fn certificate(site: &SurveyedSite, now: Timestamp) -> Cell {
    let soonest = site.certificates.iter().filter_map(|certificate| certificate.validity).min_by_key(|v| v.not_after);
    let tone = match site.worst() {
        Severity::Good | Severity::Better => Tone::Good,
        Severity::Notice => Tone::Notice,
        Severity::Bad => Tone::Bad,
    };
    let several = if site.certificates.len() > 1 { format!(" ({})", site.certificates.len()) } else { String::new() };
    match soonest.map(|validity| validity.not_after.duration_since(now)) {
        Some(left) if left.is_negative() => Cell::toned(format!("over{several}"), tone),
        Some(left) => Cell::toned(format!("{}{several}", words::duration(left)), tone),
        None if site.certificates.is_empty() && site.listeners.iter().all(|l| l.security == "plain") => Cell::plain(""),
        None => Cell::toned("unknown", tone),
    }
}
