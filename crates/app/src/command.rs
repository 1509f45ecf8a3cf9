//! Runs a command of a server or of the administrator.

use eskort_core::words::printable;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncWriteExt;

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
        /// Its exit code, unless a signal ended it.
        code: Option<i32>,
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
    run_with_input(words, folder, b"").await
}

/// Runs a command that reads `input` from its standard input.
pub(crate) async fn run_with_input(words: &[String], folder: &Path, input: &[u8]) -> Result<(), CommandError> {
    let command = words.join(" ");
    let Some((program, arguments)) = words.split_first() else { return Ok(()) };
    let start = |source| CommandError::Start { command: command.clone(), source };
    let mut child = tokio::process::Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .map_err(start)?;
    let mut stdin = child.stdin.take();
    let talk = async {
        if let Some(stdin) = &mut stdin {
            // A command that reads nothing has closed its end: its exit status says whether that was right.
            let _ = stdin.write_all(input).await;
        }
        drop(stdin);
        child.wait_with_output().await
    };
    let output = match tokio::time::timeout(LONGEST, talk).await {
        Err(_) => return Err(CommandError::Endless { command }),
        Ok(ended) => ended.map_err(start)?,
    };
    if output.status.success() {
        return Ok(());
    }
    let text = String::from_utf8_lossy(&output.stderr);
    let text = if text.trim().is_empty() { String::from_utf8_lossy(&output.stdout) } else { text };
    let lines: Vec<&str> = text.trim().lines().collect();
    let last = lines[lines.len().saturating_sub(4)..].join(" ");
    let (code, status) = (output.status.code(), output.status.to_string());
    Err(CommandError::Failed { command, code, status, said: printable(&last, 600) })
}
