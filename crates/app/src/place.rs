//! Files that an authority outside ACME wants to see on a site: placed, looked at, and removed when somebody says so.

use crate::proof::{SiteFile, SiteFolder, look_at_files, pay_debts, remote};
use crate::{App, Progress, ProofError, StepError};
use eskort_core::inventory::Proof;
use eskort_core::names::Identifier;
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
pub async fn place(app: &App, proof: &str, file: &FileToPlace) -> Result<Vec<String>, StepError> {
    let Some(Proof::HttpFolder { folder, hosts, check_address }) = app.inventory.proofs.get(proof) else {
        return Err(ProofError::NoSiteFolder { proof: proof.to_owned() }.into());
    };
    let path = plain_path(&file.path).ok_or_else(|| ProofError::BadPath { path: file.path.clone() })?;
    let _lock = RunLock::take(&app.state, "eskort place", (app.now)())?;
    let store = Store::open(&app.state)?;
    let site_file = SiteFile { path: path.to_owned(), bytes: file.bytes.clone() };
    if hosts.is_empty() && folder.join(path).exists() && std::fs::read(folder.join(path)).is_ok_and(|b| b != file.bytes)
    {
        return Err(ProofError::Occupied { path: folder.join(path) }.into());
    }
    (app.watch)(&Progress::Doing("place the file"));
    let site = SiteFolder { app, store: &store, owner: &owner(proof), root: folder, hosts };
    site.publish(std::slice::from_ref(&site_file)).await?;
    (app.watch)(&Progress::Doing("look at it as the authority would"));
    remote::look(app, folder, hosts, std::slice::from_ref(&site_file)).await?;
    let looks = file.names.iter().map(|name| (name.clone(), site_file.clone())).collect();
    look_at_files(looks, *check_address).await?;
    Ok(file.names.iter().map(|name| format!("http://{}/{path}", name.in_url())).collect())
}

/// Removes the files that were placed for a proof, and returns those that were there. What cannot be removed stays owed.
///
/// # Errors
/// When another run is at work, or the ledger fails.
pub async fn take_back(app: &App, proof: &str) -> Result<(Vec<PathBuf>, usize), StepError> {
    let _lock = RunLock::take(&app.state, "eskort place", (app.now)())?;
    let store = Store::open(&app.state)?;
    let owner = owner(proof);
    let before = store.debts()?.into_iter().filter(|row| row.certificate == owner);
    let before: Vec<(i64, PathBuf)> = before.filter_map(|row| Some((row.id, row.debt.path()?.to_owned()))).collect();
    pay_debts(app, &store, |whose| whose == owner).await?;
    let left: Vec<i64> = store.debts()?.into_iter().map(|row| row.id).collect();
    let (left, gone): (Vec<_>, Vec<_>) = before.into_iter().partition(|(id, _)| left.contains(id));
    Ok((gone.into_iter().map(|(_, path)| path).collect(), left.len()))
}

/// Returns a path without its first slash, when it can stand in an address as it is and leads nowhere upwards.
fn plain_path(path: &str) -> Option<&str> {
    let path = path.strip_prefix('/').unwrap_or(path);
    let plain = |c: u8| c.is_ascii_alphanumeric() || b"-._~".contains(&c);
    let good = |part: &str| !part.is_empty() && part != "." && part != ".." && part.bytes().all(plain);
    (path.len() <= 500 && path.split('/').all(good)).then_some(path)
}

#[cfg(test)]
mod tests {
    use super::plain_path;

    #[test]
    fn a_path_is_taken_only_when_it_stays_on_the_site() {
        assert_eq!(plain_path("/.well-known/pki-validation/A-1_b~.txt"), Some(".well-known/pki-validation/A-1_b~.txt"));
        assert_eq!(plain_path("lamp.txt"), Some("lamp.txt"));
        for bad in ["", "/", "//x", "/a/../b", "/a/./b", "/a/", "/a b", "/a%2e", "/a\\b", "/a?b", "/a#b", "/ä", "/a\0"]
        {
            assert_eq!(plain_path(bad), None, "{bad}");
        }
    }
}
