//! Whom news of certificates is sent to.

use super::{ProgramRules, SecretSource};
use crate::news::NewsKind;
use std::path::PathBuf;
use std::time::Duration;

/// Somebody who is told what is new.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notify {
    /// How.
    pub kind: NotifyKind,
    /// Which kinds of news; nothing stands for all.
    pub wants: Vec<NewsKind>,
    /// How long a try to deliver may take.
    pub timeout: Duration,
}

/// The ways to tell somebody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotifyKind {
    /// By mail.
    Mail(MailNotify),
    /// By an HTTP request.
    Webhook(Webhook),
    /// By a program, which gets the message as JSON.
    Program {
        /// The program and its arguments.
        command: Vec<String>,
        /// How it is run.
        rules: ProgramRules,
    },
    /// In the machine's log.
    Log {
        /// Which.
        log: LogKind,
        /// Its socket; `None` for the usual one.
        socket: Option<PathBuf>,
    },
}

/// Mail, by a server that takes it over SMTP (RFC 5321).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MailNotify {
    /// To whom.
    pub to: Vec<String>,
    /// From whom.
    pub from: String,
    /// The server's name.
    pub server: String,
    /// Its port; `None` for the usual one.
    pub port: Option<u16>,
    /// How the connection is protected.
    pub tls: MailTls,
    /// User name and password (RFC 4954).
    pub login: Option<(String, SecretSource)>,
    /// PEM file with the roots that the server's certificate has to lead to; `None` for the system's.
    pub roots: Option<PathBuf>,
}

/// How a connection to a mail server is protected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MailTls {
    /// By TLS from the first byte (RFC 8314 section 3.3).
    FromTheStart,
    /// By STARTTLS (RFC 3207), or no mail is sent.
    StartTls,
    /// Not at all: for a server on this machine.
    None,
}

impl MailTls {
    /// The inventory's words.
    pub const WORDS: [(&'static str, MailTls); 3] =
        [("tls", MailTls::FromTheStart), ("starttls", MailTls::StartTls), ("none", MailTls::None)];

    /// Returns the usual port.
    pub fn port(self) -> u16 {
        match self {
            MailTls::FromTheStart => 465,
            MailTls::StartTls => 587,
            MailTls::None => 25,
        }
    }
}

/// An address that messages are posted to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Webhook {
    /// The address.
    pub address: String,
    /// What messages are signed with.
    pub secret: Option<SecretSource>,
    /// PEM file with the roots that the server's certificate has to lead to; `None` for the system's.
    pub roots: Option<PathBuf>,
}

/// The logs of a machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogKind {
    /// systemd's journal.
    Journal,
    /// Any syslog (RFC 3164).
    Syslog,
}

impl LogKind {
    /// The inventory's words.
    pub const WORDS: [(&'static str, LogKind); 2] = [("journal", LogKind::Journal), ("syslog", LogKind::Syslog)];
}

impl Notify {
    /// Returns the word for its kind.
    pub fn kind_word(&self) -> &'static str {
        match self.kind {
            NotifyKind::Mail(_) => "mail",
            NotifyKind::Webhook(_) => "webhook",
            NotifyKind::Program { .. } => "program",
            NotifyKind::Log { .. } => "log",
        }
    }

    /// Returns where it goes, in a few words.
    pub fn goes_to(&self) -> String {
        match &self.kind {
            NotifyKind::Mail(mail) => format!("{} by {}", mail.to.join(", "), mail.server),
            NotifyKind::Webhook(webhook) => webhook.address.clone(),
            NotifyKind::Program { command, .. } => command.join(" "),
            NotifyKind::Log { log, .. } => {
                let word = LogKind::WORDS.iter().find(|(_, kind)| kind == log).map_or("", |(word, _)| word);
                format!("this machine's {word}")
            }
        }
    }

    pub(super) fn paths_mut(&mut self) -> Vec<&mut PathBuf> {
        match &mut self.kind {
            NotifyKind::Mail(mail) => {
                let password = mail.login.as_mut().and_then(|(_, password)| password.path_mut());
                mail.roots.iter_mut().chain(password).collect()
            }
            NotifyKind::Webhook(webhook) => {
                let secret = webhook.secret.as_mut().and_then(SecretSource::path_mut);
                webhook.roots.iter_mut().chain(secret).collect()
            }
            NotifyKind::Program { .. } => Vec::new(),
            NotifyKind::Log { socket, .. } => socket.iter_mut().collect(),
        }
    }
}
