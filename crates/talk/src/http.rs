//! What all HTTP clients here have in common, and which addresses are whose.

use eskort_core::boxed;
use eskort_host::obeyed;
use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;

/// Why no answer came, or none that can be taken.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum HttpError {
    /// No connection, or none that can be trusted.
    #[error("cannot reach {url}: {what}")]
    Unreachable {
        /// What was asked for.
        url: String,
        /// What happened, from the outside in.
        what: String,
        /// Whether the authority's certificate was refused.
        untrusted: bool,
    },
    /// No answer in time.
    #[error("no answer from {url} within {}", eskort_core::words::duration((*after).try_into().unwrap_or_default()))]
    TimedOut {
        /// What was asked for.
        url: String,
        /// How long was waited.
        after: Duration,
    },
    /// An answer without end.
    #[error("the answer from {url} is too large")]
    TooLarge {
        /// What was asked for.
        url: String,
    },
}

/// Begins a client that will talk to an address: it says who we are, and asks no proxy for what is on this machine or network.
pub fn client(address: &str) -> reqwest::ClientBuilder {
    let builder = reqwest::Client::builder().user_agent(concat!("eskort/", env!("CARGO_PKG_VERSION")));
    if is_local(address) { builder.no_proxy() } else { builder }
}

/// Reads the roots that a server's certificate has to lead to, from a PEM file.
///
/// # Errors
/// In words: when the file cannot be read, or there is no certificate in it.
pub fn roots(path: &Path) -> Result<Vec<reqwest::Certificate>, String> {
    let roots = reqwest::Certificate::from_pem_bundle(&obeyed::read(path)?).map_err(|e| e.to_string())?;
    if roots.is_empty() { Err("there is no certificate in it".into()) } else { Ok(roots) }
}

/// Reads the body of an answer, of at most `most` bytes.
///
/// # Errors
/// When it is larger, or does not come to an end.
#[boxed]
pub async fn body(
    mut answer: reqwest::Response,
    most: usize,
    url: &str,
    longest: Duration,
) -> Result<Vec<u8>, HttpError> {
    let mut body = Vec::new();
    while let Some(chunk) = answer.chunk().await.map_err(|e| failure(url, longest, &e))? {
        if body.len() + chunk.len() > most {
            return Err(HttpError::TooLarge { url: url.to_owned() });
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

/// Returns whether a status says that the server is in trouble of its own (RFC 9110 section 15.6).
pub fn is_trouble(status: u16) -> bool {
    status >= 500
}

/// Says why a request to an address was not answered; `longest` is how long was waited.
pub fn failure(url: &str, longest: Duration, error: &reqwest::Error) -> HttpError {
    if error.is_timeout() {
        return HttpError::TimedOut { url: url.to_owned(), after: longest };
    }
    let (what, untrusted) = innermost(error);
    HttpError::Unreachable { url: url.to_owned(), what, untrusted }
}

/// Returns what happened at the bottom of a failed request, and whether it was that a certificate was refused.
pub fn innermost(error: &reqwest::Error) -> (String, bool) {
    let mut what = Vec::new();
    let mut untrusted = false;
    let mut cause: Option<&(dyn std::error::Error + 'static)> = Some(error);
    while let Some(e) = cause {
        let tls = e.downcast_ref::<rustls::Error>();
        untrusted |= matches!(tls, Some(rustls::Error::InvalidCertificate(_)));
        what.push(e.to_string());
        cause = match e.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref) {
            Some(inner) => Some(inner),
            None => e.source(),
        };
    }
    // Each cause repeats its own source or the address; the innermost says what happened.
    (what.pop().unwrap_or_default(), untrusted)
}

/// Returns the host of an address, without the brackets of an IPv6 one.
pub fn host_of(address: &str) -> Option<String> {
    let url = reqwest::Url::parse(address).ok()?;
    Some(url.host_str()?.trim_matches(['[', ']']).to_owned())
}

/// Whether an address names this machine or one of this network: `localhost`, a name that only a local network can have, or an
/// address that is not public.
fn is_local(address: &str) -> bool {
    let Some(host) = host_of(address) else { return false };
    match host.parse::<IpAddr>() {
        Ok(ip) => !is_public(ip),
        Err(_) => host == "localhost" || [".localhost", ".internal", ".test"].iter().any(|end| host.ends_with(end)),
    }
}

/// Whether an address is one of the public network, where asking reaches nothing that only this machine can reach.
pub fn is_public(ip: IpAddr) -> bool {
    match ip {
        IpAddr::V4(ip) => {
            let [a, b, ..] = ip.octets();
            let shared = a == 100 && (64..128).contains(&b);
            !(ip.is_private()
                || ip.is_loopback()
                || ip.is_link_local()
                || ip.is_multicast()
                || ip.is_broadcast()
                || a == 0
                || shared)
        }
        IpAddr::V6(ip) => match ip.to_ipv4() {
            Some(inner) => is_public(inner.into()),
            None => !(ip.is_multicast() || ip.is_unique_local() || ip.is_unicast_link_local()),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_told_apart() {
        for (ip, public) in [
            ("192.0.2.7", true),
            ("127.0.0.1", false),
            ("10.1.2.3", false),
            ("172.31.0.1", false),
            ("169.254.169.254", false),
            ("100.64.0.1", false),
            ("0.0.0.0", false),
            ("2001:db8::1", true),
            ("::1", false),
            ("::", false),
            ("::ffff:192.168.0.1", false),
            ("fd00::1", false),
            ("fe80::1", false),
        ] {
            assert_eq!(is_public(ip.parse().unwrap()), public, "{ip}");
        }
        assert!(
            is_local("http://localhost:8081/api") && is_local("https://[::1]/") && is_local("http://panel.internal")
        );
        assert!(!is_local("https://panel.lampholm.example/api"));
    }
}
