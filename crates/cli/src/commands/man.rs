//! `eskort man` and `eskort completions`: what the command line is, for `man`, for shells and as a document.

use crate::args::{Args, ManArgs};
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::texts::reference;
use crate::ui::Ui;
use clap::{Command, CommandFactory};
use clap_complete::Shell;
use std::io;
use std::path::Path;

pub(crate) fn run(ui: &Ui, args: &ManArgs) -> ExitStatus {
    let mut program = Args::command();
    program.build();
    if args.reference {
        ui.result(&reference::markdown(&program));
        return ExitStatus::Well;
    }
    if let Some(folder) = &args.to {
        return match write_all(&program, folder) {
            Ok(count) => {
                ui.talk(&format!("{count} pages are in {}", folder.display()));
                ExitStatus::Well
            }
            Err(error) => cannot(ui, &format!("cannot write into {}", folder.display()), &error),
        };
    }
    let mut named = &program;
    for word in &args.command {
        match named.find_subcommand(word) {
            Some(found) => named = found,
            None => {
                let text = ErrorText::coded("no-such-command", "").hint("`eskort --help` lists all commands");
                errors::print(ui, &format!("`{}` is no command", args.command.join(" ")), &text);
                return ExitStatus::Usage;
            }
        }
    }
    match page(named) {
        Ok(page) => {
            ui.result(&page);
            ExitStatus::Well
        }
        Err(error) => cannot(ui, "cannot make the page", &error),
    }
}

pub(crate) fn complete(ui: &Ui, shell: Shell) -> ExitStatus {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Args::command(), "eskort", &mut script);
    ui.result(&String::from_utf8_lossy(&script));
    ExitStatus::Well
}

fn cannot(ui: &Ui, what: &str, error: &io::Error) -> ExitStatus {
    errors::print(ui, what, &ErrorText::coded("man", error.to_string()));
    ExitStatus::Failed
}

/// Returns the name of a command's page: `eskort-csr-make`.
fn page_name(command: &Command) -> String {
    command.get_display_name().unwrap_or_else(|| command.get_name()).to_owned()
}

fn page(command: &Command) -> io::Result<String> {
    let mut bytes = Vec::new();
    let source = concat!("eskort ", env!("CARGO_PKG_VERSION"));
    clap_mangen::Man::new(command.clone()).title(page_name(command)).source(source).render(&mut bytes)?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// Writes a page for each command, and returns how many they are.
fn write_all(command: &Command, folder: &Path) -> io::Result<usize> {
    std::fs::create_dir_all(folder)?;
    std::fs::write(folder.join(format!("{}.1", page_name(command))), page(command)?)?;
    command.get_subcommands().try_fold(1, |count, below| Ok(count + write_all(below, folder)?))
}
