//! nginx: plans what changes in its configuration.

use super::Planning;
use crate::InstallError;
use crate::plan::{Change, LiveEndpoint, ServerPlan, difference, loopback, read_part};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, Part, ServerKind};
use eskort_core::progress::FileChange;
use eskort_host::files::Access;
use eskort_siteconf::{Endpoint, FileChange as ConfigChange, TlsTarget, nginx};
use eskort_store::GenerationFolder;
use std::path::Path;

pub(super) async fn plan(
    planning: &Planning<'_>,
    current: &GenerationFolder,
    generation: &GenerationFolder,
) -> Result<ServerPlan, InstallError> {
    let Planning { context, facts, install, server, placement } = planning;
    let ServerKind::Nginx { config, certificates, tls_port, test, reload } = &server.kind else {
        unreachable!("only called for nginx");
    };
    let name = &install.server;
    let loaded = facts.nginx(context, (name, server), config).await?;
    // On another machine the files lie in a folder of their own; here the configuration leads to the generation in use.
    let mut changes = Vec::new();
    let (bundle, key) = match &server.host {
        None => (current.part(Part::Bundle), current.part(Part::Key)),
        Some(_) => {
            let folder = certificates.join(placement.certificate);
            let paths = [Part::Bundle, Part::Key].map(|part| folder.join(part.file_name()));
            for (part, path) in [Part::Bundle, Part::Key].into_iter().zip(&paths) {
                let (new, access) = (read_part(generation, part, placement.preview)?, Access::mode(part.usual_mode()));
                if !planning.is_in_place(path, &new, access).await? {
                    let how = FileChange::Whole(part.word());
                    changes.push(Change { path: path.clone(), new, access: Some(access), how });
                }
            }
            let [bundle, key] = paths;
            (bundle, key)
        }
    };
    let target = TlsTarget {
        names: placement.names,
        bundle: &bundle,
        key: &key,
        tls_port: *tls_port,
        redirect: install.redirect,
    };
    let (config_read, sites) = &*loaded;
    let refused = |error| InstallError::Plan { server: name.clone(), source: Box::new(error) };
    let site = nginx::plan(config_read, sites, &target).map_err(refused)?;
    // What visitors reach through something else is looked at where the inventory says, and nowhere else.
    let endpoint = |e: &Endpoint| {
        let by_inventory = server.check_address.and_then(|address| address.port);
        let port = e.port.or(by_inventory)?;
        Some(LiveEndpoint {
            server: name.clone(),
            name: e.name.clone(),
            port,
            instead: server.check_address,
            here: match (e.port, e.ip, server.check_address) {
                // Another machine's addresses say nothing about the way there.
                _ if server.host.is_some() => None,
                (None, _, Some(instead)) => Some(instead),
                (_, Some(ip), _) => Some(CheckAddress { ip, port: Some(port) }),
                (_, None, _) => Some(loopback(port)),
            },
            reload_timeout: server.reload_timeout,
        })
    };
    let mut findings = site.findings;
    if site.endpoints.iter().any(|e| endpoint(e).is_none()) {
        let text =
            "visitors come through a Unix socket or the PROXY protocol, so the certificate cannot be looked at here";
        let advice = format!("`check-address` of server `{name}`, with a port, says where to look");
        findings.push(Finding::new(Severity::Notice, Topic::Reach, text).with_advice(advice));
    }
    changes.extend(site.changes.iter().map(change));
    Ok(ServerPlan {
        server: name.clone(),
        host: server.host.clone(),
        changes,
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

fn change(file: &ConfigChange) -> Change {
    let (old, new) = (String::from_utf8_lossy(&file.old), String::from_utf8_lossy(&file.new));
    let difference = difference(&old, &new);
    Change { path: file.path.clone(), new: file.new.clone(), access: None, how: FileChange::Lines(difference) }
}
