//! `eskort csr make` and `eskort csr read`

use super::{block_on, known_certificate, load, load_if_there};
use crate::args::{CsrCommand, CsrMakeArgs, CsrReadArgs};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{
    CsrOptions, KeySource, OursView, RequestError, RequestView, make_request, save_request, view_request,
};
use eskort_core::context::Context;
use eskort_core::names::Identifier;
use eskort_core::pki::{CsrSpecification, KeyKind, KeyUse, PkiError, Subject, WantedExtension};
use eskort_core::words;
use serde::Serialize;
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};

/// No CSR is larger.
const LARGEST: u64 = 1 << 20;

pub(crate) fn run(ui: &Ui, config: Option<PathBuf>, command: &CsrCommand) -> ExitStatus {
    match command {
        CsrCommand::Make(args) => make(ui, config, args),
        CsrCommand::Read(args) => read(ui, config, args),
    }
}

fn refused(ui: &Ui, headline: &str, cause: impl ToString, hint: &str, status: ExitStatus) -> ExitStatus {
    errors::print(ui, headline, &ErrorText::coded("csr", cause.to_string()).hint(hint));
    status
}

const NO_CSR: &str = "no CSR was made";

fn make(ui: &Ui, config: Option<PathBuf>, args: &CsrMakeArgs) -> ExitStatus {
    let (context, options) = match &args.certificate {
        Some(name) => match from_inventory(ui, config, name, args) {
            Ok((context, options)) => (Some(context), options),
            Err(status) => return status,
        },
        None => match from_options(ui, args) {
            Ok(options) => (None, options),
            Err(status) => return status,
        },
    };
    for name in options.names.iter().filter(|name| !name.is_qualified()) {
        let text = format!("`{name}` is not a fully qualified name: only a private authority will issue for it");
        ui.talk_wrapped("note: ", &text, Tone::Notice);
    }
    let new = matches!(&options.key, KeySource::File { path, .. } if !path.exists());
    if args.protect && !new {
        let hint = "leave --protect out, or name a file that is not there yet with --key";
        return refused(ui, NO_CSR, "the key is there already", hint, ExitStatus::Usage);
    }
    let made = if args.protect {
        match args.password.given_or_new("Password for the key") {
            Ok(Some(password)) => block_on(make_request(context.as_ref(), &options, Some(&password))),
            missing => {
                let cause = missing.err().unwrap_or_else(|| "a key is protected with a password".into());
                return refused(ui, NO_CSR, cause, "give it in a file: --password-file FILE", ExitStatus::Usage);
            }
        }
    } else {
        let wants = |error: &RequestError| {
            matches!(error, RequestError::Key { source: PkiError::EncryptedKey | PkiError::WrongPassword, .. })
        };
        args.password.open(wants, RequestError::Password, |password| {
            block_on(make_request(context.as_ref(), &options, password))
        })
    };
    let made = match made {
        Ok(made) => made,
        Err(error) => {
            let hint = match &error {
                RequestError::Key { source: PkiError::EncryptedKey | PkiError::WrongPassword, .. } => {
                    "give its password in a file: --password-file FILE".to_owned()
                }
                RequestError::NoKey { certificate } => {
                    format!("`eskort keep --only {certificate}` makes one; or name a file with --key")
                }
                RequestError::Store(_) => "check that the state folder can be read; `eskort list` says more".to_owned(),
                _ => "--key names the key's file: a PEM key, or a file that does not exist yet".to_owned(),
            };
            return refused(ui, NO_CSR, error, &hint, ExitStatus::Failed);
        }
    };
    let key = match &options.key {
        KeySource::File { path, kind, .. } => {
            if made.new_key {
                let protected = if args.protect { ", protected with the password and" } else { "," };
                let text = format!(
                    "A new key ({kind}) is stored in {}{protected} readable by its owner only.",
                    path.display()
                );
                ui.talk(&text);
            }
            Some(path.as_path())
        }
        KeySource::Stored { .. } => None,
    };
    let text = if args.bare { format!("{}\n", made.bare) } else { made.pem.clone() };
    if let Some(path) = &args.to {
        if let Err(error) = save_request(path, &text) {
            let cause = format!("cannot write {}: {error}", path.display());
            return refused(ui, NO_CSR, cause, "choose another place with --to", ExitStatus::Failed);
        }
        ui.talk(&format!("The CSR is in {}.", path.display()));
    }
    if ui.is_json() {
        ui.json("csr-make", &Made { csr: &made.pem, key, new_key: made.new_key });
    } else if args.to.is_none() {
        ui.result(text.trim_end());
    }
    ExitStatus::Well
}

/// Takes everything from a certificate of the inventory, and its stored key unless a file is named.
fn from_inventory(
    ui: &Ui,
    config: Option<PathBuf>,
    name: &str,
    args: &CsrMakeArgs,
) -> Result<(Context, CsrOptions), ExitStatus> {
    let context = load(ui, config)?;
    known_certificate(ui, &context, name)?;
    let entry = &context.inventory.certificates[name];
    let key = match &args.key {
        Some(path) => KeySource::File { path: path.clone(), kind: entry.key, protect: args.protect },
        None => KeySource::Stored { certificate: name.to_owned() },
    };
    let options = CsrOptions { names: entry.names.clone(), specification: entry.csr.clone(), key };
    Ok((context, options))
}

fn from_options(ui: &Ui, args: &CsrMakeArgs) -> Result<CsrOptions, ExitStatus> {
    let wrong = |cause: String, hint: &str| refused(ui, NO_CSR, cause, hint, ExitStatus::Usage);
    let mut names: Vec<Identifier> = Vec::new();
    for text in &args.names {
        match Identifier::parse_any(text) {
            Ok(name) if names.contains(&name) => {}
            Ok(name) => names.push(name),
            Err(error) => {
                let hint = error.advice().unwrap_or_else(|| "names look like www.lampholm.example".into());
                return Err(wrong(error.to_string(), &hint));
            }
        }
    }
    let csr = &args.csr;
    let kind = csr.kind.as_deref().map_or(Ok(KeyKind::default()), str::parse::<KeyKind>);
    let kind = kind.map_err(|error| wrong(error.to_string(), "--kind p256 suits nearly everything"))?;
    if let Some(country) = &csr.country
        && (country.len() != 2 || !country.bytes().all(|b| b.is_ascii_alphabetic()))
    {
        return Err(wrong(
            format!("`{country}` is not a country code of two letters"),
            "the two letters of ISO 3166, like NL",
        ));
    }
    let mut usages = Vec::new();
    for word in &csr.usages {
        let known = || format!("known are {}", words::list(&KeyUse::ALL.map(KeyUse::word)));
        usages.push(KeyUse::parse(word).ok_or_else(|| wrong(format!("`{word}` is not a key usage"), &known()))?);
    }
    let mut extensions = Vec::new();
    for text in &csr.extensions {
        let (oid, hex) = text.split_once('=').unwrap_or((text, ""));
        let made = WantedExtension::parse(oid, hex);
        extensions.push(made.map_err(|error| wrong(error.to_string(), "like --extension 1.2.3.4=0500"))?);
    }
    let subject = Subject {
        common_name: csr.common_name.then(|| names[0].to_string()),
        organization: csr.organization.clone(),
        unit: csr.unit.clone(),
        locality: csr.locality.clone(),
        state: csr.state.clone(),
        country: csr.country.as_ref().map(|c| c.to_ascii_uppercase()),
        mail: csr.mail.clone(),
    };
    let csr = CsrSpecification { subject, same_subject: None, must_staple: csr.must_staple, usages, extensions };
    let path = args.key.clone().unwrap_or_default();
    Ok(CsrOptions { names, specification: csr, key: KeySource::File { path, kind, protect: args.protect } })
}

#[derive(Serialize)]
struct Made<'a> {
    csr: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    key: Option<&'a Path>,
    new_key: bool,
}

fn read(ui: &Ui, config: Option<PathBuf>, args: &CsrReadArgs) -> ExitStatus {
    let context = match load_if_there(ui, config) {
        Ok(context) => context,
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
    match block_on(view_request(context.as_ref(), &bytes)) {
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
            if view.signature_valid == Some(false) || !view.differs.is_empty() {
                ExitStatus::NeedsAttention
            } else {
                ExitStatus::Well
            }
        }
    }
}

fn text(ui: &Ui, view: &RequestView) -> String {
    let fact = |name: &str, value: String, tone: Tone| vec![Cell::toned(name, Tone::Faint), Cell::toned(value, tone)];
    // RFC 4514 section 3 writes the short types large.
    let kind = |kind: &str| if kind.len() <= 2 { kind.to_ascii_uppercase() } else { kind.to_owned() };
    let subject: Vec<String> =
        view.subject.iter().map(|part| format!("{}={}", kind(&part.r#type), part.value)).collect();
    let subject = if subject.is_empty() { "empty: only the names count".to_owned() } else { subject.join(", ") };
    let names = if view.names.is_empty() {
        ("none: no authority accepts that today".to_owned(), Tone::Bad)
    } else {
        (view.names.join(" "), Tone::Strong)
    };
    let signature = match view.signature_valid {
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
    if !view.usages.is_empty() {
        rows.push(fact("key used for", words::list(&view.usages), Tone::Plain));
    }
    if !view.extensions.is_empty() {
        rows.push(fact("also asks for", words::list(&view.extensions), Tone::Plain));
    }
    match &view.ours {
        Some(OursView { certificate, generation }) => {
            rows.push(fact("our key", format!("that of generation {generation} of `{certificate}`"), Tone::Good));
            if view.differs.is_empty() {
                rows.push(fact("inventory", "wants just these names".into(), Tone::Good));
            }
        }
        None => rows.push(fact("our key", "none that is known here".into(), Tone::Plain)),
    }
    for difference in &view.differs {
        rows.push(fact("differs", difference.clone(), Tone::Notice));
    }
    draw(&["", ""], &rows, ui.page())
}
