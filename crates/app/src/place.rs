//! Files that an authority outside ACME wants to see on a site: placed, looked at, and removed when somebody says so.

use crate::proof::{LARGEST_SITE_FILE, SiteFile, SiteFolder, look_at_files, pay_debts, remote};
use crate::{ProofError, StepError};
use eskort_core::context::Context;
use eskort_core::desk::{AskedError, site_path};
use eskort_core::inventory::{CheckAddress, Proof};
use eskort_core::names::Identifier;
use eskort_core::progress::Progress;
use eskort_host::files::read_whole;
use eskort_store::{RunLock, Store};
use std::path::{Path, PathBuf};

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

/// The site's folder that a proof of kind http-folder names.
pub(crate) struct SitePlace<'a> {
    context: &'a Context,
    folder: &'a Path,
    hosts: &'a [String],
    check_address: Option<CheckAddress>,
}

impl<'a> SitePlace<'a> {
    pub(crate) fn of(context: &'a Context, proof: &str) -> Result<Self, ProofError> {
        match context.inventory.proofs.get(proof) {
            Some(Proof::HttpFolder { folder, hosts, check_address }) => {
                Ok(SitePlace { context, folder, hosts, check_address: *check_address })
            }
            _ => Err(ProofError::NoSiteFolder { proof: proof.to_owned() }),
        }
    }

    /// Puts a file there, and looks at it as an authority would. A file that cannot be seen is left where it is.
    pub(crate) async fn show(
        &self,
        store: &Store,
        owner: &str,
        file: &SiteFile,
        names: &[Identifier],
    ) -> Result<(), StepError> {
        let SitePlace { context, folder, hosts, .. } = *self;
        let path = folder.join(&file.path);
        let there = if hosts.is_empty() { read_whole(&path, LARGEST_SITE_FILE).ok().flatten() } else { None };
        if there.is_some_and(|there| there.bytes != file.bytes) {
            return Err(ProofError::Occupied { path }.into());
        }
        (context.watch)(&Progress::Doing("place the file"));
        let files = std::slice::from_ref(file);
        SiteFolder { context, store, owner, root: folder, hosts }.publish(files).await?;
        (context.watch)(&Progress::Doing("look at it as the authority would"));
        remote::look(context, folder, hosts, files).await?;
        look(file, names, self.check_address).await
    }
}

/// Looks at a file at its names as an authority would.
pub(crate) async fn look(
    file: &SiteFile,
    names: &[Identifier],
    instead: Option<CheckAddress>,
) -> Result<(), StepError> {
    look_at_files(names.iter().map(|name| (name.clone(), file.clone())).collect(), instead).await
}

/// Returns where a file is to be seen.
pub(crate) fn addresses(file: &SiteFile, names: &[Identifier]) -> Vec<String> {
    names.iter().map(|name| format!("http://{}/{}", name.in_url(), file.path)).collect()
}

/// Puts a file where a proof of the inventory puts its own, and looks at it as an authority would. It stays there until
/// [`take_back`]. Returns where it is to be seen.
///
/// # Errors
/// When another run is at work, the proof has no folder, the path is none, or the file cannot be written or seen; a file that
/// cannot be seen is left where it is.
pub async fn place(context: &Context, proof: &str, file: &FileToPlace) -> Result<Vec<String>, StepError> {
    let site = SitePlace::of(context, proof)?;
    let path = site_path(&file.path).ok_or_else(|| ProofError::from(AskedError::Path(file.path.clone())))?;
    let _lock = RunLock::take(&context.state, "eskort place", (context.now)())?;
    let store = Store::open(&context.state)?;
    let site_file = SiteFile { path: path.to_owned(), bytes: file.bytes.clone() };
    site.show(&store, &owner(proof), &site_file, &file.names).await?;
    Ok(addresses(&site_file, &file.names))
}

/// Removes the files that were placed for a proof, and returns those that were there. What cannot be removed stays owed.
///
/// # Errors
/// When another run is at work, or the ledger fails.
pub async fn take_back(context: &Context, proof: &str) -> Result<(Vec<PathBuf>, usize), StepError> {
    let _lock = RunLock::take(&context.state, "eskort place", (context.now)())?;
    let store = Store::open(&context.state)?;
    let owner = owner(proof);
    let before = store.debts()?.into_iter().filter(|row| row.certificate == owner);
    let before: Vec<(i64, PathBuf)> = before.filter_map(|row| Some((row.id, row.debt.path()?.to_owned()))).collect();
    pay_debts(context, &store, |whose| whose == owner).await?;
    let left: Vec<i64> = store.debts()?.into_iter().map(|row| row.id).collect();
    let (left, gone): (Vec<_>, Vec<_>) = before.into_iter().partition(|(id, _)| left.contains(id));
    Ok((gone.into_iter().map(|(_, path)| path).collect(), left.len()))
}
