//! The desk of an authority without ACME: what a person has to do there, what it asks as proof, and notes on the order.

use crate::keep::KeepEntry;
use crate::place::{self, SitePlace};
use crate::proof::{self, SiteFile, pay_debts};
use crate::turn::Run;
use crate::{AnswerError, ProofError, StepError};
use eskort_core::context::Context;
use eskort_core::desk::{Asked, AskedProof, DeskNotes};
use eskort_core::inventory::{CertificateEntry, DnsProof, Proof};
use eskort_core::journey::Stage;
use eskort_core::names::Identifier;
use eskort_core::progress::Progress;
use eskort_core::record::RecordToPlace;
use eskort_core::words;
use eskort_install as install;
use eskort_store::{RunLock, Store, StoreError};
use jiff::civil::Date;
use serde::Serialize;
use std::path::PathBuf;
use std::time::Duration;

/// What a person has to do for a journey that waits for an answer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Errand {
    /// The certificate's name in the inventory.
    pub certificate: String,
    /// The CSR's file.
    pub csr: PathBuf,
    /// The authority's name in the inventory.
    pub authority: String,
    /// Where to go with it, as the inventory says.
    pub desk: Option<String>,
    /// Where the CSR was dropped.
    pub dropped: Option<PathBuf>,
    /// Where the answer is looked for.
    pub pick_up: Option<PathBuf>,
    /// What the person has found out so far.
    pub notes: DeskNotes,
    /// Whether what the authority asks as proof can be seen.
    pub proof: Option<ProofSight>,
}

/// Whether what an authority asks as proof can be seen from here.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum ProofSight {
    /// Everywhere the authority may look.
    Seen {
        /// Where: addresses, or the record's name.
        at: Vec<String>,
    },
    /// Not yet, or not everywhere.
    NotSeen {
        /// What was seen instead.
        why: String,
        /// The records that a person has to place.
        to_place: Vec<RecordToPlace>,
    },
    /// It cannot be looked at: a mail.
    Mail,
}

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
    /// Whether the authority was told that it may look.
    pub told: bool,
}

/// Whether a journey stands at a desk with something published that the authority may look at any day.
pub(crate) fn is_shown_at_desk(store: &Store, certificate: &str) -> Result<bool, StoreError> {
    let open = store.open_journey(certificate)?;
    Ok(open.is_some_and(|open| matches!(open.stage, Stage::HandedOver { .. }) && open.stage.needs_publication()))
}

/// Adds to the notes of a journey that waits at a desk, and goes on with it: publishes what the authority asks as proof,
/// looks at it, takes an answer that is there. What was published for another way of proving is taken away first.
///
/// # Errors
/// When no journey of the certificate waits at a desk, no proof can publish what is asked, or another run is at work.
pub async fn note(
    context: &Context,
    certificate: &str,
    entry: &CertificateEntry,
    noted: Noted,
) -> Result<KeepEntry, StepError> {
    let _lock = RunLock::take(&context.state, "eskort note", (context.now)())?;
    let store = Store::open(&context.state)?;
    install::recover(context, &store).await?;
    let missing = || AnswerError::NotAtDesk { certificate: certificate.to_owned() };
    let open = store.open_journey(certificate)?.ok_or_else(missing)?;
    let Stage::HandedOver { notes: before } = &open.stage else { return Err(missing().into()) };
    let now = (context.now)();
    let mut notes = before.clone();
    let mut events = Vec::new();
    let mut set = |what: &str, to: &mut Option<String>, from: Option<String>| {
        if let Some(text) = from {
            let text = words::printable(text.trim(), 500);
            events.push(format!("{what} {text}"));
            *to = Some(text);
        }
    };
    set("order", &mut notes.order, noted.order);
    set("page", &mut notes.page, noted.page);
    set("remark:", &mut notes.remark, noted.remark);
    if let Some(day) = noted.placed {
        events.push(format!("placed on {day}"));
        notes.placed = Some(day);
    }
    if let Some(asked) = noted.asked {
        notes.asked = match asked {
            None => None,
            Some(what) => Some(AskedProof { by: publisher(context, entry, &what, noted.by)?, what }),
        };
        notes.told = None;
        events.push(
            notes.asked.as_ref().map_or_else(|| "nothing to prove".into(), |a| format!("proof: {}", words_of(&a.what))),
        );
    }
    if noted.told {
        notes.told = Some(now);
        events.push("the authority was told that it may look".into());
    }
    if notes.asked != before.asked {
        pay_debts(context, &store, |whose| whose == certificate).await?;
    }
    if !events.is_empty() {
        let event = format!("noted: {}", events.join("; "));
        store.save_stage(certificate, open.id, &Stage::HandedOver { notes }, Some(&event), now)?;
    }
    Ok(Run::new(context, &store).turn(certificate, entry, true).await)
}

/// Returns what an authority asks for in a few words.
fn words_of(asked: &Asked) -> String {
    match asked {
        Asked::File { path, .. } => format!("the file /{path}"),
        Asked::Record(record) => format!("the {} record at {}", record.kind.word(), record.name),
        Asked::Mail { to } => format!("a mail to {to}"),
    }
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

/// What the desk of one certificate's journey needs.
pub(crate) struct Desk<'a> {
    pub(crate) context: &'a Context,
    pub(crate) store: &'a Store,
    pub(crate) certificate: &'a str,
    pub(crate) names: &'a [Identifier],
}

impl Desk<'_> {
    /// Publishes what the authority asks as proof, and looks whether it can be seen. Doing it again leaves things as they are.
    /// Name servers are waited for only until the authority was told that it may look.
    pub(crate) async fn show(&self, asked: &AskedProof, told: bool) -> Result<ProofSight, StepError> {
        let shown = match &asked.what {
            Asked::Mail { .. } => return Ok(ProofSight::Mail),
            Asked::File { path, text } => {
                let file = SiteFile { path: path.clone(), bytes: text.clone().into_bytes() };
                self.show_file(&file, asked.by.as_deref()).await
            }
            Asked::Record(record) => {
                let records = std::slice::from_ref(record);
                let mut dns = self.dns_proof(asked.by.as_deref())?;
                if told {
                    dns.look.settle = Duration::ZERO;
                }
                if let Some(by) = &asked.by {
                    (self.context.watch)(&Progress::Doing("publish the record"));
                    let owner = (self.context, self.store, self.certificate);
                    proof::publish_records(owner, by, &dns, records).await?;
                }
                (self.context.watch)(&Progress::Doing("look at the record from here"));
                let looked = proof::look_at_records(self.context, &dns, records).await;
                looked.map(|()| vec![record.name.clone()])
            }
        };
        let not_seen = |why: String, to_place| Ok(ProofSight::NotSeen { why, to_place });
        match shown {
            Ok(at) => Ok(ProofSight::Seen { at }),
            Err(StepError::AwaitsPerson { to_place }) => not_seen("it is not there yet".into(), to_place),
            Err(StepError::NotEverywhere { found, of, .. }) => {
                let lacks = found.behind.first().map(|b| {
                    format!("{} of {of} name servers do not have it yet; {}: {}", found.behind.len(), b.server, b.what)
                });
                let silent = || found.silent.first().map(|(_, why)| format!("no name server can be reached: {why}"));
                not_seen(lacks.or_else(silent).unwrap_or_default(), Vec::new())
            }
            // Neither is a name server that does not answer, or a site, a reason to take anything away.
            Err(error @ (StepError::NotVisible { .. } | StepError::Proof(ProofError::Ask(_)))) => {
                not_seen(error.to_string(), Vec::new())
            }
            Err(error) => Err(error),
        }
    }

    async fn show_file(&self, file: &SiteFile, by: Option<&str>) -> Result<Vec<String>, StepError> {
        // An authority looks at the names themselves; a wildcard's is the domain below the star.
        let mut names: Vec<Identifier> = self.names.iter().map(Identifier::without_wildcard).collect();
        names.dedup();
        match by {
            Some(by) => {
                let site = SitePlace::of(self.context, by)?;
                site.show(self.store, self.certificate, file, &names).await?;
            }
            None => place::look(file, &names, None).await?,
        }
        Ok(place::addresses(file, &names))
    }

    /// Returns the proof that places records; without one, a person does.
    fn dns_proof(&self, by: Option<&str>) -> Result<DnsProof, ProofError> {
        let Some(by) = by else { return Ok(DnsProof::by_hand()) };
        match self.context.inventory.proofs.get(by) {
            Some(Proof::Dns(dns)) => Ok(dns.clone()),
            _ => Err(ProofError::PlacesNoRecords { proof: by.to_owned() }),
        }
    }
}
