//! nginx: what is known of one, and what changes in its configuration.

use super::parts::{ConfigPlan, Parts, first_certificates, live_endpoints, present};
use crate::InstallError;
use crate::configuration::read_configuration;
use crate::plan::Serving;
use eskort_core::context::Context;
use eskort_core::inventory::{Configured, Part, ProgramRules, Server};
use eskort_core::pki::Certificate;
use eskort_core::software::Software;
use eskort_host::{Daemon, Machine, Machines};
use eskort_siteconf::nginx::{self, Config, Sites};
use eskort_siteconf::{LoadError, TlsTarget};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// So long processes of before a reload are waited for.
const LONGEST_LEAVE: Duration = Duration::from_secs(2);

/// What is known of an nginx: its configuration, and the sites in it.
pub(crate) struct NginxFacts {
    config: Config,
    sites: Sites,
    /// The first certificate of each file of blocks that have several, and of those outside of `http`.
    certificates: BTreeMap<PathBuf, Certificate>,
    /// Its version, where somebody wants what depends on it.
    version: Option<[u32; 3]>,
    /// The file with the number of its main process; on this machine only where that runs.
    pid_file: Option<PathBuf>,
}

/// Returns the main process of an nginx of this machine.
pub(crate) fn daemon(pid_file: &Path) -> Option<Daemon> {
    Daemon::find(pid_file, "nginx: master process")
}

/// Writes the processes of the nginx whose number is in a file, a line each: number and title.
const LIST: &str = r#"p=$(cat "$1") && case $(tr '\0' ' ' < /proc/$p/cmdline) in "nginx: master process"*)
for c in $(cat /proc/$p/task/$p/children); do echo "$c $(tr '\0' ' ' < /proc/$c/cmdline)"; done;; esac"#;

/// Such processes take visitors; those that only finish what they have begun bear another title.
const TAKES_VISITORS: &str = "nginx: worker process";

/// The processes of an nginx that take visitors before a reload. For a tenth of a second they do beside the new ones.
pub(crate) struct Workers<'a> {
    machine: Machine<'a>,
    pid_file: PathBuf,
    rules: &'a ProgramRules,
    numbers: BTreeSet<i32>,
}

impl<'a> Workers<'a> {
    /// Returns those that take visitors now; none where that is not told.
    pub(crate) async fn of(machine: Machine<'a>, pid_file: PathBuf, rules: &'a ProgramRules) -> Self {
        let mut workers = Workers { machine, pid_file, rules, numbers: BTreeSet::new() };
        workers.numbers = workers.now().await;
        workers
    }

    /// As [`Workers::of`], with the file that a configuration names.
    pub(super) async fn of_server(
        machine: Machine<'a>,
        configured: &Configured,
        rules: &'a ProgramRules,
    ) -> Option<Self> {
        if configured.software != Software::Nginx {
            return None;
        }
        let reading = read_configuration(&machine, |read| nginx::load(&configured.config, read)).await.ok()?;
        let pid_file = nginx::pid_file(&reading.made.ok()?)?;
        Some(Self::of(machine, pid_file, rules).await)
    }

    async fn now(&self) -> BTreeSet<i32> {
        if self.machine.host().is_none() {
            return daemon(&self.pid_file).map(|daemon| daemon.processes(TAKES_VISITORS)).unwrap_or_default();
        }
        let words = ["sh", "-c", LIST, "sh", &self.pid_file.to_string_lossy()].map(str::to_owned);
        let said = self.machine.output(&words, b"", self.rules).await.unwrap_or_default();
        parse_workers(&String::from_utf8_lossy(&said))
    }

    /// Waits until none of them takes visitors any more, but not for ever: nginx may not have reloaded.
    pub(crate) async fn gone(&self) {
        let begun = Instant::now();
        let pause = Duration::from_millis(if self.machine.host().is_none() { 5 } else { 50 });
        while begun.elapsed() < LONGEST_LEAVE && !self.numbers.is_disjoint(&self.now().await) {
            tokio::time::sleep(pause).await;
        }
    }
}

/// Reads a list of processes for those that take visitors.
fn parse_workers(list: &str) -> BTreeSet<i32> {
    let worker = |line: &str| {
        let (number, title) = line.split_once(' ')?;
        (title.trim_end() == TAKES_VISITORS).then(|| number.parse().ok())?
    };
    list.lines().filter_map(worker).collect()
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
    let sites = Sites::find(&config);
    let others = nginx::other_sites(&config);
    let several = sites.blocks.iter().map(|block| &block.site.certificates).filter(|all| all.len() > 1).flatten();
    let of_others = others.iter().flat_map(|site| &site.certificates);
    let paths = several.chain(of_others).map(|pair| PathBuf::from(&pair.certificate.text)).collect();
    let certificates = first_certificates(&machine, name, paths).await?;
    let installs = || context.inventory.certificates.values().flat_map(|entry| &entry.install);
    let version = match installs().any(|install| install.server == name && install.wishes.http2) {
        true => version(&machine, server).await,
        false => None,
    };
    let may_run = |path: &PathBuf| server.host.is_some() || daemon(path).is_some();
    let pid_file = nginx::pid_file(&config).filter(may_run);
    Ok(NginxFacts { config, sites, certificates, version, pid_file })
}

/// Asks nginx for its version, which it writes to standard error. One that does not say it is treated as an old one.
async fn version(machine: &Machine<'_>, server: &Server) -> Option<[u32; 3]> {
    let words = ["sh", "-c", "nginx -v 2>&1"].map(str::to_owned);
    let said = machine.output(&words, b"", &server.rules).await.ok()?;
    parse_version(&String::from_utf8_lossy(&said))
}

fn parse_version(said: &str) -> Option<[u32; 3]> {
    let (_, version) = said.split_once('/')?;
    let mut numbers = version.split(|c: char| !c.is_ascii_digit()).map(str::parse::<u32>);
    Some([numbers.next()?.ok()?, numbers.next()?.ok()?, numbers.next()?.ok()?])
}

/// Plans what changes in the configuration, and which files are written beside it.
pub(super) fn plan(facts: &NginxFacts, parts: &Parts<'_>) -> Result<ConfigPlan, InstallError> {
    let Serving { name, wishes, hsts_age, placement, .. } = *parts.serving;
    let [bundle, key] = [Part::Bundle, Part::Key].map(|part| parts.path(part));
    let leaf = parts.leaf();
    let present = |path: &Path| Some(present(facts.certificates.get(path)?, leaf.as_ref()));
    let target = TlsTarget {
        tls_port: wishes.tls_port.unwrap_or(parts.configured.tls_port),
        wishes,
        hsts_age,
        has_responder: leaf.as_ref().map(|leaf| !leaf.responder_addresses().is_empty()),
        version: facts.version,
        present: &present,
        ..TlsTarget::new(placement.names, &bundle, &key)
    };
    let refused = |error| InstallError::Plan { server: name.to_owned(), source: Box::new(error) };
    let site = nginx::plan(&facts.config, &facts.sites, &target).map_err(refused)?;
    let (endpoints, unseen) = live_endpoints(parts.serving, &site.endpoints);
    let findings = site.findings.into_iter().chain(unseen).collect();
    let files = parts.files([Part::Bundle, Part::Key]);
    let pid_file = facts.pid_file.clone();
    Ok(ConfigPlan { edited: site.changes, files, endpoints, findings, prepare: Vec::new(), runtime: None, pid_file })
}

/// Returns what is known once a plan is carried out.
pub(super) fn after(
    facts: &NginxFacts,
    serving: &Serving<'_>,
    planned: &ConfigPlan,
) -> Result<NginxFacts, InstallError> {
    let refused = |source| InstallError::Load { server: serving.name.to_owned(), source };
    let config = nginx::with_changes(&facts.config, &planned.edited).map_err(refused)?;
    let NginxFacts { certificates, version, pid_file, .. } = facts;
    let (certificates, pid_file) = (certificates.clone(), pid_file.clone());
    Ok(NginxFacts { sites: Sites::find(&config), config, certificates, version: *version, pid_file })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn processes_that_take_visitors_are_told_from_others() {
        let list = "12 nginx: worker process \n13 nginx: worker process is shutting down \n14 nginx: cache manager process\n\
                    15 nginx: worker process\nx nginx: worker process\n\n16\n";
        assert_eq!(parse_workers(list), BTreeSet::from([12, 15]));
    }

    #[test]
    fn a_version_is_read_from_what_nginx_says() {
        for (said, version) in [
            ("nginx version: nginx/1.26.3\n", Some([1, 26, 3])),
            ("nginx version: nginx/1.22.1 (Debian)\n", Some([1, 22, 1])),
            ("sh: 1: nginx: not found\n", None),
            ("", None),
        ] {
            assert_eq!(parse_version(said), version, "{said}");
        }
    }
}
