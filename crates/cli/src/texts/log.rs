//! Facts of a run for logs, a line or an entry each.

use clap::ValueEnum;
use eskort_core::journey::Milestone;
use eskort_core::progress::{FileChange, Progress};
use eskort_core::words;
use eskort_notify::write_to_journal;
use jiff::Timestamp;
use serde::Serialize;

/// In which form a run tells how it goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogFormat {
    /// For people
    Text,
    /// A JSON object on each line of standard error, for collectors
    Json,
    /// Entries with fields of their own in systemd's journal
    Journal,
}

/// Something that a run tells.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub(crate) struct Fact {
    /// When.
    pub(crate) at: Timestamp,
    /// How urgent it is (RFC 5424 section 6.2.1): 3 an error, 5 a notice, 6 for information.
    pub(crate) priority: u8,
    /// What kind of fact.
    pub(crate) fact: &'static str,
    /// The certificate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) certificate: Option<String>,
    /// It in a sentence.
    pub(crate) text: String,
    /// What kind of error, in a word that stays the same.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) code: Option<&'static str>,
}

impl Fact {
    /// Makes a fact of what is told of work under way; what only moves on a terminal is none.
    pub(crate) fn of(about: Option<&str>, progress: &Progress, at: Timestamp) -> Option<Self> {
        let (fact, priority, text) = match progress {
            Progress::Certificate { decision, .. } if decision.acts() => ("begins", 6, decision.words()),
            Progress::Passed { milestone, detail } => {
                let priority = if *milestone == Milestone::Issued { 5 } else { 6 };
                ("passed", priority, format!("{milestone}: {detail}"))
            }
            Progress::Change { host, path, how } => {
                let verb = if matches!(how, FileChange::Whole(_)) { "writes" } else { "changes" };
                let there = host.as_ref().map(|host| format!(" on host `{host}`")).unwrap_or_default();
                ("file", 6, format!("{verb} {}{there}", path.display()))
            }
            Progress::Note(text) => ("note", 5, text.clone()),
            _ => return None,
        };
        let certificate = about.map(str::to_owned);
        Some(Fact { at, priority, fact, certificate, text: words::printable(&text, 1000), code: None })
    }

    /// Returns it as a line.
    pub(crate) fn line(&self) -> String {
        let about = self.certificate.as_ref().map(|name| format!("{name}: ")).unwrap_or_default();
        format!("{about}{}", self.text)
    }

    /// Writes it into systemd's journal; returns whether there is one that took it.
    pub(crate) fn to_journal(&self) -> bool {
        let (line, priority) = (self.line(), self.priority.to_string());
        let mut fields = vec![
            ("MESSAGE", line.as_str()),
            ("PRIORITY", &priority),
            ("SYSLOG_IDENTIFIER", "eskort"),
            ("ESKORT_FACT", self.fact),
        ];
        fields.extend(self.certificate.as_deref().map(|name| ("ESKORT_CERTIFICATE", name)));
        fields.extend(self.code.map(|code| ("ESKORT_CODE", code)));
        write_to_journal(&fields).is_ok()
    }
}
