//! `eskort pack`

use super::known_certificate;
use crate::args::{PackArgs, PackForm};
use crate::errors::{self, Told};
use crate::ui::{ExitStatus, Ui};
use eskort_app::{App, PackError, Packing};
use eskort_core::pki::{Pkcs12Form, Secret};
use serde::Serialize;
use std::io::IsTerminal;
use std::path::Path;

pub(crate) fn run(ui: &Ui, app: &App, args: &PackArgs) -> ExitStatus {
    if let Err(status) = known_certificate(ui, app, &args.name) {
        return status;
    }
    let packing = match args.form {
        PackForm::Pem => Packing::Pem,
        PackForm::PemWithKey => Packing::PemWithKey,
        PackForm::Der => Packing::Der,
        PackForm::Pkcs7 => Packing::Pkcs7,
        PackForm::Pkcs12 => Packing::Pkcs12(Pkcs12Form::Modern),
        PackForm::Pkcs12Old => Packing::Pkcs12(Pkcs12Form::Old),
        PackForm::Manifest => Packing::Manifest,
    };
    let password = match packing {
        Packing::Pkcs12(_) => match password(args) {
            Ok(password) => password,
            Err(told) => {
                errors::print(ui, "nothing was packed", &told);
                return ExitStatus::Usage;
            }
        },
        _ => Secret::new(String::new()),
    };
    match eskort_app::pack(app, &args.name, args.generation, packing, &password, &args.to) {
        Err(PackError::Store(error)) => errors::print_store(ui, &error),
        Err(error) => {
            let hint = match &error {
                PackError::NoGeneration { .. } => format!("`eskort show {}` lists the generations", args.name),
                PackError::Write { .. } => "choose another place with --to".into(),
                _ => "put the file back from a backup, or let `eskort keep` make a new generation".into(),
            };
            errors::print(ui, "nothing was packed", &Told { cause: error.to_string(), hints: vec![hint] });
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

/// Takes the password from a file or the environment, or asks for it twice.
fn password(args: &PackArgs) -> Result<Secret<String>, Told> {
    let told = |cause: String| Told { cause, hints: vec!["give it in a file: --password-file FILE".into()] };
    let text = match (&args.password_file, &args.password_env) {
        (Some(path), _) => {
            let text = std::fs::read_to_string(path);
            let text = text.map_err(|e| told(format!("cannot read the password in {}: {e}", path.display())))?;
            text.trim_end_matches(['\r', '\n']).to_owned()
        }
        (None, Some(name)) => std::env::var(name).map_err(|e| told(format!("cannot read the variable {name}: {e}")))?,
        (None, None) if std::io::stdin().is_terminal() && std::io::stderr().is_terminal() => dialoguer::Password::new()
            .with_prompt("Password for the container")
            .with_confirmation("The same again", "The two are not the same")
            .interact()
            .map_err(|e| told(e.to_string()))?,
        (None, None) => return Err(told("PKCS#12 wants a password".into())),
    };
    if text.is_empty() { Err(told("the password is empty".into())) } else { Ok(Secret::new(text)) }
}
