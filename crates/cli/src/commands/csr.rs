//! `eskort csr make` and `eskort csr read`

use super::load_if_there;
use crate::args::{CsrCommand, CsrMakeArgs, CsrReadArgs};
use crate::errors::{self, Told};
use crate::table::{Cell, draw};
use crate::ui::{ExitStatus, Tone, Ui};
use eskort_app::{CsrOptions, RequestError, RequestView, make_request, save_request, view_request};
use eskort_core::names::Identifier;
use eskort_core::pki::{CsrWish, KeyKind, Subject};
use eskort_core::words;
use serde::Serialize;
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};

/// No CSR is larger.
const LARGEST: u64 = 1 << 20;

pub(crate) fn run(ui: &Ui, config: Option<PathBuf>, command: &CsrCommand) -> ExitStatus {
    match command {
        CsrCommand::Make(args) => make(ui, args),
        CsrCommand::Read(args) => read(ui, config, args),
    }
}

fn refused(ui: &Ui, headline: &str, cause: impl ToString, hint: &str, status: ExitStatus) -> ExitStatus {
    errors::print(ui, headline, &Told { cause: cause.to_string(), hints: vec![hint.into()] });
    status
}

fn make(ui: &Ui, args: &CsrMakeArgs) -> ExitStatus {
    let no_csr = "no CSR was made";
    let mut names: Vec<Identifier> = Vec::new();
    for text in &args.names {
        match Identifier::parse(text) {
            Ok(name) if names.contains(&name) => {}
            Ok(name) => names.push(name),
            Err(error) => {
                let hint = error.advice().unwrap_or_else(|| "names look like www.lampholm.example".into());
                return refused(ui, no_csr, error, &hint, ExitStatus::Usage);
            }
        }
    }
    let kind: KeyKind = match args.kind.parse() {
        Ok(kind) => kind,
        Err(error) => return refused(ui, no_csr, error, "--kind p256 suits nearly everything", ExitStatus::Usage),
    };
    if args.country.as_ref().is_some_and(|c| c.len() != 2 || !c.bytes().all(|b| b.is_ascii_alphabetic())) {
        let cause = format!("`{}` is no country in two letters", args.country.as_deref().unwrap_or_default());
        return refused(ui, no_csr, cause, "the two letters of ISO 3166, like NL", ExitStatus::Usage);
    }
    let subject = Subject {
        common_name: args.common_name.then(|| names[0].to_string()),
        organization: args.organization.clone(),
        unit: args.unit.clone(),
        locality: args.locality.clone(),
        state: args.state.clone(),
        country: args.country.as_ref().map(|c| c.to_ascii_uppercase()),
        mail: args.mail.clone(),
    };
    let wish = CsrWish { subject, must_staple: args.must_staple };
    let options = CsrOptions { names, wish, key: args.key.clone(), kind };
    let made = match make_request(&options) {
        Ok(made) => made,
        Err(error) => {
            let hint = "--key names the key's file: an unencrypted PEM key, or a file that is not there yet";
            return refused(ui, no_csr, error, hint, ExitStatus::Failed);
        }
    };
    if made.new_key {
        ui.talk(&format!("A new key ({kind}) is stored in {}, readable by its owner only.", args.key.display()));
    }
    if let Some(path) = &args.to {
        if let Err(error) = save_request(path, &made.pem) {
            let cause = format!("cannot write {}: {error}", path.display());
            return refused(ui, no_csr, cause, "choose another place with --to", ExitStatus::Failed);
        }
        ui.talk(&format!("The CSR is in {}.", path.display()));
    }
    if ui.is_json() {
        ui.json("csr-make", &Made { csr: &made.pem, key: &args.key, new_key: made.new_key });
    } else if args.to.is_none() {
        ui.result(&made.pem);
    }
    ExitStatus::Well
}

#[derive(Serialize)]
struct Made<'a> {
    csr: &'a str,
    key: &'a Path,
    new_key: bool,
}

fn read(ui: &Ui, config: Option<PathBuf>, args: &CsrReadArgs) -> ExitStatus {
    let app = match load_if_there(ui, config) {
        Ok(app) => app,
        Err(status) => return status,
    };
    let mut bytes = Vec::new();
    let taken = if args.file == Path::new("-") {
        if std::io::stdin().is_terminal() {
            ui.talk("Paste the CSR, then press Ctrl-D:");
        }
        std::io::stdin().take(LARGEST).read_to_end(&mut bytes)
    } else {
        std::fs::File::open(&args.file).and_then(|file| file.take(LARGEST).read_to_end(&mut bytes))
    };
    let headline = "no CSR was read";
    if let Err(error) = taken {
        let cause = format!("cannot read {}: {error}", args.file.display());
        return refused(ui, headline, cause, "name the CSR's file, or `-` for standard input", ExitStatus::Failed);
    }
    match view_request(app.as_ref(), &bytes) {
        Err(RequestError::Store(error)) => errors::print_store(ui, &error),
        Err(error) => {
            let hint = "it should be a PKCS#10 request: PEM, DER, or base64 that was pasted";
            refused(ui, headline, error, hint, ExitStatus::Failed)
        }
        Ok(view) => {
            if ui.is_json() {
                ui.json("csr-read", &view);
            } else {
                ui.result(&text(ui, &view));
            }
            if view.signature_holds == Some(false) || !view.differs.is_empty() {
                ExitStatus::NeedsAttention
            } else {
                ExitStatus::Well
            }
        }
    }
}

fn text(ui: &Ui, view: &RequestView) -> String {
    let fact = |name: &str, value: String, tone: Tone| vec![Cell::toned(name, Tone::Faint), Cell::toned(value, tone)];
    let subject: Vec<String> = view.subject.iter().map(|(kind, value)| format!("{kind}={value}")).collect();
    let subject = if subject.is_empty() { "empty: only the names count".to_owned() } else { subject.join(", ") };
    let names = if view.names.is_empty() {
        ("none: no authority takes that today".to_owned(), Tone::Bad)
    } else {
        (view.names.join(" "), Tone::Strong)
    };
    let signature = match view.signature_holds {
        Some(true) => ("valid: made with this key", Tone::Good),
        Some(false) => ("NOT valid: it was changed, or damaged on the way", Tone::Bad),
        None => ("by an algorithm that is not known here", Tone::Notice),
    };
    let mut rows = vec![
        fact("names", names.0, names.1),
        fact("subject", subject, Tone::Plain),
        fact("key", view.key.clone(), Tone::Plain),
        fact("signature", signature.0.into(), signature.1),
    ];
    if view.must_staple {
        rows.push(fact("asks for", "stapling (must-staple)".into(), Tone::Plain));
    }
    if !view.extensions.is_empty() {
        rows.push(fact("also asks for", words::list(&view.extensions), Tone::Plain));
    }
    match &view.ours {
        Some((certificate, generation)) => {
            rows.push(fact("our key", format!("that of generation {generation} of `{certificate}`"), Tone::Good));
        }
        None => rows.push(fact("our key", "none that we know".into(), Tone::Plain)),
    }
    for difference in &view.differs {
        rows.push(fact("differs", difference.clone(), Tone::Notice));
    }
    draw(&["", ""], &rows, ui.page())
}
