//! `eskort report`

use super::block_on;
use crate::args::ReportArgs;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{ReportKind, report, write_report};
use eskort_core::context::Context;
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
    ExitStatus::Well
}
