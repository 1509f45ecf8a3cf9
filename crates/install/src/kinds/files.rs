//! Files put where a program wants them, and a command.

use super::Planning;
use crate::InstallError;
use crate::plan::{Change, LiveEndpoint, ServerPlan, read_part};
use eskort_core::inventory::{FileCopy, ServerKind};
use eskort_core::progress::FileChange;
use eskort_host::files::Access;
use eskort_store::GenerationFolder;

pub(super) async fn plan(planning: &Planning<'_>, folder: &GenerationFolder) -> Result<ServerPlan, InstallError> {
    let Planning { install, server, placement, .. } = planning;
    let ServerKind::Files { copies, run } = &server.kind else { unreachable!("only called for files") };
    let mut changes = Vec::new();
    for copy in copies {
        let new = read_part(folder, copy.part, placement.preview)?;
        let access = access(copy)?;
        if !planning.is_in_place(&copy.to, &new, access).await? {
            let how = FileChange::Whole(copy.part.word());
            changes.push(Change { path: copy.to.clone(), new, access: Some(access), how });
        }
    }
    Ok(ServerPlan {
        server: install.server.clone(),
        host: server.host.clone(),
        changes,
        test: None,
        reload: Some(run.clone()).filter(|r| !r.is_empty()),
        endpoints: endpoints(planning),
        rules: server.rules.clone(),
        findings: Vec::new(),
    })
}

/// Returns where the inventory says that the program speaks TLS. Nothing is asked for it.
pub(super) fn endpoints(planning: &Planning<'_>) -> Vec<LiveEndpoint> {
    let Planning { install, server, placement, .. } = planning;
    let plain = placement.names.iter().filter(|n| !n.is_wildcard()).map(ToString::to_string);
    let mut names: Vec<String> = plain.collect();
    // A wildcard is looked at by a name that it covers.
    if names.is_empty() {
        names.extend(placement.names.iter().map(|n| format!("www.{}", n.base())));
    }
    let endpoint = |address: eskort_core::inventory::CheckAddress, name: String| LiveEndpoint {
        server: install.server.clone(),
        name,
        port: address.port.unwrap_or(443),
        instead: Some(address),
        here: Some(address),
        reload_timeout: server.reload_timeout,
    };
    let address = server.check_address.into_iter();
    address.flat_map(|address| names.iter().map(move |name| endpoint(address, name.clone()))).collect()
}

fn access(copy: &FileCopy) -> Result<Access, InstallError> {
    let uid = match &copy.owner {
        None => None,
        Some(name) => match nix::unistd::User::from_name(name) {
            Ok(Some(user)) => Some(user.uid.as_raw()),
            _ => return Err(InstallError::NoSuchOwner { what: "user", name: name.clone() }),
        },
    };
    let gid = match &copy.group {
        None => None,
        Some(name) => match nix::unistd::Group::from_name(name) {
            Ok(Some(group)) => Some(group.gid.as_raw()),
            _ => return Err(InstallError::NoSuchOwner { what: "group", name: name.clone() }),
        },
    };
    Ok(Access { mode: copy.mode, uid, gid })
}
