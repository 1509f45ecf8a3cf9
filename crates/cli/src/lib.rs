//! The program: reads the command line, calls one use case, prints. A library, so that it is built beside what it uses.

mod args;
mod commands;
mod draw;
mod error_text;
mod errors;
mod exit;
mod password;
mod texts;
mod ui;

use clap::Parser;
use std::process::ExitCode;

/// Runs the program, and returns how it ended.
pub fn run() -> ExitCode {
    std::panic::set_hook(Box::new(|panic| ui::say_bug(&panic.to_string())));
    let run = || {
        exit::ExitStatus::code(match args::Args::try_parse() {
            Ok(args) => commands::run(args),
            Err(error) => commands::refuse(&error),
        })
    };
    std::panic::catch_unwind(run).unwrap_or_else(|_| exit::ExitStatus::Bug.code())
}
