//! `eskort receive`

use super::{block_on_stoppable, keep};
use crate::args::ReceiveArgs;
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password;
use crate::ui::Ui;
use eskort_app::{AnswerError, Brought, Receipt, Received, StepError};
use eskort_core::context::Context;
use eskort_core::pki::{IntakeError, LARGEST_INTAKE, LeftAside};
use eskort_core::words;
use jiff::Timestamp;
use serde::Serialize;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// More than these are summed up; `--output json` has them all.
const MOST_LEFT_ASIDE: usize = 12;

pub(crate) fn run(ui: &Ui, context: &Context, args: &ReceiveArgs) -> ExitStatus {
    let brought = match bring(&args.files) {
        Ok(brought) => brought,
        Err(error) => return failed(ui, &errors::tell_answer(&error)),
    };
    let hosts: Vec<String> = args.fetch_issuers.iter().filter(|host| !host.is_empty()).cloned().collect();
    let hosts = (!args.fetch_issuers.is_empty()).then_some(hosts.as_slice());
    let receive = |accept: bool| {
        args.password.open(
            |error| matches!(error, StepError::Answer(error) if wants_password(error)),
            |why| StepError::Answer(AnswerError::Password(why)),
            |password| {
                let received = eskort_app::receive(context, &brought, password, hosts, accept);
                block_on_stoppable(ui, received).unwrap_or(Err(StepError::Interrupted))
            },
        )
    };
    let mut receipt = receive(args.accept_issuer);
    if let Err(StepError::Answer(error @ AnswerError::UnknownIssuer { .. })) = &receipt
        && asks_to_accept(ui, error)
    {
        receipt = receive(true);
    }
    ui.settle();
    let receipt = match receipt {
        Ok(receipt) => receipt,
        Err(StepError::Store(error)) => return errors::print_store(ui, &error),
        Err(StepError::Answer(error)) => return failed(ui, &errors::tell_answer(&error)),
        Err(StepError::Interrupted) => return ExitStatus::Failed,
        Err(other) => return failed(ui, &errors::tell(&other, "NAME")),
    };
    print(ui, context, receipt)
}

/// Shows an issuer that is not known, and asks on a terminal whether it is the authority's.
fn asks_to_accept(ui: &Ui, error: &AnswerError) -> bool {
    let AnswerError::UnknownIssuer { fingerprint, authority, .. } = error else { return false };
    if !password::on_terminal() {
        return false;
    }
    ui.settle();
    ui.talk(&format!("{error}."));
    if let Some(fingerprint) = fingerprint {
        ui.talk(&format!("The SHA-256 of its certificate is {fingerprint}."));
    }
    let question = format!("Does it issue for authority `{authority}`? Type yes to take this answer and the next ones");
    password::says_yes(ui, &question)
}

/// Prints what came of what was brought.
pub(crate) fn print(ui: &Ui, context: &Context, receipt: Receipt) -> ExitStatus {
    if ui.is_json() {
        let received = receipt.received.iter().map(row).collect();
        let left_aside = receipt.left_aside.iter().map(ToString::to_string).collect();
        ui.json("receive", &Report { at: context.now(), received, left_aside });
    } else {
        tell_left_aside(ui, &receipt.left_aside);
    }
    let entries: Vec<_> = receipt.received.into_iter().map(|r| r.entry).collect();
    if !ui.is_json() {
        keep::print(ui, context, &entries);
    }
    keep::status(&entries)
}

/// Says what of that which was brought is of no use.
pub(crate) fn tell_left_aside(ui: &Ui, left_aside: &[LeftAside]) {
    for what in left_aside.iter().take(MOST_LEFT_ASIDE) {
        ui.talk_wrapped("  left aside: ", &words::printable(&what.to_string(), 300), Tone::Faint);
    }
    if let more @ 1.. = left_aside.len().saturating_sub(MOST_LEFT_ASIDE) {
        ui.talk_wrapped("  left aside: ", &format!("and {more} more"), Tone::Faint);
    }
}

fn failed(ui: &Ui, text: &ErrorText) -> ExitStatus {
    errors::print(ui, "nothing was received", text);
    ExitStatus::Failed
}

/// Reads what was named: files, all files of folders, standard input.
pub(crate) fn bring(files: &[PathBuf]) -> Result<Vec<Brought>, AnswerError> {
    let mut brought = Vec::new();
    for path in files {
        let fail = |path: &Path| {
            let path = path.to_owned();
            move |source| AnswerError::Read { path, source }
        };
        if path == Path::new("-") {
            brought.push(Brought { name: "standard input".into(), bytes: read(io::stdin()).map_err(fail(path))? });
        } else if path.is_dir() {
            let entries = std::fs::read_dir(path).map_err(fail(path))?;
            let mut found: Vec<PathBuf> =
                entries.filter_map(|e| Some(e.ok()?.path())).filter(|p| p.is_file()).collect();
            found.sort();
            for file in found {
                brought.push(open(&file).map_err(fail(&file))?);
            }
        } else {
            brought.push(open(path).map_err(fail(path))?);
        }
    }
    Ok(brought)
}

fn open(path: &Path) -> io::Result<Brought> {
    let bytes = read(std::fs::File::open(path)?)?;
    Ok(Brought { name: words::printable(&path.display().to_string(), 200), bytes })
}

/// Reads one byte more than can be taken in, so that too much is seen to be too much.
fn read(from: impl Read) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    from.take(LARGEST_INTAKE as u64 + 1).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Whether an error says that a password is wanted, or another one.
pub(crate) fn wants_password(error: &AnswerError) -> bool {
    matches!(error, AnswerError::Intake(IntakeError::NeedsPassword(_) | IntakeError::WrongPassword(_)))
}

#[derive(Serialize)]
struct Report<'a> {
    at: Timestamp,
    received: Vec<ReportRow<'a>>,
    left_aside: Vec<String>,
}

#[derive(Serialize)]
struct ReportRow<'a> {
    chain: Vec<String>,
    missing_issuer: Option<&'a str>,
    #[serde(flatten)]
    result: keep::ReportRow<'a>,
}

fn row(received: &Received) -> ReportRow<'_> {
    ReportRow {
        chain: received.chain.certificates().iter().map(|c| c.subject_or_title()).collect(),
        missing_issuer: received.missing.as_deref(),
        result: keep::report_row(&received.entry),
    }
}
