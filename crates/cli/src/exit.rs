//! Exit codes.

use std::process::ExitCode;

/// How the program ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum ExitStatus {
    Well,
    NeedsAttention,
    AwaitsPerson,
    Busy,
    Failed,
    Usage,
    Bug,
    /// Of a monitoring plug-in.
    Warning,
    /// Of a monitoring plug-in.
    Critical,
}

impl ExitStatus {
    pub(crate) fn code(self) -> ExitCode {
        ExitCode::from(self.number())
    }

    /// Returns the exit code as a number.
    pub(crate) fn number(self) -> u8 {
        match self {
            ExitStatus::Well => 0,
            ExitStatus::Failed | ExitStatus::Warning => 1,
            ExitStatus::Usage | ExitStatus::Critical => 2,
            ExitStatus::AwaitsPerson => 3,
            ExitStatus::NeedsAttention => 4,
            ExitStatus::Busy => 5,
            ExitStatus::Bug => 70,
        }
    }
}
