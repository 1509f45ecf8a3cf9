//! Servers whose configurations are read as a survey does, and led to other files.

use super::parts::{ConfigPlan, Parts, first_certificates, live_endpoints, present};
use crate::InstallError;
use crate::configuration::{KnownFiles, read_configuration};
use crate::plan::{LARGEST, Serving};
use eskort_core::context::Context;
use eskort_core::inventory::{Configured, Part, Server};
use eskort_core::pki::Certificate;
use eskort_core::software::Software;
use eskort_host::Machines;
use eskort_siteconf::{
    FileChange, LoadError, PlanError, ReadFiles, RepointTarget, Survey, TlsTarget, apache, haproxy, postfix, repoint,
    survey,
};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What is known of a server: its configuration, and the certificates that it names.
pub(crate) struct SurveyFacts {
    software: Software,
    main: PathBuf,
    known: KnownFiles,
    read: Read,
    /// The first certificate of each file.
    certificates: BTreeMap<PathBuf, Certificate>,
    /// Maps that others may read.
    open_maps: BTreeSet<PathBuf>,
}

/// What was made of a configuration.
enum Read {
    /// With what plans need that make virtual hosts.
    Apache(Box<apache::Known>),
    /// With the sockets at which it takes orders.
    Haproxy(haproxy::Known),
    /// With the maps that it reads once they are compiled.
    Postfix(postfix::Known),
    Other(Survey),
}

impl Read {
    fn new(software: Software, main: &Path, read: &mut ReadFiles<'_>) -> Result<Self, LoadError> {
        Ok(match software {
            Software::Apache => Read::Apache(Box::new(apache::load(main, read)?)),
            Software::Haproxy => Read::Haproxy(haproxy::load(main, read)?),
            Software::Postfix => Read::Postfix(postfix::load(main, read)?),
            _ => Read::Other(survey(software, main, read)?),
        })
    }

    fn survey(&self) -> &Survey {
        match self {
            Read::Apache(known) => &known.survey,
            Read::Haproxy(known) => &known.survey,
            Read::Postfix(known) => &known.survey,
            Read::Other(survey) => survey,
        }
    }

    /// Returns those maps that are read once they are compiled.
    fn maps(&self, is_meant: impl Fn(&postfix::Map, &postfix::Known) -> bool) -> Vec<&postfix::Map> {
        let Read::Postfix(known) = self else { return Vec::new() };
        known.maps.iter().filter(|map| map.is_compiled() && is_meant(map, known)).collect()
    }
}

/// Returns the command that compiles a map of Postfix.
fn compile(main: &Path, map: &postfix::Map) -> Vec<String> {
    let folder = main.parent().unwrap_or(Path::new("/")).display().to_string();
    let map = format!("{}:{}", map.kind, map.path.display());
    ["postmap", "-c", &folder, "-F", &map].map(str::to_owned).into()
}

/// Returns the commands that compile all maps of a server, as they are now.
pub(super) async fn compile_all(
    context: &Context,
    machines: &Machines,
    (name, server): (&str, &Server),
    configured: &Configured,
) -> Result<Vec<Vec<String>>, InstallError> {
    if configured.software != Software::Postfix {
        return Ok(Vec::new());
    }
    let (found, _) = read(context, machines, (name, server), configured).await?;
    Ok(found.maps(|_, _| true).into_iter().map(|map| compile(&configured.config, map)).collect())
}

/// Reads the configuration.
async fn read(
    context: &Context,
    machines: &Machines,
    (name, server): (&str, &Server),
    configured: &Configured,
) -> Result<(Read, KnownFiles), InstallError> {
    let Configured { software, config: main, .. } = configured;
    let machine = machines.at(context, server.host.as_deref());
    let reading = read_configuration(&machine, |read| Read::new(*software, main, read)).await;
    let reading = reading.map_err(|source| InstallError::Machine { server: name.to_owned(), source })?;
    let found = reading.made.map_err(|source| InstallError::Load { server: name.to_owned(), source })?;
    Ok((found, reading.known))
}

/// Reads the configuration, and the certificates that it names. Files with a key in them stay on other machines.
pub(super) async fn gather(
    context: &Context,
    machines: &Machines,
    (name, server): (&str, &Server),
    configured: &Configured,
) -> Result<SurveyFacts, InstallError> {
    let (found, known) = read(context, machines, (name, server), configured).await?;
    let machine = machines.at(context, server.host.as_deref());
    let mut open_maps = BTreeSet::new();
    let pairs = found.survey().sites.iter().flat_map(|site| &site.certificates);
    let pairs = pairs.filter(|pair| pair.key.is_some() || server.host.is_none());
    let paths: BTreeSet<PathBuf> = pairs.map(|pair| PathBuf::from(&pair.certificate.text)).collect();
    let certificates = first_certificates(&machine, name, paths).await?;
    // Keys are in what is made of a map, which is as open as its text.
    for map in found.maps(|_, _| true) {
        let there = machine.read(&map.path, LARGEST).await;
        let there = there.map_err(|source| InstallError::Machine { server: name.to_owned(), source })?;
        if there.is_some_and(|there| there.access.mode & 0o007 != 0) {
            open_maps.insert(map.path.clone());
        }
    }
    let (software, main) = (configured.software, configured.config.clone());
    Ok(SurveyFacts { software, main, known, read: found, certificates, open_maps })
}

/// Plans what changes in the configuration, and which files are written beside it.
pub(super) fn plan(facts: &SurveyFacts, parts: &Parts<'_>) -> Result<ConfigPlan, InstallError> {
    let serving = parts.serving;
    let refused = |error| InstallError::Plan { server: serving.name.to_owned(), source: Box::new(error) };
    let ours = parts.leaf();
    let present = |path: &Path| Some(present(facts.certificates.get(path)?, ours.as_ref()));
    let path = |part: Part| parts.path(part);
    let target =
        RepointTarget { names: serving.placement.names, parts: &path, present: &present, level: serving.wishes.tls };
    let mut edited = Vec::new();
    let mut after: Option<SurveyFacts> = None;
    let mut made = |after: &mut Option<SurveyFacts>, changes: Vec<FileChange>| {
        if !changes.is_empty() {
            *after = Some(changed(after.as_ref().unwrap_or(facts), serving, &changes)?);
            changes.into_iter().for_each(|change| merge(&mut edited, change));
        }
        Ok::<(), InstallError>(())
    };
    let gained = of_apache(facts, parts, apache::gain_tls)?;
    made(&mut after, gained)?;
    let planned = repoint(facts.software, after.as_ref().unwrap_or(facts).read.survey(), &target).map_err(refused)?;
    made(&mut after, planned.changes.clone())?;
    let (granted, mut findings) = of_apache(after.as_ref().unwrap_or(facts), parts, apache::grant)?;
    made(&mut after, granted)?;
    if let Some(after) = &after {
        // Read back: with the changes the configuration has to say what it should.
        let mut again = repoint(facts.software, after.read.survey(), &target).map_err(refused)?.changes;
        again.extend(of_apache(after, parts, apache::gain_tls)?);
        again.extend(of_apache(after, parts, apache::grant)?.0);
        if let Some(change) = again.into_iter().next() {
            return Err(refused(PlanError::NotAsPlanned { path: change.path }));
        }
    }
    let mut files = parts.files(planned.parts);
    for (part, path) in planned.placed {
        files.push(parts.file(part, path));
    }
    let (endpoints, unseen) = live_endpoints(serving, &planned.endpoints);
    let runtime = match &facts.read {
        Read::Haproxy(known) if parts.configured.runtime_socket => known.admin_sockets.first().cloned(),
        _ => None,
    };
    let ours: BTreeSet<PathBuf> = [Part::Bundle, Part::Key, Part::Combined].map(path).into();
    let maps = after.as_ref().unwrap_or(facts).read.maps(|map, known| !map.names(known).is_disjoint(&ours));
    if let Some(map) = maps.iter().find(|map| facts.open_maps.contains(&map.path)) {
        return Err(InstallError::OpenMap { server: serving.name.to_owned(), path: map.path.clone() });
    }
    let prepare = maps.into_iter().map(|map| compile(&facts.main, map)).collect();
    findings.extend(unseen);
    Ok(ConfigPlan { edited, files, endpoints, findings, prepare, runtime, pid_file: None })
}

/// Adds a change to those that are planned.
fn merge(edited: &mut Vec<FileChange>, change: FileChange) {
    match edited.iter_mut().find(|known| known.path == change.path) {
        Some(known) => known.new = change.new,
        None => edited.push(change),
    }
}

/// Plans a part of what Apache's virtual hosts gain; nothing for other programs.
fn of_apache<T: Default>(
    facts: &SurveyFacts,
    parts: &Parts<'_>,
    plan: fn(&apache::Known, &TlsTarget<'_>) -> Result<T, PlanError>,
) -> Result<T, InstallError> {
    let Read::Apache(known) = &facts.read else { return Ok(T::default()) };
    let Serving { name, wishes, hsts_age, placement, .. } = *parts.serving;
    let [bundle, key] = [Part::Bundle, Part::Key].map(|part| parts.path(part));
    let tls_port = wishes.tls_port.unwrap_or(parts.configured.tls_port);
    let has_responder = parts.leaf().map(|leaf| !leaf.responder_addresses().is_empty());
    let target =
        TlsTarget { tls_port, wishes, hsts_age, has_responder, ..TlsTarget::new(placement.names, &bundle, &key) };
    plan(known, &target).map_err(|error| InstallError::Plan { server: name.to_owned(), source: Box::new(error) })
}

/// Returns what is known once a plan is carried out.
pub(super) fn after(
    facts: &SurveyFacts,
    serving: &Serving<'_>,
    planned: &ConfigPlan,
) -> Result<SurveyFacts, InstallError> {
    changed(facts, serving, &planned.edited)
}

fn changed(facts: &SurveyFacts, serving: &Serving<'_>, changes: &[FileChange]) -> Result<SurveyFacts, InstallError> {
    let known = facts.known.with(changes);
    let refused = |source: LoadError| InstallError::Load { server: serving.name.to_owned(), source };
    let read = Read::new(facts.software, &facts.main, &mut |pattern| known.read(pattern)).map_err(refused)?;
    let SurveyFacts { software, main, certificates, open_maps, .. } = facts;
    let (main, certificates, open_maps) = (main.clone(), certificates.clone(), open_maps.clone());
    Ok(SurveyFacts { software: *software, main, known, read, certificates, open_maps })
}
