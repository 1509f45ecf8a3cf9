//! Runs a command of a server or of the administrator.

use eskort_core::words::printable;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

const LONGEST: Duration = Duration::from_secs(120);

/// Why a command did not do its work.
#[derive(Debug, thiserror::Error)]
pub enum CommandError {
    /// It could not be started.
    #[error("cannot run `{command}`: {source}")]
    Start {
        /// The command line.
        command: String,
        /// Why.
        source: std::io::Error,
    },
    /// It ended badly.
    #[error("`{command}` ended with {status}{}", if said.is_empty() { String::new() } else { format!(": {said}") })]
    Failed {
        /// The command line.
        command: String,
        /// Its exit status, in words.
        status: String,
        /// The last of what it said, tamed.
        said: String,
    },
    /// It did not end.
    #[error("`{command}` had not ended after 2 minutes")]
    Endless {
        /// The command line.
        command: String,
    },
}

/// Runs a command in a folder and waits for its end.
pub(crate) async fn run(words: &[String], folder: &Path) -> Result<(), CommandError> {
    let command = words.join(" ");
    let Some((program, arguments)) = words.split_first() else { return Ok(()) };
    let start = tokio::process::Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .kill_on_drop(true)
        .output();
    let output = match tokio::time::timeout(LONGEST, start).await {
        Err(_) => return Err(CommandError::Endless { command }),
        Ok(Err(source)) => return Err(CommandError::Start { command, source }),
        Ok(Ok(output)) => output,
    };
    if output.status.success() {
        return Ok(());
    }
    let text = String::from_utf8_lossy(&output.stderr);
    let text = if text.trim().is_empty() { String::from_utf8_lossy(&output.stdout) } else { text };
    let lines: Vec<&str> = text.trim().lines().collect();
    let last = lines[lines.len().saturating_sub(4)..].join(" ");
    Err(CommandError::Failed { command, status: output.status.to_string(), said: printable(&last, 600) })
}
