//! A web site of the trust: pages over plain HTTP from a folder, and over TLS with a certificate that it reads from files.

use crate::Issuer;
use crate::http::{self, Asked, Server, SharedTls, response, tls_config};
use async_recursion::async_recursion as boxed;
use eskort_pki::{KeyKind, PrivateKey};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};
use std::time::{Duration, SystemTime};
use tokio::task::JoinHandle;

/// How often the site looks whether its certificate files changed.
const LOOK: Duration = Duration::from_millis(50);

/// A running site. It stops when dropped.
pub struct Site {
    plain: Server,
    tls: Server,
    _watcher: Watcher,
    /// The folders of names that have one of their own.
    folders: Folders,
    manners: Arc<RwLock<Manners>>,
}

/// How a site treats visitors.
#[derive(Clone, Debug, Default)]
pub struct Manners {
    /// Whether those who come over http are sent to https; challenges stay where they are.
    pub redirects: bool,
    /// What it says in `Strict-Transport-Security`.
    pub hsts: Option<String>,
    /// The cookie that it sets.
    pub cookie: Option<String>,
}

type Folders = Arc<RwLock<BTreeMap<String, PathBuf>>>;
type Page = hyper::Response<http_body_util::Full<bytes::Bytes>>;

impl Site {
    /// Starts a site that serves `folder`, and takes its certificate from `bundle` and `key` whenever they change.
    /// Until they are there it shows a self-signed placeholder, as servers fresh from their package do.
    ///
    /// # Errors
    /// When a port is not to be had; port 0 lets the system choose.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(
        folder: &Path,
        bundle: &Path,
        key: &Path,
        plain: SocketAddr,
        tls: SocketAddr,
    ) -> std::io::Result<Self> {
        let shared: SharedTls = Arc::new(RwLock::new(Arc::new(placeholder())));
        reload(&shared, bundle, key);
        let root = folder.to_owned();
        let folders = Folders::default();
        let known = Arc::clone(&folders);
        let manners: Arc<RwLock<Manners>> = Arc::default();
        let handler = move |asked: Asked| {
            let host = asked.headers().get("host").and_then(|h| h.to_str().ok()).unwrap_or_default();
            let host = host.split(':').next().unwrap_or_default();
            let own = known.read().expect("no holder panics").get(host).cloned();
            let root = own.unwrap_or_else(|| root.clone());
            async move { Ok(page(&root, asked.uri().path())) }
        };
        let (open, treats) = (handler.clone(), Arc::clone(&manners));
        let tls = http::start(tls, Some(Arc::clone(&shared)), move |asked: Asked| {
            let (answer, manners) = (handler(asked), treats.read().expect("no holder panics").clone());
            async move { answer.await.map(|answer| with_manners(answer, &manners)) }
        })
        .await?;
        let (treats, port) = (Arc::clone(&manners), tls.address.port());
        let plain = http::start(plain, None, move |asked: Asked| {
            let redirects = treats.read().expect("no holder panics").redirects;
            let sent =
                Some(redirect(&asked, port)).filter(|_| redirects && !asked.uri().path().starts_with("/.well-known/"));
            let answer = open(asked);
            async move {
                match sent {
                    Some(redirect) => Ok(redirect),
                    None => answer.await,
                }
            }
        })
        .await?;
        let files = [bundle.to_owned(), key.to_owned()];
        let watcher = tokio::spawn(async move {
            let stamp = |files: &[PathBuf; 2]| -> [Option<SystemTime>; 2] {
                [0, 1].map(|i| std::fs::metadata(&files[i]).and_then(|m| m.modified()).ok())
            };
            let mut last = stamp(&files);
            loop {
                tokio::time::sleep(LOOK).await;
                let now = stamp(&files);
                if now != last && reload(&shared, &files[0], &files[1]) {
                    last = now;
                }
            }
        });
        Ok(Site { plain, tls, _watcher: Watcher(watcher), folders, manners })
    }

    /// Serves a name from a folder of its own.
    ///
    /// # Panics
    /// Only when another holder of the lock has panicked.
    pub fn serve(&self, name: &str, folder: &Path) {
        self.folders.write().expect("no holder panics").insert(name.to_owned(), folder.to_owned());
    }

    /// Treats visitors otherwise from now on.
    ///
    /// # Panics
    /// As [`Site::serve`].
    pub fn treat(&self, manners: Manners) {
        *self.manners.write().expect("no holder panics") = manners;
    }

    /// Ends it; its addresses are free when this returns.
    #[boxed]
    pub async fn stop(self) {
        self.plain.stop().await;
        self.tls.stop().await;
    }

    /// Returns where plain HTTP is served.
    pub fn plain_address(&self) -> SocketAddr {
        self.plain.address
    }

    /// Returns where TLS is served.
    pub fn tls_address(&self) -> SocketAddr {
        self.tls.address
    }
}

/// Sends a visitor to the same address at https.
fn redirect(asked: &Asked, port: u16) -> Page {
    let host = asked.headers().get("host").and_then(|host| host.to_str().ok()).unwrap_or_default();
    let host = host.split(':').next().unwrap_or_default();
    let path = asked.uri().path_and_query().map_or("/", |path| path.as_str());
    let mut answer = response(301, "text/html", "");
    if let Ok(to) = format!("https://{host}:{port}{path}").parse() {
        answer.headers_mut().insert("location", to);
    }
    answer
}

fn with_manners(mut answer: Page, manners: &Manners) -> Page {
    let headers = [("strict-transport-security", &manners.hsts), ("set-cookie", &manners.cookie)];
    for (name, value) in headers {
        if let Some(value) = value.as_ref().and_then(|value| value.parse().ok()) {
            answer.headers_mut().insert(name, value);
        }
    }
    answer
}

/// Reads the certificate files again when they change, until it is dropped.
struct Watcher(JoinHandle<()>);

impl Drop for Watcher {
    fn drop(&mut self) {
        self.0.abort();
    }
}

fn placeholder() -> rustls::ServerConfig {
    let now = Timestamp::now();
    let key = PrivateKey::generate(KeyKind::P256).expect("a key can be made");
    let names = ["placeholder.lampholm.example".parse().expect("a name")];
    let leaf = Issuer::new(now).issue(&names, &key.public_key_der(), now, SignedDuration::from_hours(24));
    tls_config(&leaf.to_pem(), key.to_pem().reveal()).expect("our own certificate fits its key")
}

fn reload(shared: &SharedTls, bundle: &Path, key: &Path) -> bool {
    let read = |path: &Path| std::fs::read_to_string(path).ok();
    let found = read(bundle).zip(read(key)).and_then(|(chain, key)| tls_config(&chain, &key));
    let loaded = found.is_some();
    if let Some(config) = found {
        *shared.write().expect("no holder panics") = Arc::new(config);
    }
    loaded
}

fn page(root: &Path, path: &str) -> Page {
    let not_found = || response(404, "text/html", "<!doctype html><title>No such page</title><p>No such page.");
    let parts: Vec<&str> = path.split('/').filter(|p| !p.is_empty()).collect();
    if parts.iter().any(|p| *p == ".." || p.contains('\0')) {
        return not_found();
    }
    let mut file = root.join(parts.join("/"));
    if file.is_dir() {
        file.push("index.html");
    }
    match std::fs::read(&file) {
        Ok(bytes) if file.extension().is_some_and(|e| e == "html") => response(200, "text/html", bytes),
        Ok(bytes) => response(200, "application/octet-stream", bytes),
        Err(_) => not_found(),
    }
}
