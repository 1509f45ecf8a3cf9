//! Installs a generation, and looks at it as a visitor would.

use super::work::Work;
use crate::StepError;
use crate::look::check::{self, EndpointReport};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::journey::Outcome;
use eskort_core::progress::Progress;
use eskort_install as install;
use eskort_store::InstallState;
use std::time::{Duration, Instant};

/// How long to wait before an endpoint is checked again.
const CHECK_AGAIN: Duration = Duration::from_millis(200);

pub(super) async fn install(work: &Work<'_>) -> Result<Outcome, StepError> {
    let placement = work.placement();
    let facts = work.servers.anew().await;
    let plans = install::plan(work.context, work.store, &placement, &facts).await?;
    for finding in plans.iter().flat_map(|p| &p.findings) {
        let advice = finding.advice.as_ref().map(|advice| format!(" ({advice})")).unwrap_or_default();
        work.context.report(&Progress::Note(format!("{}{advice}", finding.text)));
    }
    install::apply(work.context, work.store, &plans, &placement, &facts).await?;
    Ok(Outcome::Installed)
}

/// Looks at every endpoint, and again while one shows another certificate and the servers may still need time: during a
/// reload the processes of before and the new ones take connections side by side.
async fn check_endpoints(work: &Work<'_>, installed_since: Option<Instant>) -> Result<Vec<EndpointReport>, StepError> {
    let timeouts =
        work.entry.install.iter().map(|install| work.context.inventory.servers[&install.server].reload_timeout);
    let timeout = timeouts.max().unwrap_or_default();
    let facts = work.servers.anew().await;
    loop {
        let placement = work.placement();
        let reports = check::look_at(work.context, work.store, work.certificate, &placement, &facts).await?;
        let other = |f: &Finding| f.topic == Topic::Installed && f.severity == Severity::Bad;
        let shown = !reports.iter().flat_map(|report| &report.findings).any(other);
        if shown || installed_since.is_none_or(|since| since.elapsed() >= timeout) {
            return Ok(reports);
        }
        tokio::time::sleep(CHECK_AGAIN).await;
    }
}

/// Looks as a visitor would. An endpoint that cannot be reached from here says nothing against the generation: a machine at
/// home does not reach itself by name. One that shows something else does.
pub(super) async fn confirm(
    work: &Work<'_>,
    installed_since: Option<Instant>,
    checked: &mut usize,
) -> Result<Outcome, StepError> {
    let reports = check_endpoints(work, installed_since).await?;
    let mut unreachable = Vec::new();
    for report in &reports {
        if report.address.is_none() {
            unreachable.extend(report.findings.iter().map(|f| format!("{}: {}", report.endpoint(), f.text)));
            continue;
        }
        *checked += 1;
        // Whether this machine trusts the root says little about the visitors of a private authority.
        let (trust, bad): (Vec<_>, Vec<_>) = report
            .findings
            .iter()
            .filter(|f| f.severity == Severity::Bad)
            .cloned()
            .partition(|f| f.topic == Topic::Trust);
        if !bad.is_empty() {
            return Err(StepError::NotConfirmed { endpoint: report.endpoint(), findings: bad });
        }
        for finding in trust {
            work.context.report(&Progress::Note(format!("{}: {}", report.endpoint(), finding.text)));
        }
    }
    let (now, why) = ((work.context.now)(), unreachable.join("; "));
    let servers = work.entry.install.iter().map(|install| {
        let host = work.context.inventory.servers[&install.server].host.as_deref();
        (install.server.as_str(), host)
    });
    let record = |state, seen| work.store.record_installs(work.certificate, servers, work.generation, state, seen, now);
    if unreachable.is_empty() {
        record(InstallState::Confirmed, None)?;
        work.store.mark_confirmed(work.certificate, work.generation, now)?;
        return Ok(Outcome::Confirmed);
    }
    record(InstallState::Installed, Some(&why))?;
    let text = format!(
        "installed, but not confirmed from here: {why}. A machine that cannot reach itself by name needs `check-address`"
    );
    work.context.report(&Progress::Note(text));
    Ok(Outcome::Unreachable { why })
}
