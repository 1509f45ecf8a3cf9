//! Proofs in a TLS handshake (RFC 8737): a listener that shows a certificate made for the challenge.

use crate::ProofError;
use crate::listener::{Listener, bind, serve_all};
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
use tokio_rustls::TlsAcceptor;

const PROTOCOL: &[u8] = b"acme-tls/1";
const LONGEST_HANDSHAKE: Duration = Duration::from_secs(20);

/// Chooses the certificate by the name that the client asks for. One that asks for none gets the only one there is, where that is for
/// an address: many clients send no name then.
#[derive(Debug)]
struct ByName {
    certificates: BTreeMap<String, Arc<CertifiedKey>>,
    without_name: Option<Arc<CertifiedKey>>,
}

impl ResolvesServerCert for ByName {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        match hello.server_name() {
            Some(name) => self.certificates.get(&name.to_ascii_lowercase()).cloned(),
            None => self.without_name.clone(),
        }
    }
}

/// Opens a listener that answers the tasks' challenges.
pub(crate) async fn listen(
    context: &Context,
    address: Option<SocketAddr>,
    tasks: &[ProofTask],
) -> Result<Listener, ProofError> {
    let certificates = tasks.iter().map(|t| Ok((asked_for(t), Arc::new(certified(context, t)?))));
    let certificates: Result<BTreeMap<_, _>, PkiError> = certificates.collect();
    let certificates = certificates.map_err(ProofError::Certificate)?;
    let only_one = tasks.len() == 1 && tasks[0].name.address().is_some();
    let without_name = certificates.values().next().filter(|_| only_one).cloned();
    let provider = Arc::new(aws_lc_rs::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider speaks TLS 1.2 and 1.3")
        .with_no_client_auth()
        .with_cert_resolver(Arc::new(ByName { certificates, without_name }));
    config.alpn_protocols = vec![PROTOCOL.to_vec()];
    let acceptor = TlsAcceptor::from(Arc::new(config));
    let listener = bind(address, 443).await?;
    let serve = move |stream| {
        let acceptor = acceptor.clone();
        // The handshake is all there is to it.
        async move { drop(tokio::time::timeout(LONGEST_HANDSHAKE, acceptor.accept(stream)).await) }
    };
    Ok(serve_all(listener, serve))
}

/// Returns the name that the authority asks for in its handshake.
fn asked_for(task: &ProofTask) -> String {
    task.name.address().map_or_else(|| task.name.to_string(), reverse_name)
}

fn certified(context: &Context, task: &ProofTask) -> Result<CertifiedKey, PkiError> {
    let key = PrivateKey::generate(KeyKind::P256)?;
    let der = make_challenge_certificate(&key, &task.name, &task.key_authorization, (context.now)())?;
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
