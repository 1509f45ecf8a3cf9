//! Files put where a program wants them, and a command.

use crate::InstallError;
use crate::plan::{LiveEndpoint, ServerFile, Serving};
use eskort_core::inventory::{CheckAddress, FileCopy};
use eskort_host::files::Access;

/// Returns the files that the inventory asks for.
pub(super) fn files(copies: &[FileCopy]) -> Result<Vec<ServerFile>, InstallError> {
    let file = |copy: &FileCopy| {
        let access = access_of(copy.owner.as_deref(), copy.group.as_deref(), copy.mode)?;
        Ok(ServerFile { path: copy.to.clone(), part: copy.part, access })
    };
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

/// Returns an access with a user and a group by their names.
///
/// # Errors
/// When one of them does not exist.
pub(super) fn access_of(owner: Option<&str>, group: Option<&str>, mode: u32) -> Result<Access, InstallError> {
    let missing = |what, name: &str| InstallError::NoSuchOwner { what, name: name.to_owned() };
    let uid = |name: &str| match nix::unistd::User::from_name(name) {
        Ok(Some(user)) => Ok(user.uid.as_raw()),
        _ => Err(missing("user", name)),
    };
    let gid = |name: &str| match nix::unistd::Group::from_name(name) {
        Ok(Some(group)) => Ok(group.gid.as_raw()),
        _ => Err(missing("group", name)),
    };
    Ok(Access { mode, uid: owner.map(uid).transpose()?, gid: group.map(gid).transpose()? })
}
