//! Servers whose configurations are read as a survey does, and led to other files.

use super::parts::{ConfigPlan, Parts, first_certificates, live_endpoints, present};
use crate::InstallError;
use crate::configuration::{KnownFiles, read_configuration};
use crate::plan::Serving;
use eskort_core::context::Context;
use eskort_core::inventory::{Configured, Part, Server};
use eskort_core::pki::Certificate;
use eskort_core::software::Software;
use eskort_host::Machines;
use eskort_siteconf::{LoadError, PlanError, RepointTarget, Survey, repoint, survey};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What is known of a server: its configuration, and the certificates that it names.
pub(crate) struct SurveyFacts {
    software: Software,
    main: PathBuf,
    known: KnownFiles,
    survey: Survey,
    /// The first certificate of each file.
    certificates: BTreeMap<PathBuf, Certificate>,
}

/// Reads the configuration, and the certificates that it names. Files with a key in them stay on other machines.
pub(super) async fn gather(
    context: &Context,
    machines: &Machines,
    (name, server): (&str, &Server),
    configured: &Configured,
) -> Result<SurveyFacts, InstallError> {
    let Configured { software, config: main, .. } = configured;
    let machine = machines.at(context, server.host.as_deref());
    let reading = read_configuration(&machine, |read| survey(*software, main, read)).await;
    let reading = reading.map_err(|source| InstallError::Machine { server: name.to_owned(), source })?;
    let found = reading.made.map_err(|source| InstallError::Load { server: name.to_owned(), source })?;
    let pairs = found.sites.iter().flat_map(|site| &site.certificates);
    let pairs = pairs.filter(|pair| pair.key.is_some() || server.host.is_none());
    let paths: BTreeSet<PathBuf> = pairs.map(|pair| PathBuf::from(&pair.certificate.text)).collect();
    let certificates = first_certificates(&machine, name, paths).await?;
    let (software, main) = (*software, main.clone());
    Ok(SurveyFacts { software, main, known: reading.known, survey: found, certificates })
}

/// Plans what changes in the configuration, and which files are written beside it.
pub(super) fn plan(facts: &SurveyFacts, parts: &Parts<'_>) -> Result<ConfigPlan, InstallError> {
    let serving = parts.serving;
    let refused = |error| InstallError::Plan { server: serving.name.to_owned(), source: Box::new(error) };
    let ours = parts.leaf();
    let present = |path: &Path| Some(present(facts.certificates.get(path)?, ours.as_ref()));
    let path = |part: Part| parts.path(part);
    let target = RepointTarget { names: serving.placement.names, parts: &path, present: &present };
    let planned = repoint(facts.software, &facts.survey, &target).map_err(refused)?;
    if !planned.changes.is_empty() {
        // Read back: with the changes the configuration has to say what it should.
        let after = changed(facts, serving, &planned.changes)?;
        let again = repoint(facts.software, &after.survey, &target).map_err(refused)?;
        if let Some(change) = again.changes.into_iter().next() {
            return Err(refused(PlanError::NotAsPlanned { path: change.path }));
        }
    }
    let mut files = parts.files(planned.parts)?;
    for (part, path) in planned.placed {
        files.push(parts.file(part, path)?);
    }
    let (endpoints, unseen) = live_endpoints(serving, &planned.endpoints);
    Ok(ConfigPlan { edited: planned.changes, files, endpoints, findings: unseen.into_iter().collect() })
}

/// Returns what is known once a plan is carried out.
pub(super) fn after(
    facts: &SurveyFacts,
    serving: &Serving<'_>,
    planned: &ConfigPlan,
) -> Result<SurveyFacts, InstallError> {
    changed(facts, serving, &planned.edited)
}

fn changed(
    facts: &SurveyFacts,
    serving: &Serving<'_>,
    changes: &[eskort_siteconf::FileChange],
) -> Result<SurveyFacts, InstallError> {
    let known = facts.known.with(changes);
    let refused = |source: LoadError| InstallError::Load { server: serving.name.to_owned(), source };
    let survey = survey(facts.software, &facts.main, &mut |pattern| known.read(pattern)).map_err(refused)?;
    let SurveyFacts { software, main, certificates, .. } = facts;
    Ok(SurveyFacts { software: *software, main: main.clone(), known, survey, certificates: certificates.clone() })
}
