//! nginx: reads its configuration from disk and plans what changes.

use super::{Change, InstallError, LARGEST, LiveEndpoint, Placement, ServerPlan, difference, loopback};
use eskort_core::finding::{Finding, Weight};
use eskort_core::inventory::{CheckAddress, Install, Part, Server, ServerKind};
use eskort_core::progress::FileChange;
use eskort_host::files::read_whole;
use eskort_siteconf::nginx::{self, Config, Sites, Wish};
use eskort_store::GenerationFolder;
use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// Configurations that were read in this run, for looking only: what is changed is read anew.
#[derive(Default)]
pub(crate) struct Configs(Mutex<BTreeMap<PathBuf, Arc<(Config, Sites)>>>);

impl Configs {
    fn load(&self, main: &Path) -> Result<Arc<(Config, Sites)>, nginx::LoadError> {
        let known = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(config) = known().get(main) {
            return Ok(Arc::clone(config));
        }
        let config = load(main)?;
        let sites = Sites::find(&config);
        let loaded = Arc::new((config, sites));
        known().insert(main.to_owned(), Arc::clone(&loaded));
        Ok(loaded)
    }

    /// Forgets everything, after something was changed or some time has passed.
    pub(crate) fn forget(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

pub(super) fn plan(
    install: &Install,
    server: &Server,
    current: &GenerationFolder,
    placement: &Placement<'_>,
    configs: &Configs,
) -> Result<ServerPlan, InstallError> {
    let ServerKind::Nginx { config, tls_port, test, reload } = &server.kind else {
        unreachable!("only called for nginx");
    };
    let name = &install.server;
    let loaded = configs.load(config).map_err(|source| InstallError::Load { server: name.clone(), source })?;
    let (bundle, key) = (current.part(Part::Bundle), current.part(Part::Key));
    let wish =
        Wish { names: placement.names, bundle: &bundle, key: &key, tls_port: *tls_port, redirect: install.redirect };
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
            settle: server.settle,
        })
    };
    let mut findings = site.findings;
    if site.endpoints.iter().any(|e| endpoint(e).is_none()) {
        let text =
            "visitors come through a Unix socket or the PROXY protocol, so the certificate cannot be looked at here";
        let advice = format!("`check-address` of server `{name}`, with a port, says where to look");
        findings.push(Finding::new(Weight::Notice, "reach", text).with_advice(advice));
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

fn load(main: &Path) -> Result<Config, nginx::LoadError> {
    nginx::load(main, &mut |pattern| {
        let text = pattern.to_string_lossy();
        if !text.contains(['*', '?', '[']) {
            return Ok(vec![(pattern.to_owned(), read(pattern)?)]);
        }
        // As glob(3) has it: an editor's hidden files are not meant.
        let options = glob::MatchOptions { require_literal_leading_dot: true, ..glob::MatchOptions::new() };
        let paths =
            glob::glob_with(&text, options).map_err(|e| io::Error::new(io::ErrorKind::InvalidInput, e.to_string()))?;
        let files = paths.filter_map(Result::ok).filter(|p| p.is_file());
        let mut found: Vec<PathBuf> = files.collect();
        found.sort();
        found.into_iter().map(|path| read(&path).map(|bytes| (path, bytes))).collect()
    })
}

fn read(path: &Path) -> io::Result<Vec<u8>> {
    let there = read_whole(path, LARGEST)?;
    there.map(|file| file.bytes).ok_or_else(|| io::ErrorKind::NotFound.into())
}
