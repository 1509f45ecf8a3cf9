//! nginx: reads its configuration from disk and plans what changes.

use super::{Change, InstallError, LARGEST, LiveEndpoint, Placement, ServerPlan, difference, loopback};
use crate::FileChange;
use eskort_core::inventory::{CheckAddress, Install, Part, Server, ServerKind};
use eskort_siteconf::nginx::{self, Config, Wish};
use eskort_store::GenerationFolder;
use eskort_store::files::read_whole;
use std::io;
use std::path::{Path, PathBuf};

pub(super) fn plan(
    install: &Install,
    server: &Server,
    current: &GenerationFolder,
    placement: &Placement<'_>,
) -> Result<ServerPlan, InstallError> {
    let ServerKind::Nginx { config, tls_port, test, reload } = &server.kind else {
        unreachable!("only called for nginx");
    };
    let name = &install.server;
    let loaded = load(config).map_err(|source| InstallError::Load { server: name.clone(), source })?;
    let (bundle, key) = (current.part(Part::Bundle), current.part(Part::Key));
    let wish = Wish {
        names: placement.names,
        bundle: &bundle,
        key: &key,
        tls_port: *tls_port,
        redirect: install.redirect,
        challenge_folder: placement.challenge_folder,
    };
    let site = nginx::plan(&loaded, &wish).map_err(|source| InstallError::Plan { server: name.clone(), source })?;
    let endpoint = |e: &nginx::Endpoint| LiveEndpoint {
        server: name.clone(),
        name: e.name.clone(),
        port: e.port,
        instead: server.check_address,
        here: e.ip.map_or(loopback(e.port), |ip| CheckAddress { ip, port: Some(e.port) }),
        settle: server.settle,
    };
    Ok(ServerPlan {
        server: name.clone(),
        changes: site.changes.iter().map(change).collect(),
        test: Some(test.clone().unwrap_or_else(|| command(&["-t", "-q"], config))),
        reload: Some(reload_command(config, reload.as_ref())),
        rules: server.rules.clone(),
        endpoints: site.endpoints.iter().map(endpoint).collect(),
        findings: site.findings,
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
        let paths = glob::glob(&text).map_err(|e| io::Error::new(io::ErrorKind::InvalidInput, e.to_string()))?;
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
