//! `eskort add`

mod ask;

use super::survey::{named, unknown_kind};
use super::{block_on, keep, load, usual_inventory, without_inventory};
use crate::args::{AddArgs, KeepArgs};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password::on_terminal;
use crate::ui::Ui;
use eskort_app::{AddError, AddOptions, Added, plan_addition, write_addition};
use eskort_core::context::Context;
use eskort_core::words;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// So often it is tried again where others change the inventory at the same time.
const TRIES: u32 = 50;

pub(crate) fn run(ui: &Ui, config: Option<PathBuf>, args: AddArgs) -> ExitStatus {
    let path = usual_inventory(config.clone());
    let path = std::path::absolute(&path).unwrap_or(path);
    let files = match named(&args.survey, &[]) {
        Ok(files) => files,
        Err(path) => return unknown_kind(ui, &path),
    };
    let options = AddOptions {
        names: args.names,
        site: args.site,
        certificate: args.certificate,
        authority: args.authority,
        directory: args.directory,
        accept_terms: args.accept_terms,
        contact: args.contact,
        proof: args.proof,
        folder: args.folder,
        listener: args.listener,
        servers: args.server,
        files,
        insist: args.insist,
    };
    let context = without_inventory(ui);
    // Who says what to add is asked nothing.
    let asks = options.names.is_empty() && options.site.is_none() && !ui.is_json() && on_terminal();
    let wanted = match asks {
        true => match ask::choose(&context, &options) {
            Ok(Some(wanted)) => wanted,
            Ok(None) => return ExitStatus::Well,
            Err(error) => return cannot_ask(ui, &error),
        },
        false => vec![options],
    };
    let mut certificates = Vec::new();
    for options in wanted {
        match add_one(ui, &context, &path, options, (asks, args.plan)) {
            Ok(Some(added)) => {
                match asks && !args.plan {
                    // It was shown before it was written.
                    true => ui.result(&format!("Written to {}.", path.display())),
                    false => print(ui, &added, !args.plan, args.go),
                }
                certificates.push(added.certificate);
            }
            Ok(None) => {}
            Err(status) => return status,
        }
    }
    if certificates.is_empty() || args.plan || !(args.go || asks) {
        return ExitStatus::Well;
    }
    let context = match load(ui, config) {
        Ok(context) => context,
        Err(status) => return status,
    };
    if !args.go {
        match ask::goes_on(ui, &context, &certificates) {
            Ok(true) => {}
            Ok(false) => return ExitStatus::Well,
            Err(error) => return cannot_ask(ui, &error),
        }
    }
    keep::run(ui, &context, KeepArgs { only: certificates, ..KeepArgs::default() })
}

/// Adds one certificate; `None` when somebody who was asked thought better of it.
fn add_one(
    ui: &Ui,
    context: &Context,
    path: &Path,
    mut options: AddOptions,
    (asks, plan): (bool, bool),
) -> Result<Option<Added>, ExitStatus> {
    let (mut tries, mut agreed) = (0, !asks);
    loop {
        tries += 1;
        let written = block_on(plan_addition(context, path, &options)).and_then(|added| {
            if plan {
                return Ok(Some(added));
            }
            if !agreed {
                print(ui, &added, false, false);
                agreed = ask::agrees("Write this?", true);
            }
            if !agreed {
                return Ok(None);
            }
            write_addition(&added).map(|()| Some(added))
        });
        match written {
            Ok(added) => return Ok(added),
            // Somebody else has added something: it is taken into account.
            Err(AddError::Changed { .. }) if tries < TRIES => {}
            Err(AddError::NoAuthority) if asks && options.directory.is_none() => {
                ask::for_authority(&mut options).map_err(|error| cannot_ask(ui, &error))?;
            }
            Err(error) => return Err(refuse(ui, path, &error)),
        }
    }
}

fn cannot_ask(ui: &Ui, error: &std::io::Error) -> ExitStatus {
    let text = ErrorText::coded("terminal", error.to_string()).hint("options say the same: `eskort add --help`");
    errors::print(ui, "nothing more can be asked on this terminal", &text);
    ExitStatus::Failed
}

/// Prints what was added, or would be.
pub(crate) fn print(ui: &Ui, added: &Added, written: bool, goes_on: bool) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct Report<'a> {
            #[serde(flatten)]
            added: &'a Added,
            written: bool,
        }
        // With `--go` the one document is that of `keep`.
        if !goes_on {
            ui.json("add", &Report { added, written });
        }
        return;
    }
    let path = added.inventory.display();
    let what = match (written, added.is_new) {
        (true, true) => format!("{path} is new, and begins with"),
        (true, false) => format!("added to {path}"),
        (false, true) => format!("{path} would be new, and begin with"),
        (false, false) => format!("would be added to {path}"),
    };
    ui.result(&format!("{}\n", Tone::Strong.paint(&what)));
    for line in added.lines.lines() {
        ui.result(&if line.is_empty() { String::new() } else { Tone::Good.paint(&format!("  + {line}")) });
    }
    if !added.advice.is_empty() {
        ui.result("");
    }
    for advice in &added.advice {
        ui.result_wrapped("  note: ", &format!("{} ({})", advice.text, advice.why));
    }
    if written && !goes_on {
        let name = &added.certificate;
        ui.result(&format!(
            "\nNext: `eskort rehearse {name}` tries it without an order, `eskort keep --only {name}` does it."
        ));
    }
}

fn refuse(ui: &Ui, path: &Path, error: &AddError) -> ExitStatus {
    let text = ErrorText::coded(error.into(), error.to_string());
    let headline = format!("nothing was added to {}", path.display());
    let (text, status) = match error {
        AddError::Setup(error) => return errors::print_setup(ui, error),
        AddError::NoNames => (text.hint("name what the certificate is for: `eskort add www.lampholm.example`; on a terminal `eskort add` alone lets you choose"), ExitStatus::Usage),
        AddError::NoSite { .. } => (
            text.hint("`eskort survey` lists the sites; `--survey MAIN-FILE` names a server that is in no usual place"),
            ExitStatus::Usage,
        ),
        AddError::Name { .. } => (text, ExitStatus::Usage),
        AddError::Entry { exists: true, .. } => (text.hint("choose another name for the new one"), ExitStatus::Usage),
        AddError::Entry { known, .. } if known.is_empty() => (text.hint("it has none yet"), ExitStatus::Usage),
        AddError::Entry { known, .. } => (text.hint(format!("it has {}", words::list(known))), ExitStatus::Usage),
        AddError::NoAuthority => (
            text.hint("name your authority's directory: `--directory https://ca.example/directory --accept-terms --contact MAIL`"),
            ExitStatus::Usage,
        ),
        AddError::SeveralAuthorities { known } => {
            (text.hint(format!("choose one with `--authority`: it has {}", words::list(known))), ExitStatus::Usage)
        }
        AddError::NoProof { over_dns: true, .. } => (
            text.hint("write a [proof.NAME] over DNS into the inventory: a dynamic update, an HTTP API, a program, or by hand (docs/inventory.md)"),
            ExitStatus::Usage,
        ),
        AddError::NoProof { .. } => (
            text.hint("`--folder FOLDER` names the folder that the site is served from")
                .hint("`--listener` lets Eskort answer on port 80 itself, where no web server does")
                .hint("`--proof NAME` takes one that the inventory has (docs/inventory.md: records in the zone, by hand, and others)"),
            ExitStatus::Usage,
        ),
        AddError::Io { .. } => (text, ExitStatus::Failed),
        AddError::Changed { .. } => (text.hint("run the same again"), ExitStatus::Failed),
    };
    errors::print(ui, &headline, &text);
    status
}
