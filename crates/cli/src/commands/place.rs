//! `eskort place`

use super::block_on;
use crate::args::PlaceArgs;
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{FileToPlace, StepError};
use eskort_core::context::Context;
use eskort_core::names::Identifier;
use eskort_core::words;
use eskort_prove::ProofError;
use serde::Serialize;
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};

/// What authorities want to see is a line or two.
const LARGEST: u64 = 64 * 1024;

pub(crate) fn run(ui: &Ui, context: &Context, args: &PlaceArgs) -> ExitStatus {
    if args.remove {
        return remove(ui, context, &args.proof);
    }
    let file = match file(ui, args) {
        Ok(file) => file,
        Err(text) => {
            errors::print(ui, "nothing was placed", &text);
            return ExitStatus::Usage;
        }
    };
    let placed = block_on(eskort_app::place(context, &args.proof, &file));
    ui.settle();
    match placed {
        Err(error) => failed(ui, &args.proof, &error),
        Ok(seen) => {
            if ui.is_json() {
                ui.json("place", &Placed { seen: &seen });
                return ExitStatus::Well;
            }
            for url in &seen {
                ui.result(&format!("{}  {url}", Tone::Good.paint("seen")));
            }
            ui.result(&format!(
                "It stays there until `eskort place {} --remove`. Tell the authority now that it may look.",
                args.proof
            ));
            ExitStatus::Well
        }
    }
}

#[derive(Serialize)]
struct Placed<'a> {
    seen: &'a [String],
}

#[derive(Serialize)]
struct Removed<'a> {
    removed: &'a [PathBuf],
    left: usize,
}

fn remove(ui: &Ui, context: &Context, proof: &str) -> ExitStatus {
    let taken = block_on(eskort_app::take_back(context, proof));
    ui.settle();
    let (removed, left) = match taken {
        Err(error) => return failed(ui, proof, &error),
        Ok(taken) => taken,
    };
    if ui.is_json() {
        ui.json("place", &Removed { removed: &removed, left });
    } else {
        for path in &removed {
            ui.result(&format!("removed  {}", path.display()));
        }
        if removed.is_empty() && left == 0 {
            ui.result(&format!("Nothing is placed for proof `{proof}`."));
        }
    }
    if left > 0 { ExitStatus::Failed } else { ExitStatus::Well }
}

fn failed(ui: &Ui, proof: &str, error: &StepError) -> ExitStatus {
    if let StepError::Store(error) = error {
        return errors::print_store(ui, error);
    }
    let text = match error {
        StepError::Proof(ProofError::NotVisible { name, seen, .. }) => {
            let again = format!("the file stays where it is; `eskort place {proof} --remove` removes it");
            errors::tell_not_visible(name, seen).hint(again)
        }
        StepError::Proof(error) => errors::tell_proof(error),
        other => ErrorText::coded(other.into(), other.to_string()),
    };
    errors::print(ui, "the file cannot be seen on the site", &text);
    ExitStatus::Failed
}

fn file(ui: &Ui, args: &PlaceArgs) -> Result<FileToPlace, ErrorText> {
    let usage = |cause: String, hint: &str| ErrorText::coded("usage", cause).hint(hint);
    let mut names = Vec::new();
    for text in &args.names {
        let name =
            Identifier::parse(text).map_err(|e| usage(e.to_string(), "--at wants a name like www.lampholm.example"))?;
        // An authority looks at the name itself.
        names.push(name.without_wildcard());
    }
    Ok(FileToPlace { path: args.path.clone().unwrap_or_default(), bytes: read_small(ui, &args.from)?, names })
}

/// Reads what an authority wants to see from a file, or from standard input.
pub(super) fn read_small(ui: &Ui, source: &Path) -> Result<Vec<u8>, ErrorText> {
    let usage = |cause: String, hint: &str| ErrorText::coded("usage", cause).hint(hint);
    let mut bytes = Vec::new();
    let read = if source == Path::new("-") {
        if std::io::stdin().is_terminal() {
            ui.talk("Paste the text of the file, then press Ctrl-D:");
        }
        std::io::stdin().take(LARGEST + 1).read_to_end(&mut bytes)
    } else {
        std::fs::File::open(source).and_then(|file| file.take(LARGEST + 1).read_to_end(&mut bytes))
    };
    let length = read.map_err(|e| usage(format!("cannot read {}: {e}", source.display()), "--from names the file"))?;
    if length == 0 || bytes.len() as u64 > LARGEST {
        let is = if length == 0 { "nothing in it" } else { "it is larger than any validation file" };
        let what = words::printable(&source.display().to_string(), 200);
        return Err(usage(
            format!("{what}: there is {is}"),
            "save what the authority gave you, and name it with --from",
        ));
    }
    Ok(bytes)
}
