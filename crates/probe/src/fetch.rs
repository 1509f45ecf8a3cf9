//! Fetches a challenge's file the way an authority does (RFC 8555 section 8.3): plain HTTP on port 80, redirects followed,
//! the certificate of an https redirect not checked.

use crate::observe::unverified_connector;
use crate::{PATIENCE, addresses, connect};
use eskort_core::boxed;
use eskort_core::inventory::CheckAddress;
use eskort_core::words::printable;
use http_body_util::{BodyExt, Empty, Limited};
use hyper::header::{HOST, LOCATION, STRICT_TRANSPORT_SECURITY, USER_AGENT};
use hyper_util::rt::TokioIo;
use std::fmt;
use std::io;
use std::net::SocketAddr;
use tokio::io::{AsyncRead, AsyncWrite};
use url::Url;

/// More addresses of a name than these are not looked at.
const MOST_ADDRESSES: usize = 16;
const MOST_REDIRECTS: usize = 10;
/// A key authorization has fewer than 300 bytes; more than this is some page.
const MOST_BYTES: usize = 16 * 1024;

/// One request of a look.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hop {
    /// What was asked for.
    pub url: String,
    /// The address that answered.
    pub address: SocketAddr,
    /// The HTTP status.
    pub status: u16,
}

/// A look that found what it should.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sight {
    /// The requests, the last one with the file.
    pub hops: Vec<Hop>,
}

/// A look that did not find what it should.
#[derive(Debug, thiserror::Error)]
pub struct NotVisible {
    /// What was asked for first.
    pub url: String,
    /// The requests that were answered.
    pub hops: Vec<Hop>,
    /// What went wrong then.
    pub why: WhyNotVisible,
}

/// What was seen instead of the file.
#[derive(Debug)]
pub enum WhyNotVisible {
    /// The name leads to no address.
    NoAddress {
        /// The name.
        host: String,
        /// What the resolver said.
        source: io::Error,
    },
    /// Nobody answered.
    NoConnection {
        /// The name.
        host: String,
        /// The last address tried.
        address: SocketAddr,
        /// Whether the address came from the inventory.
        from_inventory: bool,
        /// Why not.
        source: io::Error,
    },
    /// The connection ended, stalled, or was no HTTP.
    NoAnswer {
        /// The address.
        address: SocketAddr,
        /// What happened.
        what: String,
    },
    /// A status other than success or a redirect.
    Status {
        /// The status.
        status: u16,
        /// The tamed beginning of the body.
        begins: String,
    },
    /// Another text.
    Content {
        /// Its tamed beginning.
        begins: String,
    },
    /// A redirect to nowhere, or too many of them.
    Redirect {
        /// Where the last one led, tamed.
        to: String,
        /// What is wrong with it.
        what: &'static str,
    },
}

impl NotVisible {
    /// Whether this machine has no way at all to the address: it has no addresses of that family.
    fn is_out_of_our_network(&self) -> bool {
        let WhyNotVisible::NoConnection { source, .. } = &self.why else { return false };
        source.kind() == io::ErrorKind::NetworkUnreachable || source.kind() == io::ErrorKind::AddrNotAvailable
    }
}

impl fmt::Display for NotVisible {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.why {
            WhyNotVisible::NoAddress { host, source } => write!(f, "{host} resolves to no address: {source}"),
            WhyNotVisible::NoConnection { host, address, from_inventory, source } => {
                let origin = if *from_inventory { "as the inventory says" } else { "as the name resolves" };
                write!(f, "no connection to {host} at {address} ({origin}): {source}")
            }
            WhyNotVisible::NoAnswer { address, what } => write!(f, "{address} sent no HTTP response: {what}"),
            WhyNotVisible::Status { status, begins } if begins.is_empty() => write!(f, "status {status}"),
            WhyNotVisible::Status { status, begins } => write!(f, "status {status}, the page begins with `{begins}`"),
            WhyNotVisible::Content { begins } => write!(f, "a different text came back: `{begins}`"),
            WhyNotVisible::Redirect { to, what } => write!(f, "a redirect to `{to}`: {what}"),
        }?;
        match self.hops.last() {
            Some(hop) if hop.url != self.url => {
                write!(f, " (after a redirect to {}, at {})", printable(&hop.url, 120), hop.address)
            }
            Some(hop) => write!(f, " (at {})", hop.address),
            None => Ok(()),
        }
    }
}

/// Fetches `http://HOST/PATH` and compares it with what should be there; white space at the end does not count.
///
/// # Errors
/// [`NotVisible`], with what was seen instead.
///
/// # Panics
/// When host and path make no address.
#[boxed]
pub async fn look_at_file(
    host: &str,
    path: &str,
    expected: &[u8],
    instead: Option<CheckAddress>,
) -> Result<Sight, Box<NotVisible>> {
    let url = format!("http://{host}/{path}");
    if instead.is_some() {
        return look_once(&url, expected, instead, None).await;
    }
    let found = match addresses(host, 80, None).await {
        Ok(found) => found,
        Err(source) => {
            let why = WhyNotVisible::NoAddress { host: host.to_owned(), source };
            return Err(Box::new(NotVisible { url, hops: Vec::new(), why }));
        }
    };
    look_everywhere(&url, expected, &found).await
}

/// Fetches the file at each of several addresses: the authority may ask any of them, of either family.
async fn look_everywhere(url: &str, expected: &[u8], found: &[SocketAddr]) -> Result<Sight, Box<NotVisible>> {
    let host = Url::parse(url).ok().and_then(|url| Some(url.host_str()?.trim_matches(['[', ']']).to_owned()));
    let look = |address: SocketAddr| {
        let (url, expected, host) = (url.to_owned(), expected.to_vec(), host.clone().unwrap_or_default());
        async move { look_once(&url, &expected, None, Some((host, address))).await }
    };
    let looks: Vec<_> = found.iter().take(MOST_ADDRESSES).map(|address| tokio::spawn(look(*address))).collect();
    let (mut seen, mut unreached, mut wrong) = (None, None, None);
    for look in looks {
        match look.await.expect("a look does not panic") {
            Ok(sight) => seen = seen.or(Some(sight)),
            // This machine has no way into that network: others may have.
            Err(error) if error.is_out_of_our_network() => unreached = unreached.or(Some(error)),
            Err(error) => wrong = wrong.or(Some(error)),
        }
    }
    match (wrong, seen, unreached) {
        (Some(error), _, _) | (None, None, Some(error)) => Err(error),
        (None, Some(sight), _) => Ok(sight),
        (None, None, None) => unreachable!("a name has at least one address"),
    }
}

/// Fetches the file once: at `pinned`, as long as the address is that host's, or as `instead` says.
async fn look_once(
    first: &str,
    expected: &[u8],
    instead: Option<CheckAddress>,
    pinned: Option<(String, SocketAddr)>,
) -> Result<Sight, Box<NotVisible>> {
    let first = first.to_owned();
    let mut hops: Vec<Hop> = Vec::new();
    let mut url = Url::parse(&first).expect("a name and a plain path make an address");
    for _ in 0..=MOST_REDIRECTS {
        let pin =
            pinned.as_ref().filter(|(host, _)| url.host_str().is_some_and(|at| at.trim_matches(['[', ']']) == host));
        let (hop, answer) = match fetch(&url, instead, pin.map(|(_, address)| *address)).await {
            Ok(found) => found,
            Err(why) => return Err(Box::new(NotVisible { url: first, hops, why })),
        };
        hops.push(hop);
        let why = match answer {
            Page::Found(body) if body.trim_ascii_end() == expected.trim_ascii_end() => return Ok(Sight { hops }),
            Page::Found(body) => WhyNotVisible::Content { begins: begins(&body) },
            Page::Refused(status, body) => WhyNotVisible::Status { status, begins: begins(&body) },
            Page::Redirect(to) => match url.join(&to) {
                // Authorities go to the usual ports only; what the inventory says to look at may be another.
                Ok(next) if next.port().is_some() && instead.is_none() => WhyNotVisible::Redirect {
                    to: printable(&to, 120),
                    what: "authorities follow to ports 80 and 443 only",
                },
                Ok(next) if matches!(next.scheme(), "http" | "https") && next.has_host() => {
                    url = next;
                    continue;
                }
                _ => WhyNotVisible::Redirect { to: printable(&to, 120), what: "neither http nor https" },
            },
        };
        return Err(Box::new(NotVisible { url: first, hops, why }));
    }
    let why = WhyNotVisible::Redirect { to: printable(url.as_str(), 120), what: "more than ten redirects" };
    Err(Box::new(NotVisible { url: first, hops, why }))
}

/// Asks a site over https for how many seconds browsers are to come back over https alone (RFC 6797 section 6.1.1); `None` where it says
/// nothing of that. Nothing is verified here.
///
/// # Errors
/// Why the site does not answer, in words.
#[boxed]
pub async fn observe_hsts(name: &str, port: u16, instead: Option<CheckAddress>) -> Result<Option<u64>, String> {
    let host = if name.contains(':') { format!("[{name}]") } else { name.to_owned() };
    let url = Url::parse(&format!("https://{host}:{port}/")).map_err(|e| e.to_string())?;
    let found = addresses(name, port, instead).await.map_err(|e| format!("{name} resolves to no address: {e}"))?;
    let (stream, _) = connect(&found).await.map_err(|(address, e)| format!("no connection to {address}: {e}"))?;
    let exchange = async {
        let server = name.to_owned().try_into().map_err(|_| format!("{name} is no valid name"))?;
        let stream = unverified_connector(None).0.connect(server, stream).await.map_err(|e| e.to_string())?;
        let (answer, connection) = send(stream, &url).await?;
        connection.abort();
        let header = answer.headers().get(STRICT_TRANSPORT_SECURITY);
        Ok(header.and_then(|header| max_age(&String::from_utf8_lossy(header.as_bytes()))))
    };
    tokio::time::timeout(PATIENCE, exchange).await.map_err(|_| "no answer within 10 seconds".to_owned())?
}

/// Reads the seconds of the header's first `max-age`.
pub(crate) fn max_age(header: &str) -> Option<u64> {
    header.split(';').find_map(|part| {
        let (name, value) = part.split_once('=')?;
        name.trim().eq_ignore_ascii_case("max-age").then(|| value.trim().trim_matches('"').parse().ok())?
    })
}

enum Page {
    Found(Vec<u8>),
    Refused(u16, Vec<u8>),
    Redirect(String),
}

fn begins(body: &[u8]) -> String {
    printable(String::from_utf8_lossy(&body[..body.len().min(400)]).trim(), 60)
}

async fn fetch(
    url: &Url,
    instead: Option<CheckAddress>,
    pinned: Option<SocketAddr>,
) -> Result<(Hop, Page), WhyNotVisible> {
    let host = url.host_str().unwrap_or_default().to_owned();
    let tls = url.scheme() == "https";
    let port = url.port_or_known_default().unwrap_or(80);
    // The inventory's port stands for port 80; wherever a redirect leads, its own port counts.
    let instead = instead.map(|a| if port == 80 { a } else { CheckAddress { port: None, ..a } });
    let found = match pinned {
        Some(address) => Ok(vec![SocketAddr::new(address.ip(), port)]),
        None => addresses(&host, port, instead).await,
    };
    let found = found.map_err(|source| WhyNotVisible::NoAddress { host: host.clone(), source })?;
    let from_inventory = instead.is_some();
    let (stream, address) = connect(&found).await.map_err(|(address, source)| WhyNotVisible::NoConnection {
        host: host.clone(),
        address,
        from_inventory,
        source,
    })?;
    let no_answer = |what: String| WhyNotVisible::NoAnswer { address, what };
    let exchange = async {
        if tls {
            let connector = unverified_connector(None).0;
            let name = host
                .trim_matches(['[', ']'])
                .to_owned()
                .try_into()
                .map_err(|_| "the redirect leads to no valid name".to_owned())?;
            let stream = connector.connect(name, stream).await.map_err(|e| e.to_string())?;
            get(stream, url).await
        } else {
            get(stream, url).await
        }
    };
    let answered = tokio::time::timeout(PATIENCE, exchange).await;
    let page = answered.map_err(|_| no_answer("no answer within 10 seconds".into()))?.map_err(no_answer)?;
    let status = page.0;
    Ok((Hop { url: url.to_string(), address, status }, page.1))
}

type Answered = (hyper::Response<hyper::body::Incoming>, tokio::task::JoinHandle<hyper::Result<()>>);

/// Sends a request; the answer's body comes as long as the task beside it runs.
pub(crate) async fn send(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    url: &Url,
) -> Result<Answered, String> {
    let (mut sender, connection) =
        hyper::client::conn::http1::handshake(TokioIo::new(stream)).await.map_err(|e| e.to_string())?;
    let connection = tokio::spawn(connection);
    let host = url.port().map_or(url.host_str().unwrap_or_default().to_owned(), |port| {
        format!("{}:{port}", url.host_str().unwrap_or_default())
    });
    let target = &url[url::Position::BeforePath..url::Position::AfterQuery];
    let request = hyper::Request::get(target)
        .header(HOST, host)
        .header(USER_AGENT, concat!("eskort/", env!("CARGO_PKG_VERSION"), " (self-check)"))
        .body(Empty::<bytes::Bytes>::new())
        .map_err(|e| e.to_string())?;
    Ok((sender.send_request(request).await.map_err(|e| e.to_string())?, connection))
}

async fn get(stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static, url: &Url) -> Result<(u16, Page), String> {
    let (answer, connection) = send(stream, url).await?;
    let status = answer.status().as_u16();
    let page = if answer.status().is_redirection() && answer.headers().contains_key(LOCATION) {
        Page::Redirect(String::from_utf8_lossy(answer.headers()[LOCATION].as_bytes()).into_owned())
    } else {
        let success = answer.status().is_success();
        let body = match Limited::new(answer.into_body(), MOST_BYTES).collect().await {
            Ok(body) => body.to_bytes().to_vec(),
            Err(error) => return Err(format!("the body is incomplete: {error}")),
        };
        if success { Page::Found(body) } else { Page::Refused(status, body) }
    };
    connection.abort();
    Ok((status, page))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    /// Answers every request on an address with a text.
    async fn site(ip: [u8; 4], port: u16, text: &'static str) -> SocketAddr {
        let listener = tokio::net::TcpListener::bind(SocketAddr::from((ip, port))).await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let _ = stream.read(&mut [0; 2048]).await;
                let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{text}", text.len());
                let _ = stream.write_all(head.as_bytes()).await;
            }
        });
        address
    }

    #[test]
    fn the_time_of_hsts_is_read_as_browsers_do() {
        for (header, seconds) in [
            ("max-age=300", Some(300)),
            ("includeSubDomains; Max-Age = \"31536000\" ; preload", Some(31_536_000)),
            ("max-age=", None),
            ("preload", None),
        ] {
            assert_eq!(max_age(header), seconds, "{header}");
        }
    }

    #[tokio::test]
    async fn one_wrong_address_among_several_is_seen() {
        let first = site([127, 0, 0, 1], 0, "token.thumb").await;
        let port = first.port();
        let second = site([127, 0, 0, 2], port, "token.thumb").await;
        let old = site([127, 0, 0, 3], port, "an old server").await;
        let dead = SocketAddr::from(([127, 0, 0, 4], port));
        let url = format!("http://lampholm.example:{port}/.well-known/acme-challenge/token");
        let look = |found: Vec<SocketAddr>| {
            let url = url.clone();
            async move { look_everywhere(&url, b"token.thumb", &found).await.map(drop).map_err(|e| e.to_string()) }
        };
        assert_eq!(look(vec![first, second]).await, Ok(()));
        let said = look(vec![first, second, old]).await.unwrap_err();
        assert!(said.contains("an old server") && said.contains(&old.to_string()), "{said}");
        let said = look(vec![first, dead]).await.unwrap_err();
        assert!(said.contains(&dead.to_string()), "{said}");
    }
}
