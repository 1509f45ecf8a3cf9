//! `eskort pack`

use super::{block_on, known_certificate};
use crate::args::{PackArgs, PackForm};
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{PackError, Packing};
use eskort_core::context::Context;
use eskort_core::pki::{Pkcs12Form, Secret};
use serde::Serialize;
use std::path::Path;

pub(crate) fn run(ui: &Ui, context: &Context, args: &PackArgs) -> ExitStatus {
    if let Err(status) = known_certificate(ui, context, &args.name) {
        return status;
    }
    let packing = match args.form {
        PackForm::Pem => Packing::Pem,
        PackForm::PemWithKey => Packing::PemWithKey,
        PackForm::PemParts => Packing::PemParts,
        PackForm::Der => Packing::Der,
        PackForm::Pkcs7 => Packing::Pkcs7,
        PackForm::Pkcs12 => Packing::Pkcs12(Pkcs12Form::Modern),
        PackForm::Pkcs12Old => Packing::Pkcs12(Pkcs12Form::Old),
        PackForm::Manifest => Packing::Manifest,
    };
    let password = match packing {
        Packing::Pkcs12(_) => match args.password.given_or_new("Password for the container") {
            Ok(Some(password)) => password,
            missing => {
                let cause = missing.err().unwrap_or_else(|| "PKCS#12 wants a password".into());
                let text = ErrorText::coded("password", cause).hint("give it in a file: --password-file FILE");
                errors::print(ui, "nothing was packed", &text);
                return ExitStatus::Usage;
            }
        },
        _ => Secret::new(String::new()),
    };
    match block_on(eskort_app::pack(context, &args.name, args.generation, packing, &password, &args.to)) {
        Err(PackError::Store(error)) => errors::print_store(ui, &error),
        Err(error) => {
            let hint = match &error {
                PackError::NoGeneration { .. } => format!("`eskort show {}` lists the generations", args.name),
                PackError::Write { .. } => "choose another place with --to".into(),
                _ => "put the file back from a backup, or let `eskort keep` make a new generation".into(),
            };
            errors::print(ui, "nothing was packed", &ErrorText::coded((&error).into(), error.to_string()).hint(hint));
            ExitStatus::Failed
        }
        Ok(generation) => {
            if ui.is_json() {
                ui.json("pack", &Report { generation, to: &args.to, has_key: packing.has_key() });
            } else {
                let key = if packing.has_key() { "; the key is in it, and only its owner can read it" } else { "" };
                ui.result(&format!(
                    "Generation {generation} of {} is packed in {}{key}.",
                    args.name,
                    args.to.display()
                ));
            }
            ExitStatus::Well
        }
    }
}

#[derive(Serialize)]
struct Report<'a> {
    generation: u32,
    to: &'a Path,
    has_key: bool,
}
