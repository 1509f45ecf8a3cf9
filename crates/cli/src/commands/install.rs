//! `eskort install`

use super::keep::{ReportServer, print_servers, report_server};
use super::{block_on_stoppable, known_certificate};
use crate::args::InstallArgs;
use crate::draw::tone::Tone;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{InstallEnding, PlannedServer, StepError, install_stored, planned_installation};
use eskort_core::context::Context;
use eskort_core::words;
use jiff::Timestamp;
use serde::Serialize;
use std::path::PathBuf;

pub(crate) fn run(ui: &Ui, context: &Context, args: &InstallArgs) -> ExitStatus {
    let name = &args.certificate;
    if let Err(status) = known_certificate(ui, context, name) {
        return status;
    }
    if args.plan {
        let planned = match block_on_stoppable(ui, planned_installation(context, name)) {
            Ok(planned) => planned,
            Err(status) => return status,
        };
        return match planned {
            Ok(servers) => print_plan(ui, context, name, &servers),
            Err(error) => failed(ui, name, &error),
        };
    }
    let ended = match block_on_stoppable(ui, install_stored(context, name, args.undo)) {
        Ok(ended) => ended,
        Err(status) => return status,
    };
    ui.settle();
    match ended {
        Ok(ending) => print(ui, context, name, &ending),
        Err(error) => failed(ui, name, &error),
    }
}

fn failed(ui: &Ui, name: &str, error: &StepError) -> ExitStatus {
    if let StepError::Store(error) = error {
        return errors::print_store(ui, error);
    }
    errors::print(ui, &format!("`{name}` was not installed"), &errors::tell(error, name));
    ExitStatus::Failed
}

/// What came of it, or what would.
#[derive(Default, Serialize)]
struct Report<'a> {
    at: Timestamp,
    certificate: &'a str,
    result: &'static str,
    generation: Option<u32>,
    instead_of: Option<u32>,
    changed: bool,
    unconfirmed: Option<&'a str>,
    restored: &'a [PathBuf],
    servers: Vec<ReportServer<'a>>,
}

fn print_plan(ui: &Ui, context: &Context, name: &str, servers: &[PlannedServer]) -> ExitStatus {
    if ui.is_json() {
        let servers = servers.iter().map(report_server).collect();
        let report = Report { at: context.now(), certificate: name, result: "planned", servers, ..Report::default() };
        ui.json("install", &report);
        return ExitStatus::Well;
    }
    if servers.iter().all(|server| server.changes.is_empty()) {
        ui.result(&format!("{name}: no file would change."));
        return ExitStatus::Well;
    }
    ui.result(&format!("{}:", Tone::Strong.paint(name)));
    print_servers(ui, servers);
    ui.result(&format!("Only a plan: nothing was done. `eskort install {name}` does it."));
    ExitStatus::Well
}

fn print(ui: &Ui, context: &Context, name: &str, ending: &InstallEnding) -> ExitStatus {
    let bare = Report { at: context.now(), certificate: name, ..Report::default() };
    let (report, text) = match ending {
        InstallEnding::InUse { generation, instead_of, changed, unconfirmed } => {
            let report = Report {
                result: "in-use",
                generation: Some(*generation),
                instead_of: *instead_of,
                changed: *changed,
                unconfirmed: unconfirmed.as_deref(),
                ..bare
            };
            let text = match (instead_of, changed) {
                (Some(instead_of), _) => format!(
                    "{name}: generation {generation} is in use again. Generation {instead_of} stays off the servers until \
                     `eskort install {name}`, or until shortly before {generation} ends."
                ),
                (None, true) => format!("{name}: generation {generation} is in use."),
                (None, false) => format!("{name}: generation {generation} is in use already; nothing was changed."),
            };
            (report, text)
        }
        InstallEnding::Restored { generation, files } => {
            let report = Report { result: "restored", instead_of: Some(*generation), restored: files, ..bare };
            let files = words::count(files.len() as u64, "file");
            let text = format!(
                "{name}: no generation was in use before this one. {files} put back as before it was installed. It stays off the \
                 servers until `eskort install {name}`."
            );
            (report, text)
        }
    };
    let unconfirmed = report.unconfirmed.is_some();
    if ui.is_json() {
        ui.json("install", &report);
    } else {
        ui.result_wrapped("", &text);
    }
    if unconfirmed { ExitStatus::NeedsAttention } else { ExitStatus::Well }
}
