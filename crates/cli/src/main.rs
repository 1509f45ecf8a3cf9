//! The program `eskort`.

use std::process::ExitCode;

fn main() -> ExitCode {
    eskort::run()
}
