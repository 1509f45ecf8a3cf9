//! What the servers of a machine are configured to serve.

mod elsewhere;
mod judge;
pub(crate) mod report;

use elsewhere::Whereabouts;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, ProgramRules};
use eskort_core::software::Software;
use eskort_core::words;
use eskort_host::{Machine, MachineError, Machines, process_names};
use eskort_install::{Reading, read_configuration};
use eskort_probe::{Trust, observe};
use eskort_siteconf::{Listener, LoadError, NamePattern, Protocol, Remark, Site, SiteName, Socket, Survey};
use futures_util::StreamExt;
use judge::{Judge, add_conflicts, add_without_tls, certificate_files};
use report::{LeftOut, SurveyReport, SurveyedServer, SurveyedSite};
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};

/// So many listeners are connected to at the same time.
const AT_ONCE: usize = 16;

/// What to survey.
#[derive(Clone, Debug, Default)]
pub struct SurveyOptions {
    /// The machine, by its name in the inventory; `None` is this one.
    pub host: Option<String>,
    /// The servers, each with its main file.
    pub files: Vec<(Software, PathBuf)>,
    /// Only sites with a name that one of these fits.
    pub names: Vec<glob::Pattern>,
    /// Only sites about which there is something to say.
    pub only_findings: bool,
    /// Whether to connect to each listener with TLS, too.
    pub deep: bool,
}

/// Surveys servers of a machine.
///
/// # Errors
/// When the machine cannot be reached.
#[boxed]
pub async fn survey(context: &Context, options: &SurveyOptions) -> Result<SurveyReport, MachineError> {
    let machines = Machines::default();
    let machine = machines.at(context, options.host.as_deref());
    let (running, whereabouts) = tokio::join!(processes(&machine), Whereabouts::of(&machine));
    let mut servers = Vec::new();
    for (kind, main) in &options.files {
        let reading = read_configuration(&machine, |read| eskort_siteconf::survey(*kind, main, read)).await?;
        let runs = running.as_ref().map(|names| kind.processes().iter().any(|process| names.contains(*process)));
        servers.push(surveyed(context, (&machine, &whereabouts), options, (*kind, main, runs), reading).await?);
    }
    machines.hang_up().await;
    Ok(SurveyReport { at: context.now(), host: options.host.clone(), servers })
}

/// Returns the servers of these kinds whose main file is in a usual place of a machine.
///
/// # Errors
/// When the machine cannot be reached.
#[boxed]
pub async fn find_servers(
    context: &Context,
    host: Option<&str>,
    kinds: &[Software],
) -> Result<Vec<(Software, PathBuf)>, MachineError> {
    let machines = Machines::default();
    let machine = machines.at(context, host);
    let mut found = Vec::new();
    for kind in kinds {
        for path in kind.usual_files().iter().map(PathBuf::from) {
            // As a pattern, for which a machine has to look. A file that cannot be read is there, too.
            let text = path.display().to_string();
            let (front, last) = text.split_at(text.len() - 1);
            if machine.list(Path::new(&format!("{front}[{last}]"))).await?.contains(&path) {
                found.push((*kind, path));
                break;
            }
        }
    }
    machines.hang_up().await;
    Ok(found)
}

/// Returns the names of the processes of a machine; `None` where that cannot be told.
async fn processes(machine: &Machine<'_>) -> Option<BTreeSet<String>> {
    if machine.host().is_some() {
        let words = ["ps", "-A", "-o", "comm="].map(str::to_owned);
        let printed = machine.output(&words, b"", &ProgramRules::default()).await.ok()?;
        return Some(String::from_utf8_lossy(&printed).lines().map(|line| line.trim().to_owned()).collect());
    }
    process_names()
}

async fn surveyed(
    context: &Context,
    (machine, whereabouts): (&Machine<'_>, &Whereabouts),
    options: &SurveyOptions,
    (kind, main, runs): (Software, &Path, Option<bool>),
    reading: Reading<Survey>,
) -> Result<SurveyedServer, MachineError> {
    let mut server = SurveyedServer {
        server: kind.word(),
        config: main.to_owned(),
        runs,
        files: 0,
        sites: Vec::new(),
        all_sites: 0,
        left_out: Vec::new(),
        error: None,
    };
    let unread = |(path, why)| LeftOut { path, line: None, text: format!("cannot be read: {why}") };
    server.left_out.extend(reading.unread.into_iter().map(unread));
    let survey = match reading.made {
        Ok(survey) => survey,
        Err(error) => {
            server.error = Some(said(&error));
            return Ok(server);
        }
    };
    let left = |Remark { place, text }| LeftOut { path: place.path, line: Some(place.line), text };
    server.left_out.extend(survey.remarks.into_iter().map(left));
    let files = certificate_files(machine, &survey.sites).await?;
    let judge = Judge::new(&files, Trust::system().anchors(), context.now(), options.host.is_none());
    let mut sites: Vec<SurveyedSite> = survey.sites.iter().map(|site| judge.site(site)).collect();
    add_conflicts(&survey.sites, &mut sites);
    add_without_tls(&survey.sites, &mut sites);
    whereabouts.add(&survey.sites, &mut sites).await;
    (server.files, server.all_sites) = (survey.files.len(), sites.len());
    if options.deep {
        connect(&survey.sites, &mut sites, options.host.is_none()).await;
    }
    let named = |site: &SurveyedSite| site.names.iter().any(|name| options.names.iter().any(|p| p.matches(name)));
    sites.retain(|site| options.names.is_empty() || named(site));
    sites.retain(|site| !options.only_findings || site.worst() > Severity::Good);
    server.sites = sites;
    Ok(server)
}

fn said(error: &LoadError) -> String {
    words::printable(&error.to_string(), 400)
}

/// A listener that is to be connected to, for a site.
struct Knock {
    site: usize,
    name: String,
    /// Where, for listeners of this machine; elsewhere the name leads there.
    at: Option<CheckAddress>,
    port: u16,
}

/// Connects to each listener with TLS, under the site's first name, and says where what is shown is not what is configured.
async fn connect(sites: &[Site], surveyed: &mut [SurveyedSite], here: bool) {
    let mut knocks = Vec::new();
    for (index, site) in sites.iter().enumerate() {
        let asked = |name: &SiteName| match &name.pattern {
            NamePattern::Exact(name) if name.contains('.') => Some(name.clone()),
            // Any name below it will do.
            NamePattern::Below { base, .. } => Some(format!("www.{base}")),
            _ => None,
        };
        let Some(name) = site.names.iter().find_map(asked).or_else(|| here.then(|| "localhost".to_owned())) else {
            continue;
        };
        let speaks = |l: &&Listener| (l.tls || l.starttls) && l.protocol != Protocol::Quic && !l.proxy_protocol;
        for listener in site.listeners.iter().filter(speaks) {
            let Socket::Ip(ip, port) = listener.socket else { continue };
            let loopback: IpAddr = if ip.is_ipv4() { Ipv4Addr::LOCALHOST.into() } else { Ipv6Addr::LOCALHOST.into() };
            let ip = if ip.is_unspecified() { loopback } else { ip };
            let at = here.then_some(CheckAddress { ip, port: None });
            knocks.push(Knock { site: index, name: name.clone(), at, port });
        }
    }
    let ask = |knock: Knock| async move {
        let seen = observe(&knock.name, knock.port, knock.at).await;
        (knock, seen)
    };
    let mut answers = futures_util::stream::iter(knocks.into_iter().map(ask)).buffered(AT_ONCE);
    while let Some((Knock { site, name, port, .. }, seen)) = answers.next().await {
        let site = &mut surveyed[site];
        let finding = match seen {
            Err(error) => Finding::new(Severity::Bad, Topic::Reach, words::printable(&error.to_string(), 300)),
            Ok(seen) => {
                let shown = seen.sent.first().map(|leaf| leaf.fingerprint().to_string());
                if site.certificates.iter().any(|configured| configured.fingerprint == shown) {
                    continue;
                }
                let what = seen.sent.first().map_or_else(String::new, |leaf| {
                    format!(": one of `{}`, which ends on {}", leaf.issuer, words::day(leaf.not_after))
                });
                let text = format!("{name} at port {port} shows another certificate than the configured one{what}");
                let advice = "the server may need to be reloaded, or another site takes its visitors";
                Finding::new(Severity::Bad, Topic::Installed, text).with_advice(advice)
            }
        };
        site.findings.push(finding);
    }
}
