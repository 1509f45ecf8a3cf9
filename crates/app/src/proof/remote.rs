//! Challenge files on other machines.

use super::{CHALLENGE_FOLDER, Proving};
use crate::crash::crash_point;
use crate::secret::read_secret;
use crate::{App, ProofError, StepError};
use eskort_core::debt::Debt;
use eskort_core::inventory::HostKind;
use eskort_core::journey::ProofTask;
use eskort_host::Session;
use std::path::{Path, PathBuf};

/// Connects to a machine of the inventory.
pub(super) async fn open(app: &App, host: &str) -> Result<Session, ProofError> {
    let Some(entry) = app.inventory.hosts.get(host) else {
        return Err(ProofError::NoHost { host: host.to_owned() });
    };
    let password = match &entry.kind {
        HostKind::Ftp(ftp) => Some(read_secret(&ftp.password)?),
        HostKind::Ssh(_) => None,
    };
    Ok(Session::open(host, entry, password.as_ref()).await?)
}

/// Puts the files of the tasks into a site's folder on every host.
pub(super) async fn publish(
    proving: &Proving<'_>,
    folder: &Path,
    hosts: &[String],
    tasks: &[ProofTask],
) -> Result<(), StepError> {
    for host in hosts {
        let mut session = open(proving.app, host).await?;
        let done = publish_on(proving, &mut session, host, folder, tasks).await;
        session.close().await;
        done?;
    }
    Ok(())
}

async fn publish_on(
    proving: &Proving<'_>,
    session: &mut Session,
    host: &str,
    root: &Path,
    tasks: &[ProofTask],
) -> Result<(), StepError> {
    if !session.is_folder(root).await.map_err(ProofError::Host)? {
        return Err(ProofError::NoFolder { host: Some(host.to_owned()), path: root.to_owned() }.into());
    }
    let folder = root.join(CHALLENGE_FOLDER);
    let folders = session.missing_folders(&folder).await.map_err(ProofError::Host)?;
    let mut missing: Vec<(PathBuf, &ProofTask)> = Vec::new();
    for task in tasks {
        let path = folder.join(&task.token);
        let there = folders.is_empty() && holds(session, &path, task).await?;
        if !there {
            missing.push((path, task));
        }
    }
    let debt =
        |path: &PathBuf| Debt::File { host: Some(host.to_owned()), path: path.clone(), folders: folders.clone() };
    let debts: Vec<Debt> = missing.iter().map(|(path, _)| debt(path)).collect();
    proving.store.owe(proving.certificate, &debts, (proving.app.now)())?;
    crash_point("owed");
    for folder in folders.iter().rev() {
        session.make_folder(folder).await.map_err(ProofError::Host)?;
    }
    for (path, task) in missing {
        session.put(&path, task.key_authorization.as_bytes()).await.map_err(ProofError::Host)?;
        crash_point("file-written");
    }
    Ok(())
}

async fn holds(session: &mut Session, path: &Path, task: &ProofTask) -> Result<bool, ProofError> {
    let found = session.read(path).await?;
    Ok(found.is_some_and(|bytes| bytes == task.key_authorization.as_bytes()))
}

/// Reads every file back on every host: visitors may be sent to any of them.
pub(super) async fn look(app: &App, folder: &Path, hosts: &[String], tasks: &[ProofTask]) -> Result<(), ProofError> {
    for host in hosts {
        let mut session = open(app, host).await?;
        for task in tasks {
            let path = folder.join(CHALLENGE_FOLDER).join(&task.token);
            if !holds(&mut session, &path, task).await? {
                return Err(ProofError::NotOnHost { host: host.clone(), path });
            }
        }
        session.close().await;
    }
    Ok(())
}

/// Removes a file and the folders that were made for it.
pub(super) async fn take_away(session: &mut Session, path: &Path, folders: &[PathBuf]) -> Result<(), ProofError> {
    session.remove(path).await?;
    // A folder that somebody put something into meanwhile is theirs.
    for folder in folders {
        if !session.remove_folder(folder).await {
            break;
        }
    }
    Ok(())
}
