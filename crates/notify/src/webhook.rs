//! By an HTTP request, signed where there is a secret.

use crate::NotifyError;
use eskort_core::inventory::Webhook;
use eskort_core::news::Message;
use eskort_core::pki::{Secret, hmac_sha256};
use eskort_core::words;
use eskort_host::read_secret;
use eskort_talk::http::{client, failure, roots};
use serde_json::json;
use std::fmt::Write;
use std::time::Duration;

/// Returns a message as JSON, as docs/notify.md describes it.
pub(crate) fn body(message: &Message) -> String {
    json!({
        "version": 1,
        "id": message.id,
        "machine": message.machine,
        "at": message.at,
        "test": message.news.is_empty(),
        "subject": message.subject(),
        "text": message.text(),
        "news": message.news,
    })
    .to_string()
}

pub(crate) async fn deliver(webhook: &Webhook, message: &Message, longest: Duration) -> Result<(), NotifyError> {
    let address = &webhook.address;
    let fail = |what: String| NotifyError::Webhook { address: address.clone(), what };
    let mut builder = client(address).timeout(longest).redirect(reqwest::redirect::Policy::none());
    if let Some(path) = &webhook.roots {
        let roots = roots(path).map_err(|why| NotifyError::File { path: path.clone(), why })?;
        builder = builder.tls_certs_only(roots);
    }
    let client = builder.build().map_err(|error| fail(error.to_string()))?;
    let body = body(message);
    let mut request = client.post(address).header("content-type", "application/json");
    if let Some(secret) = &webhook.secret {
        let secret = Secret::new(read_secret(secret)?.reveal().clone().into_bytes());
        // The moment is signed along, so that nobody can send an old message again.
        let sent = jiff::Timestamp::now().as_second();
        let code = hmac_sha256(&secret, format!("{sent}.{body}").as_bytes());
        request = request.header("eskort-sent", sent).header("eskort-hmac-sha256", hex(&code));
    }
    let answer =
        request.body(body).send().await.map_err(|error| fail(failure(address, longest, &error).to_string()))?;
    let status = answer.status();
    if status.is_success() {
        return Ok(());
    }
    let said = eskort_talk::http::body(answer, 4096, address, longest).await.unwrap_or_default();
    Err(fail(format!("{status} {}", words::printable(&String::from_utf8_lossy(&said), 200)).trim().to_owned()))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}
