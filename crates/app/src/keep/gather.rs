//! What is known about a certificate before anything is decided. Reads only.

use super::entry::KeepOptions;
use super::lost;
use crate::StepError;
use eskort_core::budget::{Room, waits_for};
use eskort_core::context::Context;
use eskort_core::decision::{Facts, OpenJourney, Specification, Stored, authority_of_the_day};
use eskort_core::inventory::CertificateEntry;
use eskort_core::journey::ProofTask;
use eskort_core::pki::{base64url, sha256};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_install::{self as install, Facts as ServerFacts, Placement};
use eskort_store::{JourneyRow, Needs, Store, StoreError};
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;

/// Returns the certificates that a run is about, in the order of their names.
pub(crate) fn chosen<'a>(context: &'a Context, options: &KeepOptions) -> Vec<(&'a str, &'a CertificateEntry)> {
    let wanted = |name: &&String| options.only.is_empty() || options.only.contains(name);
    let all = context.inventory.certificates.iter().filter(|(name, _)| wanted(name));
    let mut chosen: Vec<_> = all.map(|(name, entry)| (name.as_str(), entry)).collect();
    chosen.sort_by(|(a, _), (b, _)| words::natural_order(a, b));
    chosen
}

/// Returns the inventory as it is to be read now: each certificate goes to the first of its authorities, or to another one where that has failed
/// for long.
pub(crate) async fn with_authorities_of_the_day<'a>(
    context: &'a Context,
    store: &Store,
    chosen: &[&str],
) -> Result<Cow<'a, Context>, StoreError> {
    let now = context.now();
    let mut inventory = Cow::Borrowed(&*context.inventory);
    for name in chosen {
        let entry = &context.inventory.certificates[*name];
        if entry.other_authorities.is_empty() {
            continue;
        }
        let failures = store.failures(name).await?.map(|(failures, _)| failures);
        let since = failures.as_ref().and_then(|failures| failures.authority_since);
        let validity = store.newest(name).await?.map(|newest| newest.validity);
        let time = validity.map_or((now, now), |v| (context.inventory.timing_of(name).renew_at(&v), v.not_after));
        let authorities: Vec<&str> = entry.authorities().collect();
        let mut held = BTreeSet::new();
        for authority in &authorities {
            let hold = store.authority_hold(authority, || section_of(context, authority)).await?;
            held.extend(hold.filter(|hold| hold.until > now).map(|_| *authority));
        }
        let index = authority_of_the_day(&authorities, failures.as_ref(), |name| held.contains(name), time, now);
        if let (Some(at), Some(since)) = (index.checked_sub(1), since) {
            let other = entry.other_authorities[at].clone();
            let failed_for = words::duration(now.duration_since(since));
            let text = format!("`{}` has failed for {failed_for}: `{other}` is asked instead", entry.authority);
            context.about(name).report(&Progress::Note(text));
            let entry = inventory.to_mut().certificates.get_mut(*name).expect("it was read there");
            entry.other_authorities[at] = std::mem::replace(&mut entry.authority, other);
        }
    }
    Ok(match inventory {
        Cow::Borrowed(_) => Cow::Borrowed(context),
        Cow::Owned(inventory) => Cow::Owned(Context { inventory: Arc::new(inventory), ..context.clone() }),
    })
}

/// Returns what stands for everything that the inventory says of an authority, the key of an external account included.
pub(crate) fn section_of(context: &Context, authority: &str) -> String {
    let entry = &context.inventory.authorities[authority];
    let key = entry.acme().and_then(|acme| std::fs::read(&acme.external_account.as_ref()?.key_file).ok());
    base64url(&sha256(format!("{entry:?} {:?}", key.map(|key| sha256(&key))).as_bytes()))
}

pub(crate) fn specification_of(context: &Context, entry: &CertificateEntry) -> Specification {
    Specification::new(entry, &context.inventory.authorities[&entry.authority])
}

/// Returns what the inventory says of a certificate, and nothing else.
pub(super) fn bare_facts(context: &Context, name: &str, entry: &CertificateEntry) -> Facts {
    let at = |authority| Specification {
        authority: String::clone(authority),
        reached: Some(context.inventory.authorities[authority].reached()),
        ..specification_of(context, entry)
    };
    Facts {
        specification: specification_of(context, entry),
        newest: None,
        open: None,
        failures: None,
        authority_hold: None,
        no_room: None,
        deployment: None,
        next_generation: 1,
        asked_renewal: None,
        timing: context.inventory.timing_of(name),
        elsewhere: entry.other_authorities.iter().map(at).collect(),
        wanted: false,
        may_lose_names: false,
    }
}

/// Whether an open journey can go on: it is for what the inventory wants, goes to an authority of the same kind, and proves each
/// name as the inventory says.
pub(crate) fn still_fits(context: &Context, entry: &CertificateEntry, open: &JourneyRow) -> bool {
    let fits = |task: &ProofTask| {
        context.inventory.proof_of(entry, &task.name).is_some_and(|(name, proof)| {
            task.proof.as_deref().is_none_or(|chosen| chosen == name) && proof.challenges().contains(&task.kind)
        })
    };
    let kind = context.inventory.authorities[&entry.authority].kind_word();
    open.specification.differs(&specification_of(context, entry)).is_none()
        && open.stage.authority_kind().is_none_or(|of| of == kind)
        && open.stage.tasks().iter().all(fits)
}

/// Gathers what is known about a certificate. Reads only.
pub(crate) async fn gather(
    context: &Context,
    store: &Store,
    name: &str,
    entry: &CertificateEntry,
    servers: &ServerFacts,
) -> Result<Facts, StepError> {
    let bare = bare_facts(context, name, entry);
    let newest = match store.newest(name).await? {
        Some(newest) => Some(newest.stored()),
        None => lost::find(store, name, &bare.specification).map(|found| found.stored()),
    };
    // A server that cannot be read must not keep a certificate from being renewed: installing it says why.
    let fits = newest.as_ref().filter(|stored| bare.differs(stored).is_none() && !stored.revoked);
    let placed = match fits {
        Some(Stored { generation, .. }) => store.to_place(name, *generation, context.now()).await?,
        None => None,
    };
    let deployment = match placed {
        Some(generation) => {
            let placement = Placement::of(name, entry, &entry.names, generation);
            Some(install::deployment(context, store, &placement, servers).await?)
        }
        None => None,
    };
    let asked_renewal = match &newest {
        Some(stored) => store.asked_renewal(name).await?.and_then(|asked| asked.moment_of(stored.generation)),
        None => None,
    };
    let open = store.open_journey(name).await?;
    let unfinished = |open: &&JourneyRow| {
        let handed_over = open.stage.handed_over().is_some();
        !handed_over && newest.as_ref().is_none_or(|stored| stored.generation < open.generation)
    };
    let discarded = open.as_ref().filter(unfinished).filter(|open| !still_fits(context, entry, open));
    let next_generation = store.next_generation(name, discarded.map(|open| open.generation)).await?;
    let summary = |open: JourneyRow| OpenJourney {
        generation: open.generation,
        fits: still_fits(context, entry, &open),
        passed: open.stage.milestone(),
    };
    Ok(Facts {
        newest,
        open: open.map(summary),
        failures: store.failures(name).await?.map(|(failures, _)| failures),
        authority_hold: store.authority_hold(&entry.authority, || section_of(context, &entry.authority)).await?,
        no_room: waits_for(rooms_for(context, store, entry).await?),
        deployment,
        next_generation,
        asked_renewal,
        ..bare
    })
}

/// Returns how the budgets of its authority stand that an order for a certificate needs.
pub(crate) async fn rooms_for(
    context: &Context,
    store: &Store,
    entry: &CertificateEntry,
) -> Result<Vec<Room>, StoreError> {
    let (authority, now) = (&context.inventory.authorities[&entry.authority], context.now());
    let needs =
        Needs { authority: authority.counted_as(&entry.authority), limits: &authority.limits, names: &entry.names };
    store.rooms(&needs, now).await
}
