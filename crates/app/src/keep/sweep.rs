//! Removing the files of old generations.

use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::keeping::to_sweep;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::crash_point;
use eskort_store::{Store, StoreError};
use std::collections::BTreeSet;

/// Removes the files of generations that are old enough; the ledger still knows them. None that a server shows, as far as is known, and none of
/// a certificate that could not be put somewhere: what a server shows then is not known.
pub(super) async fn sweep(context: &Context, store: &Store) -> Result<(), StoreError> {
    let (now, keeping) = (context.now(), context.inventory.keeping);
    for (name, generations) in store.unswept().await? {
        if !context.inventory.certificates.contains_key(&name) {
            continue;
        }
        // Most certificates have none.
        let Some(newest) = generations.iter().map(|(number, _)| *number).max() else { continue };
        if to_sweep(&generations, &BTreeSet::new(), keeping, now).is_empty() {
            continue;
        }
        let installs = store.installs(&name).await?;
        if installs.iter().any(|row| !row.has(row.generation)) {
            continue;
        }
        let mut in_use: BTreeSet<u32> = installs.iter().map(|row| row.generation).collect();
        in_use.extend(store.current_generation(&name));
        in_use.extend(store.to_place(&name, newest, now).await?);
        in_use.extend(store.open_journey(&name).await?.map(|open| open.generation));
        let old = to_sweep(&generations, &in_use, keeping, now);
        for number in &old {
            store.remove_generation(&name, *number)?;
            crash_point("swept");
            store.mark_swept(&name, *number, &Event::Swept { generation: *number }, now).await?;
        }
        if !old.is_empty() {
            let what = words::count(old.len() as u64, "old generation");
            context.about(&name).report(&Progress::Note(format!("the keys and chains of {what} were removed")));
        }
    }
    Ok(())
}
