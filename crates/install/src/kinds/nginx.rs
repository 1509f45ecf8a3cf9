//! nginx: what is known of one, and what changes in its configuration.

use crate::InstallError;
use crate::configuration::read_configuration;
use crate::plan::{LiveEndpoint, ServerFile, Serving, loopback};
use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, Part, Server};
use eskort_host::Machines;
use eskort_host::files::Access;
use eskort_siteconf::nginx::{self, Config, Sites};
use eskort_siteconf::{Endpoint, FileChange as ConfigChange, LoadError, TlsTarget};
use std::io;
use std::path::Path;

/// What is known of an nginx: its configuration, and the sites in it.
pub(crate) struct NginxFacts {
    config: Config,
    sites: Sites,
}

/// Reads the configuration.
pub(crate) async fn gather(
    context: &Context,
    machines: &Machines,
    (name, server): (&str, &Server),
    main: &Path,
) -> Result<NginxFacts, InstallError> {
    let refused = |source| InstallError::Load { server: name.to_owned(), source };
    let machine = machines.at(context, server.host.as_deref());
    let reading = read_configuration(&machine, |read| nginx::load(main, read)).await;
    let reading = reading.map_err(|source| InstallError::Machine { server: name.to_owned(), source })?;
    // nginx itself takes all files of a pattern or none.
    if let Some((path, why)) = reading.unread.into_iter().next() {
        return Err(refused(LoadError::Read { path, source: io::Error::other(why) }));
    }
    let config = reading.made.map_err(refused)?;
    Ok(NginxFacts { sites: Sites::find(&config), config })
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
