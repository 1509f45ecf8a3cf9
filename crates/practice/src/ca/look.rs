//! Looks at a site for a challenge's file (RFC 8555 section 8.3): asks the name server, connects, fetches.

use super::Core;
use bytes::Bytes;
use http_body_util::{BodyExt, Empty, Limited};
use hyper_util::rt::TokioIo;
use std::time::Duration;
use tokio::net::TcpStream;

/// A finding against the site: the kind of problem and an explanation.
pub(super) type Lack = (&'static str, String);

/// Fetches the file and compares it. Redirects are followed on plain HTTP, five at the most.
pub(super) async fn look(core: &Core, name: &str, token: &str, wanted: &str) -> Result<(), Lack> {
    let mut host = name.to_owned();
    let mut path = format!("/.well-known/acme-challenge/{token}");
    for _ in 0..5 {
        let ip = core.names.look_up(&host).ok_or(("dns", format!("no address for {host}")))?;
        let fetched = tokio::time::timeout(Duration::from_secs(5), fetch(&host, (ip, core.options.site_port), &path));
        let (status, location, body) = fetched
            .await
            .map_err(|_| ("connection", format!("{host} did not answer in time")))?
            .map_err(|e| ("connection", format!("cannot fetch from {host} at {ip}: {e}")))?;
        if let Some(next) = location.as_deref().and_then(|l| l.strip_prefix("http://")) {
            let (authority, rest) = next.split_once('/').unwrap_or((next, ""));
            host = authority.split(':').next().unwrap_or_default().to_owned();
            path = format!("/{rest}");
            continue;
        }
        if status != 200 {
            return Err(("unauthorized", format!("the file at http://{host}{path} gave status {status}")));
        }
        if body.trim_ascii_end() != wanted.as_bytes() {
            return Err(("unauthorized", format!("the file at http://{host}{path} holds another text")));
        }
        return Ok(());
    }
    Err(("connection", format!("too many redirects from {name}")))
}

/// Looks for a TXT record with the digest (RFC 8555 section 8.4).
pub(super) fn look_at_record(core: &Core, name: &str, wanted: &str) -> Result<(), Lack> {
    let at = format!("_acme-challenge.{name}");
    let texts = core.names.texts(&at);
    let wanted = eskort_pki::base64url(&eskort_pki::sha256(wanted.as_bytes()));
    match texts.len() {
        _ if texts.contains(&wanted) => Ok(()),
        0 => Err(("dns", format!("no TXT record at {at}"))),
        n => Err(("unauthorized", format!("{n} TXT records at {at}, none with the right text"))),
    }
}

type Fetched = (u16, Option<String>, Bytes);

async fn fetch(
    host: &str,
    address: (std::net::Ipv4Addr, u16),
    path: &str,
) -> Result<Fetched, Box<dyn std::error::Error + Send + Sync>> {
    let stream = TcpStream::connect(address).await?;
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let connection = tokio::spawn(connection);
    let request = hyper::Request::get(path).header("host", host).body(Empty::<Bytes>::new())?;
    let answer = sender.send_request(request).await?;
    let status = answer.status().as_u16();
    let location = answer.headers().get("location").and_then(|l| l.to_str().ok()).map(str::to_owned);
    let body = Limited::new(answer.into_body(), 64 * 1024).collect().await?.to_bytes();
    connection.abort();
    Ok((status, location, body))
}
