//! Runs a program of a server or of the administrator: in a process group of its own, with few variables of the environment,
//! and with an end to its time and to what it says.

use crate::obeyed::{self, check_program};
use crate::trust::TrustError;
use eskort_core::boxed;
use eskort_core::inventory::ProgramRules;
use eskort_core::words::printable;
use nix::sys::signal::{Signal, killpg};
use nix::unistd::{Pid, User};
use std::path::Path;
use std::process::{ExitStatus, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWriteExt};
use tokio::process::Child;

/// The variables of the environment that every program gets.
const ALWAYS: &[&str] = &["PATH", "HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "TZ", "TMPDIR"];
/// A program that is told to end has so long to come to a good end.
const GRACE: Duration = Duration::from_secs(3);
/// How long what a program said is waited for once it has ended: what it left running may hold its pipes open.
const LAST_WORDS: Duration = Duration::from_secs(1);
/// Of what a program says so many bytes are kept, the last ones.
const MOST_SAID: usize = 16 * 1024;
const MOST_PRINTED: usize = 4 << 20;

/// Why a command did not do its work.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum CommandError {
    /// It could not be started.
    #[error("cannot run `{command}`: {source}")]
    Start {
        /// The command line.
        command: String,
        /// Why.
        source: std::io::Error,
    },
    /// The user that it is to run as.
    #[error("cannot run `{command}` as `{user}`: no such user exists on this machine")]
    NoSuchUser {
        /// The command line.
        command: String,
        /// The user's name.
        user: String,
    },
    /// Somebody else may change it.
    #[error("`{command}` is not run: {}", obeyed::words(error))]
    Untrusted {
        /// The command line.
        command: String,
        /// Who may.
        error: Box<TrustError>,
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
    #[error("`{command}` had not ended after {}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    Endless {
        /// The command line.
        command: String,
        /// How long was waited.
        after: Duration,
    },
}

impl CommandError {
    /// Returns whether the program did not even begin.
    pub fn never_began(&self) -> bool {
        match self {
            CommandError::Start { .. } | CommandError::NoSuchUser { .. } | CommandError::Untrusted { .. } => true,
            CommandError::Failed { .. } | CommandError::Endless { .. } => false,
        }
    }
}

/// A program that is told to end when nobody waits for it any more: first politely, and after a while for good.
struct Running {
    child: Child,
    group: Option<Pid>,
}

impl Running {
    fn tell(&self, signal: Signal) {
        if let Some(group) = self.group {
            let _ = killpg(group, signal);
        }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if !matches!(self.child.try_wait(), Ok(None)) {
            return;
        }
        self.tell(Signal::SIGTERM);
        let begun = Instant::now();
        while begun.elapsed() < GRACE {
            if !matches!(self.child.try_wait(), Ok(None)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        self.tell(Signal::SIGKILL);
        let _ = self.child.try_wait();
    }
}

/// The last of what a program said.
#[derive(Clone)]
struct Said {
    bytes: Arc<Mutex<Vec<u8>>>,
    most: usize,
}

impl Said {
    fn at_most(most: usize) -> Self {
        Said { bytes: Arc::default(), most }
    }

    fn text(&self) -> String {
        String::from_utf8_lossy(&self.bytes.lock().expect("no holder panics")).trim().to_owned()
    }

    async fn listen(self, from: Option<impl AsyncRead + Unpin>) {
        let Some(mut from) = from else { return };
        let mut buffer = [0; 4096];
        while let Ok(read @ 1..) = from.read(&mut buffer).await {
            let mut said = self.bytes.lock().expect("no holder panics");
            said.extend_from_slice(&buffer[..read]);
            let over = said.len().saturating_sub(self.most);
            said.drain(..over);
        }
    }
}

/// Runs a command that reads `input` from its standard input, waits for its end, and returns the last 4 MiB of what it printed.
///
/// # Errors
/// [`CommandError`]: when it cannot be started, ends badly, or does not end.
///
/// # Panics
/// Only when another holder of a lock has panicked.
#[boxed]
pub async fn run(words: &[String], folder: &Path, rules: &ProgramRules, input: &[u8]) -> Result<Vec<u8>, CommandError> {
    let line = words.join(" ");
    let Some((program, arguments)) = words.split_first() else { return Ok(Vec::new()) };
    let start = |source| CommandError::Start { command: line.clone(), source };
    check_program(program, folder)
        .map_err(|error| CommandError::Untrusted { command: line.clone(), error: Box::new(error) })?;
    let mut command = tokio::process::Command::new(program);
    command.args(arguments).current_dir(folder).process_group(0).env_clear();
    let given = rules.environment.iter().map(String::as_str);
    for name in ALWAYS.iter().copied().chain(given) {
        if let Some(value) = std::env::var_os(name) {
            command.env(name, value);
        }
    }
    if let Some(name) = &rules.user {
        let missing = || CommandError::NoSuchUser { command: line.clone(), user: name.clone() };
        let user = User::from_name(name).ok().flatten().ok_or_else(missing)?;
        command.env("HOME", &user.dir).env("USER", name).env("LOGNAME", name);
        // Who is that user already need not become it, and may not.
        if user.uid != nix::unistd::geteuid() {
            command.uid(user.uid.as_raw()).gid(user.gid.as_raw());
        }
    }
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let child = command.spawn().map_err(start)?;
    let group = child.id().and_then(|id| i32::try_from(id).ok()).map(Pid::from_raw);
    let mut running = Running { child, group };
    let (out, err) = (Said::at_most(MOST_PRINTED), Said::at_most(MOST_SAID));
    let mut listeners = tokio::task::JoinSet::new();
    listeners.spawn(out.clone().listen(running.child.stdout.take()));
    listeners.spawn(err.clone().listen(running.child.stderr.take()));
    let stdin = running.child.stdin.take();
    let work = async {
        let tell = async {
            if let Some(mut stdin) = stdin {
                // A command that reads nothing has closed its end: its exit status says whether that was right.
                let _ = stdin.write_all(input).await;
            }
        };
        let mut tell = std::pin::pin!(tell);
        let mut asked = false;
        loop {
            tokio::select! {
                ended = running.child.wait() => return ended,
                () = &mut tell, if !asked => asked = true,
            }
        }
    };
    let status: ExitStatus = match tokio::time::timeout(rules.timeout, work).await {
        Err(_) => return Err(CommandError::Endless { command: line, after: rules.timeout }),
        Ok(ended) => ended.map_err(start)?,
    };
    let _ = tokio::time::timeout(LAST_WORDS, async { while listeners.join_next().await.is_some() {} }).await;
    if status.success() {
        return Ok(std::mem::take(&mut *out.bytes.lock().expect("no holder panics")));
    }
    let text = if err.text().is_empty() { out.text() } else { err.text() };
    let lines: Vec<&str> = text.lines().collect();
    let last = lines[lines.len().saturating_sub(4)..].join(" ");
    let (code, status) = (status.code(), status.to_string());
    Err(CommandError::Failed { command: line, code, status, said: printable(&last, 600) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sh(script: &str, rules: &ProgramRules) -> Result<(), CommandError> {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let words = ["sh".into(), "-c".into(), script.into()];
        runtime.block_on(run(&words, Path::new("/"), rules, b"")).map(drop)
    }

    #[test]
    fn what_a_program_leaves_running_does_not_hold_it_up() {
        let begun = Instant::now();
        sh("sleep 30 & exit 0", &ProgramRules::default()).unwrap();
        let said = sh("sleep 30 & echo gone >&2; exit 3", &ProgramRules::default()).unwrap_err().to_string();
        assert!(said.contains("exit status: 3: gone") && begun.elapsed() < Duration::from_secs(20), "{said}");
    }

    #[test]
    fn a_program_gets_few_variables_and_has_an_end() {
        let rules = ProgramRules { timeout: Duration::from_millis(300), ..ProgramRules::default() };
        let dir = tempfile::tempdir().unwrap();
        let mark = dir.path().join("ended");
        let script = format!("trap 'touch {}; exit' TERM; sleep 30 & wait", mark.display());
        let said = sh(&script, &rules).unwrap_err().to_string();
        assert!(said.contains("had not ended after"), "{said}");
        assert!(mark.exists(), "it was told to end before it was ended");
        // The test runner's own environment has this one.
        assert!(std::env::var_os("CARGO_MANIFEST_DIR").is_some());
        sh("test -z \"$CARGO_MANIFEST_DIR\" && test -n \"$PATH\"", &ProgramRules::default()).unwrap();
        let rules = ProgramRules { environment: vec!["CARGO_MANIFEST_DIR".into()], ..ProgramRules::default() };
        sh("test -n \"$CARGO_MANIFEST_DIR\"", &rules).unwrap();
        let said = sh("i=0; while [ $i -lt 20000 ]; do echo lamp $i; i=$((i+1)); done; exit 1", &rules).unwrap_err();
        assert!(said.to_string().contains("lamp 19999"), "{said}");
        let rules = ProgramRules { user: Some("nobody-at-lampholm".into()), ..ProgramRules::default() };
        assert!(sh("true", &rules).unwrap_err().never_began());
    }
}
