//! The whole renewal at another authority, down to the stored chain: with a ledger and keys of its own, and without touching what is served.

use super::{Rehearsal, Rehearsed, Trial, Tried};
use crate::StepError;
use crate::keep::entry::{Ending, KeepEntry, KeepOptions};
use crate::keep::keep;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::{AuthorityKind, Inventory, Limits};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_store::Store;
use std::path::PathBuf;
use std::sync::Arc;

/// The authority that stands in where one names none for rehearsals.
#[derive(Clone, Debug)]
pub struct StandIn {
    /// The address of its directory.
    pub directory: String,
    /// The file with the root that its own TLS is checked against.
    pub api_roots: PathBuf,
}

/// Renews certificates at the authorities for rehearsals, and adds what came of it to what was rehearsed. Of those for which something would fail
/// already nothing is tried.
///
/// # Errors
/// When another rehearsal is at work, or its ledger fails.
#[boxed]
pub async fn rehearse_renewal(
    context: &Context,
    rehearsals: &mut [Rehearsal],
    stand_in: &StandIn,
) -> Result<(), StepError> {
    let fails = |trial: &Rehearsed| matches!(trial.tried, Tried::Fatal { .. } | Tried::Failed(_));
    let state = context.state.join("rehearsal");
    let mut only = Vec::new();
    for Rehearsal { certificate, trials } in rehearsals.iter_mut() {
        let entry = &context.inventory.certificates[certificate];
        let text = if trials.iter().any(fails) {
            "not tried, since something would fail before".to_owned()
        } else if context.inventory.authorities[&entry.authority].acme().is_none() {
            format!("not tried: `{}` is of a kind that has no rehearsals", entry.authority)
        } else if context.inventory.awaits_person(entry) {
            "not tried: a person has to place what proves control".to_owned()
        } else {
            only.push(certificate.clone());
            continue;
        };
        let advice = "look at the other trials".to_owned();
        trials.push(Rehearsed::of(Trial::Renewal, &entry.authority, Tried::Risky { text, advice }));
    }
    if only.is_empty() {
        return Ok(());
    }
    let text = "the renewal itself is tried in a state folder of its own: nothing of it is kept or installed";
    context.report(&Progress::Note(text.into()));
    let inventory = Arc::new(inventory_of(context, stand_in));
    let rehearsing = Context { inventory: Arc::clone(&inventory), state: state.clone(), ..context.clone() };
    let options = KeepOptions { only: only.clone(), renew: true, drop_names: true, ..KeepOptions::default() };
    let entries = keep(&rehearsing, &options).await?;
    let store = Store::open(&state)?;
    for entry in entries {
        let authority = &inventory.certificates[&entry.certificate].authority;
        let directory = inventory.authorities[authority].acme().map_or("", |acme| &acme.directory);
        let of = if directory == stand_in.directory { "a practice authority" } else { directory };
        let name = entry.certificate.clone();
        let tried = judge(entry);
        let rehearsal = rehearsals.iter_mut().find(|one| one.certificate == name);
        rehearsal.into_iter().for_each(|one| one.trials.push(Rehearsed::of(Trial::Renewal, of, tried.clone())));
        // Nobody is to find a key here that was of no use.
        for row in store.generations(&name).await? {
            store.remove_generation(&name, row.number)?;
        }
    }
    Ok(())
}

/// Returns the inventory of a rehearsal: each authority has another address, nothing is installed, and nobody is told.
fn inventory_of(context: &Context, stand_in: &StandIn) -> Inventory {
    let mut inventory = (*context.inventory).clone();
    for authority in inventory.authorities.values_mut() {
        authority.limits = Limits::default();
        let AuthorityKind::Acme(acme) = &mut authority.kind else { continue };
        match acme.rehearsal.take() {
            Some(directory) => acme.directory = directory,
            None => {
                (acme.directory, acme.api_roots) = (stand_in.directory.clone(), Some(stand_in.api_roots.clone()));
                (acme.external_account, acme.accept_terms) = (None, true);
            }
        }
    }
    for entry in inventory.certificates.values_mut() {
        entry.install.clear();
        entry.other_authorities.clear();
        // What an authority for rehearsals offers of kinds is its own.
        entry.profile = None;
    }
    inventory.notify.clear();
    inventory
}

fn judge(entry: KeepEntry) -> Tried {
    match entry.ending {
        Ending::Arrived { validity, .. } => {
            let lifetime = validity.map(|v| words::duration(v.lifetime())).unwrap_or_default();
            Tried::Good(format!("proved, ordered and received, with a new key: a certificate for {lifetime}"))
        }
        Ending::Failed { error, .. } => Tried::Failed(Arc::new(*error)),
        _ => Tried::Risky {
            text: "it came to no end".into(),
            advice: "run it again; an authority for rehearsals may be slow".into(),
        },
    }
}
