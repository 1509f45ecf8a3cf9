//! Files put where a program wants them, and a command.

use crate::InstallError;
use crate::plan::{LiveEndpoint, ServerFile, Serving};
use eskort_core::inventory::{CheckAddress, FileCopy};
use eskort_host::Machine;
use eskort_host::files::Access;

/// Returns the files that the inventory asks for.
pub(super) async fn files(
    machine: &Machine<'_>,
    server: &str,
    copies: &[FileCopy],
) -> Result<Vec<ServerFile>, InstallError> {
    let mut files = Vec::new();
    for FileCopy { part, to, owner, group, mode } in copies {
        let access = owned_by(machine, server, (owner.as_deref(), group.as_deref()), *mode).await?;
        files.push(ServerFile { path: to.clone(), part: *part, access });
    }
    Ok(files)
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

/// Returns an access with a user and a group of a server's machine by their names.
///
/// # Errors
/// When one of them does not exist there, or the machine cannot be reached.
pub(super) async fn owned_by(
    machine: &Machine<'_>,
    server: &str,
    (owner, group): (Option<&str>, Option<&str>),
    mode: u32,
) -> Result<Access, InstallError> {
    let access = machine.owned_by(owner, group, mode).await.map_err(InstallError::on(server))?;
    let missing =
        |what, name: &str| InstallError::NoSuchOwner { server: server.to_owned(), what, name: name.to_owned() };
    match (owner, group) {
        (Some(name), _) if access.uid.is_none() => Err(missing("user", name)),
        (_, Some(name)) if access.gid.is_none() => Err(missing("group", name)),
        _ => Ok(access),
    }
}
