//! `eskort note`

use super::place::read_small;
use super::{block_on_stoppable, keep, known_certificate};
use crate::args::NoteArgs;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{Noted, StepError};
use eskort_core::context::Context;
use eskort_core::manual::{Asked, AskedError};
use eskort_core::names::Identifier;
use eskort_core::record::RecordType;
use eskort_prove::ProofError;

pub(crate) fn run(ui: &Ui, context: &Context, args: Box<NoteArgs>) -> ExitStatus {
    if let Err(status) = known_certificate(ui, context, &args.name) {
        return status;
    }
    let entry = &context.inventory.certificates[&args.name];
    let asked = match asked(ui, &args, &entry.names) {
        Ok(asked) => asked,
        Err(text) => {
            errors::print(ui, "nothing was noted", &text);
            return ExitStatus::Usage;
        }
    };
    let NoteArgs { name, order, placed, page, remark, by, notified, .. } = *args;
    let noted = Noted { order, placed, page, remark, asked, by, notified };
    let done = match block_on_stoppable(ui, eskort_app::note(context, &name, entry, noted)) {
        Ok(done) => done,
        Err(status) => return status,
    };
    ui.settle();
    match done {
        Ok(entry) => {
            let entries = [entry];
            keep::print(ui, context, &entries);
            keep::status(&entries)
        }
        Err(StepError::Store(error)) => errors::print_store(ui, &error),
        Err(error) => {
            let text = match &error {
                StepError::Proof(error) => errors::tell_proof(error),
                other => errors::tell(other, &name),
            };
            errors::print(ui, "nothing was noted", &text);
            ExitStatus::Failed
        }
    }
}

/// Returns what the authority asks as proof; `None` when nothing is said about it.
fn asked(ui: &Ui, args: &NoteArgs, names: &[Identifier]) -> Result<Option<Option<Asked>>, ErrorText> {
    let checked = |asked: Result<Asked, AskedError>| match asked {
        Ok(asked) => Ok(Some(Some(asked))),
        Err(error) => Err(errors::tell_proof(&ProofError::from(error))),
    };
    if args.no_proof {
        return Ok(Some(None));
    }
    if let Some(path) = &args.file {
        let bytes = read_small(ui, &args.from)?;
        let text = String::from_utf8(bytes).map_err(|_| ErrorText {
            code: "usage",
            cause: format!("{} contains no text", args.from.display()),
            hints: vec!["authorities ask for a line or two of text; `eskort place` takes any file".into()],
        })?;
        return checked(Asked::file(path, &text));
    }
    if let Some(name) = &args.record {
        let (kind, text) = match (&args.txt, &args.cname) {
            (_, Some(target)) => (RecordType::Cname, target.as_str()),
            (text, None) => (RecordType::Txt, text.as_deref().unwrap_or_default()),
        };
        return checked(Asked::record(name, kind, text, names));
    }
    match &args.mail {
        Some(to) => checked(Asked::mail(to, names)),
        None => Ok(None),
    }
}
