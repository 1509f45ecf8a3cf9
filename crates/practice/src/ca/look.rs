//! Looks at what proves control: a file on a site (RFC 8555 section 8.3), or a record of the name server.

use super::state::{ISSUER_DOMAIN, Lack};
use super::{Core, Offer};
use crate::NameServer;
use bytes::Bytes;
use http_body_util::{BodyExt, Empty, Limited};
use hyper_util::rt::TokioIo;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::TcpStream;

/// What is looked for.
pub(super) struct Seeker {
    pub(super) offer: Offer,
    pub(super) name: String,
    pub(super) wildcard: bool,
    pub(super) token: String,
    pub(super) key_authorization: String,
    /// The account's address.
    pub(super) account: String,
}

impl Seeker {
    pub(super) async fn look(&self, core: &Core) -> Result<(), Lack> {
        let name = &self.name;
        let digest = || eskort_pki::base64url(&eskort_pki::sha256(self.key_authorization.as_bytes()));
        let label = || eskort_pki::base32(&eskort_pki::sha256(self.account.as_bytes())[..10]);
        match self.offer {
            _ if !core.options.looks => Ok(()),
            Offer::TlsAlpn01 => Err(("tls", "this authority asks nobody over TLS".to_owned())),
            Offer::Http01 => {
                let path = format!("/.well-known/acme-challenge/{}", self.token);
                fetch_and_compare(&core.names, core.options.site_port, name, path, &self.key_authorization).await
            }
            Offer::Dns01 => at_record(core, &format!("_acme-challenge.{name}"), |text| text == digest()),
            Offer::DnsAccount01 => {
                at_record(core, &format!("_{}._acme-challenge.{name}", label()), |text| text == digest())
            }
            Offer::DnsPersist01 => {
                at_record(core, &format!("_validation-persist.{name}"), |text| self.permits(core, text))
            }
        }
    }

    /// Reads a standing record strictly, as its draft has it.
    fn permits(&self, core: &Core, text: &str) -> bool {
        let mut parts = text.split("; ");
        let values: BTreeMap<&str, &str> = parts.clone().skip(1).filter_map(|part| part.split_once('=')).collect();
        let until = values.get("persistUntil").map(|until| until.parse().unwrap_or(0));
        parts.next() == Some(ISSUER_DOMAIN)
            && values.get("accounturi") == Some(&self.account.as_str())
            && (!self.wildcard || values.get("policy") == Some(&"wildcard"))
            && until.is_none_or(|until: i64| until > core.clock.now().as_second())
    }
}

/// Looks for a TXT record with the right text (RFC 8555 section 8.4).
fn at_record(core: &Core, at: &str, is_right: impl Fn(&str) -> bool) -> Result<(), Lack> {
    let texts = core.names.texts(at);
    if !core.names.texts_everywhere(at).iter().any(|text| is_right(text)) {
        core.early_looks.fetch_add(1, Ordering::Relaxed);
    }
    match texts.len() {
        _ if texts.iter().any(|text| is_right(text)) => Ok(()),
        0 => Err(("dns", format!("no TXT record at {at}"))),
        n => Err(("unauthorized", format!("{n} TXT records at {at}, none with the right text"))),
    }
}

/// Fetches the file and compares it. Redirects are followed on plain HTTP, five at the most.
pub(crate) async fn fetch_and_compare(
    names: &NameServer,
    port: u16,
    name: &str,
    mut path: String,
    wanted: &str,
) -> Result<(), Lack> {
    let mut host = if name.contains(':') { format!("[{name}]") } else { name.to_owned() };
    for _ in 0..5 {
        let ip = match host.trim_matches(['[', ']']).parse::<IpAddr>() {
            Ok(ip) => ip,
            Err(_) => names.look_up(&host).ok_or(("dns", format!("no address for {host}")))?.into(),
        };
        let fetched = tokio::time::timeout(Duration::from_secs(5), fetch(&host, (ip, port), &path));
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

type Fetched = (u16, Option<String>, Bytes);

async fn fetch(
    host: &str,
    address: (IpAddr, u16),
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
