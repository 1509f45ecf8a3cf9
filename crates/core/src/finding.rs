//! What a look at a live endpoint or a configuration brings up.

use serde::Serialize;

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// As it should be.
    Good,
    /// Worth knowing; nothing is broken.
    Notice,
    /// Visitors are, or soon will be, turned away.
    Bad,
}

/// One thing that was found, in words for people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// How much it matters.
    pub weight: Weight,
    /// What it is, in a word that stays the same; the topic where it is as it should be.
    pub code: &'static str,
    /// What was looked at: `chain`, `trust`, `names`, `dates`, `installed`, …
    pub topic: &'static str,
    /// What was seen.
    pub text: String,
    /// What to do about it, when there is something to do.
    pub advice: Option<String>,
}

impl Finding {
    /// Makes a finding without advice.
    pub fn new(weight: Weight, topic: &'static str, text: impl Into<String>) -> Self {
        Finding { weight, code: topic, topic, text: text.into(), advice: None }
    }

    /// Gives it a word of its own.
    #[must_use]
    pub fn coded(mut self, code: &'static str) -> Self {
        self.code = code;
        self
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn with_advice(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }
}
