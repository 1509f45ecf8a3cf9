//! Server blocks of `stream` and `mail`: where one shows a certificate for our names, or has our names, it is led to ours.

use super::unanswered;
use crate::change::{FileChange, PlanError, SitePlan, TlsTarget};
use crate::nginx::survey::{other_sites, survey_files};
use crate::nginx::tree::{Config, with_changes};
use crate::repoint::{RepointTarget, repoint};
use crate::site::Site;
use crate::survey::Survey;
use eskort_core::inventory::Part;
use eskort_core::software::Software;
use std::path::{Path, PathBuf};

/// Adds to a plan what changes in `stream` and `mail`; `None` is a plan for `http` where no block has our names.
pub(super) fn plan_others(
    config: &Config,
    http: Option<SitePlan>,
    target: &TlsTarget<'_>,
) -> Result<Option<SitePlan>, PlanError> {
    let is_meant = |site: &Site| {
        let speaks = site.listeners.iter().any(|listener| listener.tls || listener.starttls);
        let has_name = || target.names.iter().any(|name| site.answers(name).is_some());
        speaks && (has_name() || shows_ours(site, target) || (http.is_none() && site.has_no_names()))
    };
    if !other_sites(config).iter().any(is_meant) {
        return Ok(http);
    }
    let mut plan =
        http.clone().unwrap_or_else(|| SitePlan { changes: Vec::new(), endpoints: Vec::new(), findings: Vec::new() });
    let after = with_changes(config, &plan.changes);
    let after = after.map_err(|_| PlanError::NotAsPlanned { path: config.files[0].path.clone() })?;
    let sites = other_sites(&after).into_iter().filter(is_meant).collect();
    let survey = Survey { sites, files: survey_files(after), remarks: Vec::new() };
    let parts = |part: Part| PathBuf::from(if part == Part::Key { target.key } else { target.bundle });
    let planned = repoint(
        Software::Nginx,
        &survey,
        &RepointTarget { names: target.names, parts: &parts, present: target.present, level: None },
    )?;
    for FileChange { path, old, new } in planned.changes {
        match plan.changes.iter_mut().find(|change| change.path == path) {
            Some(change) => change.new = new,
            None => plan.changes.push(FileChange { path, old, new }),
        }
    }
    plan.findings.retain(|finding| !planned.endpoints.iter().any(|e| finding.text == unanswered(&e.name)));
    plan.endpoints.extend(planned.endpoints);
    plan.endpoints.sort();
    plan.endpoints.dedup();
    Ok(Some(plan))
}

/// Whether a site shows our certificate, or one with a name of ours.
fn shows_ours(site: &Site, target: &TlsTarget<'_>) -> bool {
    site.certificates.iter().map(|pair| Path::new(&pair.certificate.text)).any(|path| {
        let names = (target.present)(path).map(|present| present.names).unwrap_or_default();
        path == target.bundle || names.iter().any(|name| target.names.iter().any(|own| own.to_string() == *name))
    })
}
