//! Looks at servers until they show what they should.

use crate::InstallError;
use crate::facts::Facts;
use crate::plan::LiveEndpoint;
use eskort_core::words;
use eskort_host::{Listening, own_addresses, who_listens};
use eskort_probe::{Observation, ObserveError, observe};
use futures_util::future::{BoxFuture, FutureExt};
use futures_util::stream::{self, StreamExt};
use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

/// So many endpoints are looked at side by side.
const LOOKS_AT_ONCE: usize = 16;

/// Says who listens at an address of this machine; `None` for another's, or where that is not told.
fn who(at: SocketAddr) -> Option<String> {
    if !at.ip().is_loopback() && !own_addresses().contains(&at.ip()) {
        return None;
    }
    let port = at.port();
    let Listening { any, programs } = who_listens(port)?;
    let programs: Vec<String> = programs.into_iter().collect();
    Some(match (any, programs.is_empty()) {
        (false, _) => format!("nothing on this machine listens at port {port}"),
        (true, true) => format!("a program of another user listens at port {port}"),
        (true, false) => format!("port {port} is held by {}", words::list(&programs)),
    })
}

/// Waits until endpoints no longer show a certificate that was taken off, for a part of their time: what answers in the middle of a reload may be
/// gone in a moment, and must not be taken for what comes next.
pub(crate) async fn await_gone(endpoints: &[&LiveEndpoint], fingerprint: &str) {
    let gone = |endpoint: &LiveEndpoint| {
        let (endpoint, begun) = (endpoint.clone(), Instant::now());
        async move {
            let connect_to = endpoint.instead.or(endpoint.here);
            while begun.elapsed() < endpoint.reload_timeout / 3 {
                match observe(&endpoint.name, endpoint.port, connect_to).await {
                    Ok(o) if o.sent[0].fingerprint().to_string() == fingerprint => {}
                    _ => break,
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        }
    };
    let looks: Vec<BoxFuture<'_, ()>> =
        endpoints.iter().map(|endpoint| -> BoxFuture<'_, ()> { Box::pin(gone(endpoint)) }).collect();
    stream::iter(looks).buffer_unordered(LOOKS_AT_ONCE).collect::<Vec<()>>().await;
}

/// Looks at endpoints until they show the certificate, for a part of their time; returns those that do not, and why. One of each server is
/// looked at again and again, so that a reload is not held up by all of them; then come the others, side by side.
pub(crate) async fn not_served<'a>(
    facts: &Facts,
    endpoints: &[&'a LiveEndpoint],
    fingerprint: &str,
    part: fn(Duration) -> Duration,
) -> Vec<(&'a LiveEndpoint, InstallError)> {
    let begun = Instant::now();
    let mut servers = BTreeSet::new();
    let (firsts, others): (Vec<&LiveEndpoint>, Vec<&LiveEndpoint>) =
        endpoints.iter().partition(|endpoint| servers.insert(&endpoint.server));
    let mut late = Vec::new();
    // What the first of each server shows in the middle of a reload is no news: whoever wants to know looks at it anew.
    for (is_kept, endpoints) in [(false, firsts), (true, others)] {
        let look = |endpoint: &'a LiveEndpoint| {
            let served = is_served(endpoint, fingerprint, begun + part(endpoint.reload_timeout));
            let note = move |served| match served {
                Ok(shown) => {
                    if is_kept {
                        facts.saw(endpoint, shown);
                    }
                    None
                }
                Err(error) => Some((endpoint, error)),
            };
            served.map(note).boxed()
        };
        let looks: Vec<BoxFuture<'_, _>> = endpoints.into_iter().map(look).collect();
        let found: Vec<_> = stream::iter(looks).buffered(LOOKS_AT_ONCE).collect().await;
        late.extend(found.into_iter().flatten());
    }
    late
}

/// Looks at an endpoint until it shows the certificate, or the time is over: a reload may take a while.
async fn is_served(endpoint: &LiveEndpoint, fingerprint: &str, until: Instant) -> Result<Observation, InstallError> {
    let (begun, mut pause) = (Instant::now(), Duration::from_millis(15));
    loop {
        let connect_to = endpoint.instead.or(endpoint.here);
        let (seen, is_there) = match observe(&endpoint.name, endpoint.port, connect_to).await {
            Ok(o) if o.sent[0].fingerprint().to_string() == fingerprint => return Ok(o),
            Ok(o) => {
                let seen = format!("{} shows `{}` by `{}`", o.address, words::list(&o.sent[0].names), o.sent[0].issuer);
                (seen, true)
            }
            Err(error) => (error.to_string(), !matches!(error, ObserveError::NoConnection { .. })),
        };
        if Instant::now() > until {
            let seen = match connect_to.map(|address| address.socket(endpoint.port)).and_then(who) {
                Some(who) => format!("{seen}; {who}"),
                None => seen,
            };
            return Err(InstallError::NotServed {
                server: endpoint.server.clone(),
                seen,
                is_there,
                after: endpoint.reload_timeout,
            });
        }
        tokio::time::sleep(pause).await;
        // Most reloads are over in a moment; the others are not worth many looks.
        if begun.elapsed() > Duration::from_millis(500) {
            pause = (pause * 2).min(Duration::from_secs(1));
        }
    }
}
