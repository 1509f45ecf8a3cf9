//! What came of a run, as JSON.

use crate::error_text::ErrorText;
use crate::errors;
use crate::ui::Ui;
use eskort_app::{Ending, KeepEntry, Placed, PlannedBudget, PlannedServer, StepError};
use eskort_core::decision::Decision;
use eskort_core::finding::Finding;
use eskort_core::manual::ManualStep;
use eskort_core::progress::FileChange;
use eskort_core::record::RecordToPlace;
use eskort_core::renewal::Validity;
use jiff::Timestamp;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Returns the error that a certificate's turn ended with, in words.
pub(super) fn error_of(entry: &KeepEntry) -> Option<ErrorText> {
    let Ending::Failed { error, given_up, left_published } = &entry.ending else { return None };
    let mut text = errors::tell(error, &entry.certificate);
    if *given_up {
        text.hints.push("the next run begins with a new order".into());
    }
    if let StepError::Interrupted = **error {
        text.hints.push(match left_published {
            0 => "nothing is left published; run `eskort keep` again, it goes on from here".into(),
            left => format!(
                "{} still published; the next run goes on and takes it away. `eskort show {}` lists it",
                if *left == 1 { "one thing is".to_owned() } else { format!("{left} things are") },
                entry.certificate
            ),
        });
    }
    Some(text)
}

#[derive(Serialize)]
struct Report<'a> {
    at: Timestamp,
    certificates: Vec<ReportRow<'a>>,
    /// What a plan would spend.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    budgets: &'a [PlannedBudget],
}

#[derive(Serialize)]
pub(in crate::commands) struct ReportRow<'a> {
    certificate: &'a str,
    decision: Option<&'a Decision>,
    result: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    generation: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    validity: Option<Validity>,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<ErrorText>,
    /// Why it could not be looked at from here, though it is installed.
    #[serde(skip_serializing_if = "Option::is_none")]
    unconfirmed: Option<&'a str>,
    /// The pages with the steps for parcels that a person has to carry.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    to_carry: Vec<&'a Path>,
    #[serde(skip_serializing_if = "Option::is_none")]
    placed: Option<ReportPlaced>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    servers: Vec<ReportServer<'a>>,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    to_place: &'a [RecordToPlace],
    #[serde(skip_serializing_if = "Option::is_none")]
    waits_since: Option<Timestamp>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ask_again: Option<Timestamp>,
    #[serde(skip_serializing_if = "Option::is_none")]
    manual_step: Option<&'a ManualStep>,
}

/// What would be done on one server.
#[derive(Serialize)]
pub(in crate::commands) struct ReportServer<'a> {
    server: &'a str,
    changes: Vec<ReportChange<'a>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    test: Option<&'a [String]>,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    prepare: &'a [Vec<String>],
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<&'a [String]>,
    #[serde(skip_serializing_if = "Option::is_none")]
    runtime: Option<&'a Path>,
    #[serde(skip_serializing_if = "Option::is_none")]
    signal: Option<&'a Path>,
    #[serde(skip_serializing_if = "Option::is_none")]
    upload: Option<&'a str>,
    findings: &'a [Finding],
}

#[derive(Serialize)]
struct ReportChange<'a> {
    path: &'a Path,
    /// The lines that change, as a unified difference.
    #[serde(skip_serializing_if = "Option::is_none")]
    difference: Option<&'a str>,
    /// What the whole file holds then.
    #[serde(skip_serializing_if = "Option::is_none")]
    part: Option<&'static str>,
}

pub(super) fn print_json(ui: &Ui, entries: &[KeepEntry], budgets: &[PlannedBudget], now: Timestamp) {
    ui.json("keep", &Report { at: now, certificates: entries.iter().map(report_row).collect(), budgets });
}

pub(in crate::commands) fn report_row(entry: &KeepEntry) -> ReportRow<'_> {
    let bare = ReportRow {
        certificate: &entry.certificate,
        decision: entry.decision.as_ref(),
        result: "at-rest",
        generation: None,
        validity: None,
        error: None,
        unconfirmed: None,
        to_carry: Vec::new(),
        placed: entry.placed.as_ref().map(|placed| report_placed(placed, &entry.certificate)),
        servers: Vec::new(),
        to_place: &[],
        waits_since: entry.waits_since,
        ask_again: None,
        manual_step: None,
    };
    match &entry.ending {
        Ending::AtRest { validity } => ReportRow { validity: *validity, ..bare },
        Ending::Planned(servers) => {
            ReportRow { result: "planned", servers: servers.iter().map(report_server).collect(), ..bare }
        }
        Ending::UnderWay { holder } => {
            let error = ErrorText::coded("under-way", format!("another run is at work on it ({holder})"));
            ReportRow { result: "under-way", error: Some(error), ..bare }
        }
        Ending::NoRoom => {
            let cause = entry.decision.as_ref().map(|d| d.obtain.words()).unwrap_or_default();
            ReportRow { result: "no-room", error: Some(ErrorText::coded("no-room", cause)), ..bare }
        }
        Ending::Held { reason } => {
            let error = ErrorText::coded("held", reason.clone());
            ReportRow { result: "held", error: Some(error), ..bare }
        }
        Ending::AwaitsTtl { until } => ReportRow { result: "awaits-ttl", ask_again: Some(*until), ..bare },
        Ending::LosesNames => {
            let cause = entry.decision.as_ref().map(|d| d.obtain.words()).unwrap_or_default();
            ReportRow { result: "loses-names", error: Some(ErrorText::coded("loses-names", cause)), ..bare }
        }
        Ending::Arrived { generation, validity, unconfirmed, to_carry, .. } => {
            let (generation, unconfirmed) = (Some(*generation), unconfirmed.as_deref());
            let to_carry = to_carry.iter().map(|(_, steps)| steps.as_path()).collect();
            ReportRow { result: "arrived", generation, validity: *validity, unconfirmed, to_carry, ..bare }
        }
        Ending::AwaitsPerson(records) => ReportRow { result: "awaits-person", to_place: records, ..bare },
        Ending::AwaitsApproval { until } => ReportRow { result: "awaits-approval", ask_again: Some(*until), ..bare },
        Ending::AwaitsAnswer(manual_step) => {
            ReportRow { result: "awaits-answer", manual_step: Some(manual_step), ..bare }
        }
        Ending::Failed { .. } => ReportRow { result: "failed", error: error_of(entry), ..bare },
    }
}

/// What came of putting a generation in place beside what else was done.
#[derive(Serialize)]
struct ReportPlaced {
    generation: u32,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<ErrorText>,
}

fn report_placed(placed: &Placed, certificate: &str) -> ReportPlaced {
    let error = placed.error.as_ref().map(|error| errors::tell(error, certificate));
    ReportPlaced { generation: placed.generation, error }
}

pub(in crate::commands) fn report_server(planned: &PlannedServer) -> ReportServer<'_> {
    ReportServer {
        server: &planned.server,
        changes: planned.changes.iter().map(report_change).collect(),
        test: planned.test.as_deref(),
        prepare: &planned.prepare,
        run: planned.run.as_deref(),
        runtime: planned.runtime.as_deref(),
        signal: planned.signal.as_deref(),
        upload: planned.upload.as_deref(),
        findings: &planned.findings,
    }
}

fn report_change((path, how): &(PathBuf, FileChange)) -> ReportChange<'_> {
    match how {
        FileChange::Lines(lines) => ReportChange { path, difference: Some(lines), part: None },
        FileChange::Whole(part) => ReportChange { path, difference: None, part: Some(part) },
    }
}
