//! Answers of authorities that a person carries a CSR to.

use crate::by_hand::answer::{Brought, answer_among, check, check_issuer, issuer_of, key_of, take_in, visitors_of};
use crate::keep::entry::{Insistence, KeepEntry};
use crate::keep::run::Run;
use crate::{AnswerError, StepError};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::pki::{Certificate, Chain, Intake, LeftAside, Secret};
use eskort_core::progress::Progress;
use eskort_host::Machines;
use eskort_install as install;
use eskort_store::{JourneyRow, RunLock, Store};
use eskort_talk::add_missing_issuers;
use std::sync::Arc;

/// What `receive` found for one certificate.
#[derive(Debug)]
pub struct Received {
    /// The certificate of the inventory.
    pub certificate: String,
    /// The chain, put in order.
    pub chain: Chain,
    /// The issuer that is missing.
    pub missing: Option<String>,
    /// What came of the journey.
    pub entry: KeepEntry,
}

/// All that came of what was brought.
#[derive(Debug, Default)]
pub struct Receipt {
    /// The certificates that were waited for.
    pub received: Vec<Received>,
    /// What was brought beside them.
    pub left_aside: Vec<LeftAside>,
}

/// Takes what a person brings, in any shape and order, finds what was waited for, and takes those journeys to their end.
/// Issuers that are missing are fetched where `fetch_issuers` (with the hosts that need not be public) or the inventory allows it.
///
/// # Errors
/// When nothing in it was waited for, or it is by an issuer that is not known and `accept_issuer` is not set; when another run holds the
/// lock. What becomes of a journey is in its entry.
#[boxed]
pub async fn receive(
    context: &Context,
    brought: &[Brought],
    password: Option<&Secret<String>>,
    fetch_issuers: Option<&[String]>,
    accept_issuer: bool,
) -> Result<Receipt, StepError> {
    // A folder has all sorts of things in it; only when there is no certificate at all, that is said.
    let intake = take_in(brought, password)?;
    let lock = RunLock::take(&context.state, "eskort receive", context.now())?;
    let store = Arc::new(Store::open(&context.state)?);
    let machines = Machines::default();
    install::recover(context, &store, &machines).await?;
    let mut waiting: Vec<(String, JourneyRow)> = Vec::new();
    for name in context.inventory.certificates.keys() {
        let open = store.open_journey(name).await?.filter(|open| open.stage.handed_over().is_some());
        waiting.extend(open.map(|open| (name.clone(), open)));
    }
    if waiting.is_empty() {
        return Err(AnswerError::NothingWaits.into());
    }
    let run = Run::new(context, &store, machines, lock, Insistence::for_one());
    let mut receipt = Receipt { left_aside: intake.left_aside.clone(), ..Receipt::default() };
    let mut used: Vec<Certificate> = Vec::new();
    for (certificate, open) in waiting {
        let Some(key) = key_of(&store, &certificate, open.generation)? else { continue };
        let Some(mut assembled) = answer_among(context, &store, &certificate, &intake.certificates, &key).await? else {
            continue;
        };
        let entry = &context.inventory.certificates[&certificate];
        let hosts = context.inventory.authorities[&entry.authority].fetch_issuers.as_deref();
        if let Some(hosts) = fetch_issuers.or(hosts) {
            let anchors = visitors_of(context, &entry.authority)?.anchors();
            assembled = add_missing_issuers(context, assembled, hosts, &anchors).await;
        }
        // Before the journey is touched: what is wrong with an answer is no failure of the journey.
        check(&assembled, &key, &open.specification.names, &entry.csr, context.now())?;
        if let Err(unknown) = check_issuer(context, &store, &certificate, &assembled, &intake.certificates).await? {
            if !accept_issuer {
                return Err(unknown.into());
            }
            if let Some(issuer) = issuer_of(&assembled, &intake.certificates) {
                store.accept_issuer(&entry.authority, issuer).await?;
            }
        }
        used.extend(assembled.chain.certificates().iter().cloned());
        context.report(&Progress::AnswerTaken { certificate: certificate.clone(), chain: assembled.chain.clone() });
        let (chain, missing) = (assembled.chain.clone(), assembled.missing.clone());
        for note in &assembled.notes {
            context.report(&Progress::Note(note.to_string()));
        }
        run.bring(&certificate, assembled);
        let entry = run.process(&certificate).await;
        receipt.received.push(Received { certificate, chain, missing, entry });
        if run.stop().is_asked() {
            break;
        }
    }
    let rest = intake.certificates.iter().filter(|c| !used.contains(c));
    if receipt.received.is_empty() {
        // The answer may be in what nobody has opened.
        if let Some(error) = intake.encrypted() {
            return Err(AnswerError::from(error).into());
        }
        return Err(fits_none(context, &store, &intake).await?.into());
    }
    // After a stop nobody has looked whether the rest is of use.
    if !run.stop().is_asked() {
        let not_needed = |c: &Certificate| LeftAside::NotNeeded { title: c.subject_or_title() };
        receipt.left_aside.extend(rest.map(not_needed));
    }
    Ok(receipt)
}

/// Says whose the certificates are that nobody waits for.
async fn fits_none(context: &Context, store: &Store, intake: &Intake) -> Result<AnswerError, StepError> {
    let leaves: Vec<&Certificate> = intake.certificates.iter().filter(|c| !c.is_ca).collect();
    let mut titles: Vec<String> = leaves.iter().map(|c| format!("`{}`", c.title())).collect();
    if titles.is_empty() {
        titles = intake.certificates.iter().map(|c| format!("`{}`", c.subject_or_title())).collect();
    }
    for certificate in context.inventory.certificates.keys() {
        for leaf in &leaves {
            if let Some(generation) = store.generation_of(certificate, &leaf.fingerprint().to_string()).await? {
                return Ok(AnswerError::Earlier { certificate: certificate.clone(), generation });
            }
        }
    }
    for certificate in context.inventory.certificates.keys() {
        for known in store.generations(certificate).await? {
            let key = key_of(store, certificate, known.number)?;
            if key.is_some_and(|key| leaves.iter().any(|c| key.fits(c.public_key()))) {
                return Ok(AnswerError::FitsNone {
                    titles,
                    certificate: certificate.clone(),
                    generation: known.number,
                });
            }
        }
    }
    Ok(AnswerError::FitsNone { titles, certificate: String::new(), generation: 0 })
}
