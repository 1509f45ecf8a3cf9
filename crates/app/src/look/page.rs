//! What the page about all certificates shows.

use super::check::{CheckDepth, CheckTarget, CloseLook, EndpointReport, check_all};
use super::list::{ListFilter, State, list};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::finding::Severity;
use eskort_core::page::{Page, PageCertificate, PageEndpoint, PageFinding};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::files::{Access, make_folders, write_atomic};
use eskort_store::{Store, StoreError};
use std::cmp::Reverse;
use std::io;
use std::path::Path;

/// Gathers what is known of all certificates; with `looks` also what is seen now where they are served.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn page(context: &Context, looks: bool) -> Result<Page, StoreError> {
    let mut rows = list(context, &ListFilter::default()).await?;
    rows.retain(|row| row.state != State::NotInInventory);
    rows.sort_by(|a, b| words::natural_order(&a.certificate, &b.certificate));
    let targets: Vec<CheckTarget> = match looks {
        true => rows.iter().map(|row| CheckTarget::Certificate(row.certificate.clone())).collect(),
        false => Vec::new(),
    };
    context.report(&Progress::Doing("look at the endpoints"));
    let depth = CheckDepth::Whole(CloseLook::default());
    let mut seen = check_all(context, &targets, &depth, &|_| {}).await.into_iter();
    let store = Store::open_existing(&context.state)?;
    let mut certificates = Vec::new();
    for row in rows {
        let mut generations = Vec::new();
        if let Some(store) = &store {
            generations.extend(store.generations(&row.certificate).await?.iter().map(|known| known.validity));
            generations.reverse();
        }
        let endpoints = match seen.next() {
            Some(Ok(reports)) => reports.iter().map(endpoint).collect(),
            Some(Err(error)) => vec![untold(&row.certificate, &error.to_string())],
            None => Vec::new(),
        };
        certificates.push(PageCertificate {
            needs_attention: row.state.needs_attention(),
            awaits_person: matches!(row.state, State::AwaitsPerson { .. } | State::LosesNames { .. }),
            state: row.state.words(),
            certificate: row.certificate,
            names: row.names,
            generations,
            validity: row.validity,
            renew_at: row.renew_at,
            endpoints,
        });
    }
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    Ok(Page { machine: words::printable(name.trim(), 100), at: context.now(), certificates })
}

fn endpoint(report: &EndpointReport) -> PageEndpoint {
    let worth = report.findings.iter().filter(|finding| finding.severity > Severity::Good);
    let finding = |finding: &eskort_core::finding::Finding| PageFinding {
        severity: finding.severity,
        text: finding.text.clone(),
        advice: finding.advice.clone(),
    };
    let mut findings: Vec<PageFinding> = worth.map(finding).collect();
    findings.sort_by_key(|finding| Reverse(finding.severity));
    PageEndpoint { endpoint: report.endpoint(), rating: report.rating.clone(), findings }
}

fn untold(certificate: &str, what: &str) -> PageEndpoint {
    let finding = PageFinding { severity: Severity::Bad, text: words::printable(what, 300), advice: None };
    PageEndpoint { endpoint: certificate.to_owned(), rating: None, findings: vec![finding] }
}

/// Writes a page as `index.html` into a folder, whole or not at all, for everybody to read; the folder is made where it does not exist.
///
/// # Errors
/// When it cannot be written.
pub fn write_page(folder: &Path, page: &Page) -> io::Result<()> {
    make_folders(folder, 0o755)?;
    write_atomic(&folder.join("index.html"), page.to_html().as_bytes(), Access::mode(0o644))
}
