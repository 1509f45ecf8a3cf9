//! A hosting panel with an HTTP API for the records of its customers' zones.

use crate::NameServer;
use crate::http::{self, Answered, Asked, Server, response, tls_config};
use crate::issuer::ApiCertificate;
use async_recursion::async_recursion as boxed;
use hyper::Method;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, RwLock};

const ZONE: &str = "lampholm.example";

/// A running panel. It stops when dropped.
pub struct Panel {
    server: Server,
    root: String,
    core: Arc<Core>,
}

struct Core {
    token: String,
    names: Arc<NameServer>,
    /// Name in full and text of each record, by id.
    records: Mutex<BTreeMap<u64, (String, String)>>,
}

impl Panel {
    /// Starts a panel that edits the zone of `names`.
    ///
    /// # Errors
    /// When no port is to be had.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(names: Arc<NameServer>) -> std::io::Result<Self> {
        let api = ApiCertificate::new();
        let tls = tls_config(&api.chain, api.key.reveal()).expect("our own certificate fits its key");
        let token = crate::ca::random_text();
        let core = Arc::new(Core { token, names, records: Mutex::default() });
        let shared = Arc::clone(&core);
        let handler = move |asked: Asked| {
            let core = Arc::clone(&shared);
            async move { answer(&core, &asked) }
        };
        let at = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let server = http::start(at, Some(Arc::new(RwLock::new(Arc::new(tls)))), handler).await?;
        Ok(Panel { server, root: api.root, core })
    }

    /// Returns the first part of its addresses.
    pub fn address(&self) -> String {
        format!("https://{}", self.server.address)
    }

    /// Returns the root that its certificate leads to, as PEM.
    pub fn root_pem(&self) -> &str {
        &self.root
    }

    /// Returns the token that its API wants.
    pub fn token(&self) -> &str {
        &self.core.token
    }
}

fn answer(core: &Core, asked: &Asked) -> Answered {
    let said = |status: u16, value: Value| Ok(response(status, "application/json", value.to_string()));
    let token = asked.headers().get("authorization").and_then(|v| v.to_str().ok());
    if token != Some(&format!("Bearer {}", core.token)) {
        return said(401, json!({"message": "this token is not known"}));
    }
    let parts: Vec<&str> = asked.uri().path().trim_matches('/').split('/').collect();
    let mut records = core.records.lock().expect("no holder panics");
    let show = |id: u64, name: &str, text: &str| {
        let in_zone = name.strip_suffix(ZONE).unwrap_or(name).trim_end_matches('.');
        json!({"id": id, "type": "TXT", "name": in_zone, "text": text})
    };
    match (asked.method(), parts.as_slice()) {
        (_, ["zones", zone, ..]) if *zone != ZONE => said(404, json!({"message": format!("no zone {zone} here")})),
        (&Method::GET, ["zones", _, "records"]) => {
            let all: Vec<Value> = records.iter().map(|(id, (name, text))| show(*id, name, text)).collect();
            said(200, json!({"records": all}))
        }
        (&Method::POST, ["zones", _, "records"]) => {
            let body: Value = serde_json::from_slice(asked.body()).unwrap_or_default();
            let (Some(name), Some(text), Some(_)) =
                (body["name"].as_str(), body["text"].as_str(), body["ttl"].as_u64())
            else {
                return said(422, json!({"message": "a record wants `name`, `text` and `ttl`"}));
            };
            let name = format!("{name}.{ZONE}");
            if records.values().any(|(n, t)| *n == name && t == text) {
                return said(409, json!({"message": "this record is there already"}));
            }
            let id = records.keys().last().map_or(100, |last| last + 1);
            core.names.add_text(&name, text);
            let shown = show(id, &name, text);
            records.insert(id, (name, text.to_owned()));
            said(201, json!({"record": shown}))
        }
        (&Method::DELETE, ["zones", _, "records", id]) => {
            let Some((name, text)) = id.parse().ok().and_then(|id| records.remove(&id)) else {
                return said(404, json!({"message": "no such record"}));
            };
            core.names.remove_text(&name, &text);
            said(200, json!({}))
        }
        _ => said(405, json!({"message": "this cannot be asked for"})),
    }
}
