//! Files that an authority outside ACME wants to see on a site: placed, looked at, and removed when somebody says so.

use crate::StepError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::manual::{AskedError, site_path};
use eskort_core::names::Identifier;
use eskort_host::Machines;
use eskort_prove::{ProofContext, ProofError, SharedProofs, SiteFile, SitePlace, addresses, pay_debts_of};
use eskort_store::{RunLock, Store};
use std::path::PathBuf;

/// A file to place.
#[derive(Clone, Debug)]
pub struct FileToPlace {
    /// Its path on the site, as the authority names it: `/.well-known/pki-validation/lamp.txt`.
    pub path: String,
    /// What it holds.
    pub bytes: Vec<u8>,
    /// The names at which it has to be seen.
    pub names: Vec<Identifier>,
}

/// Returns for whom files are owed that belong to a proof and to no certificate. No certificate has such a name.
pub(crate) fn owner(proof: &str) -> String {
    format!("[proof.{proof}]")
}

/// Whether somebody has to say that what is owed may go.
pub(crate) fn stays(owner: &str) -> bool {
    owner.starts_with('[')
}

/// Puts a file where a proof of the inventory puts its own, and looks at it as an authority would. It stays there until
/// [`take_back`]. Returns where it is to be seen.
///
/// # Errors
/// When another run is at work, the proof has no folder, the path is none, or the file cannot be written or seen; a file that
/// cannot be seen is left where it is.
#[boxed]
pub async fn place(context: &Context, proof: &str, file: &FileToPlace) -> Result<Vec<String>, StepError> {
    let machines = Machines::default();
    let path = site_path(&file.path).ok_or_else(|| ProofError::from(AskedError::Path(file.path.clone())))?;
    let _lock = RunLock::take(&context.state, "eskort place", context.now())?;
    let store = Store::open(&context.state)?;
    let shared = SharedProofs::default();
    let site = SitePlace::of(ProofContext { context, store: &store, machines: &machines, shared: &shared }, proof)?;
    let site_file = SiteFile { path: path.to_owned(), bytes: file.bytes.clone() };
    site.show(&owner(proof), &site_file, &file.names).await?;
    Ok(addresses(&site_file, &file.names))
}

/// Removes the files that were placed for a proof, and returns those that were there. What cannot be removed stays owed.
///
/// # Errors
/// When another run is at work, or the ledger fails.
#[boxed]
pub async fn take_back(context: &Context, proof: &str) -> Result<(Vec<PathBuf>, usize), StepError> {
    let _lock = RunLock::take(&context.state, "eskort place", context.now())?;
    let store = Store::open(&context.state)?;
    let owner = owner(proof);
    let before = store.debts_of(&owner).await?.into_iter();
    let before: Vec<(i64, PathBuf)> = before.filter_map(|row| Some((row.id, row.debt.path()?.to_owned()))).collect();
    let around =
        ProofContext { context, store: &store, machines: &Machines::default(), shared: &SharedProofs::default() };
    pay_debts_of(&around, &owner).await?;
    let left: Vec<i64> = store.debts_of(&owner).await?.into_iter().map(|row| row.id).collect();
    let (left, gone): (Vec<_>, Vec<_>) = before.into_iter().partition(|(id, _)| left.contains(id));
    Ok((gone.into_iter().map(|(_, path)| path).collect(), left.len()))
}
