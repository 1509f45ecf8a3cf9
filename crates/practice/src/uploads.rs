//! APIs that certificates are uploaded to, each with a site that shows what is in use: a hosting panel with three fields, which takes its
//! time; an application platform that takes PKCS#12 containers; a container orchestrator's secrets.

use crate::http::{self, Answered, Asked, Cut, Server, SharedTls, response, tls_config};
use crate::issuer::ApiCertificate;
use async_recursion::async_recursion as boxed;
use eskort_pki::{Chain, Intake, PrivateKey, Secret, base64_decode};
use hyper::Method;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};
use std::time::{Duration, Instant};

/// What kind of API it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UploadKind {
    /// Certificate, key and intermediates in three fields for each site.
    Hosting,
    /// PKCS#12 containers with their password, bound to host names.
    Platform,
    /// Secrets of type `kubernetes.io/tls`.
    Cluster,
}

/// A running API and its site. It stops when dropped.
pub struct Uploads {
    server: Server,
    site: Server,
    root: String,
    shared: Arc<Shared>,
}

struct Shared {
    kind: UploadKind,
    token: String,
    tls: SharedTls,
    state: Mutex<State>,
}

/// A chain and its key, in PEM.
#[derive(Clone)]
struct Pair {
    chain: String,
    key: String,
}

#[derive(Default)]
struct State {
    /// What is in use, by site.
    in_use: BTreeMap<String, Pair>,
    /// What comes into use at some time.
    coming: BTreeMap<String, (Instant, Pair)>,
    /// Label and contents of containers, by id.
    containers: BTreeMap<u64, (String, Pair)>,
    /// The container of each site.
    bound: BTreeMap<String, u64>,
    /// How long it takes until a site shows what it was given.
    delay: Duration,
    /// What the next changes are answered with, the last first; 0 cuts the connection, 1 lets one pass.
    faults: Vec<u16>,
    asked: Vec<String>,
}

impl Uploads {
    /// Starts one on loopback. Its site shows a certificate of nobody's until one is uploaded.
    ///
    /// # Errors
    /// When no port is to be had.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(kind: UploadKind) -> std::io::Result<Self> {
        let (api, placeholder) = (ApiCertificate::new(), ApiCertificate::new());
        let config = |made: &ApiCertificate| {
            let tls = tls_config(&made.chain, made.key.reveal()).expect("certificates of our own making are usable");
            Arc::new(RwLock::new(Arc::new(tls)))
        };
        let (any, tls) = (SocketAddr::from((Ipv4Addr::LOCALHOST, 0)), config(&placeholder));
        let (token, state) = (crate::ca::random_text(), Mutex::default());
        let shared = Arc::new(Shared { kind, token, tls: Arc::clone(&tls), state });
        let known = Arc::clone(&shared);
        let server = http::start(any, Some(config(&api)), move |asked| {
            let answer = known.answer(&asked);
            async move { answer }
        });
        let page = |_: Asked| async { Ok(response(200, "text/plain", "The lamp shop is open.\n")) };
        Ok(Uploads { server: server.await?, site: http::start(any, Some(tls), page).await?, root: api.root, shared })
    }

    /// Returns the first part of its addresses.
    pub fn address(&self) -> String {
        format!("https://{}", self.server.address)
    }

    /// Returns where its site is.
    pub fn site(&self) -> SocketAddr {
        self.site.address
    }

    /// Returns the root that the API's certificate leads to, as PEM.
    pub fn root_pem(&self) -> &str {
        &self.root
    }

    /// Returns the token that the API wants.
    pub fn token(&self) -> &str {
        &self.shared.token
    }

    /// Sets how long it takes until a site shows what it was given.
    pub fn set_delay(&self, delay: Duration) {
        self.shared.state().delay = delay;
    }

    /// Answers the next changes with these statuses, one after the other; 0 cuts the connection, 1 lets one pass.
    pub fn fail(&self, statuses: &[u16]) {
        self.shared.state().faults = statuses.iter().rev().copied().collect();
    }

    /// Forgets what is in use, as if somebody had put another certificate there.
    pub fn forget(&self) {
        self.shared.state().in_use.clear();
    }

    /// Returns what it was asked: methods and paths, in order.
    pub fn asked(&self) -> Vec<String> {
        self.shared.state().asked.clone()
    }

    /// Returns the labels of the containers that it has.
    pub fn containers(&self) -> Vec<String> {
        self.shared.state().containers.values().map(|(label, _)| label.clone()).collect()
    }
}

impl Shared {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().expect("no holder panics")
    }

    fn answer(&self, asked: &Asked) -> Answered {
        let said = |status: u16, value: &Value| Ok(response(status, "application/json", value.to_string()));
        let token = asked.headers().get("authorization").and_then(|v| v.to_str().ok());
        if token != Some(&format!("Bearer {}", self.token)) {
            return said(401, &json!({"message": "this token is not known"}));
        }
        let mut state = self.state();
        state.asked.push(format!("{} {}", asked.method(), asked.uri().path()));
        self.settle(&mut state);
        if asked.method() != Method::GET
            && let Some(status) = state.faults.pop()
        {
            match status {
                0 => return Err(Cut),
                1 => {}
                _ => return said(status, &json!({"message": "not now"})),
            }
        }
        let parts: Vec<&str> = asked.uri().path().trim_matches('/').split('/').collect();
        let body: Value = serde_json::from_slice(asked.body()).unwrap_or_default();
        let (status, value) = match self.kind {
            UploadKind::Hosting => self.hosting(&mut state, asked.method(), &parts, &body),
            UploadKind::Platform => self.platform(&mut state, asked.method(), &parts, &body),
            UploadKind::Cluster => self.cluster(&mut state, asked.method(), &parts, &body),
        };
        said(status, &value)
    }

    /// Brings into use what is due.
    fn settle(&self, state: &mut State) {
        let due = state.coming.extract_if(.., |_, (at, _)| *at <= Instant::now()).collect::<Vec<_>>();
        for (site, (_, pair)) in due {
            let config = tls_config(&pair.chain, &pair.key).expect("it was checked when it came");
            *self.tls.write().expect("no holder panics") = Arc::new(config);
            state.in_use.insert(site, pair);
        }
    }

    fn use_for(&self, state: &mut State, site: &str, pair: Pair) {
        let at = Instant::now() + state.delay;
        state.coming.insert(site.to_owned(), (at, pair));
        self.settle(state);
    }

    fn hosting(&self, state: &mut State, method: &Method, parts: &[&str], body: &Value) -> (u16, Value) {
        match (method, parts) {
            (&Method::GET, ["sites", site, "tls"]) => match state.in_use.get(*site) {
                Some(pair) => (200, json!({"in-use": {"certificate": pair.chain}})),
                None => (200, json!({"in-use": null})),
            },
            (&Method::PUT, ["sites", site, "tls"]) => {
                let field = |name: &str| body[name].as_str().unwrap_or_default().to_owned();
                let chain = field("certificate") + &field("intermediates");
                match checked(chain, field("key"), site) {
                    Ok(pair) => {
                        self.use_for(state, site, pair);
                        (202, json!({"message": "it is shown in a while"}))
                    }
                    Err(why) => (422, json!({"message": why})),
                }
            }
            _ => unknown(),
        }
    }

    fn platform(&self, state: &mut State, method: &Method, parts: &[&str], body: &Value) -> (u16, Value) {
        match (method, parts) {
            (&Method::GET, ["containers"]) => {
                let one = |(id, (label, _)): (&u64, &(String, Pair))| json!({"id": id, "label": label});
                (200, json!({"containers": state.containers.iter().map(one).collect::<Vec<_>>()}))
            }
            (&Method::POST, ["containers"]) => {
                let text = |name: &str| body[name].as_str().unwrap_or_default();
                let pair = unpacked(text("container"), text("password"));
                let Ok(pair) = pair.and_then(|(chain, key)| checked(chain, key, "")) else {
                    return (422, json!({"message": "the container cannot be opened, or lacks something"}));
                };
                let id = state.containers.keys().last().map_or(700, |last| last + 1);
                state.containers.insert(id, (text("label").to_owned(), pair));
                (201, json!({"id": id}))
            }
            (&Method::GET, ["hosts", site]) => {
                let fingerprint = state.in_use.get(*site).and_then(|pair| Chain::from_pem(&pair.chain).ok());
                let fingerprint = fingerprint.map(|chain| chain.leaf().fingerprint().to_string().to_uppercase());
                (200, json!({"container": state.bound.get(*site), "fingerprint": fingerprint}))
            }
            (&Method::PUT, ["hosts", site]) => {
                let id = body["container"].as_u64().unwrap_or_default();
                let Some((_, pair)) = state.containers.get(&id).cloned() else {
                    return (404, json!({"message": "no such container"}));
                };
                match checked(pair.chain, pair.key, site) {
                    Ok(pair) => {
                        state.bound.insert((*site).to_owned(), id);
                        self.use_for(state, site, pair);
                        (200, json!({}))
                    }
                    Err(why) => (422, json!({"message": why})),
                }
            }
            (&Method::DELETE, ["containers", id]) => {
                let id = id.parse().unwrap_or_default();
                if state.bound.values().any(|bound| *bound == id) {
                    return (409, json!({"message": "it is bound to a host"}));
                }
                match state.containers.remove(&id) {
                    Some(_) => (200, json!({})),
                    None => (404, json!({"message": "no such container"})),
                }
            }
            _ => unknown(),
        }
    }

    fn cluster(&self, state: &mut State, method: &Method, parts: &[&str], body: &Value) -> (u16, Value) {
        let ["api", "v1", "namespaces", namespace, "secrets", object] = parts else { return unknown() };
        let site = format!("{namespace}/{object}");
        match *method {
            Method::GET => match state.in_use.get(&site) {
                Some(pair) => (200, json!({"data": {"tls.crt": eskort_pki::base64(pair.chain.as_bytes())}})),
                None => (404, json!({"reason": "NotFound"})),
            },
            Method::PATCH => {
                let field = |name: &str| {
                    let decoded = base64_decode(body["data"][name].as_str().unwrap_or_default());
                    decoded.and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default()
                };
                let is_tls = body["type"] == "kubernetes.io/tls" && body["metadata"]["name"] == **object;
                match checked(field("tls.crt"), field("tls.key"), "") {
                    Ok(pair) if is_tls => {
                        self.use_for(state, &site, pair);
                        (201, json!({}))
                    }
                    _ => (422, json!({"reason": "Invalid"})),
                }
            }
            _ => unknown(),
        }
    }
}

fn unknown() -> (u16, Value) {
    (405, json!({"message": "this cannot be asked for"}))
}

/// Checks that key and chain fit, and that they are for a site.
fn checked(chain: String, key: String, site: &str) -> Result<Pair, String> {
    let parsed = Chain::from_pem(&chain).map_err(|e| e.to_string())?;
    let own = PrivateKey::from_pem(&Secret::new(key.clone())).map_err(|e| e.to_string())?;
    if own.public_key_der() != parsed.leaf().public_key() {
        return Err("key and certificate do not fit".to_owned());
    }
    if parsed.certificates().len() < 2 {
        return Err("the intermediates are missing".to_owned());
    }
    match site.is_empty() || parsed.leaf().names.iter().any(|name| name.to_string() == site) {
        true => Ok(Pair { chain, key }),
        false => Err(format!("the certificate is not for {site}")),
    }
}

/// Takes chain and key out of a PKCS#12 container.
fn unpacked(container: &str, password: &str) -> Result<(String, String), String> {
    let bytes = base64_decode(container).ok_or("this is no base64")?;
    let mut intake = Intake::default();
    let password = Secret::new(password.to_owned());
    intake.take("container", &bytes, Some(&password)).map_err(|e| e.to_string())?;
    let key = intake.keys.first().ok_or("there is no key in it")?;
    let chain = intake.certificates.iter().map(eskort_pki::Certificate::to_pem).collect();
    Ok((chain, key.to_pem().reveal().clone()))
}
