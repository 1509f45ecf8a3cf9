//! Everything about one certificate.

use super::list::{ListFilter, ListRow, list};
use crate::by_hand::validation::is_published_for_validation;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::https::Hsts;
use eskort_core::journey::{Milestone, ProofTask};
use eskort_core::manual::OrderNotes;
use eskort_core::record::{Record, RecordView};
use eskort_core::renewal::{Validity, Window};
use eskort_core::words;
use eskort_store::{DebtRow, EventRow, InstallRow, Store, StoreError};
use jiff::Timestamp;
use serde::{Serialize, Serializer};
use std::path::PathBuf;

/// One generation, for people.
#[derive(Clone, Debug, Serialize)]
pub struct GenerationView {
    /// Its number.
    pub number: u32,
    /// Whether servers use it.
    pub in_use: bool,
    /// The issuer's name.
    pub issuer: String,
    /// The kind of key.
    pub key: String,
    /// The serial number in hexadecimal.
    pub serial: String,
    /// The SHA-256 fingerprint in hexadecimal.
    pub fingerprint: String,
    /// Its dates.
    pub validity: Validity,
    /// When it was first seen live.
    pub confirmed: Option<Timestamp>,
    /// Since when it is revoked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revoked: Option<Timestamp>,
    /// When its files were removed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub swept: Option<Timestamp>,
}

/// An open journey, for people.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct JourneyView {
    /// The generation it is to bring.
    pub generation: u32,
    /// The last of the six stages that it passed.
    pub passed: Option<Milestone>,
}

/// Something that is still published, for people.
#[derive(Clone, Debug, Serialize)]
pub struct DebtView {
    /// What it is.
    pub what: String,
    /// Why it could not be removed, the last time.
    pub trouble: Option<String>,
    /// How to remove it by hand.
    pub by_hand: String,
}

/// Everything about one certificate.
#[derive(Clone, Debug, Serialize)]
pub struct Show {
    /// What `list` says of it.
    #[serde(flatten)]
    pub row: ListRow,
    /// The authority's name.
    pub authority: String,
    /// The proof's name and kind.
    pub proof: String,
    /// The kind of key the inventory wants.
    pub key: String,
    /// The servers it goes to.
    pub servers: Vec<String>,
    /// The folder that servers are pointed at.
    pub folder: PathBuf,
    /// How far an open journey is.
    pub journey: Option<JourneyView>,
    /// How it stands on each server that it was put on, by machine and server.
    pub installs: Vec<InstallRow>,
    /// What its authority says of its renewal (RFC 9773); `None` where it has not said anything.
    pub asked_renewal: Option<AskedView>,
    /// For how long browsers come back over https alone, where that goes up by a ramp.
    pub ramps: Vec<RampView>,
    /// The generations, newest first.
    pub generations: Vec<GenerationView>,
    /// The TXT records that a person has to place, while a journey waits for that.
    #[serde(serialize_with = "records")]
    pub to_place: Vec<Record>,
    /// What a person noted of the order, while a journey waits for an authority without ACME.
    pub notes: Option<OrderNotes>,
    /// What is still published and could not be removed: what, why, and how to do it by hand.
    pub debts: Vec<DebtView>,
    /// What happened lately, newest first.
    pub events: Vec<EventRow>,
}

/// What an authority says of the renewal of a certificate.
#[derive(Clone, Debug, Serialize)]
pub struct AskedView {
    /// The moment of the window at which it is renewed.
    pub moment: Option<Timestamp>,
    /// When the authority wants it renewed.
    pub window: Option<Window>,
    /// Why the last question had no answer.
    pub trouble: Option<String>,
    /// When the authority is asked again.
    pub ask_again: Timestamp,
}

/// Where a site stands on the ramp of HSTS.
#[derive(Clone, Debug, Serialize)]
pub struct RampView {
    /// The server.
    pub server: String,
    /// For how many seconds browsers come back over https alone.
    pub max_age: u32,
    /// Since when no look has found anything wrong with it.
    pub since: Timestamp,
    /// When the next step is due, if none does until then; `None` on the last one.
    pub next: Option<Timestamp>,
}

fn records<S: Serializer>(records: &[Record], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(records.iter().map(RecordView::from))
}

/// Returns everything about a certificate of the inventory; `None` when there is no such certificate.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn show(context: &Context, name: &str) -> Result<Option<Show>, StoreError> {
    let Some(entry) = context.inventory.certificates.get(name) else { return Ok(None) };
    let Some(row) = list(context, &ListFilter::default()).await?.into_iter().find(|r| r.certificate == name) else {
        return Ok(None);
    };
    let kind = |proof: &str| format!("{proof} ({})", context.inventory.proofs[proof].kind());
    let mut proofs: Vec<String> = Vec::new();
    let rest = entry.names.iter().any(|name| !entry.proof_for.contains_key(name));
    proofs.extend(entry.proof.as_deref().filter(|_| rest).map(kind));
    proofs.extend(entry.proof_for.iter().map(|(name, proof)| format!("{} for {name}", kind(proof))));
    let folder = context.state.join("certificates").join(name).join("current");
    let mut shown = Show {
        row,
        authority: entry.authority.clone(),
        proof: words::list(&proofs),
        key: entry.key.word().to_owned(),
        servers: entry.install.iter().map(|i| i.server.clone()).collect(),
        folder,
        journey: None,
        installs: Vec::new(),
        asked_renewal: None,
        ramps: Vec::new(),
        generations: Vec::new(),
        to_place: Vec::new(),
        notes: None,
        debts: Vec::new(),
        events: Vec::new(),
    };
    if let Some(store) = Store::open_existing(&context.state)? {
        let in_use = store.current_generation(name);
        let view = |g: eskort_store::GenerationRow| GenerationView {
            number: g.number,
            in_use: in_use == Some(g.number),
            issuer: g.issuer,
            key: g.specification.key,
            serial: g.serial,
            fingerprint: g.fingerprint,
            validity: g.validity,
            confirmed: g.confirmed,
            revoked: g.revoked,
            swept: g.swept,
        };
        if let Some(open) = store.open_journey(name).await? {
            let by_hand = |t: &&ProofTask| {
                context.inventory.proof_of(entry, &t.name).is_some_and(|(_, proof)| proof.awaits_person())
            };
            if let Some(tasks) = open.stage.to_self_check() {
                shown.to_place = tasks.iter().filter(by_hand).map(ProofTask::record).collect();
                shown.to_place.dedup();
            }
            shown.notes = open.stage.handed_over().cloned();
            shown.journey = Some(JourneyView { generation: open.generation, passed: open.stage.milestone() });
        }
        shown.installs = store.installs(name).await?;
        let newest = shown.row.generation;
        let asked = store.asked_renewal(name).await?.filter(|asked| Some(asked.generation) == newest);
        shown.asked_renewal = asked.filter(|asked| asked.moment.is_some() || asked.trouble.is_some()).map(|asked| {
            let (moment, window) = asked.moment.unzip();
            AskedView { moment, window, trouble: asked.trouble, ask_again: asked.ask_again }
        });
        for install in entry.install.iter().filter(|install| install.wishes.hsts == Some(Hsts::Ramp)) {
            let found = store.ramp(name, &install.server).await?;
            shown.ramps.extend(found.map(|ramp| RampView {
                server: install.server.clone(),
                max_age: ramp.max_age(),
                since: ramp.since,
                next: ramp.next(),
            }));
        }
        shown.generations = store.generations(name).await?.into_iter().map(view).collect();
        // What stands there for an authority without ACME to look at is no leftover.
        let stays = is_published_for_validation(&store, name).await?;
        let leftover = |row: &DebtRow| !stays || row.trouble.is_some();
        let owed = store.debts_of(name).await?.into_iter().filter(leftover);
        let view =
            |row: DebtRow| DebtView { what: row.debt.words(), by_hand: row.debt.by_hand(), trouble: row.trouble };
        shown.debts = owed.map(view).collect();
        shown.events = store.events(name, 12).await?;
    }
    Ok(Some(shown))
}
