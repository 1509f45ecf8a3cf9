//! Puts a generation on its servers, and checks it there as a visitor would.

use super::ramp;
use crate::StepError;
use crate::look::check::{self, EndpointReport};
use crate::stop::Stop;
use eskort_core::context::Context;
use eskort_core::deployment::{Deployment, Target};
use eskort_core::event::Event;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::{Install, ServerKind};
use eskort_core::journey::Milestone;
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::crash_point;
use eskort_install::{self as install, Facts as ServerFacts, LiveEndpoint, Placement};
use eskort_probe::Trust;
use eskort_store::{InstallRow, InstallState, Store};
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// How long to wait before an endpoint is checked again.
const CHECK_AGAIN: Duration = Duration::from_millis(200);

/// What is said of the installation of a certificate that is for no server.
pub(super) const NOWHERE: &str = "nowhere: the inventory names no server";

/// Of so many endpoints that cannot be reached it is said why.
const MOST_SAID: usize = 3;

/// A generation on its way to servers.
pub(crate) struct Deploying<'a> {
    pub(crate) context: &'a Context,
    pub(crate) store: &'a Store,
    pub(crate) stop: &'a Stop,
    pub(crate) placement: Placement<'a>,
    /// What was read of servers when it was found out what they lack.
    pub(crate) servers: &'a ServerFacts,
    /// When it was installed together with others, in this run.
    pub(crate) installed_since: Option<Instant>,
}

/// Endpoints that cannot be reached, each with its server and why.
type Unreachable<'e> = Vec<(&'e str, String)>;

/// What came of it.
#[derive(Default)]
pub(crate) struct Deployed {
    /// How many endpoints answered.
    pub(crate) looked_at: usize,
    /// Why some could not be looked at from here, though the generation is installed.
    pub(crate) unconfirmed: Option<String>,
    /// The servers that were left out, since it failed there.
    pub(crate) left_out: Vec<String>,
    /// The servers to which a person has to carry a parcel, each with the page of the steps.
    pub(crate) to_carry: Vec<(String, PathBuf)>,
}

impl Deployed {
    /// Returns it with the servers that were left out, each with why.
    fn without(self, left_out: Vec<(String, String)>) -> Self {
        let words = left_out.iter().map(|(server, why)| format!("server `{server}` is left out: {why}"));
        let unconfirmed = words.chain(self.unconfirmed).collect::<Vec<_>>().join("; ");
        let left_out = left_out.iter().map(|(server, _)| server.clone()).collect();
        Deployed { unconfirmed: Some(unconfirmed).filter(|text| !text.is_empty()), left_out, ..self }
    }
}

impl Deploying<'_> {
    /// Installs the generation where something is lacking, all of it or nothing, and looks at it there.
    pub(crate) async fn run(&self, deployment: &Deployment) -> Result<Deployed, StepError> {
        let Deploying { context, stop, placement, .. } = self;
        let among = |wanted: fn(&Target) -> bool| {
            placement.on(|server| deployment.targets.iter().any(|target| target.server == server && wanted(target)))
        };
        let mut installed_since = self.installed_since;
        // Servers that are left out, each with why.
        let mut left_out: Vec<(String, String)> = Vec::new();
        if deployment.is_to_install() {
            context.report(&Progress::Doing("install the certificate"));
            let mut placement = among(Target::is_to_install);
            loop {
                let installing = install(context, self.store, self.servers, std::slice::from_ref(&placement));
                let Err(error) = finished(context, stop, installing).await else { break };
                let Some(server) = self.may_be_left_out(&error) else { return Err(error) };
                self.servers.forget().await;
                placement = placement.on(|on| on != server.0);
                left_out.push(server);
                // Where it failed everywhere, nothing was left out.
                if left_out.len() == self.placement.install.len() {
                    return Err(error);
                }
                if placement.install.is_empty() {
                    return Ok(Deployed::default().without(left_out));
                }
            }
            installed_since = Some(Instant::now());
            crash_point("installed");
            let is_parcel = |install: &&Install| self.parcel_of(&install.server).is_some();
            let detail = match placement.install.is_empty() {
                true => NOWHERE.to_owned(),
                false if placement.install.iter().copied().all(|install| is_parcel(&install)) => {
                    format!("generation {} is packed for a person to carry", placement.generation)
                }
                false => format!("generation {} is in use", placement.generation),
            };
            context.report(&Progress::Passed { milestone: Milestone::Installed, detail });
        }
        let checked = among(|_| true).on(|server| !left_out.iter().any(|(left, _)| left == server));
        if checked.install.is_empty() && !placement.install.is_empty() {
            return Ok(Deployed::default().without(left_out));
        }
        context.report(&Progress::Doing("check the site as a visitor"));
        let deployed = tokio::select! {
            biased;
            () = stop.asked(1) => return Err(StepError::Interrupted),
            deployed = self.confirm(&checked, installed_since) => deployed?,
        };
        Ok(deployed.without(left_out))
    }

    /// Returns the page of the steps for a server that a person looks after.
    fn parcel_of(&self, server: &str) -> Option<PathBuf> {
        match &self.context.inventory.servers.get(server)?.kind {
            ServerKind::Parcel(parcel) => Some(install::steps_of(parcel, self.placement.certificate)),
            _ => None,
        }
    }

    /// Returns the server of several that may be left out because of an error, and why.
    fn may_be_left_out(&self, error: &StepError) -> Option<(String, String)> {
        let StepError::Install(error) = error else { return None };
        let server = error.server()?;
        let may = self.context.inventory.servers.get(server)?.partial;
        let why = error.to_string();
        if may {
            self.context.report(&Progress::Note(format!("server `{server}` is left out for now: {why}")));
        }
        may.then(|| (server.to_owned(), why))
    }

    /// Looks at every endpoint, and again while one shows another certificate and the servers may still need time: during a
    /// reload the processes of before and the new ones take connections side by side.
    async fn look(
        &self,
        placement: &Placement<'_>,
        endpoints: &[LiveEndpoint],
        installed_since: Option<Instant>,
    ) -> Result<Vec<EndpointReport>, StepError> {
        let timeout = endpoints.iter().map(|endpoint| endpoint.reload_timeout).max().unwrap_or_default();
        loop {
            let seen = |endpoint: &LiveEndpoint| self.servers.just_seen(endpoint);
            let reports = check::look_at(self.context, self.store, placement.certificate, endpoints, &seen).await?;
            let other = |f: &Finding| f.topic == Topic::Installed && f.severity == Severity::Bad;
            // What a person puts in place is not waited for.
            let awaited = endpoints.iter().zip(&reports).filter(|(endpoint, _)| !endpoint.reload_timeout.is_zero());
            let shown = !awaited.flat_map(|(_, report)| &report.findings).any(other);
            if shown || installed_since.is_none_or(|since| since.elapsed() >= timeout) {
                return Ok(reports);
            }
            tokio::time::sleep(CHECK_AGAIN).await;
        }
    }

    /// Sorts what was seen: what is as it should be, what waits for a person, and which endpoints cannot be reached, each with its server and why.
    fn sort<'e>(
        &self,
        endpoints: &'e [LiveEndpoint],
        reports: &[EndpointReport],
    ) -> Result<(Deployed, Unreachable<'e>), StepError> {
        let mut deployed = Deployed::default();
        let mut unreachable: Unreachable<'e> = Vec::new();
        for (endpoint, report) in endpoints.iter().zip(reports) {
            let to_carry = self.parcel_of(&endpoint.server);
            let is_bad = |f: &&Finding| f.severity == Severity::Bad && f.topic != Topic::Trust;
            if to_carry.is_some() && (report.address.is_none() || report.findings.iter().any(|f| is_bad(&f))) {
                deployed.to_carry.extend(to_carry.map(|steps| (endpoint.server.clone(), steps)));
                continue;
            }
            if report.address.is_none() {
                let why = report.findings.iter().map(|f| format!("{}: {}", report.endpoint(), f.text));
                unreachable.extend(why.map(|why| (endpoint.server.as_str(), why)));
                continue;
            }
            deployed.looked_at += 1;
            // Whether this machine trusts the root says little about the visitors of a private authority.
            let bad = report.findings.iter().filter(|f| f.severity == Severity::Bad).cloned();
            let (trust, bad): (Vec<_>, Vec<_>) = bad.partition(|f| f.topic == Topic::Trust);
            if !bad.is_empty() {
                return Err(StepError::NotConfirmed { endpoint: report.endpoint(), findings: bad });
            }
            for finding in trust {
                self.context.report(&Progress::Note(format!("{}: {}", report.endpoint(), finding.text)));
            }
        }
        deployed.to_carry.dedup();
        for (server, steps) in &deployed.to_carry {
            let text = format!("server `{server}` waits for you: the steps are in {}", steps.display());
            self.context.report(&Progress::Note(text));
        }
        Ok((deployed, unreachable))
    }

    /// Looks as a visitor would. An endpoint that cannot be reached from here says nothing against the generation: a machine at
    /// home does not reach itself by name. One that shows something else does.
    async fn confirm(
        &self,
        placement: &Placement<'_>,
        installed_since: Option<Instant>,
    ) -> Result<Deployed, StepError> {
        let Deploying { context, store, servers, .. } = self;
        let Placement { certificate, generation, .. } = *placement;
        let endpoints = install::endpoints(context, store, placement, servers).await?;
        let reports = self.look(placement, &endpoints, installed_since).await?;
        let (mut deployed, unreachable) = self.sort(&endpoints, &reports)?;
        let now = context.now();
        let is_waiting = |server: &String| deployed.to_carry.iter().any(|(waiting, _)| waiting == server);
        let words = |of: &dyn Fn(&str) -> bool| -> Option<String> {
            let why: Vec<&str> = unreachable.iter().filter(|(s, _)| of(s)).map(|(_, why)| why.as_str()).collect();
            let more = why.len().saturating_sub(MOST_SAID);
            let more = (more > 0).then(|| format!("and {} more", words::count(more as u64, "endpoint")));
            let said: Vec<&str> = why.into_iter().take(MOST_SAID).chain(more.as_deref()).collect();
            Some(said.join("; ")).filter(|why| !why.is_empty())
        };
        let row = |server: &String| {
            let waits = || is_waiting(server).then(|| "waits for somebody to put it in place".to_owned());
            let seen = words(&|of| of == server).or_else(waits);
            // What nobody could look at is installed, no more.
            let looked_at =
                seen.is_none() && !is_waiting(server) && endpoints.iter().any(|endpoint| endpoint.server == *server);
            let state = if looked_at { InstallState::Confirmed } else { InstallState::Installed };
            let machine = context.inventory.servers[server].host.clone().unwrap_or_default();
            InstallRow { machine, server: server.clone(), generation, state, seen, changed: now }
        };
        let rows: Vec<InstallRow> = placement.install.iter().map(|install| row(&install.server)).collect();
        deployed.unconfirmed = words(&|_| true);
        if let Some(why) = &deployed.unconfirmed {
            store.record_installs(certificate, &rows, None, now).await?;
            let text = format!(
                "installed, but not confirmed from here: {why}. A machine that cannot reach itself by name needs `check-address`"
            );
            context.report(&Progress::Note(text));
            return Ok(deployed);
        }
        ramp::begin(context, store, placement).await?;
        let event = Event::Passed { stage: Milestone::Confirmed, generation, requests: 0 };
        let event = Some(&event).filter(|_| deployed.looked_at > 0);
        let event = event.filter(|_| deployed.to_carry.is_empty());
        if event.is_some() {
            store.mark_confirmed(certificate, generation, now).await?;
        }
        store.record_installs(certificate, &rows, event, now).await?;
        crash_point("confirmed");
        if !deployed.to_carry.is_empty() {
            return Ok(deployed);
        }
        let detail = match deployed.looked_at {
            0 => "stored; no endpoint to check",
            _ => "checked live, as visitors see it",
        };
        context.report(&Progress::Passed { milestone: Milestone::Confirmed, detail: detail.to_owned() });
        Ok(deployed)
    }
}

/// Installs generations together: all of them or none.
pub(crate) async fn install(
    context: &Context,
    store: &Store,
    servers: &ServerFacts,
    placements: &[Placement<'_>],
) -> Result<(), StepError> {
    let plans = install::plan(context, store, placements, servers).await?;
    for finding in plans.iter().flat_map(|p| &p.findings) {
        let advice = finding.advice.as_ref().map(|advice| format!(" ({advice})")).unwrap_or_default();
        context.report(&Progress::Note(format!("{}{advice}", finding.text)));
    }
    // Visitors' roots take a while to read; servers, to reload.
    if placements.iter().any(|placement| !placement.install.is_empty()) {
        drop(tokio::task::spawn_blocking(Trust::system));
    }
    Ok(install::apply(context, store, &plans, placements, servers).await?)
}

/// Lets an installation come to its end, or be undone, though somebody asks the program to stop: it is not left in the middle.
pub(crate) async fn finished<T>(context: &Context, stop: &Stop, installation: impl Future<Output = T>) -> T {
    let mut installation = std::pin::pin!(installation);
    tokio::select! {
        done = &mut installation => return done,
        () = stop.asked(1) => {
            let text = "finishing the installation before this run stops; asked again, it stops at once";
            context.report(&Progress::Note(text.into()));
        }
    }
    installation.await
}
