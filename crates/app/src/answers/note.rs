//! Notes on an order at an authority without ACME.

use crate::keep::entry::{Insistence, KeepEntry};
use crate::keep::run::Run;
use crate::{AnswerError, StepError};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::event::{Event, Note};
use eskort_core::inventory::{CertificateEntry, Proof};
use eskort_core::journey::HandedOver;
use eskort_core::manual::{Asked, AskedProof};
use eskort_core::words;
use eskort_host::Machines;
use eskort_install as install;
use eskort_prove::{ProofError, pay_debts_of};
use eskort_store::{RunLock, Store};
use jiff::civil::Date;
use std::sync::Arc;

/// What a person adds to the notes. What is `None` stays as it is.
#[derive(Clone, Debug, Default)]
pub struct Noted {
    /// What the authority calls the order.
    pub order: Option<String>,
    /// The day on which it was placed.
    pub placed: Option<Date>,
    /// The address at which it can be looked up.
    pub page: Option<String>,
    /// Anything else.
    pub remark: Option<String>,
    /// What the authority asks as proof; `Some(None)` takes it back.
    pub asked: Option<Option<Asked>>,
    /// The proof of the inventory that publishes it; `None` for the certificate's own where that can.
    pub by: Option<String>,
    /// Whether the authority was notified that it may look.
    pub notified: bool,
}

/// Adds to the notes of a journey that waits for an answer, and goes on with it: publishes what the authority asks as proof,
/// looks at it, takes an answer that is there. What was published for another way of proving is taken away first.
///
/// # Errors
/// When no journey of the certificate waits for an answer, no proof can publish what is asked, or another run is at work.
#[boxed]
pub async fn note(
    context: &Context,
    certificate: &str,
    entry: &CertificateEntry,
    noted: Noted,
) -> Result<KeepEntry, StepError> {
    let lock = RunLock::take(&context.state, "eskort note", context.now())?;
    let store = Arc::new(Store::open(&context.state)?);
    let machines = Machines::default();
    install::recover(context, &store, &machines).await?;
    let run = Run::new(context, &store, machines, lock, Insistence::for_one());
    let missing = || AnswerError::NotWaiting { certificate: certificate.to_owned() };
    let open = store.open_journey(certificate).await?.ok_or_else(missing)?;
    let before = open.stage.handed_over().ok_or_else(missing)?;
    let now = context.now();
    let mut notes = before.clone();
    let mut noted_now = Vec::new();
    let mut set = |to: &mut Option<String>, from: Option<String>, note: fn(String) -> Note| {
        if let Some(text) = from {
            let text = words::printable(text.trim(), 500);
            noted_now.push(note(text.clone()));
            *to = Some(text);
        }
    };
    set(&mut notes.order, noted.order, |text| Note::Order { text });
    set(&mut notes.page, noted.page, |text| Note::Page { text });
    set(&mut notes.remark, noted.remark, |text| Note::Remark { text });
    if let Some(day) = noted.placed {
        noted_now.push(Note::Placed { day });
        notes.placed = Some(day);
    }
    if let Some(asked) = noted.asked {
        noted_now.push(asked.clone().map_or(Note::AsksNothing, |proof| Note::Asks { proof }));
        notes.asked = match asked {
            None => None,
            Some(what) => Some(AskedProof { by: publisher(context, entry, &what, noted.by)?, what }),
        };
        notes.notified = None;
    }
    if noted.notified {
        notes.notified = Some(now);
        noted_now.push(Note::Notified);
    }
    if notes.asked != before.asked {
        pay_debts_of(&run.around(), certificate).await?;
    }
    if !noted_now.is_empty() {
        let event = Event::Noted { notes: noted_now };
        store.save_stage(certificate, open.id, &HandedOver { notes }.into(), Some(&event), now).await?;
    }
    Ok(run.process(certificate).await)
}

/// Returns the proof that publishes what is asked: the one that was named, or the certificate's own where that can.
fn publisher(
    context: &Context,
    entry: &CertificateEntry,
    asked: &Asked,
    named: Option<String>,
) -> Result<Option<String>, ProofError> {
    let can = |proof: Option<&Proof>| match (asked, proof) {
        (Asked::File { .. }, Some(Proof::HttpFolder { .. })) => true,
        (Asked::Record(_), Some(Proof::Dns(_))) => true,
        (Asked::File { .. } | Asked::Record(_) | Asked::Mail { .. }, _) => false,
    };
    match (named, asked) {
        (Some(_), Asked::Mail { .. }) => Ok(None),
        (Some(name), _) if can(context.inventory.proofs.get(&name)) => Ok(Some(name)),
        (Some(proof), Asked::File { .. }) => Err(ProofError::NoSiteFolder { proof }),
        (Some(proof), Asked::Record(_)) => Err(ProofError::PlacesNoRecords { proof }),
        (None, _) => Ok(entry.proof.clone().filter(|name| can(context.inventory.proofs.get(name)))),
    }
}
