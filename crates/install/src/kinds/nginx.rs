//! nginx: plans what changes in its configuration.

use crate::InstallError;
use crate::facts::Facts;
use crate::plan::{Change, LiveEndpoint, Placement, ServerPlan, difference, loopback};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, Install, Part, Server, ServerKind};
use eskort_core::progress::FileChange;
use eskort_siteconf::nginx::{self, TlsTarget};
use eskort_store::GenerationFolder;
use std::path::Path;

pub(super) fn plan(
    install: &Install,
    server: &Server,
    current: &GenerationFolder,
    placement: &Placement<'_>,
    facts: &Facts,
) -> Result<ServerPlan, InstallError> {
    let ServerKind::Nginx { config, tls_port, test, reload } = &server.kind else {
        unreachable!("only called for nginx");
    };
    let name = &install.server;
    let loaded = facts.nginx(config).map_err(|source| InstallError::Load { server: name.clone(), source })?;
    let (bundle, key) = (current.part(Part::Bundle), current.part(Part::Key));
    let wish = TlsTarget {
        names: placement.names,
        bundle: &bundle,
        key: &key,
        tls_port: *tls_port,
        redirect: install.redirect,
    };
    let (config_read, sites) = &*loaded;
    let refused = |source| InstallError::Plan { server: name.clone(), source };
    let site = nginx::plan(config_read, sites, &wish).map_err(refused)?;
    // What visitors reach through something else is looked at where the inventory says, and nowhere else.
    let endpoint = |e: &nginx::Endpoint| {
        let by_inventory = server.check_address.and_then(|address| address.port);
        let port = e.port.or(by_inventory)?;
        Some(LiveEndpoint {
            server: name.clone(),
            name: e.name.clone(),
            port,
            instead: server.check_address,
            here: match (e.port, e.ip, server.check_address) {
                (None, _, Some(instead)) => instead,
                (_, Some(ip), _) => CheckAddress { ip, port: Some(port) },
                (_, None, _) => loopback(port),
            },
            settle: server.reload_timeout,
        })
    };
    let mut findings = site.findings;
    if site.endpoints.iter().any(|e| endpoint(e).is_none()) {
        let text =
            "visitors come through a Unix socket or the PROXY protocol, so the certificate cannot be looked at here";
        let advice = format!("`check-address` of server `{name}`, with a port, says where to look");
        findings.push(Finding::new(Severity::Notice, Topic::Reach, text).with_advice(advice));
    }
    Ok(ServerPlan {
        server: name.clone(),
        changes: site.changes.iter().map(change).collect(),
        test: Some(test.clone().unwrap_or_else(|| command(&["-t", "-q"], config))),
        reload: Some(reload_command(config, reload.as_ref())),
        rules: server.rules.clone(),
        endpoints: site.endpoints.iter().filter_map(endpoint).collect(),
        findings,
    })
}

/// Returns the command that makes nginx read its configuration again.
pub(super) fn reload_command(config: &Path, own: Option<&Vec<String>>) -> Vec<String> {
    own.cloned().unwrap_or_else(|| command(&["-s", "reload"], config))
}

fn command(words: &[&str], config: &Path) -> Vec<String> {
    let main = config.to_string_lossy();
    ["nginx"].iter().chain(words).copied().chain(["-c", &main]).map(str::to_owned).collect()
}

fn change(file: &nginx::FileChange) -> Change {
    let (old, new) = (String::from_utf8_lossy(&file.old), String::from_utf8_lossy(&file.new));
    let difference = difference(&old, &new);
    Change { path: file.path.clone(), new: file.new.clone(), access: None, how: FileChange::Lines(difference) }
}
