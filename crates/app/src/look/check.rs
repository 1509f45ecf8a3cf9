//! Looks at live endpoints as a visitor would.

use super::domain::Domains;
use super::online::{other_addresses, revocation};
use crate::StepError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{CheckAddress, Proof};
use eskort_core::pki::{Certificate, Chain, LogKeys};
use eskort_core::rating::{Rating, rate, word};
use eskort_core::record::tlsa_record;
use eskort_core::renewal::Validity;
use eskort_core::words;
use eskort_install::{self as install, Facts, LiveEndpoint, Placement};
use eskort_probe::{
    Expected, Inspection, NoTls, Observation, ObserveError, StartTls, Trust, Visit, VisitOptions, inspect, judge,
    judge_inspection, judge_logged, judge_visit, observe, visit,
};
use eskort_prove::see_records;
use eskort_store::{LookRow, Store};
use futures_util::future::BoxFuture;
use futures_util::stream::{self, StreamExt};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};

/// So many endpoints of a certificate are looked at side by side.
const LOOKS_AT_ONCE: usize = 16;

/// What to look at.
#[derive(Clone, Debug)]
pub enum CheckTarget {
    /// A certificate of the inventory, wherever it is installed.
    Certificate(String),
    /// Any endpoint.
    Endpoint {
        /// The name.
        name: String,
        /// The port.
        port: u16,
        /// Where to connect instead of where the name leads.
        instead: Option<CheckAddress>,
        /// A file with what visitors trust, instead of the system's roots and those of the inventory.
        roots: Option<PathBuf>,
    },
}

/// How closely to look.
#[derive(Clone, Debug)]
pub enum CheckDepth {
    /// One handshake, as a visitor makes it.
    Handshake,
    /// All that the endpoint agrees to, what a browser is shown, and what the domain says.
    Whole(CloseLook),
}

/// What a close look takes in.
#[derive(Clone, Debug)]
pub struct CloseLook {
    /// How many pages are read.
    pub pages: usize,
    /// Where http is asked for instead of port 80 of the same address.
    pub plain: Option<CheckAddress>,
    /// Whether authorities are asked whether they have revoked what is served.
    pub online: bool,
    /// The transparency logs whose promises are checked.
    pub logs: LogKeys,
}

impl Default for CloseLook {
    fn default() -> Self {
        CloseLook { pages: 1, plain: None, online: false, logs: LogKeys::default() }
    }
}

/// How an endpoint stood when it was looked at closely before.
#[derive(Clone, Debug, Serialize)]
pub struct Before {
    /// When that was.
    pub at: jiff::Timestamp,
    /// How many points it had.
    pub points: u32,
    /// The word for that.
    pub word: &'static str,
    /// What was found then, and is not found any more.
    pub gone: Vec<String>,
    /// What is found now, and was not found then.
    pub new: Vec<String>,
}

/// One certificate that an endpoint sent.
#[derive(Clone, Debug, Serialize)]
pub struct Link {
    /// Its subject; its first name where the subject is empty.
    pub subject: String,
    /// Its issuer.
    pub issuer: String,
    /// Its last instant.
    pub not_after: jiff::Timestamp,
    /// The SHA-256 digest of its DER form in hexadecimal.
    pub fingerprint: String,
}

/// What was seen at one endpoint.
#[derive(Clone, Debug, Serialize)]
pub struct EndpointReport {
    /// The certificate of the inventory that should be there.
    pub certificate: Option<String>,
    /// The name.
    pub name: String,
    /// The port.
    pub port: u16,
    /// The address that answered.
    pub address: Option<SocketAddr>,
    /// The dates of the certificate served.
    pub validity: Option<Validity>,
    /// The names and addresses that the certificate served is for.
    pub names: Vec<String>,
    /// The protocol agreed on.
    pub protocol: Option<&'static str>,
    /// The certificates as sent.
    pub chain: Vec<Link>,
    /// What there is to say.
    pub findings: Vec<Finding>,
    /// What it agrees to, where that was looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub inspection: Option<Inspection>,
    /// What a browser is shown, where it is a site.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub visit: Option<Visit>,
    /// How good it is, where all was looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rating: Option<Rating>,
    /// How it stood the last time, where it was looked at closely before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<Before>,
}

impl EndpointReport {
    /// Returns name and port.
    pub fn endpoint(&self) -> String {
        match self.name.parse::<std::net::Ipv6Addr>() {
            Ok(ip) => format!("[{ip}]:{}", self.port),
            Err(_) => format!("{}:{}", self.name, self.port),
        }
    }

    /// Returns the weightiest finding.
    pub fn worst(&self) -> Severity {
        self.findings.iter().map(|f| f.severity).max().unwrap_or(Severity::Good)
    }
}

/// Looks at a target.
///
/// # Errors
/// When the inventory's servers or roots cannot be read. What is wrong with an endpoint is in its report.
///
/// # Panics
/// When the certificate is not in the inventory: callers look first.
#[boxed]
pub async fn check(
    context: &Context,
    target: &CheckTarget,
    depth: &CheckDepth,
) -> Result<Vec<EndpointReport>, StepError> {
    check_with(context, target, depth, &Domains::default()).await
}

async fn check_with(
    context: &Context,
    target: &CheckTarget,
    depth: &CheckDepth,
    domains: &Domains,
) -> Result<Vec<EndpointReport>, StepError> {
    let store = match Store::open_existing(&context.state)? {
        Some(store) => store,
        None => Store::in_memory(&context.state)?,
    };
    match target {
        CheckTarget::Endpoint { name, port, instead, roots } => {
            let mut trust = if roots.is_some() { Trust::nobody() } else { Trust::system() };
            match roots {
                Some(path) => trust.add_file(path)?,
                None => {
                    for authority in context.inventory.authorities.values() {
                        authority.visitor_roots.iter().try_for_each(|path| trust.add_file(path))?;
                    }
                }
            }
            // Somebody may well ask for an endpoint of a certificate we know.
            let known = context.inventory.certificates.iter().find(|(_, c)| c.names.iter().any(|n| n.covers(name)));
            let expected = match known {
                Some((certificate, _)) => expected(context, &store, certificate).await?,
                None => None,
            };
            let certificate = known.map(|(name, _)| name.clone()).filter(|_| expected.is_some());
            let looking = Looking { context, trust, expected, depth, domains };
            let seen = observe(name, *port, *instead).await;
            let mut report = looking.judged(certificate, (name, *port, *instead), seen).await;
            if let (Some((certificate, _)), None, None) = (known, report.address, instead) {
                let advice = format!("`eskort check {certificate}` looks where the inventory says");
                report.findings.push(
                    Finding::new(Severity::Notice, Topic::Reach, "this name is in the inventory").with_advice(advice),
                );
            }
            compare(context, &store, *instead, &mut report).await?;
            Ok(vec![report])
        }
        CheckTarget::Certificate(name) => {
            let entry = &context.inventory.certificates[name];
            let generation = store.newest(name).await?.map_or(0, |g| g.number);
            let placement = Placement { preview: true, ..Placement::of(name, entry, &entry.names, generation) };
            let endpoints = install::endpoints(context, &store, &placement, &Facts::default()).await?;
            let mut reports = look_closely(context, &store, name, &endpoints, (depth, domains), &|_| None).await?;
            for (endpoint, report) in endpoints.iter().zip(&mut reports) {
                let install = entry.install.iter().find(|install| install.server == endpoint.server);
                if let Some(proof) = install.and_then(|install| install.tlsa.as_ref()) {
                    report.findings.extend(is_key_named(context, &store, name, proof, endpoint, report).await?);
                    report.rating = report.rating.take().map(|_| rate(&report.findings));
                }
                compare(context, &store, endpoint.instead, report).await?;
            }
            Ok(reports)
        }
    }
}

/// Looks at several targets, many at once; those that name the same host follow each other. The results come in the order of the targets.
///
/// # Panics
/// As [`check`].
#[boxed]
pub async fn check_all(
    context: &Context,
    targets: &[CheckTarget],
    depth: &CheckDepth,
    told: &(dyn Fn(usize) + Sync),
) -> Vec<Result<Vec<EndpointReport>, StepError>> {
    let mut hosts: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (index, target) in targets.iter().enumerate() {
        let (CheckTarget::Certificate(name) | CheckTarget::Endpoint { name, .. }) = target;
        hosts.entry(name).or_default().push(index);
    }
    let (done, domains) = (AtomicUsize::new(0), Domains::default());
    let each = |indices: Vec<usize>| -> BoxFuture<'_, Vec<_>> {
        let (done, domains) = (&done, &domains);
        Box::pin(async move {
            let mut found = Vec::new();
            for index in indices {
                found.push((index, check_with(context, &targets[index], depth, domains).await));
                told(done.fetch_add(1, Ordering::Relaxed) + 1);
            }
            found
        })
    };
    let looks: Vec<BoxFuture<'_, Vec<_>>> = hosts.into_values().map(each).collect();
    let mut found: Vec<_> = stream::iter(looks).buffer_unordered(LOOKS_AT_ONCE).flat_map(stream::iter).collect().await;
    found.sort_by_key(|(index, _)| *index);
    found.into_iter().map(|(_, result)| result).collect()
}

/// Looks whether records name the key that an endpoint shows (TLSA), where that is one of ours.
async fn is_key_named(
    context: &Context,
    store: &Store,
    certificate: &str,
    proof: &str,
    endpoint: &LiveEndpoint,
    report: &EndpointReport,
) -> Result<Option<Finding>, StepError> {
    let Some(leaf) = report.chain.first() else { return Ok(None) };
    let Some(generation) = store.generation_of(certificate, &leaf.fingerprint).await? else { return Ok(None) };
    let bundle = store.generation_folder(certificate, generation).bundle()?;
    let chain = bundle.map(|bundle| Chain::from_pem(&bundle)).transpose()?;
    let proof = context.inventory.proofs.get(proof);
    let by_person = proof.is_some_and(Proof::awaits_person);
    let (Some(chain), Some(Proof::Dns(dns))) = (chain, proof) else { return Ok(None) };
    let record = tlsa_record(&endpoint.name, endpoint.port, chain.leaf().public_key());
    let at = record.name.clone();
    Ok(Some(match see_records(context, dns, std::slice::from_ref(&record)).await {
        Ok(seen) if seen.is_everywhere() => {
            Finding::new(Severity::Good, Topic::Tlsa, format!("the TLSA record at {at} names the key"))
        }
        Ok(_) => {
            let text = format!("no TLSA record at {at} names the key: who goes by them turns away");
            let line = format!("{}. TLSA {}", record.name, record.text);
            let advice = match by_person {
                true => format!("place {line} and run `eskort keep`"),
                false => format!("`eskort keep` places it; by hand: {line}"),
            };
            Finding::new(Severity::Bad, Topic::Tlsa, text).coded("not-named").with_advice(advice)
        }
        Err(error) => {
            let text = format!("the TLSA record at {at} cannot be asked for: {error}");
            Finding::new(Severity::Notice, Topic::Tlsa, text).coded("not-asked")
        }
    }))
}

/// Returns what an endpoint was seen to show a moment ago.
type Seen<'a> = &'a (dyn Fn(&LiveEndpoint) -> Option<Observation> + Sync);

/// Looks at the endpoints of a certificate, where visitors would find it; not at those that `seen` knows. The reports come in the order of
/// the endpoints.
pub(crate) async fn look_at(
    context: &Context,
    store: &Store,
    certificate: &str,
    endpoints: &[LiveEndpoint],
    seen: Seen<'_>,
) -> Result<Vec<EndpointReport>, StepError> {
    let (depth, domains) = (&CheckDepth::Handshake, &Domains::default());
    look_closely(context, store, certificate, endpoints, (depth, domains), seen).await
}

async fn look_closely(
    context: &Context,
    store: &Store,
    certificate: &str,
    endpoints: &[LiveEndpoint],
    (depth, domains): (&CheckDepth, &Domains),
    seen: Seen<'_>,
) -> Result<Vec<EndpointReport>, StepError> {
    if endpoints.is_empty() {
        return Ok(Vec::new());
    }
    let mut trust = Trust::system();
    for authority in context.inventory.certificates[certificate].authorities() {
        let roots = &context.inventory.authorities[authority].visitor_roots;
        roots.iter().try_for_each(|path| trust.add_file(path))?;
    }
    let expected = expected(context, store, certificate).await?;
    let looking = &Looking { context, trust, expected, depth, domains };
    let looks: Vec<BoxFuture<'_, EndpointReport>> = endpoints
        .iter()
        .map(|endpoint| -> BoxFuture<'_, _> {
            let (seen, LiveEndpoint { name, port, instead, .. }) = (seen(endpoint), endpoint);
            Box::pin(async move {
                let seen = match seen {
                    Some(seen) => Ok(seen),
                    None => observe(name, *port, *instead).await,
                };
                looking.judged(Some(certificate.into()), (name, *port, *instead), seen).await
            })
        })
        .collect();
    Ok(stream::iter(looks).buffered(LOOKS_AT_ONCE).collect().await)
}

/// Returns which generation visitors should get, and the others that they may get instead.
async fn expected(context: &Context, store: &Store, certificate: &str) -> Result<Option<Expected>, StepError> {
    let known = store.generations(certificate).await?;
    let newest = known.iter().map(|row| row.number).max();
    let wanted = match newest {
        Some(newest) => store.to_place(certificate, newest, context.now()).await?,
        None => None,
    };
    let came = known.iter().find(|row| Some(row.number) == wanted).map(|row| row.received);
    let known = known.into_iter().map(|row| (row.number, row.fingerprint));
    let (mut is_it, others): (Vec<_>, Vec<_>) = known.partition(|(number, _)| Some(*number) == wanted);
    Ok(is_it.pop().map(|newest| Expected { newest, came, earlier: others }))
}

/// What looks have in common.
struct Looking<'a> {
    context: &'a Context,
    trust: Trust,
    expected: Option<Expected>,
    depth: &'a CheckDepth,
    domains: &'a Domains,
}

/// Says what has changed since the last close look at an endpoint, and writes this one down. One at an address that was given is another one.
async fn compare(
    context: &Context,
    store: &Store,
    instead: Option<CheckAddress>,
    report: &mut EndpointReport,
) -> Result<(), StepError> {
    let Some(rating) = &report.rating else { return Ok(()) };
    let at = instead.map(|instead| format!(" at {instead}")).unwrap_or_default();
    let endpoint = format!("{}{at}", report.endpoint());
    let found = report.findings.iter().filter(|finding| finding.severity > Severity::Good);
    let codes: BTreeSet<String> = found.map(|finding| finding.code.to_owned()).collect();
    report.before = store.last_look(&endpoint).await?.map(|LookRow { at, points, codes: before }| {
        let before = BTreeSet::from_iter(before);
        let (gone, new) = (before.difference(&codes).cloned().collect(), codes.difference(&before).cloned().collect());
        Before { at, points, word: word(points), gone, new }
    });
    let look = LookRow { at: context.now(), points: rating.points, codes: codes.into_iter().collect() };
    // What was seen is worth telling also where it cannot be written down.
    let _ = store.save_look(&endpoint, &look).await;
    Ok(())
}

impl Looking<'_> {
    /// Says what there is to say about what was seen at an endpoint, and looks more closely where that is wanted.
    async fn judged(
        &self,
        certificate: Option<String>,
        (name, port, instead): (&str, u16, Option<CheckAddress>),
        seen: Result<Observation, ObserveError>,
    ) -> EndpointReport {
        let mut report = EndpointReport {
            certificate,
            name: name.to_owned(),
            port,
            address: None,
            validity: None,
            names: Vec::new(),
            protocol: None,
            chain: Vec::new(),
            findings: Vec::new(),
            inspection: None,
            visit: None,
            rating: None,
            before: None,
        };
        match seen {
            Err(error) => {
                let mut old = None;
                // What speaks only what is old is worth a close look all the same.
                if let ObserveError::NoHandshake { address, why: NoTls::OldProtocols | NoTls::NoCommonCipher, .. } =
                    &error
                {
                    old = Some(Shown { address: *address, begun: StartTls::usual(port), sent: &[], staple: &[] });
                }
                let (code, advice) = match &error {
                    ObserveError::NoHandshake { address, why, .. } => {
                        // What closes or is silent has shown nothing: a router in between may do that.
                        let shows = !matches!(why, NoTls::Silent | NoTls::Closes);
                        report.address = Some(*address).filter(|_| shows);
                        (why.code(), why.advice())
                    }
                    _ if instead.is_some() => (
                        "unreachable",
                        "is the server running? It was looked for where `check-address` or `--address` says",
                    ),
                    _ => (
                        "unreachable",
                        "does the name resolve to this machine, and is the port open? A machine that cannot reach itself by name needs `check-address`",
                    ),
                };
                report
                    .findings
                    .push(Finding::new(Severity::Bad, Topic::Reach, error.to_string()).coded(code).with_advice(advice));
                if let Some(old) = old {
                    self.closely(&mut report, instead, old).await;
                }
            }
            Ok(seen) => {
                let timing =
                    report.certificate.as_ref().map(|name| self.context.inventory.timing_of(name)).unwrap_or_default();
                report.findings = judge(&seen, &self.trust, self.expected.as_ref(), &timing, self.context.now());
                report.address = Some(seen.address);
                let leaf = &seen.sent[0];
                report.validity = Some(Validity { not_before: leaf.not_before, not_after: leaf.not_after });
                report.names = leaf.names.iter().map(ToString::to_string).collect();
                report.protocol = Some(seen.protocol);
                report.chain = seen.sent.iter().map(link).collect();
                let Observation { address, begun, sent, staple, .. } = &seen;
                let shown = Shown { address: *address, begun: *begun, sent, staple };
                self.closely(&mut report, instead, shown).await;
            }
        }
        report
    }

    /// Looks at all that an endpoint agrees to, and at what a browser is shown there, where that is wanted.
    async fn closely(
        &self,
        report: &mut EndpointReport,
        instead: Option<CheckAddress>,
        Shown { address, begun, sent, staple }: Shown<'_>,
    ) {
        let CheckDepth::Whole(CloseLook { pages, plain, online, logs }) = self.depth else { return };
        let leaf = sent.first();
        let (name, port) = (report.name.clone(), report.port);
        let plain = match plain {
            Some(plain) => Some(plain.socket(80)),
            None => Some(SocketAddr::new(address.ip(), 80)).filter(|_| port == 443 && address.port() == 443),
        };
        let visiting = async {
            match begun {
                None => visit(&name, port, VisitOptions { address, plain, pages: *pages }).await,
                Some(_) => None,
            }
        };
        // One after the other: some servers have one visitor at a time. Name servers are others.
        let looks = async { (inspect((&name, port), address, begun, leaf).await, visiting.await) };
        let entry = report.certificate.as_ref().and_then(|name| self.context.inventory.certificates.get(name));
        let has_tlsa = entry.is_some_and(|entry| entry.install.iter().any(|install| install.tlsa.is_some()));
        let domain = async {
            match instead {
                None => self.domains.look(&name, port, sent, !has_tlsa).await,
                Some(_) => Vec::new(),
            }
        };
        let ((seen, shown), domain) = tokio::join!(looks, domain);
        let now = self.context.now();
        let is_public = Trust::public().trusts_sent(sent, now);
        report.findings.extend(judge_logged(sent, staple, &seen.log_proofs, logs, is_public, now));
        report.findings.extend(judge_inspection(&seen));
        report.findings.extend(shown.iter().flat_map(judge_visit));
        if let (None, Some(leaf)) = (instead, leaf) {
            report.findings.extend(other_addresses(&name, port, address, leaf).await);
        }
        report.findings.extend(domain);
        if *online {
            let authority = entry.and_then(|entry| entry.authorities().next());
            report.findings.push(revocation(self.context, authority, sent).await);
        }
        report.rating = Some(rate(&report.findings));
        (report.inspection, report.visit) = (Some(seen), shown);
    }
}

/// What one handshake has shown, as far as a close look needs it.
struct Shown<'a> {
    address: SocketAddr,
    begun: Option<StartTls>,
    sent: &'a [Certificate],
    staple: &'a [u8],
}

fn link(certificate: &Certificate) -> Link {
    let title = Some(certificate.subject_or_title()).filter(|title| !title.is_empty());
    let subject = words::printable(title.as_deref().unwrap_or("(no name)"), 80);
    let fingerprint = certificate.fingerprint().to_string();
    Link { subject, issuer: words::printable(&certificate.issuer, 80), not_after: certificate.not_after, fingerprint }
}
