//! Passwords: from a file, from the environment, or asked for on a terminal; never from the command line.

use crate::ui::Ui;
use clap::Args;
use eskort_core::pki::Secret;
use std::io::IsTerminal;
use std::path::PathBuf;

/// How often a wrong password may be corrected.
const TRIES: usize = 3;

/// Where a password is.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct PasswordArgs {
    /// File with the password of a container or key; on a terminal it is asked for
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Variable of the environment with that password
    #[arg(long, value_name = "NAME", conflicts_with = "password_file")]
    password_env: Option<String>,
}

impl PasswordArgs {
    /// Takes them from elsewhere on the command line.
    pub(crate) fn new(password_file: Option<PathBuf>, password_env: Option<String>) -> Self {
        PasswordArgs { password_file, password_env }
    }

    /// Returns the password that was given, if one was; its file's last line end is no part of it.
    pub(crate) fn given(&self) -> Result<Option<Secret<String>>, String> {
        let text = match (&self.password_file, &self.password_env) {
            (Some(path), _) => {
                let text = std::fs::read_to_string(path);
                let text = text.map_err(|e| format!("cannot read the password in {}: {e}", path.display()))?;
                text.trim_end_matches(['\r', '\n']).to_owned()
            }
            (None, Some(name)) => std::env::var(name).map_err(|e| format!("cannot read the variable {name}: {e}"))?,
            (None, None) => return Ok(None),
        };
        if text.is_empty() { Err("the password is empty".into()) } else { Ok(Some(Secret::new(text))) }
    }

    /// Returns the password that was given, or a new one that is asked for twice on a terminal.
    pub(crate) fn given_or_new(&self, prompt: &str) -> Result<Option<Secret<String>>, String> {
        match self.given()? {
            None if on_terminal() => {
                let asked = dialoguer::Password::new().with_prompt(prompt);
                let asked = asked.with_confirmation("Repeat", "The two differ").interact();
                asked.map(|text| Some(Secret::new(text))).map_err(|e| e.to_string())
            }
            given => Ok(given),
        }
    }

    /// Does something that may want a password. On a terminal it is asked for when `wants` says so of an error, and again when
    /// it was wrong.
    pub(crate) fn open<T, E>(
        &self,
        wants: impl Fn(&E) -> bool,
        unreadable: impl Fn(String) -> E,
        mut open: impl FnMut(Option<&Secret<String>>) -> Result<T, E>,
    ) -> Result<T, E> {
        let mut password = self.given().map_err(&unreadable)?;
        for _ in 0..TRIES {
            match open(password.as_ref()) {
                Err(error) if wants(&error) && on_terminal() => {
                    let prompt = if password.is_none() { "Password" } else { "Wrong password; try again" };
                    let asked = dialoguer::Password::new().with_prompt(prompt).interact();
                    password = Some(Secret::new(asked.map_err(|e| unreadable(e.to_string()))?));
                }
                done => return done,
            }
        }
        open(password.as_ref())
    }
}

/// Asks a question on a terminal; without one the answer is no.
pub(crate) fn says_yes(ui: &Ui, question: &str) -> bool {
    if !on_terminal() {
        return false;
    }
    ui.settle();
    let asked = dialoguer::Input::<String>::new().with_prompt(question).allow_empty(true).interact_text();
    asked.is_ok_and(|answer| answer.trim() == "yes")
}

/// Whether somebody sits there who can answer a question.
pub(crate) fn on_terminal() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}
