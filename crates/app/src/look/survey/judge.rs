//! What certificates and keys say about the sites that are configured with them.

use super::report::{IncludedFrom, SurveyedCertificate, SurveyedListener, SurveyedPlace, SurveyedSite};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::pki::{Anchors, Certificate, PrivateKey, Secret, assemble};
use eskort_core::renewal::Validity;
use eskort_core::words;
use eskort_host::files::FileRead;
use eskort_host::{Machine, MachineError};
use eskort_siteconf::{CertificateFiles, NamePattern, Protocol, Site, SiteName, Value};
use jiff::{SignedDuration, Timestamp};
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};

/// A file with certificates or a key is no larger than this.
const LARGEST: u64 = 1 << 20;

/// A certificate that ends within this time is said to end soon.
const SOON: SignedDuration = SignedDuration::from_hours(21 * 24);

/// What was read of the files of certificates and keys: `Err` says why one cannot be read.
pub(super) type Files = HashMap<PathBuf, Result<Option<FileRead>, String>>;

/// Reads the files with certificates. Keys in files of their own are read on this machine only: none of them travels.
pub(super) async fn certificate_files(machine: &Machine<'_>, sites: &[Site]) -> Result<Files, MachineError> {
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
pub(super) struct Judge<'a> {
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

impl<'a> Judge<'a> {
    pub(super) fn new(files: &'a Files, anchors: Anchors, now: Timestamp, is_here: bool) -> Self {
        Judge { files, anchors, now, is_here, judged: RefCell::default() }
    }
}

impl Judge<'_> {
    pub(super) fn site(&self, site: &Site) -> SurveyedSite {
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

/// Says which names are served over plain HTTP alone.
pub(super) fn add_without_tls(sites: &[Site], surveyed: &mut [SurveyedSite]) {
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
            let are = if without.len() == 1 { "is" } else { "are" };
            let text = format!("{} {are} served only without TLS", words::list(&without));
            let advice = format!("`eskort add --site {first}` begins a certificate");
            let finding = Finding::new(Severity::Notice, Topic::Protocol, text).with_advice(advice);
            surveyed.findings.push(finding);
        }
    }
}

/// Says where two sites claim one name at one socket: the server takes the first.
pub(super) fn add_conflicts(sites: &[Site], surveyed: &mut [SurveyedSite]) {
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
