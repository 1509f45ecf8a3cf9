//! What happened to a certificate, as values: whoever shows them finds the words.

use crate::journey::Milestone;
use crate::manual::Asked;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};

/// Something that happened to a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Event {
    /// One of the six stages was passed.
    Passed {
        /// Which.
        stage: Milestone,
        /// The generation.
        generation: u32,
        /// How many requests to the authority a run made for it since it began or passed the stage before.
        #[serde(default, skip_serializing_if = "is_zero")]
        requests: u32,
    },
    /// An open journey was given up.
    GivenUp {
        /// Why.
        why: GivenUp,
    },
    /// A certificate that existed already became a generation.
    Adopted {
        /// Its number.
        generation: u32,
    },
    /// A generation that the ledger did not know was found on disk.
    Found {
        /// Its number.
        generation: u32,
    },
    /// A person noted something about an order without ACME.
    Noted {
        /// What.
        notes: Vec<Note>,
    },
    /// Browsers are told to come back over https alone for longer than before (HSTS).
    Remembered {
        /// The server.
        server: String,
        /// For how many seconds.
        seconds: u32,
    },
    /// A person took a generation off the servers.
    WentBack {
        /// The generation.
        generation: u32,
        /// The one that was put on them instead.
        instead: Option<u32>,
    },
    /// The files of an old generation were removed.
    Swept {
        /// Its number.
        generation: u32,
    },
    /// A generation was revoked: its authority says so, or somebody asked for it.
    Revoked {
        /// Its number.
        generation: u32,
        /// Why, by the codes of RFC 5280 section 5.3.1; `None` where that is not known.
        reason: Option<u8>,
        /// Whether it was asked for here.
        by_us: bool,
    },
    /// The program was asked to stop.
    Stopped,
    /// Something failed.
    Failed {
        /// What kind of error it is, in a word that stays the same.
        code: String,
        /// What came back.
        cause: String,
    },
}

impl Event {
    /// Returns the generation that came with it.
    pub fn brought(&self) -> Option<u32> {
        match self {
            Event::Passed { stage: Milestone::Issued, generation, .. }
            | Event::Adopted { generation }
            | Event::Found { generation } => Some(*generation),
            _ => None,
        }
    }

    /// Returns the word for the kind of event.
    pub fn kind(&self) -> &'static str {
        match self {
            Event::Passed { .. } => "passed",
            Event::GivenUp { .. } => "given-up",
            Event::Adopted { .. } => "adopted",
            Event::Found { .. } => "found",
            Event::Noted { .. } => "noted",
            Event::Remembered { .. } => "remembered",
            Event::WentBack { .. } => "went-back",
            Event::Swept { .. } => "swept",
            Event::Revoked { .. } => "revoked",
            Event::Stopped => "stopped",
            Event::Failed { .. } => "failed",
        }
    }
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks it so")]
fn is_zero(count: &u32) -> bool {
    *count == 0
}

/// Why a journey was given up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum GivenUp {
    /// The inventory changed.
    InventoryChanged,
    /// Its generation is due for renewal.
    Due,
    /// The authority does not know its order any more, or has refused it.
    OrderLost,
    /// The program was stopped while the authority was looking.
    Stopped,
    /// Another certificate was taken in.
    Superseded,
}

impl GivenUp {
    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            GivenUp::InventoryChanged => "inventory-changed",
            GivenUp::Due => "due",
            GivenUp::OrderLost => "order-lost",
            GivenUp::Stopped => "stopped",
            GivenUp::Superseded => "superseded",
        }
    }
}

/// Something that a person noted about an order without ACME.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "note", rename_all = "kebab-case")]
pub enum Note {
    /// What the authority calls the order.
    Order {
        /// Its name or number.
        text: String,
    },
    /// The address at which it can be looked up.
    Page {
        /// The address.
        text: String,
    },
    /// Anything else.
    Remark {
        /// What.
        text: String,
    },
    /// When it was placed.
    Placed {
        /// The day.
        day: Date,
    },
    /// What the authority asks as proof.
    Asks {
        /// What.
        proof: Asked,
    },
    /// The authority asks for no proof.
    AsksNothing,
    /// The authority was notified that it may look.
    Notified,
}
