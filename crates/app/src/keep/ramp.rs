//! Lets the time grow for which browsers come back over https alone, as long as nothing is found wrong with the site.

use crate::look::check;
use eskort_core::context::Context;
use eskort_core::event::Event;
use eskort_core::finding::Severity;
use eskort_core::https::{Hsts, RampStep};
use eskort_core::inventory::{CertificateEntry, Install};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_install::{self as install, Facts as ServerFacts, Placement};
use eskort_probe::observe_hsts;
use eskort_store::{Store, StoreError};
use jiff::SignedDuration;

/// So many endpoints of a site are looked at.
const MOST_ENDPOINTS: usize = 16;

/// Looks at the sites of a certificate that are on the ramp, and takes those a step further whose time has come. What is served
/// follows: the servers lack it from now on.
pub(super) async fn climb(
    context: &Context,
    store: &Store,
    name: &str,
    entry: &CertificateEntry,
    servers: &ServerFacts,
) -> Result<(), StoreError> {
    let Some(generation) = store.current_generation(name) else { return Ok(()) };
    for Install { server, .. } in entry.install.iter().filter(|install| install.wishes.hsts == Some(Hsts::Ramp)) {
        let Some(ramp) = store.ramp(name, server).await?.filter(|ramp| ramp.goes_on()) else { continue };
        let placement = Placement::of(name, entry, &entry.names, generation).on(|on| on == server);
        let wrong = look(context, store, &placement, ramp, servers).await.err();
        let after = ramp.after_look(wrong.is_none(), context.now());
        if after == ramp {
            continue;
        }
        store.set_ramp(name, server, after).await?;
        if let Some(why) = wrong {
            let text = format!("HSTS on server `{server}` stays at {}: {why}", time(ramp));
            context.report(&Progress::Note(text));
        } else {
            let event = Event::Remembered { server: server.clone(), seconds: after.max_age() };
            store.add_event(name, &event, context.now()).await?;
        }
    }
    Ok(())
}

/// Begins the ramp of sites that have been checked live for the first time.
pub(super) async fn begin(context: &Context, store: &Store, placement: &Placement<'_>) -> Result<(), StoreError> {
    for Install { server, wishes, .. } in placement.install.iter().copied() {
        if wishes.hsts == Some(Hsts::Ramp) && store.ramp(placement.certificate, server).await?.is_none() {
            store.set_ramp(placement.certificate, server, RampStep::first(context.now())).await?;
        }
    }
    Ok(())
}

/// Looks as a visitor would: everything has to be good, and browsers have to be told what they should be. Errors are in words.
async fn look(
    context: &Context,
    store: &Store,
    placement: &Placement<'_>,
    ramp: RampStep,
    servers: &ServerFacts,
) -> Result<(), String> {
    let endpoints = install::endpoints(context, store, placement, servers).await.map_err(|e| e.to_string())?;
    let endpoints = &endpoints[..endpoints.len().min(MOST_ENDPOINTS)];
    let reports =
        check::look_at(context, store, placement.certificate, endpoints, &|_| None).await.map_err(|e| e.to_string())?;
    for (endpoint, report) in endpoints.iter().zip(reports) {
        let at = report.endpoint();
        if let Some(bad) = report.findings.iter().find(|finding| finding.severity == Severity::Bad) {
            return Err(format!("{at}: {}", bad.text));
        }
        let seen = observe_hsts(&endpoint.name, endpoint.port, endpoint.instead.or(endpoint.here)).await;
        match seen.map_err(|why| format!("{at}: {why}"))? {
            Some(seconds) if seconds >= u64::from(ramp.max_age()) => {}
            Some(seconds) => return Err(format!("{at} sends max-age={seconds} instead of {}", ramp.max_age())),
            None => return Err(format!("{at} does not send the header Strict-Transport-Security")),
        }
    }
    if endpoints.is_empty() { Err("no endpoint of it can be looked at".to_owned()) } else { Ok(()) }
}

fn time(ramp: RampStep) -> String {
    words::duration(SignedDuration::from_secs(i64::from(ramp.max_age())))
}
