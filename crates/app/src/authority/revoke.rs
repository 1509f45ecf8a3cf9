//! Revoking a certificate.

use crate::StepError;
use crate::keep::entry::{Ending, KeepEntry, KeepOptions};
use crate::keep::keep;
use crate::look::check::{CheckDepth, CheckTarget, check};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::pki::{Chain, PrivateKey};
use eskort_core::revocation::Revocation;
use eskort_core::words;
use eskort_host::crash_point;
use eskort_store::{GenerationRow, RunLock, Store};
use eskort_talk::Conversation;

/// What is to be revoked, and how.
#[derive(Clone, Copy, Debug)]
pub struct RevokeOptions {
    /// The generation; `None` for the newest.
    pub generation: Option<u32>,
    /// Why.
    pub reason: Revocation,
    /// Whether the request is signed with the certificate's own key, not by the account: for one that another account got.
    pub with_key: bool,
    /// Whether also what servers still show is revoked.
    pub insist: bool,
}

/// What came of it.
#[derive(Debug)]
pub struct Revoked {
    /// The generation that is revoked.
    pub generation: u32,
    /// The run that put another one with a new key in its place before.
    pub renewed: Option<KeepEntry>,
}

/// Why a certificate is not revoked.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum RevokeError {
    /// Something that a journey can meet, too.
    #[error(transparent)]
    Step(#[from] StepError),
    /// No such generation.
    #[error("generation {generation} of `{certificate}` is not known")]
    NoSuchGeneration {
        /// The certificate.
        certificate: String,
        /// The number.
        generation: u32,
    },
    /// It is revoked.
    #[error("generation {generation} was revoked on {day}")]
    RevokedBefore {
        /// Its number.
        generation: u32,
        /// When.
        day: String,
    },
    /// Its files were removed.
    #[error("the files of generation {generation} were removed")]
    Swept {
        /// Its number.
        generation: u32,
    },
    /// Its authority cannot be asked.
    #[error("the authority `{authority}` takes no revocations from here")]
    NotAcme {
        /// Its name.
        authority: String,
    },
    /// Visitors would be turned away.
    #[error("generation {generation} is still in use {}", words::list(places))]
    InUse {
        /// Its number.
        generation: u32,
        /// Where.
        places: Vec<String>,
    },
    /// The key stays the same, and somebody else may have it.
    #[error("the next generation would have the same key")]
    SameKey,
    /// No other certificate came in its place.
    #[error("no other certificate could be put in its place, so that generation {generation} was not revoked")]
    NotRenewed {
        /// The generation that is still in use.
        generation: u32,
        /// What came of the run.
        entry: Box<KeepEntry>,
    },
}

/// Revokes a generation of a certificate. When somebody else may have its key, another one with a new key is put in its place first; otherwise what
/// servers still show is not revoked unless somebody insists.
///
/// # Errors
/// [`RevokeError`].
///
/// # Panics
/// When the certificate is not in the inventory: callers look first.
#[boxed]
pub async fn revoke(context: &Context, name: &str, options: &RevokeOptions) -> Result<Revoked, RevokeError> {
    let store = Store::open_existing(&context.state).map_err(StepError::from)?.ok_or(StepError::NothingStored)?;
    let row = chosen(&store, name, options.generation).await?;
    let generation = row.number;
    if let Some(at) = row.revoked {
        return Err(RevokeError::RevokedBefore { generation, day: words::day(at) });
    }
    if row.swept.is_some() {
        return Err(RevokeError::Swept { generation });
    }
    let authority = &row.specification.authority;
    let Some(acme) = context.inventory.authorities.get(authority).and_then(|found| found.acme()) else {
        return Err(RevokeError::NotAcme { authority: authority.clone() });
    };
    let folder = store.generation_folder(name, generation);
    let bundle = folder.bundle().map_err(StepError::from)?.ok_or(RevokeError::Swept { generation })?;
    let chain = Chain::from_pem(&bundle).map_err(StepError::from)?;
    let mut renewed = None;
    let newest = store.newest(name).await.map_err(StepError::from)?;
    let is_newest = newest.is_some_and(|newest| newest.number == generation);
    if options.reason == Revocation::KeyCompromise && is_newest && !options.insist {
        let entry = &context.inventory.certificates[name];
        if entry.keep_key || entry.key_file.is_some() {
            return Err(RevokeError::SameKey);
        }
        renewed = Some(renew(context, name, generation).await?);
    }
    if !options.insist {
        let places = places_in_use(context, &store, name, &row).await?;
        if !places.is_empty() {
            return Err(RevokeError::InUse { generation, places });
        }
    }
    let _lock = RunLock::take(&context.state, "eskort revoke", context.now()).map_err(StepError::from)?;
    let key = match folder.key().map_err(StepError::from)?.filter(|_| options.with_key) {
        Some(pem) => Some(PrivateKey::from_pem(&pem).map_err(|source| {
            let path = folder.part(eskort_core::inventory::Part::Key);
            StepError::Key { path, source }
        })?),
        None => None,
    };
    let context = &context.about(name);
    let conversation = Conversation::open(context, authority, acme, &store).await.map_err(StepError::from)?;
    let revoking = conversation.revoke(chain.leaf().der(), options.reason, key, &store);
    revoking.await.map_err(StepError::from)?;
    crash_point("revoked");
    let event = Event::Revoked { generation, reason: Some(options.reason.code()), by_us: true };
    store.mark_revoked(name, generation, &event, context.now()).await.map_err(StepError::from)?;
    Ok(Revoked { generation, renewed })
}

async fn chosen(store: &Store, name: &str, wanted: Option<u32>) -> Result<GenerationRow, RevokeError> {
    let known = store.generations(name).await.map_err(StepError::from)?;
    let Some(newest) = known.first().map(|row| row.number) else { return Err(StepError::NothingStored.into()) };
    let generation = wanted.unwrap_or(newest);
    let found = known.into_iter().find(|row| row.number == generation);
    found.ok_or_else(|| RevokeError::NoSuchGeneration { certificate: name.to_owned(), generation })
}

/// Puts another generation in the place of one.
async fn renew(context: &Context, name: &str, generation: u32) -> Result<KeepEntry, RevokeError> {
    let options = KeepOptions { only: vec![name.to_owned()], renew: true, ..KeepOptions::default() };
    let entry = keep(context, &options).await.map_err(StepError::from)?.pop();
    match entry {
        Some(entry) if matches!(entry.ending, Ending::Arrived { .. }) => Ok(entry),
        entry => {
            let entry = Box::new(entry.unwrap_or_else(|| KeepEntry::interrupted(name)));
            Err(RevokeError::NotRenewed { generation, entry })
        }
    }
}

/// Returns where a generation is still in use: on the servers that have it by the ledger, and at the endpoints that show it.
async fn places_in_use(
    context: &Context,
    store: &Store,
    name: &str,
    row: &GenerationRow,
) -> Result<Vec<String>, StepError> {
    let installs = store.installs(name).await?;
    let on_servers = installs.iter().filter(|install| install.has(row.number));
    let mut places: Vec<String> = on_servers.map(|install| format!("on server `{}`", install.server)).collect();
    if places.is_empty() {
        let reports = check(context, &CheckTarget::Certificate(name.to_owned()), &CheckDepth::Handshake).await?;
        let shows = reports
            .into_iter()
            .filter(|report| report.chain.first().is_some_and(|leaf| leaf.fingerprint == row.fingerprint));
        places.extend(shows.map(|report| format!("at {}", report.endpoint())));
        places.dedup();
    }
    Ok(places)
}
