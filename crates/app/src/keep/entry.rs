//! What `keep` is asked for, and what came of it.

use super::steps::Awaited;
use crate::StepError;
use eskort_core::decision::Decision;
use eskort_core::finding::Finding;
use eskort_core::manual::ManualStep;
use eskort_core::progress::{FileChange, TurnEnd};
use eskort_core::record::RecordToPlace;
use eskort_core::renewal::Validity;
use eskort_core::words;
use jiff::Timestamp;
use std::path::PathBuf;

/// What `keep` is asked for.
#[derive(Clone, Debug, Default)]
pub struct KeepOptions {
    /// Wait for what people have to do, instead of ending.
    pub wait: bool,
    /// Only these certificates; a hold after failures does not apply to them.
    pub only: Vec<String>,
    /// Order also what a budget has no room for.
    pub beyond_budget: bool,
    /// Get a new generation for each of `only`, whatever is stored.
    pub renew: bool,
    /// Replace certificates also where names of theirs are lost.
    pub drop_names: bool,
    /// Whether a timer began the run.
    pub by_timer: bool,
}

/// What somebody insists on in a run.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Insistence {
    /// That a hold after failures does not apply.
    pub(crate) at_once: bool,
    /// That what a budget has no room for is ordered all the same.
    pub(crate) beyond_budget: bool,
    /// That there is a new generation, whatever is stored.
    pub(crate) renew: bool,
    /// That names may be lost.
    pub(crate) drop_names: bool,
}

impl Insistence {
    /// Returns what is insisted on where somebody did something for this very certificate.
    pub(crate) fn for_one() -> Self {
        Insistence { at_once: true, ..Insistence::default() }
    }
}

impl KeepOptions {
    /// Returns what somebody insists on.
    pub(crate) fn insistence(&self) -> Insistence {
        let KeepOptions { beyond_budget, renew, drop_names, .. } = *self;
        Insistence { at_once: !self.only.is_empty(), beyond_budget, renew, drop_names }
    }
}

/// What would be done on one server.
#[derive(Clone, Debug)]
pub struct PlannedServer {
    /// The server.
    pub server: String,
    /// The files that would change, and how.
    pub changes: Vec<(PathBuf, FileChange)>,
    /// The command that would test its configuration.
    pub test: Option<Vec<String>>,
    /// Commands that would make something of the files before.
    pub prepare: Vec<Vec<String>>,
    /// The command that would make it take the change.
    pub run: Option<Vec<String>>,
    /// The Unix socket over which the files would be put into it while it runs, in place of `run`.
    pub runtime: Option<PathBuf>,
    /// The file with the number of the process that SIGHUP would be sent to, in place of `run`.
    pub signal: Option<PathBuf>,
    /// The address of the API that it would be uploaded to.
    pub upload: Option<String>,
    /// What there is to say about it.
    pub findings: Vec<Finding>,
}

impl From<Awaited> for Ending {
    fn from(awaited: Awaited) -> Self {
        match awaited {
            Awaited::Records(records) => Ending::AwaitsPerson(records),
            Awaited::Answer(manual_step) => Ending::AwaitsAnswer(manual_step),
            Awaited::Approval(until) => Ending::AwaitsApproval { until },
        }
    }
}

/// How a certificate's turn ended.
#[derive(Debug)]
pub enum Ending {
    /// Only planned.
    Planned(Vec<PlannedServer>),
    /// There was nothing to do.
    AtRest {
        /// The dates of the generation in use.
        validity: Option<Validity>,
    },
    /// Another run works on it just now.
    UnderWay {
        /// Who that is, in words.
        holder: String,
    },
    /// A budget of its authority has no room for it; the decision says which.
    NoRoom,
    /// Left alone after failures.
    Held {
        /// The last failure.
        reason: String,
    },
    /// The journey came to its end.
    Arrived {
        /// The generation.
        generation: u32,
        /// Its dates.
        validity: Option<Validity>,
        /// How many endpoints it was looked at.
        looked_at: usize,
        /// Why it could not be looked at from here, though it is installed, or is not installed everywhere.
        unconfirmed: Option<String>,
        /// The servers that were left out, since it failed there.
        left_out: Vec<String>,
        /// The servers to which a person has to carry a parcel, each with the page of the steps.
        to_carry: Vec<(String, PathBuf)>,
    },
    /// The records of its new key are published, and it is installed once nobody remembers those of before.
    AwaitsTtl {
        /// When that is.
        until: Timestamp,
    },
    /// It waits for somebody to agree that names are lost; the decision says which.
    LosesNames,
    /// It waits for a person to carry a CSR to its authority, and to bring the answer.
    AwaitsAnswer(Box<ManualStep>),
    /// It waits for somebody at the authority to approve.
    AwaitsApproval {
        /// When the authority wants to be asked again.
        until: Timestamp,
    },
    /// It waits for a person to place records.
    AwaitsPerson(Vec<RecordToPlace>),
    /// It failed.
    Failed {
        /// Why.
        error: Box<StepError>,
        /// Whether the next run begins anew; otherwise it goes on from where it stands.
        given_up: bool,
        /// How much is still published that could not be taken away.
        left_published: usize,
    },
}

impl Ending {
    /// Returns how it ended, in brief.
    pub(crate) fn brief(&self) -> TurnEnd {
        match self {
            Ending::Arrived { to_carry, .. } if !to_carry.is_empty() => TurnEnd::Waits,
            Ending::Planned(_) | Ending::AtRest { .. } | Ending::Arrived { .. } => TurnEnd::Done,
            Ending::AwaitsAnswer(_)
            | Ending::AwaitsApproval { .. }
            | Ending::AwaitsPerson(_)
            | Ending::AwaitsTtl { .. }
            | Ending::LosesNames => TurnEnd::Waits,
            Ending::NoRoom | Ending::Held { .. } | Ending::UnderWay { .. } => TurnEnd::LeftAlone,
            Ending::Failed { error, .. } => TurnEnd::Failed(words::printable(&error.to_string(), 200)),
        }
    }
}

/// What was done about one certificate.
#[derive(Debug)]
pub struct KeepEntry {
    /// Its name in the inventory.
    pub certificate: String,
    /// What was decided; `None` when not even that was possible.
    pub decision: Option<Decision>,
    /// What came of it.
    pub ending: Ending,
    /// What came of putting the newest generation in place, where something else was to be done too.
    pub placed: Option<Placed>,
    /// Since when a journey waits for a person.
    pub waits_since: Option<Timestamp>,
}

/// What came of putting a generation in place.
#[derive(Debug)]
pub struct Placed {
    /// The generation.
    pub generation: u32,
    /// Why it failed.
    pub error: Option<Box<StepError>>,
}

impl KeepEntry {
    pub(crate) fn new(name: &str, decision: Option<Decision>, ending: Ending) -> Self {
        KeepEntry { certificate: name.to_owned(), decision, ending, placed: None, waits_since: None }
    }

    /// Returns the entry of a certificate whose turn was not begun, since somebody asked the program to stop.
    pub(crate) fn interrupted(name: &str) -> Self {
        let error = Box::new(StepError::Interrupted);
        KeepEntry::new(name, None, Ending::Failed { error, given_up: false, left_published: 0 })
    }

    /// Returns whether it waits for a person.
    pub fn awaits_person(&self) -> bool {
        matches!(self.ending, Ending::AwaitsAnswer(_) | Ending::AwaitsPerson(_))
    }
}
