//! An error in words: what came back, and what to do next.

use serde::Serialize;

/// An error in words.
#[derive(Clone, Debug, Default, Serialize)]
pub(crate) struct ErrorText {
    /// What kind of error it is, in a word that stays the same.
    pub(crate) code: &'static str,
    /// What came back.
    pub(crate) cause: String,
    /// What to do next.
    pub(crate) hints: Vec<String>,
}

impl ErrorText {
    /// Tells an error of a kind that has its own code.
    pub(crate) fn new<'e, E: ToString>(error: &'e E) -> Self
    where
        &'e E: Into<&'static str>,
    {
        ErrorText::coded(error.into(), error.to_string())
    }

    /// Tells what went wrong under a code.
    pub(crate) fn coded(code: &'static str, cause: impl Into<String>) -> Self {
        ErrorText { code, cause: cause.into(), hints: Vec::new() }
    }

    /// Returns it in one line.
    pub(crate) fn in_one_line(&self) -> String {
        let hints: String = self.hints.iter().map(|hint| format!(" ({hint})")).collect();
        format!("{}{hints}", self.cause).split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// Adds what to do next.
    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }
}
