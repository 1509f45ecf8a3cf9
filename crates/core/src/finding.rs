//! What a look at a live endpoint or a configuration brings up.

use serde::Serialize;

/// What was looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Topic {
    /// Whether the endpoint can be reached.
    Reach,
    /// The names on the certificate.
    Names,
    /// Its dates.
    Dates,
    /// What is sent with it.
    Chain,
    /// Whether visitors trust it.
    Trust,
    /// Keys and signatures.
    Strength,
    /// Whether it was revoked, and what is stapled.
    Revocation,
    /// Whether it is the one that was installed.
    Installed,
    /// The version of TLS.
    Protocol,
    /// The private key: whether it fits, and who may read it.
    Key,
    /// The timer that renews.
    Timer,
    /// The records that name its key.
    Tlsa,
    /// Cipher suites.
    Ciphers,
    /// How a key is agreed on.
    Exchange,
    /// What is resumed, renegotiated and compressed.
    Sessions,
    /// What is shown to who asks for no name, or for one that nobody has.
    OtherNames,
    /// Where visitors over http are sent.
    Redirect,
    /// What a page says of transport security: HSTS, cookies.
    Headers,
    /// What a page loads over http.
    MixedContent,
    /// Whether it was logged for all to see.
    Transparency,
    /// What the domain says: who may issue, and whether its zone is signed.
    Domain,
}

impl Topic {
    /// Returns the word for it.
    pub fn word(self) -> &'static str {
        match self {
            Topic::Reach => "reach",
            Topic::Names => "names",
            Topic::Dates => "dates",
            Topic::Chain => "chain",
            Topic::Trust => "trust",
            Topic::Strength => "strength",
            Topic::Revocation => "revocation",
            Topic::Installed => "installed",
            Topic::Protocol => "protocol",
            Topic::Key => "key",
            Topic::Timer => "timer",
            Topic::Tlsa => "tlsa",
            Topic::Ciphers => "ciphers",
            Topic::Exchange => "exchange",
            Topic::Sessions => "sessions",
            Topic::OtherNames => "other-names",
            Topic::Redirect => "redirect",
            Topic::Headers => "headers",
            Topic::MixedContent => "mixed-content",
            Topic::Transparency => "transparency",
            Topic::Domain => "domain",
        }
    }
}

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// As it should be.
    Good,
    /// All is well, and could be better.
    Better,
    /// Worth knowing; nothing is broken.
    Notice,
    /// Visitors are, or soon will be, turned away.
    Bad,
}

/// One thing that was found, in words for people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// How much it matters.
    pub severity: Severity,
    /// What it is, in a word that stays the same; the topic where it is as it should be.
    pub code: &'static str,
    /// What was looked at.
    pub topic: Topic,
    /// What was seen.
    pub text: String,
    /// What to do about it, when there is something to do.
    pub advice: Option<String>,
}

impl Finding {
    /// Makes a finding without advice.
    pub fn new(severity: Severity, topic: Topic, text: impl Into<String>) -> Self {
        Finding { severity, code: topic.word(), topic, text: text.into(), advice: None }
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
