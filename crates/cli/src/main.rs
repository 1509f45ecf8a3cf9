//! The program `eskort`.

use mimalloc::MiMalloc;
use std::process::ExitCode;

/// Takes less time than the system's where much is read. Without the system's huge pages: they doubled its memory (docs/performance.md).
#[global_allocator]
static MEMORY: MiMalloc = MiMalloc;

fn main() -> ExitCode {
    eskort::run()
}
