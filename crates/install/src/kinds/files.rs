//! Files put where a program wants them, and a command.

use crate::InstallError;
use crate::plan::{LiveEndpoint, ServerFile, Serving};
use eskort_core::inventory::{CheckAddress, FileCopy};
use eskort_host::files::Access;

/// Returns the files that the inventory asks for.
pub(super) fn files(copies: &[FileCopy]) -> Result<Vec<ServerFile>, InstallError> {
    let file = |copy: &FileCopy| Ok(ServerFile { path: copy.to.clone(), part: copy.part, access: access(copy)? });
    copies.iter().map(file).collect()
}

/// Returns where the inventory says that the program speaks TLS.
pub(super) fn endpoints(serving: &Serving<'_>) -> Vec<LiveEndpoint> {
    let Serving { name: server, server: entry, placement, .. } = serving;
    let plain = placement.names.iter().filter(|n| !n.is_wildcard()).map(ToString::to_string);
    let mut names: Vec<String> = plain.collect();
    // A wildcard is looked at by a name that it covers.
    if names.is_empty() {
        names.extend(placement.names.iter().map(|n| format!("www.{}", n.base())));
    }
    let endpoint = |address: CheckAddress, name: String| LiveEndpoint {
        server: (*server).to_owned(),
        certificate: placement.certificate.to_owned(),
        name,
        port: address.port.unwrap_or(443),
        instead: Some(address),
        here: Some(address),
        reload_timeout: entry.reload_timeout,
    };
    let address = entry.check_address.into_iter();
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
