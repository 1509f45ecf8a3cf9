//! nginx: what is known of one, and what changes in its configuration.

use crate::InstallError;
use crate::plan::{LARGEST, LiveEndpoint, ServerFile, Serving, loopback};
use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, Part, Server};
use eskort_host::files::Access;
use eskort_host::{MachineError, Machines};
use eskort_siteconf::nginx::{self, Config, Sites};
use eskort_siteconf::{Endpoint, FileChange as ConfigChange, LoadError, TlsTarget};
use std::collections::{BTreeSet, HashMap};
use std::io;
use std::path::{Path, PathBuf};

/// What is known of an nginx: its configuration, and the sites in it.
pub(crate) struct NginxFacts {
    config: Config,
    sites: Sites,
}

/// What a pattern of an `include` stands for: files with their contents.
type Found = Result<Vec<(PathBuf, Vec<u8>)>, io::ErrorKind>;

/// Reads the configuration level by level: what the files of one include is fetched before they are read again.
pub(crate) async fn gather(
    context: &Context,
    machines: &Machines,
    (name, server): (&str, &Server),
    main: &Path,
) -> Result<NginxFacts, InstallError> {
    let refused = |source| InstallError::Load { server: name.to_owned(), source };
    let host = server.host.as_deref();
    let mut known: HashMap<PathBuf, Found> = HashMap::new();
    loop {
        let mut missing = BTreeSet::new();
        let loaded = nginx::load(main, &mut |pattern| match known.get(pattern) {
            Some(found) => found.clone().map_err(io::Error::from),
            None => {
                missing.insert(pattern.to_owned());
                Ok(Vec::new())
            }
        });
        if missing.is_empty() {
            let config = loaded.map_err(refused)?;
            return Ok(NginxFacts { sites: Sites::find(&config), config });
        }
        for pattern in missing {
            let found = read(context, machines, host, &pattern).await.map_err(|error| match error {
                MachineError::Io { path, source, .. } => refused(LoadError::Read { path, source }),
                source => InstallError::Machine { server: name.to_owned(), source },
            })?;
            known.insert(pattern, found);
        }
    }
}

/// Reads the files that a path or pattern stands for. A path that does not exist is an error of nginx's; a pattern may stand for none.
async fn read(
    context: &Context,
    machines: &Machines,
    host: Option<&str>,
    pattern: &Path,
) -> Result<Found, MachineError> {
    let is_pattern = pattern.to_string_lossy().contains(['*', '?', '[']);
    let paths = match is_pattern {
        true => machines.at(context, host).list(pattern).await?,
        false => vec![pattern.to_owned()],
    };
    let files = machines.at(context, host).read_many(&paths, LARGEST).await?;
    let found: Vec<_> = paths.into_iter().zip(files).filter_map(|(path, file)| Some((path, file?.bytes))).collect();
    if found.is_empty() && !is_pattern { Ok(Err(io::ErrorKind::NotFound)) } else { Ok(Ok(found)) }
}

/// What the inventory says of an nginx.
pub(super) struct Settings<'a> {
    /// Where certificates go on another machine.
    pub(super) certificates: &'a Path,
    pub(super) tls_port: u16,
}

/// Returns the files that are written beside the configuration. On this machine it leads to the generation in use; on another the files lie
/// in a folder of their own.
pub(super) fn files(settings: &Settings<'_>, serving: &Serving<'_>) -> Vec<ServerFile> {
    if serving.server.host.is_none() {
        return Vec::new();
    }
    let folder = settings.certificates.join(serving.placement.certificate);
    let file = |part: Part| {
        let path = folder.join(part.file_name());
        ServerFile { path, part, access: Access::mode(part.usual_mode()) }
    };
    [Part::Bundle, Part::Key].map(file).into()
}

/// What changes in the configuration, and where the certificate is served then.
pub(super) struct NginxPlan {
    pub(super) edited: Vec<ConfigChange>,
    pub(super) endpoints: Vec<LiveEndpoint>,
    pub(super) findings: Vec<Finding>,
}

/// Plans what changes in the configuration. `bundle` and `key` are where it is to lead.
pub(super) fn plan(
    facts: &NginxFacts,
    settings: &Settings<'_>,
    serving: &Serving<'_>,
    (bundle, key): (&Path, &Path),
) -> Result<NginxPlan, InstallError> {
    let Serving { name, redirect, .. } = *serving;
    let target = TlsTarget { names: serving.placement.names, bundle, key, tls_port: settings.tls_port, redirect };
    let refused = |error| InstallError::Plan { server: name.to_owned(), source: Box::new(error) };
    let site = nginx::plan(&facts.config, &facts.sites, &target).map_err(refused)?;
    let endpoints: Vec<Option<LiveEndpoint>> = site.endpoints.iter().map(|e| live_endpoint(serving, e)).collect();
    let mut findings = site.findings;
    if endpoints.contains(&None) {
        let text =
            "visitors come through a Unix socket or the PROXY protocol, so the certificate cannot be looked at here";
        let advice = format!("`check-address` of server `{name}`, with a port, says where to look");
        findings.push(Finding::new(Severity::Notice, Topic::Reach, text).with_advice(advice));
    }
    Ok(NginxPlan { edited: site.changes, endpoints: endpoints.into_iter().flatten().collect(), findings })
}

/// Returns what is known once a plan is carried out; `None` when it changes nothing.
pub(super) fn after(
    facts: &NginxFacts,
    serving: &Serving<'_>,
    planned: &NginxPlan,
) -> Result<Option<NginxFacts>, InstallError> {
    if planned.edited.is_empty() {
        return Ok(None);
    }
    let refused = |source| InstallError::Load { server: serving.name.to_owned(), source };
    let config = nginx::with_changes(&facts.config, &planned.edited).map_err(refused)?;
    Ok(Some(NginxFacts { sites: Sites::find(&config), config }))
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

/// Returns the command that makes nginx test its configuration.
pub(super) fn test_command(main: &Path, own: Option<&Vec<String>>) -> Vec<String> {
    own.cloned().unwrap_or_else(|| command(&["-t", "-q"], main))
}

/// Returns the command that makes nginx read its configuration again.
pub(super) fn reload_command(main: &Path, own: Option<&Vec<String>>) -> Vec<String> {
    own.cloned().unwrap_or_else(|| command(&["-s", "reload"], main))
}

fn command(words: &[&str], main: &Path) -> Vec<String> {
    let main = main.to_string_lossy();
    ["nginx"].iter().chain(words).copied().chain(["-c", &main]).map(str::to_owned).collect()
}
