//! The program: reads the command line, calls one use case, prints.

mod args;
mod bar;
mod commands;
mod errand;
mod errors;
mod guide;
mod password;
mod table;
mod ui;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    std::panic::set_hook(Box::new(|panic| ui::say_bug(&panic.to_string())));
    let run = || {
        ui::ExitStatus::code(match args::Args::try_parse() {
            Ok(args) => commands::run(args),
            Err(error) => commands::refuse(&error),
        })
    };
    std::panic::catch_unwind(run).unwrap_or_else(|_| ui::ExitStatus::Bug.code())
}
