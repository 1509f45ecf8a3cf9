//! What is said while a run goes on.

use crate::decision::Decision;
use crate::journey::{Milestone, WaitsFor};
use crate::pki::Chain;
use crate::record::RecordToPlace;
use jiff::Timestamp;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Instant;

/// Something to say while a run goes on. Results come back as values; this is the talk beside them.
#[derive(Clone, Debug)]
pub enum Progress {
    /// A certificate's turn begins.
    Certificate {
        /// Its name in the inventory.
        name: String,
        /// What is done about it.
        decision: Decision,
    },
    /// From now on these certificates are worked on side by side; none ends that.
    SideBySide {
        /// Their names.
        certificates: Vec<String>,
    },
    /// A certificate's turn is over.
    Ended(TurnEnd),
    /// Something is being done that may take a moment.
    Doing(&'static str),
    /// One of the six stages is passed.
    Passed {
        /// Which.
        milestone: Milestone,
        /// What there is to say about it.
        detail: String,
    },
    /// Nothing to do until `until`.
    Waiting {
        /// The instant.
        until: Timestamp,
        /// What is waited for.
        waits_for: WaitsFor,
    },
    /// A person has to place these records, and is waited for.
    AwaitsPerson(Vec<RecordToPlace>),
    /// An answer that a person has brought fits the key that waits for it; it is stored next.
    AnswerTaken {
        /// The certificate of the inventory.
        certificate: String,
        /// The chain, put in order.
        chain: Chain,
    },
    /// How names stand that are waited for.
    Names(Vec<NameState>),
    /// A file of a server changes.
    Change {
        /// The machine it is on; `None` for this one.
        host: Option<String>,
        /// The file.
        path: PathBuf,
        /// How.
        how: FileChange,
    },
    /// Something worth knowing.
    Note(String),
    /// A request to the authority was answered.
    Request {
        /// The method.
        method: &'static str,
        /// The address.
        url: String,
        /// The HTTP status.
        status: u16,
    },
}

/// How a certificate's turn ended, in brief; the results come back as values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TurnEnd {
    /// It is as it should be.
    Done,
    /// It waits for somebody.
    Waits,
    /// It was left alone.
    LeftAlone,
    /// It failed, for this reason.
    Failed(String),
}

/// How one name stands while something is waited for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameState {
    /// The name.
    pub name: String,
    /// What is so far: "on 1 of 2 name servers".
    pub state: String,
    /// Since when it is waited for; `None` for since it is first told of.
    pub since: Option<Instant>,
}

/// How a file changes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FileChange {
    /// Lines of it: each begins with `+`, `-`, `@` or a blank.
    Lines(String),
    /// The whole of it: what it holds then, in a word.
    Whole(&'static str),
}

/// Gets told about progress, and of which certificate; `None` is for what concerns the run as a whole.
pub type ProgressSink = Arc<dyn Fn(Option<&str>, &Progress) + Send + Sync>;

/// Tells how it goes: with one certificate, or with the run as a whole.
#[derive(Clone)]
pub struct Teller {
    sink: ProgressSink,
    certificate: Option<Arc<str>>,
    /// How many requests were told of.
    requests: Arc<AtomicU32>,
}

impl Teller {
    /// Returns what tells of a run as a whole.
    pub fn new(sink: ProgressSink) -> Self {
        Teller { sink, certificate: None, requests: Arc::default() }
    }

    /// Returns what tells of one certificate.
    pub fn about(&self, certificate: &str) -> Self {
        Teller { sink: Arc::clone(&self.sink), certificate: Some(certificate.into()), requests: Arc::default() }
    }

    /// Tells how it goes.
    pub fn tell(&self, progress: &Progress) {
        if let Progress::Request { .. } = progress {
            self.requests.fetch_add(1, Ordering::Relaxed);
        }
        (self.sink)(self.certificate.as_deref(), progress);
    }

    /// Returns how many requests to the authority it and its clones were told of since this was last asked.
    pub fn take_requests(&self) -> u32 {
        self.requests.swap(0, Ordering::Relaxed)
    }
}
