//! Looks at live endpoints: a file that proves control as an authority would fetch it, a TLS endpoint as a visitor would meet it.

mod approach;
mod fetch;
mod inspect;
mod judge;
mod logged;
mod observe;
mod trust;
mod visit;

#[cfg(fuzzing)]
pub use approach::talk_with;
pub use approach::{NoTls, StartTls};
pub use fetch::{Hop, NotVisible, Sight, WhyNotVisible, look_at_file, observe_hsts};
pub use inspect::{Inspection, OtherName, Spoken, inspect, judge_inspection};
pub use judge::{Expected, judge};
pub use logged::judge_logged;
pub use observe::{Observation, ObserveError, observe, observe_challenge, reverse_name};
pub use trust::{Trust, TrustError};
pub use visit::{MixedLoad, Plain, Visit, VisitOptions, crawl, judge_visit, visit};

use eskort_core::boxed;
use eskort_core::inventory::CheckAddress;
use std::io;
use std::net::SocketAddr;
use std::time::Duration;

/// How long one connection may take to be made or to answer.
pub const PATIENCE: Duration = Duration::from_secs(10);

/// Returns all addresses that a name leads to, with a port.
///
/// # Errors
/// When it leads nowhere.
#[boxed]
pub async fn addresses_of(name: &str, port: u16) -> io::Result<Vec<SocketAddr>> {
    let mut found = addresses(name, port, None).await?;
    found.sort_unstable();
    found.dedup();
    Ok(found)
}

/// Returns the addresses to connect to: what the inventory says, or what the name resolves to.
async fn addresses(host: &str, port: u16, instead: Option<CheckAddress>) -> io::Result<Vec<SocketAddr>> {
    if let Some(instead) = instead {
        return Ok(vec![instead.socket(port)]);
    }
    let host = host.trim_matches(['[', ']']);
    let found: Vec<SocketAddr> = tokio::net::lookup_host((host, port)).await?.collect();
    if found.is_empty() { Err(io::Error::new(io::ErrorKind::NotFound, "the name has no address")) } else { Ok(found) }
}

/// Connects to the first address that answers; the error is that of the last one.
async fn connect(addresses: &[SocketAddr]) -> Result<(tokio::net::TcpStream, SocketAddr), (SocketAddr, io::Error)> {
    let mut last = None;
    for &address in addresses {
        match tokio::time::timeout(PATIENCE, tokio::net::TcpStream::connect(address)).await {
            Ok(Ok(stream)) => return Ok((stream, address)),
            Ok(Err(error)) => last = Some((address, error)),
            Err(_) => last = Some((address, io::Error::new(io::ErrorKind::TimedOut, "no answer within 10 seconds"))),
        }
    }
    Err(last.expect("there is at least one address"))
}
