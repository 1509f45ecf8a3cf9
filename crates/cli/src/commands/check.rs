//! `eskort check`

use super::block_on;
use crate::args::CheckArgs;
use crate::draw::bar::lifetime_bar;
use crate::draw::table::{Cell, Page, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{CheckTarget, EndpointReport};
use eskort_core::context::Context;
use eskort_core::finding::{Severity, Topic};
use eskort_core::names::Identifier;
use jiff::Timestamp;
use serde::Serialize;
use std::net::IpAddr;

pub(crate) fn run(ui: &Ui, context: &Context, args: &CheckArgs) -> ExitStatus {
    let targets = match targets(ui, context, args) {
        Ok(targets) => targets,
        Err(status) => return status,
    };
    let mut reports = Vec::new();
    let mut failed = ExitStatus::Well;
    for target in &targets {
        match block_on(eskort_app::check(context, target)) {
            Ok(found) => reports.extend(found),
            Err(error) => {
                let name = match target {
                    CheckTarget::Certificate(name) | CheckTarget::Endpoint { name, .. } => name,
                };
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
    print(ui, &reports, context.now());
    let seen = match reports.iter().map(EndpointReport::worst).max() {
        Some(Severity::Bad) => ExitStatus::Failed,
        Some(Severity::Notice) => ExitStatus::NeedsAttention,
        Some(Severity::Good) | None => ExitStatus::Well,
    };
    failed.max(seen)
}

fn targets(ui: &Ui, context: &Context, args: &CheckArgs) -> Result<Vec<CheckTarget>, ExitStatus> {
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

/// Prints what was seen.
pub(crate) fn print(ui: &Ui, reports: &[EndpointReport], now: Timestamp) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct Report<'a> {
            at: Timestamp,
            endpoints: &'a [EndpointReport],
        }
        return ui.json("check", &Report { at: now, endpoints: reports });
    }
    let texts: Vec<String> = reports.iter().map(|r| text(r, now, ui.page())).collect();
    ui.result(&texts.join("\n"));
}

fn text(report: &EndpointReport, now: Timestamp, page: Page) -> String {
    let at = report.address.map(|a| format!("  at {a}")).unwrap_or_default();
    let of = report.certificate.as_ref().map(|c| format!("  certificate `{c}`")).unwrap_or_default();
    let mut out = format!("{}{}\n", Tone::Strong.paint(&report.endpoint()), Tone::Faint.paint(&format!("{at}{of}")));
    let mut rows = Vec::new();
    for finding in &report.findings {
        let (mark, tone) = match finding.severity {
            Severity::Good => ("good", Tone::Good),
            Severity::Notice => ("notice", Tone::Notice),
            Severity::Bad => ("BAD", Tone::Bad),
        };
        let text_tone = if finding.severity == Severity::Good { Tone::Plain } else { tone };
        let cells = [
            Cell::toned(format!("  {mark}"), tone),
            Cell::plain(finding.topic.word()),
            Cell::toned(&finding.text, text_tone),
        ];
        rows.push(cells.to_vec());
        if let Some(advice) = &finding.advice {
            rows.push(vec![Cell::plain(""), Cell::plain(""), Cell::toned(format!("hint: {advice}"), Tone::Plain)]);
        }
        if finding.topic == Topic::Dates
            && let Some(validity) = &report.validity
        {
            let (bar, tone) = lifetime_bar(validity, validity.renew_at(), now);
            rows.push(vec![Cell::plain(""), Cell::plain(""), Cell::toned(bar, tone)]);
        }
    }
    out.push_str(&draw(&["", "", ""], &rows, page));
    out
}
