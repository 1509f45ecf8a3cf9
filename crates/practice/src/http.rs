//! A small HTTP/1.1 server: one handler, plain or TLS, on loopback.

use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Incoming;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::server::danger::ClientCertVerifier;
use rustls::{RootCertStore, ServerConfig};
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::{Arc, RwLock};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

/// A request with its body read.
pub(crate) type Asked = Request<Bytes>;
/// `Err` cuts the connection without an answer.
pub(crate) type Answered = Result<Response<Full<Bytes>>, Cut>;
/// The TLS setting, to be changed while the server runs.
pub(crate) type SharedTls = Arc<RwLock<Arc<ServerConfig>>>;

/// The client's certificate in DER, among a request's extensions.
#[derive(Clone)]
pub(crate) struct PeerCertificate(pub(crate) Vec<u8>);

/// Ends a connection without an answer.
#[derive(Debug)]
pub(crate) struct Cut;

impl std::fmt::Display for Cut {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("the connection is cut")
    }
}

impl std::error::Error for Cut {}

/// A running server; it stops when dropped.
pub(crate) struct Server {
    pub(crate) address: SocketAddr,
    task: JoinHandle<()>,
}

impl Server {
    /// Ends it; its address is free when this returns.
    pub(crate) async fn stop(mut self) {
        self.task.abort();
        let _ = (&mut self.task).await;
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.task.abort();
    }
}

const MOST_BYTES: usize = 1 << 20;

/// What answers requests.
type Handler = Arc<dyn Fn(Asked) -> Pin<Box<dyn Future<Output = Answered> + Send>> + Send + Sync>;

/// What a request comes over, plain or TLS.
trait Connection: AsyncRead + AsyncWrite + Unpin + Send {}

impl<S: AsyncRead + AsyncWrite + Unpin + Send> Connection for S {}

/// Starts a server at an address; port 0 lets the system choose.
pub(crate) async fn start<F, R>(address: SocketAddr, tls: Option<SharedTls>, handler: F) -> std::io::Result<Server>
where
    F: Fn(Asked) -> R + Send + Sync + 'static,
    R: Future<Output = Answered> + Send + 'static,
{
    serve(address, tls, Arc::new(move |asked| Box::pin(handler(asked)))).await
}

/// One piece of code for all handlers and kinds of connections: it is most of what there is to compile.
async fn serve(address: SocketAddr, tls: Option<SharedTls>, handler: Handler) -> std::io::Result<Server> {
    let listener = TcpListener::bind(address).await?;
    let address = listener.local_addr()?;
    let task = tokio::spawn(async move {
        let mut connections = tokio::task::JoinSet::new();
        while let Ok((stream, _)) = listener.accept().await {
            let handler = Arc::clone(&handler);
            let acceptor = tls.as_ref().map(|t| TlsAcceptor::from(Arc::clone(&t.read().expect("no holder panics"))));
            let _ = stream.set_nodelay(true);
            connections.spawn(async move {
                match acceptor {
                    None => converse(Box::new(stream), None, handler).await,
                    Some(acceptor) => {
                        if let Ok(stream) = acceptor.accept(stream).await {
                            let shown = stream.get_ref().1.peer_certificates().and_then(<[_]>::first);
                            let peer = shown.map(|certificate| PeerCertificate(certificate.to_vec()));
                            converse(Box::new(stream), peer, handler).await;
                        }
                    }
                }
            });
            while connections.try_join_next().is_some() {}
        }
    });
    Ok(Server { address, task })
}

async fn converse(stream: Box<dyn Connection>, peer: Option<PeerCertificate>, handler: Handler) {
    let service = hyper::service::service_fn(move |request: Request<Incoming>| {
        let (handler, peer) = (Arc::clone(&handler), peer.clone());
        async move {
            let (mut head, body) = request.into_parts();
            let body = Limited::new(body, MOST_BYTES).collect().await.map_err(|_| Cut)?;
            if let Some(peer) = peer {
                head.extensions.insert(peer);
            }
            handler(Request::from_parts(head, body.to_bytes())).await
        }
    });
    let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
}

/// Makes a TLS setting from PEM texts.
pub(crate) fn tls_config(chain: &str, key: &str) -> Option<ServerConfig> {
    server_config(chain, key, WebPkiClientVerifier::no_client_auth())
}

/// Makes a TLS setting that asks clients for a certificate, which leads to a root, and serves those too that have none.
pub(crate) fn tls_config_asking(chain: &str, key: &str, root: &str) -> Option<ServerConfig> {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(root.as_bytes()).ok()?).ok()?;
    let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider()).allow_unauthenticated();
    server_config(chain, key, verifier.build().ok()?)
}

fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::aws_lc_rs::default_provider())
}

fn server_config(chain: &str, key: &str, clients: Arc<dyn ClientCertVerifier>) -> Option<ServerConfig> {
    let chain: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(chain.as_bytes()).collect();
    let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).ok()?;
    ServerConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .ok()?
        .with_client_cert_verifier(clients)
        .with_single_cert(chain.ok()?, key)
        .ok()
}

pub(crate) fn response(status: u16, content_type: &str, body: impl Into<Bytes>) -> Response<Full<Bytes>> {
    let built = Response::builder().status(status).header("content-type", content_type).body(Full::new(body.into()));
    built.expect("a status and a content type make a response")
}
