//! Puts files into a site's folder, on this machine or on others, and reads them back there.

use crate::file::{SiteFile, folder_of};
use crate::site::SiteFolder;
use crate::{ProofContext, ProofError};
use eskort_core::debt::Debt;
use eskort_host::{Machine, MachineError, crash_point, passing_name};
use eskort_store::DebtRow;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Puts files into the folder, on every machine. What is there already stays as it is.
pub(crate) async fn publish(site: &SiteFolder<'_>, files: &[SiteFile]) -> Result<(), ProofError> {
    for host in machines(site.hosts) {
        publish_on(site, &site.around.machine(host), files).await?;
    }
    site.around.machines.hang_up().await;
    Ok(())
}

/// Returns the machines that a site is on: this one where the inventory names none.
fn machines(hosts: &[String]) -> Vec<Option<&str>> {
    if hosts.is_empty() { vec![None] } else { hosts.iter().map(|host| Some(host.as_str())).collect() }
}

async fn publish_on(site: &SiteFolder<'_>, machine: &Machine<'_>, files: &[SiteFile]) -> Result<(), ProofError> {
    let root = site.root;
    let host = machine.host().map(str::to_owned);
    if !machine.is_folder(root).await? {
        return Err(ProofError::NoFolder { host, path: root.to_owned() });
    }
    for group in files.chunk_by(|a, b| folder_of(root, a) == folder_of(root, b)) {
        let turn = site.around.shared.files_of(machine.host()).await;
        let folder = folder_of(root, &group[0]);
        let folders = machine.missing_folders(&folder).await?;
        let mut missing = Vec::new();
        for file in group {
            // One that cannot be read is written again, which says why that is not possible either.
            if !folders.is_empty() || !has(machine, root, file).await.unwrap_or(false) {
                missing.push(file);
            }
        }
        // What stands on the way decides where the file lands: it has to be folders.
        if let Some(path) = machine.link_below(root, &folder).await? {
            return Err(ProofError::LinkOnHost { host: host.unwrap_or_default(), path });
        }
        // Owed before it is there: whatever happens next, the following run knows what to take away. What another certificate
        // has put there is needed by this one too, and goes with the last.
        let others = Owed::of(site.around.store.debts().await?, host.as_deref());
        let shared = group.iter().filter(|file| others.files.contains_key(&root.join(&file.path)));
        let owing: Vec<&SiteFile> = missing.iter().copied().chain(shared).collect();
        let made = others.folders.into_iter().filter(|made| folder.starts_with(made) && !folders.contains(made)).rev();
        let to_remove: Vec<PathBuf> = folders.iter().cloned().chain(made).collect();
        site.owe(host.as_ref(), &owing, &to_remove).await?;
        // The disk is waited for without the turn: what others owe meanwhile goes there in one. A folder that somebody takes away in that
        // time is made again below; on another machine, which is not asked once more, the turn is kept.
        let kept = host.is_some().then_some(turn);
        site.around.store.flush().await?;
        crash_point("owed");
        let _turn = match kept {
            Some(turn) => turn,
            None => site.around.shared.files_of(None).await,
        };
        let passing = Owed::of(site.around.store.debts_of(site.owner).await?, host.as_deref()).files;
        machine.make_site_folders(root, &folder, &folders).await?;
        for file in missing {
            let path = root.join(&file.path);
            let passing = passing.get(&path).cloned().flatten().unwrap_or_else(passing_name);
            machine.put_site_file(root, &path, &passing, &file.bytes).await?;
            crash_point("file-written");
        }
    }
    Ok(())
}

/// What is owed on a machine.
#[derive(Default)]
struct Owed {
    /// The files, and the names under which they pass.
    files: BTreeMap<PathBuf, Option<String>>,
    /// The folders that were made for them.
    folders: BTreeSet<PathBuf>,
}

impl Owed {
    fn of(debts: Vec<DebtRow>, host: Option<&str>) -> Self {
        let mut owed = Owed::default();
        for row in debts {
            if let Debt::File { host: on, path, passing, folders } = row.debt
                && on.as_deref() == host
            {
                owed.files.insert(path, passing);
                owed.folders.extend(folders);
            }
        }
        owed
    }
}

async fn has(machine: &Machine<'_>, root: &Path, file: &SiteFile) -> Result<bool, ProofError> {
    Ok(machine.read_site_file(&root.join(&file.path)).await?.is_some_and(|bytes| bytes == file.bytes))
}

/// Returns whether some machine has another file in the place of one. One that cannot be read is found out when it is written.
pub(crate) async fn has_another(
    around: ProofContext<'_>,
    root: &Path,
    hosts: &[String],
    file: &SiteFile,
) -> Result<bool, ProofError> {
    for host in machines(hosts) {
        match around.machine(host).read_site_file(&root.join(&file.path)).await {
            Ok(Some(there)) if there != file.bytes => return Ok(true),
            Ok(_) | Err(MachineError::Io { .. }) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(false)
}

/// Reads every file back on every other machine: visitors may be sent to any of them.
pub(crate) async fn read_back(
    around: ProofContext<'_>,
    root: &Path,
    hosts: &[String],
    files: &[SiteFile],
) -> Result<(), ProofError> {
    for host in hosts {
        let machine = around.machine(Some(host));
        for file in files {
            if !has(&machine, root, file).await? {
                return Err(ProofError::NotOnHost { host: host.clone(), path: root.join(&file.path) });
            }
        }
    }
    around.machines.hang_up().await;
    Ok(())
}
