//! Tells people what is new: one file for each way.

mod log;
mod mail;
mod webhook;

pub use log::write_to_journal;

use eskort_core::boxed;
use eskort_core::inventory::{Notify, NotifyKind};
use eskort_core::news::Message;
use eskort_host::program::run;
use eskort_host::{CommandError, SecretError};
use std::path::{Path, PathBuf};

/// Why a message could not be delivered.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum NotifyError {
    /// The mail server.
    #[error("the mail server {server} does not take it: {what}")]
    Mail {
        /// Its name and port.
        server: String,
        /// What came back.
        what: String,
    },
    /// The address that messages are posted to.
    #[error("{address} does not take it: {what}")]
    Webhook {
        /// The address.
        address: String,
        /// What came back.
        what: String,
    },
    /// A program.
    #[error(transparent)]
    Program(#[from] CommandError),
    /// The log of the machine.
    #[error("cannot write to {}: {source}", socket.display())]
    Log {
        /// Its socket.
        socket: PathBuf,
        /// Why not.
        source: std::io::Error,
    },
    /// A secret.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// A file that the inventory names.
    #[error("cannot use {}: {why}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// Why not.
        why: String,
    },
    /// It took too long.
    #[error("it was not delivered within {}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    TimedOut {
        /// How long was waited.
        after: std::time::Duration,
    },
}

/// Delivers a message. Programs run in `folder`.
///
/// # Errors
/// [`NotifyError`]: when nobody has taken it, as far as is known.
#[boxed]
pub async fn deliver(notify: &Notify, message: &Message, folder: &Path) -> Result<(), NotifyError> {
    let delivering = async {
        match &notify.kind {
            NotifyKind::Mail(mail) => mail::deliver(mail, message, notify.timeout).await,
            NotifyKind::Webhook(webhook) => webhook::deliver(webhook, message, notify.timeout).await,
            // It has a time limit of its own.
            NotifyKind::Program { command, rules } => {
                Ok(run(command, folder, rules, webhook::body(message).as_bytes()).await.map(drop)?)
            }
            NotifyKind::Log { log, socket } => log::deliver(*log, socket.as_deref(), message),
        }
    };
    if let NotifyKind::Program { .. } = notify.kind {
        return delivering.await;
    }
    let after = notify.timeout;
    tokio::time::timeout(after, delivering).await.unwrap_or(Err(NotifyError::TimedOut { after }))
}
