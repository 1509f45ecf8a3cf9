//! Asking authorities whether they have revoked their certificates: their lists, before anything is decided.

use super::common::Common;
use super::rest::Known;
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::inventory::Authority;
use eskort_core::pki::{Certificate, Chain, RevocationList};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_store::StoreError;
use eskort_talk::fetch_revocation_list;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::time::Duration;

/// All lists of a run together take no longer: what is not asked then is asked by the next run.
const LONGEST: Duration = Duration::from_secs(30);
/// How soon and how late a list is asked for again, whatever it says of the next one.
const SOONEST: SignedDuration = SignedDuration::from_hours(6);
const LATEST: SignedDuration = SignedDuration::from_hours(24);
/// A certificate that names no list is never asked about again.
const NEVER: SignedDuration = SignedDuration::from_hours(24 * 365);

/// A generation that it is time to ask about.
struct Asked {
    certificate: String,
    number: u32,
    serial: String,
    /// Its issuer's key.
    issuer: Vec<u8>,
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
        let issuer = chain.as_ref().and_then(|chain| chain.certificates().get(1)).map(Certificate::public_key);
        let address = chain.as_ref().and_then(|chain| chain.leaf().list_addresses().into_iter().next());
        match (issuer, address) {
            (Some(issuer), Some(address)) => {
                let (certificate, number) = ((*name).to_owned(), newest.number);
                let asked = Asked { certificate, number, serial: newest.serial, issuer: issuer.to_vec() };
                lists.entry((address, newest.specification.authority)).or_default().push(asked);
            }
            _ => again.push(((*name).to_owned(), newest.number, now + NEVER)),
        }
    }
    store.ask_revocations_again(&again).await?;
    if lists.is_empty() {
        return Ok(());
    }
    context.report(&Progress::Doing("ask authorities whether certificates are revoked"));
    for ((address, authority), asked) in lists {
        ask(run, known, (&address, context.inventory.authorities.get(&authority)), asked).await?;
    }
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
            let event = Event::Revoked { generation: one.number, reason: found.reason, by_us: false };
            store.mark_revoked(&one.certificate, one.number, &event, now).await?;
            known.forget(&one.certificate);
            let text = format!("its authority has revoked generation {} on {}", one.number, words::day(found.at));
            context.about(&one.certificate).report(&Progress::Note(text));
        }
    }
    store.ask_revocations_again(&again).await
}

async fn fetch(context: &Context, address: &str, authority: &Authority) -> Option<Vec<u8>> {
    let hosts = authority.fetch_issuers.as_deref().unwrap_or_default();
    let own = authority.acme().is_some_and(|acme| acme.api_roots.is_some());
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
