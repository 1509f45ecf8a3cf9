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
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// So many clients are served at once; the others wait.
const MOST_CONNECTIONS: usize = 256;
/// How long a client may hold a connection to our listener.
const LONGEST_CONVERSATION: Duration = Duration::from_secs(10);

/// What a listener answers with, by what it is asked for.
pub(crate) type Answers<A> = Arc<Mutex<BTreeMap<String, A>>>;

pub(crate) fn locked<A>(answers: &Answers<A>) -> MutexGuard<'_, BTreeMap<String, A>> {
    answers.lock().unwrap_or_else(PoisonError::into_inner)
}

/// An open port.
struct Open<A> {
    answers: Answers<A>,
    task: JoinHandle<()>,
}

impl<A> Drop for Open<A> {
    fn drop(&mut self) {
        self.task.abort();
    }
}

trait Forgets: Send + Sync {
    fn forget(&self, asked: &[String]);
}

impl<A: Send> Forgets for Open<A> {
    fn forget(&self, asked: &[String]) {
        locked(&self.answers).retain(|known, _| !asked.contains(known));
    }
}

/// The answers of one journey; they are forgotten when it is dropped, and the port is closed with the last.
pub struct Listener {
    open: Arc<dyn Forgets>,
    asked: Vec<String>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.open.forget(&self.asked);
    }
}

/// The listeners of a run: one for each address, however many journeys it answers for.
pub(crate) struct Listeners<A>(tokio::sync::Mutex<BTreeMap<Option<SocketAddr>, Weak<Open<A>>>>);

impl<A> Default for Listeners<A> {
    fn default() -> Self {
        Listeners(tokio::sync::Mutex::default())
    }
}

impl<A: Send + 'static> Listeners<A> {
    /// Has the listener of an address give some answers; `serve` begins it when there is none. What another journey has an answer
    /// to just now is waited for.
    pub(crate) async fn answer(
        &self,
        (address, usual_port): (Option<SocketAddr>, u16),
        answers: BTreeMap<String, A>,
        serve: impl FnOnce(TcpListener, Answers<A>) -> JoinHandle<()>,
    ) -> Result<Listener, ProofError> {
        let mut serve = Some(serve);
        loop {
            let mut all = self.0.lock().await;
            let open = match (all.get(&address).and_then(Weak::upgrade), serve.take()) {
                (Some(open), kept) => {
                    serve = kept;
                    open
                }
                (None, None) => unreachable!("a listener that we wait for is begun once"),
                (None, Some(serve)) => {
                    let port = bind(address, usual_port).await?;
                    let answers: Answers<A> = Arc::default();
                    let open = Arc::new(Open { task: serve(port, Arc::clone(&answers)), answers });
                    all.insert(address, Arc::downgrade(&open));
                    open
                }
            };
            drop(all);
            {
                let mut known = locked(&open.answers);
                if answers.keys().all(|asked| !known.contains_key(asked)) {
                    let asked = answers.keys().cloned().collect();
                    known.extend(answers);
                    drop(known);
                    return Ok(Listener { open, asked });
                }
            }
            drop(open);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
}

/// Opens the port of a listener. Without an address in the inventory it is that of both families, where the machine has both.
async fn bind(address: Option<SocketAddr>, usual_port: u16) -> Result<TcpListener, ProofError> {
    let mut tries = 0;
    loop {
        tries += 1;
        match bind_once(address, usual_port).await {
            // A listener of ours that was just closed lets go of its port within a moment.
            Err(ProofError::Listen { source, .. }) if source.kind() == io::ErrorKind::AddrInUse && tries < 10 => {
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            bound => return bound,
        }
    }
}

async fn bind_once(address: Option<SocketAddr>, usual_port: u16) -> Result<TcpListener, ProofError> {
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
) -> JoinHandle<()> {
    tokio::spawn(async move {
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
    })
}

/// Answers the tasks' challenges over HTTP (RFC 8555 section 8.3).
pub(crate) async fn listen(
    listeners: &Listeners<String>,
    address: Option<SocketAddr>,
    tasks: &[ProofTask],
) -> Result<Listener, ProofError> {
    let answers = tasks.iter().map(|t| (format!("/{}", challenge_path(t)), t.key_authorization.clone()));
    listeners.answer((address, 80), answers.collect(), serve).await
}

fn serve(port: TcpListener, answers: Answers<String>) -> JoinHandle<()> {
    serve_all(port, move |stream: TcpStream| {
        let answers = Arc::clone(&answers);
        async move {
            let service = hyper::service::service_fn(move |asked: Request<Incoming>| {
                let found = locked(&answers).get(asked.uri().path()).cloned();
                let status = if found.is_some() { 200 } else { 404 };
                let mut answer = Response::new(Full::new(Bytes::from(found.unwrap_or_default())));
                *answer.status_mut() = hyper::StatusCode::from_u16(status).expect("200 and 404 are statuses");
                async move { Ok::<_, Infallible>(answer) }
            });
            let talk = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service);
            let _ = tokio::time::timeout(LONGEST_CONVERSATION, talk).await;
        }
    })
}
