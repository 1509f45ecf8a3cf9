//! The program: reads the command line, calls one use case, prints.

mod args;
mod bar;
mod commands;
mod errors;
mod guide;
mod table;
mod ui;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let args = args::Args::parse();
    ui::ExitStatus::code(commands::run(args))
}
