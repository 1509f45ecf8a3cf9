//! A notice board: an HTTPS address that messages are posted to, which takes only those that are signed with its secret.

use crate::http::{self, Answered, Asked, Server, response, tls_config};
use crate::issuer::ApiCertificate;
use async_recursion::async_recursion as boxed;
use eskort_pki::{Secret, hmac_sha256};
use serde_json::Value;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, RwLock};

/// A running notice board. It stops when dropped.
pub struct Board {
    server: Server,
    root: String,
    core: Arc<Core>,
}

struct Core {
    secret: Secret<Vec<u8>>,
    messages: Mutex<Vec<Value>>,
    /// So many are still refused.
    refused: AtomicU32,
}

impl Board {
    /// Starts a notice board with a secret.
    ///
    /// # Errors
    /// When no port is to be had.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(secret: &str) -> std::io::Result<Self> {
        let api = ApiCertificate::new();
        let tls = tls_config(&api.chain, api.key.reveal()).expect("our own certificate fits its key");
        let secret = Secret::new(secret.as_bytes().to_vec());
        let core = Arc::new(Core { secret, messages: Mutex::default(), refused: AtomicU32::new(0) });
        let shared = Arc::clone(&core);
        let handler = move |asked: Asked| {
            let core = Arc::clone(&shared);
            async move { answer(&core, &asked) }
        };
        let at = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let server = http::start(at, Some(Arc::new(RwLock::new(Arc::new(tls)))), handler).await?;
        Ok(Board { server, root: api.root, core })
    }

    /// Returns the address that messages are posted to.
    pub fn address(&self) -> String {
        format!("https://{}/notices", self.server.address)
    }

    /// Returns the root that its certificate leads to, as PEM.
    pub fn root_pem(&self) -> &str {
        &self.root
    }

    /// Refuses the next messages.
    pub fn refuse(&self, messages: u32) {
        self.core.refused.store(messages, Ordering::SeqCst);
    }

    /// Returns what it has taken.
    ///
    /// # Panics
    /// Only when another holder of a lock has panicked.
    pub fn messages(&self) -> Vec<Value> {
        self.core.messages.lock().expect("no holder panics").clone()
    }
}

fn answer(core: &Core, asked: &Asked) -> Answered {
    let said = |status: u16, text: &str| Ok(response(status, "text/plain", text.to_owned()));
    let refuses = |left: u32| left.checked_sub(1);
    if core.refused.fetch_update(Ordering::SeqCst, Ordering::SeqCst, refuses).is_ok() {
        return said(503, "the board is being painted");
    }
    let header = |name: &str| asked.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let mut signed = format!("{}.", header("eskort-sent")).into_bytes();
    signed.extend_from_slice(asked.body());
    let code: String = hmac_sha256(&core.secret, &signed).iter().map(|byte| format!("{byte:02x}")).collect();
    if header("eskort-hmac-sha256") != code {
        return said(401, "this is not signed with the secret of the board");
    }
    match serde_json::from_slice(asked.body()) {
        Ok(message) => {
            core.messages.lock().expect("no holder panics").push(message);
            said(204, "")
        }
        Err(_) => said(400, "this is not JSON"),
    }
}
