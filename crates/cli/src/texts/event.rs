//! What happened, in words.

use eskort_core::event::{Event, GivenUp, Note};
use eskort_core::manual::Asked;
use eskort_core::revocation::Revocation;
use eskort_core::words;
use jiff::SignedDuration;

/// Says what happened.
pub(crate) fn event(event: &Event) -> String {
    match event {
        Event::Passed { stage, generation, requests: 0 } => format!("{stage} (generation {generation})"),
        Event::Passed { stage, generation, requests } => {
            format!("{stage} (generation {generation}, {})", words::count(u64::from(*requests), "request"))
        }
        Event::GivenUp { why } => format!("given up: {}", given_up(*why)),
        Event::Adopted { generation } => format!("taken in (generation {generation})"),
        Event::Found { generation } => format!("found on disk and taken in again (generation {generation})"),
        Event::Noted { notes } => format!("noted: {}", notes.iter().map(note).collect::<Vec<_>>().join("; ")),
        Event::Remembered { server, seconds } => {
            let time = words::duration(SignedDuration::from_secs(i64::from(*seconds)));
            format!("HSTS on server {server}: browsers come back over https alone for {time} from now on")
        }
        Event::WentBack { generation, instead: Some(instead) } => {
            format!("went back from generation {generation} to {instead}")
        }
        Event::WentBack { generation, instead: None } => format!("generation {generation} was taken off the servers"),
        Event::Swept { generation } => format!("generation {generation} is old: its key and chain were removed"),
        Event::Revoked { generation, reason, by_us } => {
            let why =
                reason.as_ref().and_then(Revocation::of).map(|why| format!(": {}", why.words())).unwrap_or_default();
            let who = if *by_us { "was revoked" } else { "is revoked, its authority says" };
            format!("generation {generation} {who}{why}")
        }
        Event::Stopped => "stopped by a signal".to_owned(),
        Event::Failed { cause, .. } => format!("failed: {cause}"),
    }
}

fn given_up(why: GivenUp) -> &'static str {
    match why {
        GivenUp::InventoryChanged => "the inventory changed",
        GivenUp::Due => "its generation is due for renewal",
        GivenUp::OrderLost => "its order is lost",
        GivenUp::Stopped => "stopped while the authority was looking",
        GivenUp::Superseded => "another certificate was taken in",
    }
}

fn note(note: &Note) -> String {
    match note {
        Note::Order { text } => format!("order {text}"),
        Note::Page { text } => format!("page {text}"),
        Note::Remark { text } => format!("remark: {text}"),
        Note::Placed { day } => format!("placed on {day}"),
        Note::Asks { proof } => format!("proof: {}", asked(proof)),
        Note::AsksNothing => "nothing to prove".to_owned(),
        Note::Notified => "authority notified that it may look".to_owned(),
    }
}

/// Says what an authority asks for in a few words.
fn asked(asked: &Asked) -> String {
    match asked {
        Asked::File { path, .. } => format!("the file /{path}"),
        Asked::Record(record) => format!("the {} record at {}", record.kind.word(), record.name),
        Asked::Mail { to } => format!("a mail to {to}"),
    }
}
