//! Asking authorities whether they have revoked their certificates, before anything is decided: by their lists, and where
//! certificates name none, by OCSP.

use super::common::Common;
use super::rest::Known;
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::inventory::Authority;
use eskort_core::pki::{Chain, OcspQuestion, OcspStatus, RevocationList, RevokedEntry};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_store::StoreError;
use eskort_talk::{ask_responder, fetch_revocation_list};
use futures_util::StreamExt;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::time::Duration;

/// All lists of a run together take no longer: what is not asked then is asked by the next run.
const LONGEST: Duration = Duration::from_secs(30);
/// So many questions are on their way at once.
const AT_ONCE: usize = 8;
/// How soon and how late a list is asked for again, whatever it says of the next one.
const SOONEST: SignedDuration = SignedDuration::from_hours(6);
const LATEST: SignedDuration = SignedDuration::from_hours(24);
/// A certificate that names neither list nor responder is never asked about again.
const NEVER: SignedDuration = SignedDuration::from_hours(24 * 365);

/// A generation that it is time to ask about.
struct Asked {
    certificate: String,
    number: u32,
    serial: String,
    /// Its issuer's key.
    issuer: Vec<u8>,
}

/// One that a responder is to be asked about.
struct Question {
    certificate: String,
    number: u32,
    address: String,
    authority: String,
    question: OcspQuestion,
}

/// Looks whether those of some certificates for which it is time are revoked. No answer keeps nothing from being done.
pub(super) async fn refresh(run: &Common, chosen: &[&str], known: &mut Known) {
    let looking = async {
        if let Err(error) = look(run, chosen, known).await {
            run.context.report(&Progress::Note(error.to_string()));
        }
    };
    tokio::select! {
        _ = tokio::time::timeout(LONGEST, looking) => {}
        () = run.stop.asked(1) => {}
    }
}

async fn look(run: &Common, chosen: &[&str], known: &mut Known) -> Result<(), StoreError> {
    let (context, store, now) = (&run.context, &run.store, run.context.now());
    // The lists, each with the certificates that name it.
    let mut lists: BTreeMap<(String, String), Vec<Asked>> = BTreeMap::new();
    let mut questions: Vec<Question> = Vec::new();
    let mut again: Vec<(String, u32, Timestamp)> = Vec::new();
    for name in chosen {
        if known.of(name).is_some_and(|settled| settled.ask_revocation.is_some_and(|at| at > now)) {
            continue;
        }
        let Some(newest) = store.newest(name).await? else { continue };
        let is_time = newest.ask_revocation.is_none_or(|at| at <= now);
        if newest.revoked.is_some() || now >= newest.validity.not_after || !is_time {
            continue;
        }
        let chain = store.generation_folder(name, newest.number).bundle()?;
        let chain = chain.and_then(|bundle| Chain::from_pem(&bundle).ok());
        let (leaf, issuer) = match chain.as_ref().map(Chain::certificates) {
            Some([leaf, issuer, ..]) => (leaf, issuer),
            _ => {
                again.push(((*name).to_owned(), newest.number, now + NEVER));
                continue;
            }
        };
        let (certificate, number, authority) = ((*name).to_owned(), newest.number, newest.specification.authority);
        let responder = leaf.responder_addresses().into_iter().next();
        if let Some(address) = leaf.list_addresses().into_iter().next() {
            let asked = Asked { certificate, number, serial: newest.serial, issuer: issuer.public_key().to_vec() };
            lists.entry((address, authority)).or_default().push(asked);
        } else if let (Some(address), Some(question)) = (responder, OcspQuestion::about(leaf, issuer)) {
            questions.push(Question { certificate, number, address, authority, question });
        } else {
            again.push((certificate, number, now + NEVER));
        }
    }
    store.ask_revocations_again(&again).await?;
    if lists.is_empty() && questions.is_empty() {
        return Ok(());
    }
    context.report(&Progress::Doing("ask authorities whether certificates are revoked"));
    for ((address, authority), asked) in lists {
        ask(run, known, (&address, context.inventory.authorities.get(&authority)), asked).await?;
    }
    let mut answers = futures_util::stream::iter(questions)
        .map(|asked| async {
            let status = answer(context, &asked).await;
            (asked, status)
        })
        .buffer_unordered(AT_ONCE);
    while let Some((asked, status)) = answers.next().await {
        let next = match status {
            Some(OcspStatus::Good { next }) => next.unwrap_or(now + LATEST),
            _ => now + LATEST,
        };
        let row = (asked.certificate.clone(), asked.number, next.clamp(now + SOONEST, now + LATEST));
        store.ask_revocations_again(&[row]).await?;
        if let Some(found) = status.and_then(OcspStatus::revoked) {
            write_down(run, known, (&asked.certificate, asked.number), found).await?;
        }
    }
    Ok(())
}

/// Asks a responder; `None` when it does not answer, which is said.
async fn answer(context: &Context, asked: &Question) -> Option<OcspStatus> {
    let authority = context.inventory.authorities.get(&asked.authority)?;
    let (hosts, own) = authority.reach();
    let read = match ask_responder(&asked.address, &asked.question, hosts, own).await {
        Ok(answer) => asked.question.read(&answer, context.now()).map_err(|error| error.to_string()),
        Err(what) => Err(what),
    };
    let shown = words::printable(&asked.address, 200);
    let note = |what: &str| Progress::Note(format!("whether it is revoked cannot be asked at {shown}: {what}"));
    read.inspect_err(|what| context.about(&asked.certificate).report(&note(what))).ok()
}

/// Writes down that a generation is revoked.
async fn write_down(
    run: &Common,
    known: &mut Known,
    (certificate, number): (&str, u32),
    found: RevokedEntry,
) -> Result<(), StoreError> {
    let event = Event::Revoked { generation: number, reason: found.reason, by_us: false };
    run.store.mark_revoked(certificate, number, &event, run.context.now()).await?;
    known.forget(certificate);
    let text = format!("its authority has revoked generation {number} on {}", words::day(found.at));
    run.context.about(certificate).report(&Progress::Note(text));
    Ok(())
}

/// Asks for one list, and looks for certificates in it.
async fn ask(
    run: &Common,
    known: &mut Known,
    (address, authority): (&str, Option<&Authority>),
    asked: Vec<Asked>,
) -> Result<(), StoreError> {
    let (context, store, now) = (&run.context, &run.store, run.context.now());
    let list = match authority {
        Some(authority) => fetch(context, address, authority).await,
        None => None,
    };
    let mut read: BTreeMap<&[u8], Option<RevocationList>> = BTreeMap::new();
    let mut again = Vec::new();
    for one in &asked {
        let list = read.entry(&one.issuer).or_insert_with(|| {
            let read = RevocationList::read(list.as_deref()?, &one.issuer);
            let shown = words::printable(address, 200);
            read.inspect_err(|error| context.report(&Progress::Note(format!("{shown}: {error}")))).ok()
        });
        let next = list.as_ref().and_then(|list| list.next).unwrap_or(now + LATEST);
        again.push((one.certificate.clone(), one.number, next.clamp(now + SOONEST, now + LATEST)));
        if let Some(found) = list.as_ref().and_then(|list| list.of(&one.serial)) {
            write_down(run, known, (&one.certificate, one.number), found).await?;
        }
    }
    store.ask_revocations_again(&again).await
}

async fn fetch(context: &Context, address: &str, authority: &Authority) -> Option<Vec<u8>> {
    let (hosts, own) = authority.reach();
    match fetch_revocation_list(address, hosts, own).await {
        Ok(list) => Some(list),
        Err(what) => {
            let shown = words::printable(address, 200);
            let text = format!("the list of revoked certificates at {shown} cannot be had: {what}");
            context.report(&Progress::Note(text));
            None
        }
    }
}
