//! Proofs in a TLS handshake (RFC 8737): a listener that shows a certificate made for the challenge.

use crate::ProofError;
use crate::listener::{Answers, Listener, Listeners, locked, serve_all};
use eskort_core::context::Context;
use eskort_core::inventory::CheckAddress;
use eskort_core::journey::ProofTask;
use eskort_core::pki::{KeyKind, PkiError, PrivateKey, answers_challenge, make_challenge_certificate};
use eskort_probe::{observe_challenge, reverse_name};
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

const PROTOCOL: &[u8] = b"acme-tls/1";
const LONGEST_HANDSHAKE: Duration = Duration::from_secs(20);

/// Chooses the certificate by the name that the client asks for. One that asks for none gets the only one there is, where that is for
/// an address: many clients send no name then.
struct ByName(Answers<Arc<CertifiedKey>>);

impl std::fmt::Debug for ByName {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("ByName")
    }
}

impl ResolvesServerCert for ByName {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let certificates = locked(&self.0);
        match hello.server_name() {
            Some(name) => certificates.get(&name.to_ascii_lowercase()).cloned(),
            None => {
                let mut all = certificates.iter();
                let only = all.next().filter(|_| all.next().is_none());
                only.filter(|(name, _)| is_reverse_name(name)).map(|(_, certificate)| Arc::clone(certificate))
            }
        }
    }
}

/// Answers the tasks' challenges.
pub(crate) async fn listen(
    listeners: &Listeners<Arc<CertifiedKey>>,
    context: &Context,
    address: Option<SocketAddr>,
    tasks: &[ProofTask],
) -> Result<Listener, ProofError> {
    let certificates = tasks.iter().map(|t| Ok((asked_for(t), Arc::new(certified(context, t)?))));
    let certificates: Result<BTreeMap<_, _>, PkiError> = certificates.collect();
    listeners.answer((address, 443), certificates.map_err(ProofError::Certificate)?, serve).await
}

fn serve(port: TcpListener, answers: Answers<Arc<CertifiedKey>>) -> JoinHandle<()> {
    let provider = Arc::new(aws_lc_rs::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider speaks TLS 1.2 and 1.3")
        .with_no_client_auth()
        .with_cert_resolver(Arc::new(ByName(answers)));
    config.alpn_protocols = vec![PROTOCOL.to_vec()];
    let acceptor = TlsAcceptor::from(Arc::new(config));
    serve_all(port, move |stream| {
        let acceptor = acceptor.clone();
        // The handshake is all there is to it.
        async move { drop(tokio::time::timeout(LONGEST_HANDSHAKE, acceptor.accept(stream)).await) }
    })
}

/// Whether a name is that of an address (RFC 8738 section 6).
fn is_reverse_name(name: &str) -> bool {
    name.ends_with(".in-addr.arpa") || name.ends_with(".ip6.arpa")
}

/// Returns the name that the authority asks for in its handshake.
fn asked_for(task: &ProofTask) -> String {
    task.name.address().map_or_else(|| task.name.to_string(), reverse_name)
}

fn certified(context: &Context, task: &ProofTask) -> Result<CertifiedKey, PkiError> {
    let key = PrivateKey::generate(KeyKind::P256)?;
    let der = make_challenge_certificate(&key, &task.name, &task.key_authorization, context.now())?;
    let private = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.to_pkcs8().reveal().clone()));
    let loaded = aws_lc_rs::default_provider().key_provider.load_private_key(private);
    let signer = loaded.map_err(|e| PkiError::Key { reason: e.to_string() })?;
    Ok(CertifiedKey::new(vec![CertificateDer::from(der)], signer))
}

/// Looks at every listener as the authority would.
pub(crate) async fn look(instead: Option<CheckAddress>, tasks: &[ProofTask]) -> Result<(), ProofError> {
    for task in tasks {
        let what = match observe_challenge(&task.name.to_string(), 443, instead).await {
            Ok(seen) if answers_challenge(seen.sent[0].der(), &task.key_authorization) => continue,
            Ok(seen) => format!("{} shows another certificate (by `{}`)", seen.address, seen.sent[0].issuer),
            Err(error) => error.to_string(),
        };
        return Err(ProofError::NotShown { name: task.name.to_string(), what });
    }
    Ok(())
}
