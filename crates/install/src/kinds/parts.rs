//! Where a server finds the parts of a certificate, and where visitors find the server.

use crate::InstallError;
use crate::plan::{LARGEST, LiveEndpoint, Placement, ServerFile, Serving, loopback, read_part};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, Configured, Part};
use eskort_core::pki::{Certificate, key_words};
use eskort_core::software::Software;
use eskort_host::files::Access;
use eskort_host::{Machine, MachineError};
use eskort_siteconf::{Endpoint, FileChange, Present};
use eskort_store::Store;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Where certificates go on another machine.
const USUAL_FOLDER: &str = "/etc/eskort/certificates";

/// What changes for one certificate, and where it is served then.
pub(super) struct ConfigPlan {
    pub(super) edited: Vec<FileChange>,
    /// The files that are written beside the configuration.
    pub(super) files: Vec<ServerFile>,
    pub(super) endpoints: Vec<LiveEndpoint>,
    pub(super) findings: Vec<Finding>,
    /// Commands that make something of the files before the server reads it.
    pub(super) prepare: Vec<Vec<String>>,
    /// The Unix socket at which files that it reads can be changed while it runs.
    pub(super) runtime: Option<PathBuf>,
    /// The file with the number of its main process, where that is known; on this machine only where that runs.
    pub(super) pid_file: Option<PathBuf>,
}

/// Where a server finds the parts of a certificate.
pub(super) struct Parts<'a> {
    pub(super) store: &'a Store,
    pub(super) configured: &'a Configured,
    pub(super) serving: &'a Serving<'a>,
    /// To whom files belong that are written for the server.
    pub(super) owned_by: Access,
}

impl Parts<'_> {
    /// Whether a part is written for the server. Else it reads the generation in use, where that lies.
    fn is_written(&self, part: Part) -> bool {
        let Configured { certificates, owner, group, .. } = self.configured;
        let apart = certificates.is_some() || owner.is_some() || group.is_some();
        part == Part::Combined || apart || self.serving.server.host.is_some()
    }

    /// Returns where the configuration is to lead for a part.
    pub(super) fn path(&self, part: Part) -> PathBuf {
        let certificate = self.serving.placement.certificate;
        if !self.is_written(part) {
            return self.store.current_folder(certificate).part(part);
        }
        let folder = match &self.configured.certificates {
            Some(folder) => folder.clone(),
            None if self.serving.server.host.is_some() => Path::new(USUAL_FOLDER).to_owned(),
            None => self.store.served_folder(self.serving.name),
        };
        folder.join(certificate).join(part.file_name())
    }

    /// Returns the program that reads the parts, and the folder in which it finds them.
    pub(super) fn read_by_server(&self) -> Option<(Software, PathBuf)> {
        let software = self.configured.software;
        let part = if software == Software::Haproxy { Part::Combined } else { Part::Bundle };
        let path = self.path(part);
        let folder = path.parent()?;
        // Of the link `current` it is the folder that it leads to that counts.
        let folder = if self.is_written(part) { folder } else { folder.parent()? };
        Some((software, folder.to_owned()))
    }

    /// Returns the certificate itself; `None` where it is not there yet.
    pub(super) fn leaf(&self) -> Option<Certificate> {
        let Placement { certificate, generation, .. } = self.serving.placement;
        let folder = self.store.generation_folder(certificate, *generation);
        let pem = read_part(&folder, Part::Certificate, true).ok()?;
        Certificate::all_from_pem(&String::from_utf8_lossy(&pem)).ok()?.into_iter().next()
    }

    /// Returns the files that are written for the parts that a configuration names.
    pub(super) fn files(&self, parts: impl IntoIterator<Item = Part>) -> Vec<ServerFile> {
        let written = parts.into_iter().filter(|part| self.is_written(*part));
        written.map(|part| self.file(part, self.path(part))).collect()
    }

    /// Returns a file with a part, as the server may read it.
    pub(super) fn file(&self, part: Part, path: PathBuf) -> ServerFile {
        let mode = if part.is_secret() && self.configured.group.is_some() { 0o640 } else { part.usual_mode() };
        ServerFile { path, part, access: Access { mode, ..self.owned_by } }
    }
}

/// Reads the first certificate of each of some files. What cannot be read, or is no certificate, says nothing.
pub(super) async fn first_certificates(
    machine: &Machine<'_>,
    server: &str,
    paths: BTreeSet<PathBuf>,
) -> Result<BTreeMap<PathBuf, Certificate>, InstallError> {
    let mut certificates = BTreeMap::new();
    for path in paths {
        let read = match machine.read(&path, LARGEST).await {
            Ok(read) => read,
            Err(MachineError::Io { .. }) => None,
            Err(source) => return Err(InstallError::Machine { server: server.to_owned(), source }),
        };
        let text = read.map(|file| String::from_utf8_lossy(&file.bytes).into_owned()).unwrap_or_default();
        let first = Certificate::all_from_pem(&text).ok().and_then(|all| all.into_iter().next());
        certificates.extend(first.map(|certificate| (path, certificate)));
    }
    Ok(certificates)
}

/// Returns what stands in a file, next to the certificate that is to come.
pub(super) fn present(certificate: &Certificate, ours: Option<&Certificate>) -> Present {
    let kind = |certificate: &Certificate| key_words(certificate.public_key());
    let same_kind = ours.is_none_or(|ours| kind(ours) == kind(certificate));
    Present { names: certificate.names.iter().map(ToString::to_string).collect(), same_kind }
}

/// Returns where endpoints are looked at, and what there is to say when some cannot be.
pub(super) fn live_endpoints(serving: &Serving<'_>, endpoints: &[Endpoint]) -> (Vec<LiveEndpoint>, Option<Finding>) {
    let live: Vec<Option<LiveEndpoint>> = endpoints.iter().map(|endpoint| live_endpoint(serving, endpoint)).collect();
    let unseen = live.contains(&None).then(|| {
        let text =
            "visitors come through a Unix socket or the PROXY protocol, so the certificate cannot be looked at here";
        let advice = format!("`check-address` of server `{}`, with a port, says where to look", serving.name);
        Finding::new(Severity::Notice, Topic::Reach, text).with_advice(advice)
    });
    (live.into_iter().flatten().collect(), unseen)
}

/// Returns where an endpoint is looked at; what visitors reach through something else where the inventory says, and nowhere else.
fn live_endpoint(serving: &Serving<'_>, endpoint: &Endpoint) -> Option<LiveEndpoint> {
    let Serving { name, server, .. } = serving;
    let by_inventory = server.check_address.and_then(|address| address.port);
    let port = endpoint.port.or(by_inventory)?;
    Some(LiveEndpoint {
        server: (*name).to_owned(),
        certificate: serving.placement.certificate.to_owned(),
        name: endpoint.name.clone(),
        port,
        instead: server.check_address,
        here: match (endpoint.port, endpoint.ip, server.check_address) {
            // Another machine's addresses say nothing about the way there.
            _ if server.host.is_some() => None,
            (None, _, Some(instead)) => Some(instead),
            (_, Some(ip), _) => Some(CheckAddress { ip, port: Some(port) }),
            (_, None, _) => Some(loopback(port)),
        },
        reload_timeout: server.reload_timeout,
    })
}
