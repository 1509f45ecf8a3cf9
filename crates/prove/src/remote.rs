//! Files that prove control on other machines.

use crate::ProofError;
use crate::file::{SiteFile, folder_of};
use crate::site::SiteFolder;
use eskort_core::context::Context;
use eskort_core::debt::Debt;
use eskort_core::inventory::HostKind;
use eskort_host::crash_point;
use eskort_host::read_secret;
use eskort_host::{Session, passing_name};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Connects to a machine of the inventory.
pub(crate) async fn open(context: &Context, host: &str) -> Result<Session, ProofError> {
    let Some(entry) = context.inventory.hosts.get(host) else {
        return Err(ProofError::NoHost { host: host.to_owned() });
    };
    let password = match &entry.kind {
        HostKind::Ftp(ftp) => Some(read_secret(&ftp.password)?),
        HostKind::Ssh(_) => None,
    };
    Ok(Session::open(host, entry, password.as_ref()).await?)
}

/// Puts files into a site's folder on every host.
pub(crate) async fn publish(site: &SiteFolder<'_>, files: &[SiteFile]) -> Result<(), ProofError> {
    for host in site.hosts {
        let mut session = open(site.context, host).await?;
        let done = publish_on(site, &mut session, host, files).await;
        session.close().await;
        done?;
    }
    Ok(())
}

async fn publish_on(
    site: &SiteFolder<'_>,
    session: &mut Session,
    host: &String,
    files: &[SiteFile],
) -> Result<(), ProofError> {
    let root = site.root;
    if !session.is_folder(root).await? {
        return Err(ProofError::NoFolder { host: Some(host.clone()), path: root.to_owned() });
    }
    for group in files.chunk_by(|a, b| folder_of(root, a) == folder_of(root, b)) {
        let folders = session.missing_folders(&folder_of(root, &group[0])).await?;
        let mut missing = Vec::new();
        for file in group {
            if !folders.is_empty() || !holds(session, root, file).await? {
                missing.push(file);
            }
        }
        // What stands on the way decides where the file lands: it has to be folders.
        let mut on_the_way = folder_of(root, &group[0]);
        while on_the_way != root {
            if session.is_link(&on_the_way).await? {
                return Err(ProofError::LinkOnHost { host: host.clone(), path: on_the_way });
            }
            on_the_way.pop();
        }
        site.owe(Some(host), &missing, &folders)?;
        let passing = passing_names(site, host)?;
        for folder in folders.iter().rev() {
            session.make_folder(folder).await?;
        }
        for file in missing {
            let path = root.join(&file.path);
            let passing = passing.get(&path).cloned().unwrap_or_else(passing_name);
            session.put(&path, &passing, &file.bytes).await?;
            crash_point("file-written");
        }
    }
    Ok(())
}

/// Returns the names under which the files that are owed on a host pass, by path.
fn passing_names(site: &SiteFolder<'_>, host: &str) -> Result<BTreeMap<PathBuf, String>, ProofError> {
    let of = |debt| match debt {
        Debt::File { host: Some(on), path, passing: Some(passing), .. } if on == host => Some((path, passing)),
        _ => None,
    };
    Ok(site.store.debts()?.into_iter().filter_map(|row| of(row.debt)).collect())
}

async fn holds(session: &mut Session, root: &Path, file: &SiteFile) -> Result<bool, ProofError> {
    Ok(session.read(&root.join(&file.path)).await?.is_some_and(|bytes| bytes == file.bytes))
}

/// Reads every file back on every host: visitors may be sent to any of them.
pub(crate) async fn look(
    context: &Context,
    root: &Path,
    hosts: &[String],
    files: &[SiteFile],
) -> Result<(), ProofError> {
    for host in hosts {
        let mut session = open(context, host).await?;
        for file in files {
            if !holds(&mut session, root, file).await? {
                return Err(ProofError::NotOnHost { host: host.clone(), path: root.join(&file.path) });
            }
        }
        session.close().await;
    }
    Ok(())
}

/// Removes a file and the folders that were made for it.
pub(crate) async fn take_away(
    session: &mut Session,
    path: &Path,
    passing: Option<&str>,
    folders: &[PathBuf],
) -> Result<(), ProofError> {
    // Debts of before were written under a name that can be told.
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let before = format!(".{name}.part");
    session.remove(path, passing.unwrap_or(&before)).await?;
    // A folder that somebody put something into meanwhile is theirs.
    for folder in folders {
        if !session.remove_folder(folder).await {
            break;
        }
    }
    Ok(())
}
