//! Visits a site as a browser would: what it says of transport security, where visitors over http are sent, what its pages load.

use crate::fetch::{max_age, send};
use crate::observe::unverified_connector;
use crate::{PATIENCE, addresses, connect};
use eskort_core::boxed;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::words;
use eskort_pages::{Load, LoadKind, loads};
use http_body_util::BodyExt;
use hyper::header::{CONTENT_TYPE, HeaderMap, LOCATION, SET_COOKIE, STRICT_TRANSPORT_SECURITY};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::net::SocketAddr;
use tokio::net::TcpStream;
use tokio::time::timeout;
use url::Url;

const MOST_REDIRECTS: usize = 10;
const MOST_BYTES: usize = 2 << 20;
/// A path that no site has, to see whether redirects keep it.
const PATH: &str = "/eskort-check/way?kept=1";
/// What browsers keep in mind for shorter is soon forgotten: half a year.
const LONG: u64 = 15_552_000;
/// Ports of services that speak something else inside TLS.
const OTHERS: [u16; 12] = [465, 563, 636, 853, 989, 990, 992, 993, 995, 5061, 5223, 6697];

/// What a site showed to a visitor.
#[derive(Clone, Debug, Serialize)]
pub struct Visit {
    /// The status of its first page.
    pub status: u16,
    /// For how many seconds browsers are told to come back over https alone (HSTS, RFC 6797).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hsts: Option<u64>,
    /// Whether that is for all names below this one, too.
    pub hsts_below: bool,
    /// The cookies that would be sent over http, too.
    pub insecure_cookies: Vec<String>,
    /// What who comes over http gets; not known where it was not looked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plain: Option<Plain>,
    /// What its pages want over http, each once, with a page that does.
    pub mixed: Vec<MixedLoad>,
    /// How many pages were read.
    pub pages: usize,
}

/// Something that a page wants over http.
#[derive(Clone, Debug, Serialize)]
pub struct MixedLoad {
    /// What.
    #[serde(flatten)]
    pub load: Load,
    /// The first page that wants it.
    pub page: String,
}

/// What who comes over http gets.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Plain {
    /// No connection.
    Silent,
    /// An answer that leads nowhere.
    Stays {
        /// Its status.
        status: u16,
    },
    /// A redirect, which ends somewhere.
    Leads {
        /// Where each hop went.
        hops: Vec<String>,
        /// Whether it ends at https.
        secure: bool,
        /// Whether browsers may keep the first hop in mind.
        permanent: bool,
        /// Whether path and query are kept.
        keeps_path: bool,
    },
}

/// How a site is visited.
#[derive(Clone, Copy, Debug)]
pub struct VisitOptions {
    /// The address of its TLS endpoint.
    pub address: SocketAddr,
    /// Where http is asked for; `None` not to.
    pub plain: Option<SocketAddr>,
    /// How many pages are read at the most.
    pub pages: usize,
}

/// Visits a site; `None` when it speaks no HTTP.
#[boxed]
pub async fn visit(name: &str, port: u16, options: VisitOptions) -> Option<Visit> {
    if OTHERS.contains(&port) {
        return None;
    }
    let host = if name.contains(':') { format!("[{name}]") } else { name.to_owned() };
    let first = Url::parse(&format!("https://{host}:{port}/")).ok()?;
    let page = read(&first, options.address).await?;
    let mut visit = Visit {
        status: page.status,
        hsts: None,
        hsts_below: false,
        insecure_cookies: Vec::new(),
        plain: None,
        mixed: Vec::new(),
        pages: 0,
    };
    let (mut mixed, mut cookies) = (BTreeMap::new(), BTreeSet::new());
    let hsts = page.headers.get(STRICT_TRANSPORT_SECURITY).map(|value| String::from_utf8_lossy(value.as_bytes()));
    visit.hsts = hsts.as_deref().and_then(max_age);
    visit.hsts_below = hsts.is_some_and(|value| value.to_ascii_lowercase().contains("includesubdomains"));
    let mut ahead = Ahead::of(first);
    let mut next = Some(page);
    while let Some(url) = ahead.next().filter(|_| visit.pages < options.pages.max(1)) {
        let page = match next.take() {
            Some(page) => page,
            None => match read(&url, options.address).await {
                Some(page) => page,
                None => continue,
            },
        };
        cookies.extend(insecure_cookies(&page.headers));
        if !page.is_html() {
            visit.pages += 1;
            continue;
        }
        let found = loads(&page.body, &page.url);
        for load in found.mixed {
            mixed.entry(load).or_insert_with(|| page.url.to_string());
        }
        ahead.add(found.pages);
        visit.pages += 1;
    }
    visit.insecure_cookies = cookies.into_iter().collect();
    visit.mixed = mixed.into_iter().map(|(load, page)| MixedLoad { load, page }).collect();
    if let Some(plain) = options.plain {
        visit.plain = Some(come_over_http(&host, plain).await);
    }
    Some(visit)
}

/// Pages that are still to be read, each once.
struct Ahead {
    urls: VecDeque<Url>,
    seen: BTreeSet<Url>,
}

impl Ahead {
    fn of(first: Url) -> Self {
        Ahead { urls: VecDeque::from([first.clone()]), seen: BTreeSet::from([first]) }
    }

    fn add(&mut self, found: Vec<Url>) {
        self.urls.extend(found.into_iter().filter(|url| self.seen.insert(url.clone())));
    }

    fn next(&mut self) -> Option<Url> {
        self.urls.pop_front()
    }
}

/// Reads the pages of a site, from one on and as they lead to each other, over http or https as the first one; no more than so many.
/// Returns how many were read; none where nothing answers.
///
/// # Errors
/// When its name leads to no address.
#[boxed]
pub async fn crawl(first: &Url, most: usize, each: &mut (dyn FnMut(&Url, &[u8]) + Send)) -> std::io::Result<usize> {
    let host = first.host_str().unwrap_or_default();
    let port = first.port_or_known_default().unwrap_or(443);
    let all = addresses(host, port, None).await?;
    let Ok((_, address)) = connect(&all).await else { return Ok(0) };
    let (mut ahead, mut read_so_far) = (Ahead::of(first.clone()), 0);
    while let Some(url) = ahead.next().filter(|_| read_so_far < most) {
        let Some(page) = read(&url, address).await else { continue };
        read_so_far += 1;
        if page.is_html() {
            each(&page.url, &page.body);
            ahead.add(loads(&page.body, &page.url).pages);
        }
    }
    Ok(read_so_far)
}

/// A page, after redirects within the site.
struct Page {
    url: Url,
    status: u16,
    headers: HeaderMap,
    body: Vec<u8>,
}

impl Page {
    fn is_html(&self) -> bool {
        let kind = self.headers.get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or("text/html");
        kind.starts_with("text/html") || kind.starts_with("application/xhtml")
    }
}

async fn read(url: &Url, address: SocketAddr) -> Option<Page> {
    let mut url = url.clone();
    for _ in 0..MOST_REDIRECTS {
        let page = timeout(PATIENCE, read_once(&url, address)).await.ok().flatten()?;
        let to = page.headers.get(LOCATION).filter(|_| (300..400).contains(&page.status));
        let to = to.and_then(|to| url.join(&String::from_utf8_lossy(to.as_bytes())).ok());
        match to {
            Some(to) if to.origin() == url.origin() && to != url => url = to,
            _ => return Some(page),
        }
    }
    None
}

async fn read_once(url: &Url, address: SocketAddr) -> Option<Page> {
    let stream = TcpStream::connect(address).await.ok()?;
    let (answer, connection) = if url.scheme() == "http" {
        send(stream, url).await.ok()?
    } else {
        let name = url.host_str()?.trim_matches(['[', ']']).to_owned().try_into().ok()?;
        let stream = unverified_connector(Some(b"http/1.1")).0.connect(name, stream).await.ok()?;
        send(stream, url).await.ok()?
    };
    let (head, mut rest) = answer.into_parts();
    // Of a page that is larger the beginning will do.
    let mut body = Vec::new();
    while body.len() < MOST_BYTES
        && let Some(Ok(frame)) = rest.frame().await
    {
        body.extend(frame.into_data().unwrap_or_default());
    }
    connection.abort();
    Some(Page { url: url.clone(), status: head.status.as_u16(), headers: head.headers, body })
}

/// Returns the names of cookies that are set without `Secure`.
fn insecure_cookies(headers: &HeaderMap) -> Vec<String> {
    let insecure = |value: &hyper::header::HeaderValue| {
        let value = String::from_utf8_lossy(value.as_bytes()).into_owned();
        let secure = value.split(';').skip(1).any(|part| part.trim().eq_ignore_ascii_case("secure"));
        let name = value.split(['=', ';']).next().unwrap_or_default().trim();
        (!secure && !name.is_empty()).then(|| words::printable(name, 60))
    };
    headers.get_all(SET_COOKIE).iter().filter_map(insecure).collect()
}

/// Finds out what who comes over http gets.
async fn come_over_http(host: &str, address: SocketAddr) -> Plain {
    match lead(host, address, PATH).await {
        // A page that does not exist may be told so without a redirect.
        Plain::Stays { .. } => match lead(host, address, "/").await {
            Plain::Leads { hops, secure, permanent, .. } => Plain::Leads { hops, secure, permanent, keeps_path: false },
            other => other,
        },
        other => other,
    }
}

async fn lead(host: &str, address: SocketAddr, path: &str) -> Plain {
    let at = if address.port() == 80 { String::new() } else { format!(":{}", address.port()) };
    let Ok(mut url) = Url::parse(&format!("http://{host}{at}{path}")) else { return Plain::Silent };
    let (mut hops, mut permanent) = (Vec::new(), None);
    loop {
        let Some((status, to)) = timeout(PATIENCE, ask(&url, address)).await.ok().flatten() else {
            return if hops.is_empty() {
                Plain::Silent
            } else {
                Plain::Leads { hops, secure: false, permanent: false, keeps_path: false }
            };
        };
        let next = to.filter(|_| (300..400).contains(&status)).and_then(|to| url.join(&to).ok());
        let Some(next) = next else {
            return if hops.is_empty() {
                Plain::Stays { status }
            } else {
                Plain::Leads { hops, secure: false, permanent: false, keeps_path: false }
            };
        };
        permanent.get_or_insert(matches!(status, 301 | 308));
        hops.push(words::printable(next.as_str(), 200));
        let is_ours = next.host() == url.host() && next.port_or_known_default() == url.port_or_known_default();
        if next.scheme() == "https" || !is_ours || hops.len() > MOST_REDIRECTS {
            let keeps_path = next.path() == url.path() && next.query() == url.query();
            let secure = next.scheme() == "https";
            return Plain::Leads { hops, secure, permanent: permanent == Some(true), keeps_path };
        }
        url = next;
    }
}

async fn ask(url: &Url, address: SocketAddr) -> Option<(u16, Option<String>)> {
    let stream = TcpStream::connect(address).await.ok()?;
    let (answer, connection) = send(stream, url).await.ok()?;
    connection.abort();
    let to = answer.headers().get(LOCATION).map(|to| String::from_utf8_lossy(to.as_bytes()).into_owned());
    Some((answer.status().as_u16(), to))
}

/// Returns what there is to say about a visit.
pub fn judge_visit(seen: &Visit) -> Vec<Finding> {
    let say = |severity, topic, code: &'static str, text: String, advice: &str| {
        Finding::new(severity, topic, text).coded(code).with_advice(advice)
    };
    let not_sent = |text| {
        let advice = "`redirect = true` of the install entry sends them to https";
        say(Severity::Notice, Topic::Redirect, "no-redirect", text, advice)
    };
    let mut found = Vec::new();
    found.extend(seen.plain.as_ref().map(|plain| match plain {
        Plain::Silent => Finding::new(Severity::Good, Topic::Redirect, "nothing answers over http"),
        Plain::Stays { status } => {
            let text = format!("who comes over http stays there (status {status})");
            not_sent(text)
        }
        Plain::Leads { hops, secure: false, .. } => {
            let to = hops.last().map_or("", String::as_str);
            let text = format!("who comes over http is led to {to}, not to https");
            not_sent(text)
        }
        Plain::Leads { keeps_path: false, .. } => {
            let text = "http leads to https, and path or query are lost on the way".to_owned();
            say(
                Severity::Better,
                Topic::Redirect,
                "loses-path",
                text,
                "let it redirect each address to the same one at https",
            )
        }
        Plain::Leads { permanent: false, .. } => {
            let text = "http leads to https, but only for now (status 302, 303 or 307)".to_owned();
            say(Severity::Better, Topic::Redirect, "temporary-redirect", text, "let it answer with 301 or 308")
        }
        Plain::Leads { hops, .. } => {
            let text = format!("http leads to https in {}", words::count(hops.len() as u64, "hop"));
            Finding::new(Severity::Good, Topic::Redirect, text)
        }
    }));
    let ramp = "`hsts = \"ramp\"` of the install entry raises it step by step";
    found.push(match seen.hsts {
        None | Some(0) => {
            let text = "browsers are not told to come back over https alone (HSTS)".to_owned();
            say(Severity::Better, Topic::Headers, "no-hsts", text, ramp)
        }
        Some(seconds) => {
            let time = words::duration(jiff::SignedDuration::from_secs(i64::try_from(seconds).unwrap_or(i64::MAX)));
            let below = if seen.hsts_below { ", also for names below it" } else { "" };
            let text = format!("browsers come back over https alone for {time}{below} (HSTS)");
            match seconds < LONG {
                true => say(Severity::Better, Topic::Headers, "short-hsts", text, ramp),
                false => Finding::new(Severity::Good, Topic::Headers, text),
            }
        }
    });
    if !seen.insecure_cookies.is_empty() {
        let names: Vec<String> = seen.insecure_cookies.iter().map(|name| format!("`{name}`")).collect();
        let text = format!("{} set without `Secure`: sent over http, too", words::list(&names));
        found.push(say(
            Severity::Notice,
            Topic::Headers,
            "insecure-cookie",
            text,
            "add `Secure` where the cookie is set",
        ));
    }
    found.extend(mixed(seen));
    found
}

fn mixed(seen: &Visit) -> Vec<Finding> {
    let advice = "`eskort links find` shows where that is written, `eskort links mend` changes it";
    let mut found = Vec::new();
    for (kind, code, severity, what) in [
        (LoadKind::Blocked, "blocked-content", Severity::Bad, "browsers leave it out"),
        (LoadKind::Upgraded, "upgradable-content", Severity::Notice, "browsers try https instead"),
        (LoadKind::Warned, "form-over-http", Severity::Notice, "browsers warn who sends the form"),
    ] {
        let these: Vec<&MixedLoad> = seen.mixed.iter().filter(|one| one.load.kind == kind).collect();
        let Some(first) = these.first() else { continue };
        let count = words::count(these.len() as u64, "address");
        let example = words::printable(&first.load.url, 120);
        let text = format!("{count} over http on the page, such as {example} ({}): {what}", first.load.element);
        found.push(Finding::new(severity, Topic::MixedContent, text).coded(code).with_advice(advice));
    }
    if found.is_empty() && seen.pages > 0 {
        let text = format!("nothing over http on {}", words::count(seen.pages as u64, "page"));
        found.push(Finding::new(Severity::Good, Topic::MixedContent, text));
    }
    found
}
