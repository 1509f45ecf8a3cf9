//! `eskort check`

use super::block_on;
use super::keep::{ReportServer, print_servers, report_server};
use crate::args::CheckArgs;
use crate::draw::bar::lifetime_bar;
use crate::draw::table::{Cell, Page, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{Advised, Before, CheckDepth, CheckTarget, CloseLook, EndpointReport};
use eskort_core::context::Context;
use eskort_core::finding::{Severity, Topic};
use eskort_core::names::Identifier;
use eskort_core::rating::{Deduction, Rating};
use eskort_core::words;
use jiff::Timestamp;
use serde::Serialize;
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::Path;
use std::time::{Duration, Instant};

/// From so many endpoints on each has a line, and no more.
const MANY: usize = 8;

pub(crate) fn run(ui: &Ui, context: &Context, args: &CheckArgs) -> ExitStatus {
    let targets = match targets(ui, context, args) {
        Ok(targets) => targets,
        Err(status) => return status,
    };
    let logs = match args.logs.as_deref().map(eskort_app::read_log_keys).transpose() {
        Ok(logs) => logs.unwrap_or_default(),
        Err(error) => {
            let hint = "public keys in PEM, with the name of each log in the line before it, or a list of logs in JSON";
            errors::print(
                ui,
                "the promises of logs were not checked",
                &ErrorText::coded("usage", error.to_string()).hint(hint),
            );
            return ExitStatus::Usage;
        }
    };
    let depth = match args.short {
        true => CheckDepth::Handshake,
        false => {
            CheckDepth::Whole(CloseLook { pages: args.pages, plain: args.plain_address, online: args.online, logs })
        }
    };
    if let Some(minutes) = args.wait {
        block_on(wait_for_newest(ui, context, &targets, minutes));
    }
    let told = |done: usize| {
        if targets.len() > 1 {
            ui.spin(format!("look at endpoints: {done} of {}", targets.len()));
        }
    };
    let results = block_on(eskort_app::check_all(context, &targets, &depth, &told));
    ui.settle();
    let mut reports = Vec::new();
    let mut failed = ExitStatus::Well;
    for (target, result) in targets.iter().zip(results) {
        match result {
            Ok(found) => reports.extend(found),
            Err(error) => {
                let (CheckTarget::Certificate(name) | CheckTarget::Endpoint { name, .. }) = target;
                errors::print(ui, &format!("cannot look at `{name}`"), &errors::tell(&error, name));
                failed = ExitStatus::Failed;
            }
        }
    }
    if reports.is_empty() && failed != ExitStatus::Well {
        return failed;
    }
    if reports.is_empty() && !ui.is_json() {
        ui.result(
            "Nothing to look at: no server of these certificates has an endpoint. Name one: eskort check HOST:PORT",
        );
        return ExitStatus::Well;
    }
    // What is worst comes first where there are many.
    if reports.len() > MANY {
        reports.sort_by_key(|report| (Reverse(report.worst()), report.rating.as_ref().map(|rating| rating.points)));
    }
    let advised = match args.advise.then(|| advised(ui, context, &reports)).transpose() {
        Ok(advised) => advised.unwrap_or_default(),
        Err(status) => return status,
    };
    match reports.len() > MANY && !args.details && !ui.is_json() {
        true => print_many(ui, &reports),
        false => print_with(ui, &reports, &advised, context.now()),
    }
    if args.advise && !ui.is_json() {
        print_advised(ui, &advised);
    }
    let least = reports.iter().filter_map(|report| report.rating.as_ref()).map(|rating| rating.points).min();
    if args.fail_under.is_some_and(|wanted| least.is_some_and(|least| least < wanted)) {
        failed = ExitStatus::Failed;
    }
    let seen = match reports.iter().map(EndpointReport::worst).max() {
        Some(Severity::Bad) => ExitStatus::Failed,
        Some(Severity::Notice) => ExitStatus::NeedsAttention,
        Some(Severity::Good | Severity::Better) | None => ExitStatus::Well,
    };
    failed.max(seen)
}

fn targets(ui: &Ui, context: &Context, args: &CheckArgs) -> Result<Vec<CheckTarget>, ExitStatus> {
    if let Some(file) = &args.from {
        let text = match read_list(file) {
            Ok(text) => text,
            Err(cause) => {
                let hint = "a text file with a name of the inventory or an endpoint on each line";
                errors::print(
                    ui,
                    &format!("cannot read {}", file.display()),
                    &ErrorText::coded("usage", cause).hint(hint),
                );
                return Err(ExitStatus::Usage);
            }
        };
        let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
        let all = args.targets.iter().map(String::as_str).chain(lines);
        return all.map(|text| target(ui, context, args, text)).collect();
    }
    if args.targets.is_empty() {
        return Ok(context.inventory.certificates.keys().cloned().map(CheckTarget::Certificate).collect());
    }
    args.targets.iter().map(|text| target(ui, context, args, text)).collect()
}

fn target(ui: &Ui, context: &Context, args: &CheckArgs, text: &str) -> Result<CheckTarget, ExitStatus> {
    if context.inventory.certificates.contains_key(text) {
        return Ok(CheckTarget::Certificate(text.to_owned()));
    }
    let (host, port) = match text.rsplit_once(':') {
        // The colons of an IPv6 address lead to no port.
        _ if text.parse::<IpAddr>().is_ok() || text.ends_with(']') => (text, Some(443)),
        Some((host, port)) => (host, port.parse().ok()),
        None => (text, Some(443)),
    };
    match (Identifier::parse_any(host), port) {
        (Ok(name), Some(port)) if !name.is_wildcard() => {
            Ok(CheckTarget::Endpoint { name: name.to_string(), port, instead: args.address, roots: args.roots.clone() })
        }
        (parsed, _) => {
            let cause = parsed.err().map(|e| e.to_string()).unwrap_or_default();
            let hint = "name a certificate of the inventory, or an endpoint like www.lampholm.example:443";
            let cause = ErrorText::coded("usage", cause).hint(hint);
            errors::print(ui, &format!("`{text}` is neither a certificate of the inventory nor an endpoint"), &cause);
            Err(ExitStatus::Usage)
        }
    }
}

/// Looks again and again, until every endpoint shows the newest generation or the time is over; the look after it says how it is.
async fn wait_for_newest(ui: &Ui, context: &Context, targets: &[CheckTarget], minutes: u32) {
    let until = Instant::now() + Duration::from_secs(u64::from(minutes) * 60);
    let mut pause = Duration::from_millis(500);
    loop {
        let results = eskort_app::check_all(context, targets, &CheckDepth::Handshake, &|_| {}).await;
        let reports: Vec<EndpointReport> = results.into_iter().flatten().flatten().collect();
        let is_behind = |report: &&EndpointReport| {
            let topics = [Topic::Installed, Topic::Reach];
            report.findings.iter().any(|one| one.severity == Severity::Bad && topics.contains(&one.topic))
        };
        let behind = reports.iter().filter(is_behind).count();
        if behind == 0 || Instant::now() + pause > until {
            return;
        }
        let all = words::count(reports.len() as u64, "endpoint");
        ui.spin(format!("wait for the newest generation: {behind} of {all} do not show it yet"));
        context.clock.wait(pause).await;
        pause = (pause * 2).min(Duration::from_secs(10));
    }
}

/// Returns what would mend the servers of the inventory, by certificate.
fn advised(ui: &Ui, context: &Context, reports: &[EndpointReport]) -> Result<Vec<(String, Vec<Advised>)>, ExitStatus> {
    let mut certificates: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for report in reports {
        let Some(certificate) = &report.certificate else { continue };
        let worth = report.findings.iter().filter(|finding| finding.severity > Severity::Good);
        certificates.entry(certificate).or_default().extend(worth.map(|finding| finding.code));
    }
    let plan = |(name, codes): (&str, Vec<&str>)| {
        let planned = block_on(eskort_app::planned_mending(context, name, &codes)).map_err(|error| {
            errors::print(ui, &format!("cannot plan what would mend `{name}`"), &errors::tell(&error, name));
            ExitStatus::Failed
        })?;
        Ok((name.to_owned(), planned))
    };
    certificates.into_iter().map(plan).collect()
}

fn print_advised(ui: &Ui, advised: &[(String, Vec<Advised>)]) {
    if advised.iter().all(|(_, advised)| advised.is_empty()) {
        ui.result("\nNo change that Eskort makes to a server's configuration would mend more.");
    }
    for (name, advised) in advised {
        for Advised { server, keys, planned } in advised {
            if !keys.is_empty() {
                let entry = format!("    install = [{{ server = \"{server}\", {} }}]", keys.join(", "));
                let section = format!("[certificate.{name}]");
                ui.result(&format!(
                    "\nWith this in {section} `eskort install {name}` changes server `{server}`:\n\n{entry}\n"
                ));
            }
            print_servers(ui, std::slice::from_ref(planned));
        }
    }
}

fn read_list(file: &Path) -> Result<String, String> {
    match file.to_str() {
        Some("-") => std::io::read_to_string(std::io::stdin()),
        _ => std::fs::read_to_string(file),
    }
    .map_err(|error| error.to_string())
}

/// A line for each of many, the worst first.
fn print_many(ui: &Ui, reports: &[EndpointReport]) {
    let row = |report: &EndpointReport| {
        let worst = report.findings.iter().filter(|finding| finding.severity > Severity::Good);
        let worst = worst.max_by_key(|finding| finding.severity);
        let (text, tone) =
            worst.map_or(("as it should be", Tone::Good), |finding| (finding.text.as_str(), mark(finding.severity).1));
        let rating = report.rating.as_ref();
        vec![
            Cell::toned(report.endpoint(), Tone::Strong),
            Cell::toned(
                rating.map_or(String::new(), |r| r.points.to_string()),
                rating.map_or(Tone::Plain, |r| rated(r.points)),
            ),
            Cell::toned(rating.map_or("", |r| r.word), rating.map_or(Tone::Plain, |r| rated(r.points))),
            Cell::toned(text, tone),
        ]
    };
    let rows: Vec<Vec<Cell>> = reports.iter().map(row).collect();
    ui.result(&draw(&["ENDPOINT", "RATING", "", "WHAT MATTERS MOST"], &rows, ui.page()));
    let count = |wanted: Severity| reports.iter().filter(|report| report.worst() == wanted).count();
    let parts: Vec<String> = [(Severity::Bad, "bad"), (Severity::Notice, "worth a look")]
        .into_iter()
        .map(|(severity, what)| (count(severity), what))
        .filter(|(count, _)| *count > 0)
        .map(|(count, what)| format!("{count} {what}"))
        .chain([format!("{} well", count(Severity::Good) + count(Severity::Better))])
        .collect();
    let all = words::count(reports.len() as u64, "endpoint");
    ui.result(&format!("\n{all}: {}. `--details` tells everything of each.", parts.join(", ")));
}

pub(super) fn mark(severity: Severity) -> (&'static str, Tone) {
    match severity {
        Severity::Good => ("good", Tone::Good),
        Severity::Better => ("better", Tone::Plain),
        Severity::Notice => ("notice", Tone::Notice),
        Severity::Bad => ("BAD", Tone::Bad),
    }
}

fn rated(points: u32) -> Tone {
    match points {
        90.. => Tone::Good,
        70..90 => Tone::Plain,
        40..70 => Tone::Notice,
        _ => Tone::Bad,
    }
}

/// The rating as a bar, and what costs how much.
fn rating_rows(rating: &Rating) -> Vec<Vec<Cell>> {
    let tone = rated(rating.points);
    let filled = usize::try_from(rating.points / 5).unwrap_or(0);
    let bar = format!("{}{}", "\u{2588}".repeat(filled), "\u{2591}".repeat(20 - filled));
    let head = format!("{bar}  {} of 100, {}", rating.points, rating.word);
    let mut rows = vec![vec![Cell::plain("  rating"), Cell::plain(""), Cell::toned(head, tone)]];
    for Deduction { code, cost, cap, why } in &rating.deductions {
        let cap = match cap {
            Some(0) => " (nothing is left)".to_owned(),
            Some(cap) => format!(" (and no more than {cap})"),
            None => String::new(),
        };
        let text = format!("{:<4}  {why}{cap}", format!("-{cost}"));
        rows.push(vec![Cell::plain(""), Cell::toned(*code, Tone::Faint), Cell::plain(text)]);
    }
    rows
}

/// What has changed since the last close look.
fn before_rows(before: &Before, points: u32) -> Vec<Vec<Cell>> {
    let row = |text: String, tone| vec![Cell::plain(""), Cell::toned("before", Tone::Faint), Cell::toned(text, tone)];
    if before.points == points && before.gone.is_empty() && before.new.is_empty() {
        return vec![row(format!("the same on {}", words::day(before.at)), Tone::Faint)];
    }
    let mut text = format!("{} of 100 on {}", before.points, words::day(before.at));
    for (what, codes) in [("gone since", &before.gone), ("new", &before.new)] {
        if !codes.is_empty() {
            text += &format!("; {what}: {}", codes.join(", "));
        }
    }
    vec![row(text, if before.points > points { Tone::Notice } else { Tone::Plain })]
}

/// Prints what was seen.
pub(crate) fn print(ui: &Ui, reports: &[EndpointReport], now: Timestamp) {
    print_with(ui, reports, &[], now);
}

/// Prints what was seen, and in a report for programs also what would mend it.
fn print_with(ui: &Ui, reports: &[EndpointReport], advised: &[(String, Vec<Advised>)], now: Timestamp) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct Advice<'a> {
            certificate: &'a str,
            keys: &'a [String],
            #[serde(flatten)]
            planned: ReportServer<'a>,
        }
        #[derive(Serialize)]
        struct Report<'a> {
            at: Timestamp,
            endpoints: &'a [EndpointReport],
            #[serde(skip_serializing_if = "Vec::is_empty")]
            advised: Vec<Advice<'a>>,
        }
        let mut all = Vec::new();
        for (certificate, each) in advised {
            all.extend(each.iter().map(|one| Advice {
                certificate,
                keys: &one.keys,
                planned: report_server(&one.planned),
            }));
        }
        return ui.json("check", &Report { at: now, endpoints: reports, advised: all });
    }
    let texts: Vec<String> = reports.iter().map(|r| text(r, now, ui.page())).collect();
    ui.result(&texts.join("\n"));
}

fn text(report: &EndpointReport, now: Timestamp, page: Page) -> String {
    let at = report.address.map(|a| format!("  at {a}")).unwrap_or_default();
    let of = report.certificate.as_ref().map(|c| format!("  certificate `{c}`")).unwrap_or_default();
    let mut out = format!("{}{}\n", Tone::Strong.paint(&report.endpoint()), Tone::Faint.paint(&format!("{at}{of}")));
    let mut rows = Vec::new();
    for (n, finding) in report.findings.iter().enumerate() {
        let (mark, tone) = mark(finding.severity);
        let text_tone = if finding.severity == Severity::Good { Tone::Plain } else { tone };
        let cells = [
            Cell::toned(format!("  {mark}"), tone),
            Cell::plain(finding.topic.word()),
            Cell::toned(&finding.text, text_tone),
        ];
        rows.push(cells.to_vec());
        // What helps against several is said once.
        let said_below = report.findings.get(n + 1).is_some_and(|next| next.advice == finding.advice);
        if let Some(advice) = finding.advice.as_ref().filter(|_| !said_below) {
            rows.push(vec![Cell::plain(""), Cell::plain(""), Cell::toned(format!("hint: {advice}"), Tone::Plain)]);
        }
        if finding.topic == Topic::Dates
            && let Some(validity) = &report.validity
        {
            let (bar, tone) = lifetime_bar(validity, validity.renew_at(), now);
            rows.push(vec![Cell::plain(""), Cell::plain(""), Cell::toned(bar, tone)]);
        }
    }
    if let Some(rating) = &report.rating {
        rows.extend(rating_rows(rating));
        rows.extend(report.before.iter().flat_map(|before| before_rows(before, rating.points)));
    }
    out.push_str(&draw(&["", "", ""], &rows, page));
    out
}
