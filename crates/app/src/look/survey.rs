//! What the servers of a machine are configured to serve.

use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::CheckAddress;
use eskort_core::pki::{Anchors, Certificate, PrivateKey, Secret, assemble};
use eskort_core::renewal::Validity;
use eskort_core::words;
use eskort_host::files::FileRead;
use eskort_host::{Machine, MachineError, Machines};
use eskort_install::{Reading, read_configuration};
use eskort_probe::{Trust, observe};
use eskort_siteconf::{
    CertificateFiles, Listener, LoadError, NamePattern, Protocol, Remark, ServerKind, Site, SiteName, Socket, Survey,
    Value,
};
use futures_util::StreamExt;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};

/// A file with certificates or a key is no larger than this.
const LARGEST: u64 = 1 << 20;

/// So many listeners are connected to at the same time.
const AT_ONCE: usize = 16;

/// A certificate that ends within this time is said to end soon.
const SOON: SignedDuration = SignedDuration::from_hours(21 * 24);

/// What to survey.
#[derive(Clone, Debug, Default)]
pub struct SurveyOptions {
    /// The machine, by its name in the inventory; `None` is this one.
    pub host: Option<String>,
    /// The servers, each with its main file.
    pub files: Vec<(ServerKind, PathBuf)>,
    /// Only sites with a name that one of these fits.
    pub names: Vec<glob::Pattern>,
    /// Only sites about which there is something to say.
    pub only_findings: bool,
    /// Whether to connect to each listener with TLS, too.
    pub deep: bool,
}

/// What was found on a machine.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyReport {
    /// When it was made.
    pub at: Timestamp,
    /// The machine; `None` is this one.
    pub host: Option<String>,
    /// Its servers.
    pub servers: Vec<SurveyedServer>,
}

/// A server, with what it is configured to serve.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedServer {
    /// Its kind.
    pub server: &'static str,
    /// Its main file.
    pub config: PathBuf,
    /// Whether it runs; `None` where that cannot be told.
    pub runs: Option<bool>,
    /// How many files its configuration has.
    pub files: usize,
    /// Its sites, in the order in which it reads them.
    pub sites: Vec<SurveyedSite>,
    /// How many sites it has, those that were not asked for too.
    pub all_sites: usize,
    /// What was left out.
    pub left_out: Vec<LeftOut>,
    /// Why its configuration cannot be read.
    pub error: Option<String>,
}

/// Something that was left out of a survey.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LeftOut {
    /// The file.
    pub path: PathBuf,
    /// The line there, where it is about one.
    pub line: Option<usize>,
    /// What it is, and why.
    pub text: String,
}

/// A site.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedSite {
    /// Its names, as they are written.
    pub names: Vec<String>,
    /// Where it is served.
    pub listeners: Vec<SurveyedListener>,
    /// The certificates that it is configured with.
    pub certificates: Vec<SurveyedCertificate>,
    /// The folder of its pages.
    pub document_root: Option<String>,
    /// Where it sends visitors who come without TLS.
    pub redirect: Option<String>,
    /// Where it is defined.
    pub place: SurveyedPlace,
    /// What there is to say.
    pub findings: Vec<Finding>,
}

impl SurveyedSite {
    /// Returns the weightiest finding.
    pub fn worst(&self) -> Severity {
        self.findings.iter().map(|finding| finding.severity).max().unwrap_or(Severity::Good)
    }
}

/// Where something is defined.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedPlace {
    /// The file.
    pub path: PathBuf,
    /// The line, counted from 1.
    pub line: usize,
    /// The includes that lead there, the nearest first.
    pub included_from: Vec<IncludedFrom>,
}

/// An include.
#[derive(Clone, Debug, Serialize)]
pub struct IncludedFrom {
    /// The file that it stands in.
    pub path: PathBuf,
    /// The line there.
    pub line: usize,
}

/// Where a site is served.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SurveyedListener {
    /// Address and port, or the path of a socket.
    pub address: String,
    /// What is spoken, below TLS.
    pub protocol: &'static str,
    /// `plain`, `starttls` or `tls`.
    pub security: &'static str,
}

/// A certificate that a site is configured with.
#[derive(Clone, Debug, Serialize)]
pub struct SurveyedCertificate {
    /// The file with the certificate.
    pub certificate: String,
    /// The file with the key, where it is another.
    pub key: Option<String>,
    /// The file with the intermediates, where it is another.
    pub chain: Option<String>,
    /// The names on it.
    pub names: Vec<String>,
    /// Who issued it.
    pub issuer: Option<String>,
    /// Its dates.
    pub validity: Option<Validity>,
    /// Its SHA-256 in hexadecimal.
    pub fingerprint: Option<String>,
    /// Whether the key fits; `None` where the key was not looked at.
    pub key_fits: Option<bool>,
    /// Whether its intermediates come with it.
    pub chain_whole: Option<bool>,
}

/// Surveys servers of a machine.
///
/// # Errors
/// When the machine cannot be reached.
pub async fn survey(context: &Context, options: &SurveyOptions) -> Result<SurveyReport, MachineError> {
    let machines = Machines::default();
    let machine = machines.at(context, options.host.as_deref());
    let mut servers = Vec::new();
    for (kind, main) in &options.files {
        let reading = read_configuration(&machine, |read| kind.survey(main, read)).await?;
        servers.push(surveyed(context, &machine, options, (*kind, main), reading).await?);
    }
    machines.hang_up().await;
    Ok(SurveyReport { at: context.now(), host: options.host.clone(), servers })
}

/// Returns the servers of these kinds whose main file is in a usual place of a machine.
///
/// # Errors
/// When the machine cannot be reached.
pub async fn find_servers(
    context: &Context,
    host: Option<&str>,
    kinds: &[ServerKind],
) -> Result<Vec<(ServerKind, PathBuf)>, MachineError> {
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

/// Returns whether a server runs on this machine.
fn runs(kind: ServerKind) -> Option<bool> {
    let processes = std::fs::read_dir("/proc").ok()?;
    let name =
        |entry: std::io::Result<std::fs::DirEntry>| std::fs::read_to_string(entry.ok()?.path().join("comm")).ok();
    Some(processes.filter_map(name).any(|name| kind.processes().contains(&name.trim_end())))
}

async fn surveyed(
    context: &Context,
    machine: &Machine<'_>,
    options: &SurveyOptions,
    (kind, main): (ServerKind, &Path),
    reading: Reading<Survey>,
) -> Result<SurveyedServer, MachineError> {
    let mut server = SurveyedServer {
        server: kind.word(),
        config: main.to_owned(),
        runs: if options.host.is_none() { runs(kind) } else { None },
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
    let judge = Judge {
        files: &files,
        anchors: Trust::system().anchors(),
        now: context.now(),
        is_here: options.host.is_none(),
        judged: RefCell::default(),
    };
    let mut sites: Vec<SurveyedSite> = survey.sites.iter().map(|site| judge.site(site)).collect();
    add_conflicts(&survey.sites, &mut sites);
    add_without_tls(&survey.sites, &mut sites);
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

/// What was read of the files of certificates and keys: `Err` says why one cannot be read.
type Files = HashMap<PathBuf, Result<Option<FileRead>, String>>;

/// Reads the files with certificates. Keys in files of their own are read on this machine only: none of them travels.
async fn certificate_files(machine: &Machine<'_>, sites: &[Site]) -> Result<Files, MachineError> {
    let pairs = sites.iter().flat_map(|site| &site.certificates);
    let mut paths: BTreeSet<PathBuf> = BTreeSet::new();
    for pair in pairs {
        let keys = pair.key.as_ref().filter(|_| machine.host().is_none());
        let values = [Some(&pair.certificate), pair.chain.as_ref(), keys].into_iter().flatten();
        paths.extend(values.filter(|value| is_a_file(&value.text)).map(|value| PathBuf::from(&value.text)));
    }
    let paths: Vec<PathBuf> = paths.into_iter().collect();
    if let Ok(found) = machine.read_many(&paths, LARGEST).await {
        return Ok(paths.into_iter().zip(found.into_iter().map(Ok)).collect());
    }
    let mut files = Files::new();
    for path in paths {
        let found = match machine.read(&path, LARGEST).await {
            Err(MachineError::Io { source, .. }) => Err(source.to_string()),
            Err(error @ MachineError::Host(_)) => Err(error.to_string()),
            other => Ok(other?),
        };
        files.insert(path, found);
    }
    Ok(files)
}

/// A word that stands for a file, and not for something the server makes up when a visitor comes.
fn is_a_file(text: &str) -> bool {
    text.starts_with('/') && !text.contains('$')
}

/// The files of certificate, key and chain.
type Paths = (String, Option<String>, Option<String>);

/// Judges sites by what their certificates say.
struct Judge<'a> {
    files: &'a Files,
    anchors: Anchors,
    now: Timestamp,
    is_here: bool,
    judged: RefCell<HashMap<Paths, Judged>>,
}

/// What was found out about a certificate.
#[derive(Clone)]
struct Judged {
    certificate: SurveyedCertificate,
    findings: Vec<Finding>,
    leaf: Option<Certificate>,
}

impl Judge<'_> {
    fn site(&self, site: &Site) -> SurveyedSite {
        let mut findings = Vec::new();
        let mut leaves = Vec::new();
        let mut certificates = Vec::new();
        let speaks_tls = site.listeners.iter().any(|listener| listener.tls || listener.starttls);
        for pair in site.certificates.iter().filter(|_| speaks_tls) {
            let Judged { certificate, findings: found, leaf } = self.certificate_once(pair);
            findings.extend(found);
            certificates.push(certificate);
            leaves.extend(leaf);
        }
        if let Some(why) = &site.unreached {
            findings.push(Finding::new(
                Severity::Bad,
                Topic::Reach,
                format!("the server never comes to this site: {why}"),
            ));
        }
        if speaks_tls && certificates.is_empty() {
            let text = "it listens with TLS and has no certificate";
            findings.push(Finding::new(Severity::Bad, Topic::Names, text));
        }
        let uncovered: Vec<String> = site
            .names
            .iter()
            .filter(|name| match &name.pattern {
                NamePattern::Exact(name) => name.contains('.') && !leaves.iter().any(|leaf| leaf.covers(name)),
                NamePattern::Below { base, .. } => !leaves.iter().any(|leaf| leaf.covers(&format!("x.{base}"))),
                _ => false,
            })
            .map(|name| name.written.clone())
            .collect();
        if !leaves.is_empty() && !uncovered.is_empty() {
            let text = format!("its certificate is not for {}", words::list(&uncovered));
            findings
                .push(Finding::new(Severity::Bad, Topic::Names, text).with_advice("visitors of this name are warned"));
        }
        let listeners = site.listeners.iter().map(|listener| SurveyedListener {
            address: listener.socket.to_string(),
            protocol: listener.protocol.word(),
            security: match (listener.tls, listener.starttls) {
                (true, _) => "tls",
                (false, true) => "starttls",
                (false, false) => "plain",
            },
        });
        let included = |(path, line): &(PathBuf, usize)| IncludedFrom { path: path.clone(), line: *line };
        findings.sort_by_key(|finding: &Finding| std::cmp::Reverse(finding.severity));
        SurveyedSite {
            names: site.names.iter().map(|name| words::printable(&name.written, 260)).collect(),
            listeners: listeners.collect(),
            certificates,
            document_root: site.document_root.as_ref().map(|root| words::printable(root, 400)),
            redirect: site.redirect.as_ref().map(|to| words::printable(to, 400)),
            place: SurveyedPlace {
                path: site.place.path.clone(),
                line: site.place.line,
                included_from: site.place.included_from.iter().map(included).collect(),
            },
            findings,
        }
    }

    /// Many sites may have the same files: each is judged once.
    fn certificate_once(&self, pair: &CertificateFiles) -> Judged {
        let text = |value: &Option<Value>| value.as_ref().map(|value| value.text.clone());
        let key = (pair.certificate.text.clone(), text(&pair.key), text(&pair.chain));
        if let Some(known) = self.judged.borrow().get(&key) {
            return known.clone();
        }
        let mut findings = Vec::new();
        let (certificate, leaf) = self.certificate(pair, &mut findings);
        let judged = Judged { certificate, findings, leaf };
        self.judged.borrow_mut().insert(key, judged.clone());
        judged
    }

    fn certificate(
        &self,
        pair: &CertificateFiles,
        findings: &mut Vec<Finding>,
    ) -> (SurveyedCertificate, Option<Certificate>) {
        let printable = |text: &str| words::printable(text, 400);
        let path = printable(&pair.certificate.text);
        let mut found = SurveyedCertificate {
            certificate: path.clone(),
            key: pair.key.as_ref().map(|key| printable(&key.text)),
            chain: pair.chain.as_ref().map(|chain| printable(&chain.text)),
            names: Vec::new(),
            issuer: None,
            validity: None,
            fingerprint: None,
            key_fits: None,
            chain_whole: None,
        };
        let mut say = |severity, topic, text: String| findings.push(Finding::new(severity, topic, text));
        if !is_a_file(&pair.certificate.text) {
            say(
                Severity::Notice,
                Topic::Names,
                format!("which certificate `{path}` is shows only when a visitor comes"),
            );
            return (found, None);
        }
        let (mut all, text) = match self.read(&pair.certificate.text) {
            Ok(read) => read,
            Err(why) => {
                say(Severity::Bad, Topic::Names, format!("{path} {why}"));
                return (found, None);
            }
        };
        if let Some(chain) = &pair.chain {
            match self.read(&chain.text) {
                Ok((more, _)) => all.extend(more),
                Err(why) => say(Severity::Bad, Topic::Chain, format!("{} {why}", printable(&chain.text))),
            }
        }
        let Some(leaf) = all.first().cloned() else {
            say(Severity::Bad, Topic::Names, format!("{path} has no certificate in it"));
            return (found, None);
        };
        found.names = leaf.names.iter().map(ToString::to_string).collect();
        found.issuer = Some(leaf.issuer.clone());
        found.validity = Some(Validity { not_before: leaf.not_before, not_after: leaf.not_after });
        found.fingerprint = Some(leaf.fingerprint().to_string());
        let left = leaf.not_after.duration_since(self.now);
        if left.is_negative() {
            say(Severity::Bad, Topic::Dates, format!("its certificate ended on {}", words::day(leaf.not_after)));
        } else if leaf.not_before > self.now {
            say(Severity::Bad, Topic::Dates, format!("its certificate begins on {}", words::day(leaf.not_before)));
        } else if left < SOON {
            say(Severity::Notice, Topic::Dates, format!("its certificate ends in {}", words::duration(left)));
        }
        let assembled = assemble(leaf.clone(), &all, &self.anchors, self.now);
        let is_own = leaf.is_self_issued();
        found.chain_whole = Some(is_own || assembled.missing.is_none());
        if is_own {
            say(
                Severity::Notice,
                Topic::Trust,
                "its certificate has signed itself: visitors do not trust it".to_owned(),
            );
        } else if let Some(issuer) = &assembled.missing {
            let text = format!(
                "{path} does not have the certificate of `{issuer}`, which issued this one: who does not know that is warned"
            );
            say(Severity::Bad, Topic::Chain, text);
        }
        found.key_fits = self.key(pair, &text, &leaf, &mut say);
        (found, Some(leaf))
    }

    /// Reads a file with certificates, and returns its text too.
    fn read(&self, path: &str) -> Result<(Vec<Certificate>, String), String> {
        let file = match self.files.get(Path::new(path)) {
            Some(Ok(Some(file))) => file,
            Some(Ok(None)) | None => return Err("does not exist".into()),
            Some(Err(why)) => return Err(format!("cannot be read: {why}")),
        };
        let text = String::from_utf8_lossy(&file.bytes).into_owned();
        let all = Certificate::all_from_pem(&text).map_err(|error| format!("has something else in it: {error}"))?;
        Ok((all, text))
    }

    /// Looks at the key of a certificate: whether it fits, and who may read it.
    fn key(
        &self,
        pair: &CertificateFiles,
        text: &str,
        leaf: &Certificate,
        say: &mut impl FnMut(Severity, Topic, String),
    ) -> Option<bool> {
        let path = pair.key.as_ref().map_or(&pair.certificate.text, |key| &key.text);
        let shown = words::printable(path, 400);
        if !is_a_file(path) || (pair.key.is_some() && !self.is_here) {
            return None;
        }
        let file = match self.files.get(Path::new(path))? {
            Ok(Some(file)) => file,
            Ok(None) => {
                say(Severity::Bad, Topic::Key, format!("{shown} does not exist"));
                return None;
            }
            Err(why) => {
                say(Severity::Notice, Topic::Key, format!("whether {shown} fits cannot be told: {why}"));
                return None;
            }
        };
        if file.access.mode & 0o004 != 0 {
            let what = format!("everybody on this machine may read the key in {shown} (mode {:o})", file.access.mode);
            say(Severity::Bad, Topic::Key, what);
        }
        let bytes = String::from_utf8_lossy(&file.bytes).into_owned();
        let pem = Secret::new(if pair.key.is_some() { bytes } else { text.to_owned() });
        match PrivateKey::from_any_pem(&pem, None) {
            Ok(key) if key.fits(leaf.public_key()) => Some(true),
            Ok(_) => {
                say(Severity::Bad, Topic::Key, format!("the key in {shown} does not fit the certificate"));
                Some(false)
            }
            Err(error) => {
                say(Severity::Notice, Topic::Key, format!("whether {shown} fits cannot be told: {error}"));
                None
            }
        }
    }
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

/// Says which names are served over plain HTTP alone.
fn add_without_tls(sites: &[Site], surveyed: &mut [SurveyedSite]) {
    let named = |site: &Site| site.names.iter().map(|name| name.written.to_ascii_lowercase()).collect::<Vec<_>>();
    let with_tls: BTreeSet<String> = sites.iter().filter(|site| site.has_tls()).flat_map(named).collect();
    for (site, surveyed) in sites.iter().zip(surveyed) {
        let speaks_http = site.listeners.iter().any(|listener| listener.protocol == Protocol::Http);
        if !speaks_http || site.has_tls() || site.redirect.is_some() {
            continue;
        }
        let is_a_name = |name: &&SiteName| matches!(&name.pattern, NamePattern::Exact(name) if name.contains('.'));
        let without = site.names.iter().filter(is_a_name).map(|name| name.written.clone());
        let without: Vec<String> = without.filter(|name| !with_tls.contains(&name.to_ascii_lowercase())).collect();
        if let Some(first) = without.first() {
            let text = format!("{} is served without TLS only", words::list(&without));
            let advice = format!("`eskort add --site {first}` begins a certificate");
            let finding = Finding::new(Severity::Notice, Topic::Protocol, text).with_advice(advice);
            surveyed.findings.push(finding);
        }
    }
}

/// Says where two sites claim one name at one socket: the server takes the first.
fn add_conflicts(sites: &[Site], surveyed: &mut [SurveyedSite]) {
    let mut first: BTreeMap<(String, String), usize> = BTreeMap::new();
    for (index, site) in sites.iter().enumerate() {
        let mut lost: BTreeMap<usize, BTreeSet<&str>> = BTreeMap::new();
        for listener in &site.listeners {
            for name in site.names.iter().filter(|name| !matches!(name.pattern, NamePattern::Nobody)) {
                let key = (listener.socket.to_string(), name.written.to_ascii_lowercase());
                let winner = *first.entry(key).or_insert(index);
                if winner != index {
                    lost.entry(winner).or_default().insert(&name.written);
                }
            }
        }
        for (winner, names) in lost {
            let names: Vec<String> = names.into_iter().map(str::to_owned).collect();
            let text = format!("{} is claimed by {} too, which comes first", words::list(&names), sites[winner].place);
            let advice = "visitors get that one; take the name out of one of the two";
            surveyed[index].findings.push(Finding::new(Severity::Bad, Topic::Reach, text).with_advice(advice));
        }
    }
}
