//! Whether an authority answers and takes us, and what its limits leave.

use super::{Rehearsed, Trial, Tried};
use crate::StepError;
use crate::keep::rooms_for;
use eskort_core::budget::{Room, waits_for};
use eskort_core::context::Context;
use eskort_core::inventory::CertificateEntry;
use eskort_core::words;
use eskort_store::{Store, StoreError};
use eskort_talk::Conversation;
use std::sync::Arc;

/// How an authority is known to domains.
pub(super) struct Issuer {
    /// The names by which it goes in CAA records.
    pub(super) identities: Vec<String>,
    /// The address of our account, where we have one.
    pub(super) account: Option<String>,
}

/// What came of asking an authority.
pub(super) struct Asked {
    /// `None` for one that did not answer.
    pub(super) issuer: Option<Issuer>,
    pub(super) tried: Tried,
}

/// Asks an authority for its directory, and looks at what it wants; `None` for one that does not speak ACME.
pub(super) async fn ask(context: &Context, store: &Store, name: &str) -> Option<Asked> {
    let acme = context.inventory.authorities[name].acme()?;
    let asked = async {
        let conversation = Conversation::open(context, name, acme, store).await?;
        let account = conversation.signer().account().map(str::to_owned);
        Ok::<_, StepError>((conversation.directory().await?.meta.clone(), account))
    };
    let (meta, account) = match asked.await {
        Ok(found) => found,
        Err(error) => return Some(Asked { issuer: None, tried: Tried::Failed(Arc::new(error)) }),
    };
    let terms = meta.terms_of_service.map(|terms| words::printable(&terms, 200)).filter(|_| !acme.accept_terms);
    let tried = match terms {
        Some(terms) => Tried::Fatal {
            text: format!("you have not agreed to its terms: {terms}"),
            advice: "read them, then write `accept-terms = true` for this authority".into(),
        },
        None if meta.external_account_required && acme.external_account.is_none() => Tried::Fatal {
            text: "it requires an external account".into(),
            advice: "get a key identifier and a key from its web site, and write external-key-id and external-key-file into \
                     its section"
                .into(),
        },
        None => Tried::Good("it answers".into()),
    };
    Some(Asked { issuer: Some(Issuer { identities: meta.caa_identities, account }), tried })
}

/// Returns whether the budgets of its authority have room for an order for a certificate; nothing where there are no limits.
pub(super) async fn budget(
    context: &Context,
    store: &Store,
    entry: &CertificateEntry,
) -> Result<Option<Rehearsed>, StoreError> {
    let rooms = rooms_for(context, store, entry).await?;
    let Some(least) = rooms.iter().min_by_key(|room| room.left()) else { return Ok(None) };
    let told = |room: &Room| format!("{} of {}", room.spent, room.whole_words());
    let tried = match waits_for(rooms.clone()) {
        Some((room, until)) => Tried::Fatal {
            text: format!("no room before {}; spent: {}", words::instant(until), told(&room)),
            advice:
                "wait until then, raise the limit in the section of the authority if it allows more, or insist with \
                     `eskort keep --beyond-budget`"
                    .into(),
        },
        None if least.left() == 1 => Tried::Risky {
            text: format!("this order takes the last one; spent: {}", told(least)),
            advice: "be sure that all else is good before you go on".into(),
        },
        None => Tried::Good(format!("spent: {}", told(least))),
    };
    Ok(Some(Rehearsed { trial: Trial::Budget, of: entry.authority.clone(), tried }))
}
