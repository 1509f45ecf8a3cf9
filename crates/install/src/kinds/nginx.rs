//! nginx: what is known of one, and what changes in its configuration.

use super::parts::{ConfigPlan, Parts, live_endpoints};
use crate::InstallError;
use crate::configuration::read_configuration;
use crate::plan::Serving;
use eskort_core::context::Context;
use eskort_core::inventory::{Part, Server};
use eskort_host::Machines;
use eskort_siteconf::nginx::{self, Config, Sites};
use eskort_siteconf::{LoadError, TlsTarget};
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

/// Plans what changes in the configuration, and which files are written beside it.
pub(super) fn plan(facts: &NginxFacts, parts: &Parts<'_>) -> Result<ConfigPlan, InstallError> {
    let Serving { name, redirect, placement, .. } = *parts.serving;
    let [bundle, key] = [Part::Bundle, Part::Key].map(|part| parts.path(part));
    let tls_port = parts.configured.tls_port;
    let target = TlsTarget { names: placement.names, bundle: &bundle, key: &key, tls_port, redirect };
    let refused = |error| InstallError::Plan { server: name.to_owned(), source: Box::new(error) };
    let site = nginx::plan(&facts.config, &facts.sites, &target).map_err(refused)?;
    let (endpoints, unseen) = live_endpoints(parts.serving, &site.endpoints);
    let findings = site.findings.into_iter().chain(unseen).collect();
    let files = parts.files([Part::Bundle, Part::Key])?;
    Ok(ConfigPlan { edited: site.changes, files, endpoints, findings })
}

/// Returns what is known once a plan is carried out.
pub(super) fn after(
    facts: &NginxFacts,
    serving: &Serving<'_>,
    planned: &ConfigPlan,
) -> Result<NginxFacts, InstallError> {
    let refused = |source| InstallError::Load { server: serving.name.to_owned(), source };
    let config = nginx::with_changes(&facts.config, &planned.edited).map_err(refused)?;
    Ok(NginxFacts { sites: Sites::find(&config), config })
}
