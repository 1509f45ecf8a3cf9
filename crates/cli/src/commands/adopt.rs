//! `eskort adopt`

use super::receive::{bring, tell_left_aside, wants_password};
use super::{block_on, known_certificate};
use crate::args::AdoptArgs;
use crate::draw::tone::Tone;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password;
use crate::ui::Ui;
use eskort_app::{AnswerError, StepError};
use eskort_core::context::Context;
use eskort_core::renewal::Validity;
use eskort_core::words;
use serde::Serialize;

pub(crate) fn run(ui: &Ui, context: &Context, args: &AdoptArgs) -> ExitStatus {
    if let Err(status) = known_certificate(ui, context, &args.name) {
        return status;
    }
    let adopt = |instead: bool| {
        bring(&args.files).map_err(StepError::from).and_then(|brought| {
            args.password.open(
                |error| matches!(error, StepError::Answer(error) if wants_password(error)),
                |why| StepError::Answer(AnswerError::Password(why)),
                |password| block_on(eskort_app::adopt(context, &args.name, &brought, password, instead)),
            )
        })
    };
    let mut adopted = adopt(args.instead);
    if matches!(adopted, Err(StepError::Answer(AnswerError::CsrWaits { .. })))
        && password::says_yes(
            ui,
            "A CSR of ours waits for an answer. Type yes to take this one instead, and to wait no longer",
        )
    {
        adopted = adopt(true);
    }
    match adopted {
        Err(StepError::Store(error)) => errors::print_store(ui, &error),
        Err(error) => {
            errors::print(ui, "nothing was taken in", &errors::tell(&error, &args.name));
            ExitStatus::Failed
        }
        Ok(adopted) => {
            if ui.is_json() {
                ui.json("adopt", &Report { generation: adopted.generation, validity: adopted.validity });
                return ExitStatus::Well;
            }
            tell_left_aside(ui, &adopted.left_aside);
            let until = words::day(adopted.validity.not_after);
            let (name, generation) = (Tone::Strong.paint(&args.name), adopted.generation);
            ui.result(&format!("{name}: taken in as generation {generation}, valid until {until}"));
            if let Some(issuer) = &adopted.missing {
                let text =
                    format!("the certificate of `{issuer}` was not among the files: visitors may not trust this one");
                ui.talk_wrapped("  note: ", &text, Tone::Notice);
            }
            ui.result(&format!("`eskort keep --only {}` puts it in place, and renews it from now on.", args.name));
            ExitStatus::Well
        }
    }
}

#[derive(Serialize)]
struct Report {
    generation: u32,
    validity: Validity,
}
