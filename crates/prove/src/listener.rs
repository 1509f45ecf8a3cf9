//! Listeners of our own, which answer challenges while the authority looks.

use crate::ProofError;
use crate::file::challenge_path;
use bytes::Bytes;
use eskort_core::journey::ProofTask;
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;

/// So many clients are served at once; the others wait.
const MOST_CONNECTIONS: usize = 256;
/// How long a client may hold a connection to our listener.
const LONGEST_CONVERSATION: Duration = Duration::from_secs(10);

/// A listener that answers challenges; it closes when dropped.
pub struct Listener {
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Opens the port of a listener. Without an address in the inventory it is that of both families, where the machine has both.
pub(crate) async fn bind(address: Option<SocketAddr>, usual_port: u16) -> Result<TcpListener, ProofError> {
    let fail = |address| move |source| ProofError::Listen { address, source };
    let Some(address) = address else {
        let both = SocketAddr::from((std::net::Ipv6Addr::UNSPECIFIED, usual_port));
        let one = SocketAddr::from((std::net::Ipv4Addr::UNSPECIFIED, usual_port));
        return match TcpListener::bind(both).await {
            Err(e) if matches!(e.kind(), io::ErrorKind::AddrInUse | io::ErrorKind::PermissionDenied) => {
                Err(fail(both)(e))
            }
            Err(_) => TcpListener::bind(one).await.map_err(fail(one)),
            Ok(listener) => Ok(listener),
        };
    };
    TcpListener::bind(address).await.map_err(fail(address))
}

/// Serves each connection with `serve`, so many at once. That one cannot be taken (the machine is short of something) does not
/// end the listener.
pub(crate) fn serve_all<S: Future<Output = ()> + Send + 'static>(
    listener: TcpListener,
    serve: impl Fn(TcpStream) -> S + Send + 'static,
) -> Listener {
    let task = tokio::spawn(async move {
        let room = Arc::new(Semaphore::new(MOST_CONNECTIONS));
        let mut open = tokio::task::JoinSet::new();
        loop {
            let place = Arc::clone(&room).acquire_owned().await;
            match listener.accept().await {
                Ok((stream, _)) => {
                    let served = serve(stream);
                    open.spawn(async move {
                        served.await;
                        drop(place);
                    });
                }
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
            while open.try_join_next().is_some() {}
        }
    });
    Listener { task }
}

/// Opens a listener that answers the tasks' challenges over HTTP (RFC 8555 section 8.3).
pub(crate) async fn listen(address: Option<SocketAddr>, tasks: &[ProofTask]) -> Result<Listener, ProofError> {
    let listener = bind(address, 80).await?;
    let answers = tasks.iter().map(|t| (format!("/{}", challenge_path(t)), t.key_authorization.clone()));
    let answers: Arc<BTreeMap<String, String>> = Arc::new(answers.collect());
    let serve = move |stream: TcpStream| {
        let answers = Arc::clone(&answers);
        async move {
            let service = hyper::service::service_fn(move |asked: Request<Incoming>| {
                let found = answers.get(asked.uri().path()).cloned();
                let status = if found.is_some() { 200 } else { 404 };
                let mut answer = Response::new(Full::new(Bytes::from(found.unwrap_or_default())));
                *answer.status_mut() = hyper::StatusCode::from_u16(status).expect("200 and 404 are statuses");
                async move { Ok::<_, Infallible>(answer) }
            });
            let talk = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service);
            let _ = tokio::time::timeout(LONGEST_CONVERSATION, talk).await;
        }
    };
    Ok(serve_all(listener, serve))
}
