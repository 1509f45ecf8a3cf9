//! Puts proofs up and takes them away: files in a site's folder, a listener of our own, records in a zone.

mod dns;
mod tls;

use crate::crash::crash_point;
use crate::{App, Progress, ProofError, StepError};
use bytes::Bytes;
use eskort_core::debt::Debt;
use eskort_core::inventory::Proof;
use eskort_core::journey::ProofTask;
use eskort_dns::TextRecord;
use eskort_probe::look_at_challenge;
use eskort_store::files::{Access, make_folders, missing_folders, write_fleeting};
use eskort_store::{Store, StoreError};
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

const CHALLENGE_FOLDER: &str = ".well-known/acme-challenge";
/// How long a client may hold a connection to our listener.
const LONGEST_CONVERSATION: Duration = Duration::from_secs(30);

/// A listener that answers challenges; it closes when dropped.
pub(crate) struct Listener {
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Puts up what the tasks ask for. Doing it again leaves things as they are.
pub(crate) async fn publish(
    app: &App,
    store: &Store,
    certificate: &str,
    proof: &str,
    tasks: &[ProofTask],
) -> Result<Option<Listener>, StepError> {
    match &app.inventory.proofs[proof] {
        Proof::HttpFolder { folder, .. } => {
            publish_files(app, store, certificate, folder, tasks)?;
            Ok(None)
        }
        Proof::HttpListener { listen, .. } => Ok(Some(listen_for(*listen, tasks).await?)),
        Proof::TlsListener { listen, .. } => Ok(Some(tls::listen(app, *listen, tasks).await?)),
        Proof::DnsUpdate(update) => {
            dns::publish(app, store, certificate, proof, dns::Writer::Update(update), tasks).await?;
            Ok(None)
        }
        Proof::Program(program) => {
            dns::publish(app, store, certificate, proof, dns::Writer::Program(program), tasks).await?;
            Ok(None)
        }
        // The person does it, and is told when the look finds nothing.
        Proof::ByHand(_) => Ok(None),
    }
}

fn publish_files(
    app: &App,
    store: &Store,
    certificate: &str,
    root: &Path,
    tasks: &[ProofTask],
) -> Result<(), StepError> {
    if !root.is_dir() {
        return Err(ProofError::NoFolder { path: root.to_owned() }.into());
    }
    let folder = root.join(CHALLENGE_FOLDER);
    let there = |path: &Path, task: &ProofTask| {
        std::fs::read(path).is_ok_and(|bytes| bytes == task.key_authorization.as_bytes())
    };
    let files = tasks.iter().map(|task| (folder.join(&task.token), task));
    let missing: Vec<(PathBuf, &ProofTask)> = files.filter(|(path, task)| !there(path, task)).collect();
    // Owed before it is there: whatever happens next, the following run knows what to take away.
    let folders = missing_folders(&folder);
    let debts: Vec<Debt> =
        missing.iter().map(|(path, _)| Debt::File { path: path.clone(), folders: folders.clone() }).collect();
    store.owe(certificate, &debts, (app.now)())?;
    crash_point("owed");
    make_folders(&folder, 0o755).map_err(|source| ProofError::Write { path: folder, source })?;
    for (path, task) in missing {
        let written = write_fleeting(&path, task.key_authorization.as_bytes(), Access::mode(0o644));
        written.map_err(|source| ProofError::Write { path, source })?;
        crash_point("file-written");
    }
    Ok(())
}

async fn listen_for(address: SocketAddr, tasks: &[ProofTask]) -> Result<Listener, ProofError> {
    let listener = tokio::net::TcpListener::bind(address).await;
    let listener = listener.map_err(|source| ProofError::Listen { address, source })?;
    let answers = tasks.iter().map(|t| (format!("/{CHALLENGE_FOLDER}/{}", t.token), t.key_authorization.clone()));
    let answers: Arc<BTreeMap<String, String>> = Arc::new(answers.collect());
    let task = tokio::spawn(async move {
        let mut open = tokio::task::JoinSet::new();
        while let Ok((stream, _)) = listener.accept().await {
            let answers = Arc::clone(&answers);
            open.spawn(async move {
                let service = hyper::service::service_fn(move |asked: Request<Incoming>| {
                    let found = answers.get(asked.uri().path()).cloned();
                    let status = if found.is_some() { 200 } else { 404 };
                    let mut answer = Response::new(Full::new(Bytes::from(found.unwrap_or_default())));
                    *answer.status_mut() = hyper::StatusCode::from_u16(status).expect("200 and 404 are statuses");
                    async move { Ok::<_, Infallible>(answer) }
                });
                let talk = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service);
                let _ = tokio::time::timeout(LONGEST_CONVERSATION, talk).await;
            });
            while open.try_join_next().is_some() {}
        }
    });
    Ok(Listener { task })
}

/// Looks at every proof as the authority would. `wait` is set when a person's work is waited for.
pub(crate) async fn look_first(app: &App, proof: &Proof, tasks: &[ProofTask], wait: bool) -> Result<(), StepError> {
    match proof {
        Proof::HttpFolder { .. } | Proof::HttpListener { .. } => look_at_files(proof, tasks).await,
        Proof::TlsListener { check_address, .. } => tls::look(*check_address, tasks).await,
        Proof::DnsUpdate(update) => dns::await_everywhere(app, dns::Writer::Update(update), tasks).await,
        Proof::Program(program) => dns::await_everywhere(app, dns::Writer::Program(program), tasks).await,
        Proof::ByHand(by_hand) => dns::await_person(app, by_hand, tasks, wait).await,
    }
}

/// Looks at every proof as the authority would, eight at a time.
async fn look_at_files(proof: &Proof, tasks: &[ProofTask]) -> Result<(), StepError> {
    let instead = proof.check_address();
    let mut unseen = Vec::new();
    for group in tasks.chunks(8) {
        let look = |task: ProofTask| async move {
            look_at_challenge(task.name.base(), &task.token, &task.key_authorization, instead).await
        };
        let looks: Vec<_> = group.iter().map(|task| tokio::spawn(look(task.clone()))).collect();
        for (task, look) in group.iter().zip(looks) {
            let seen = look.await.expect("a look does not panic");
            unseen.extend(seen.err().map(|seen| (task.name.to_string(), seen)));
        }
    }
    let mut unseen = unseen.into_iter();
    match unseen.next() {
        None => Ok(()),
        Some((name, seen)) => Err(StepError::NotVisible { name, seen, others: unseen.map(|(name, _)| name).collect() }),
    }
}

/// Takes away what is owed for the certificates that `whose` names. What cannot be taken away stays owed, with the reason.
pub(crate) async fn pay_debts(app: &App, store: &Store, whose: impl Fn(&str) -> bool) -> Result<(), StoreError> {
    let mut paid = Vec::new();
    for row in store.debts()?.into_iter().filter(|row| whose(&row.certificate)) {
        let taken = match &row.debt {
            Debt::File { path, folders } => take_file_away(path, folders).map_err(|e| e.to_string()),
            Debt::Record { proof, name, text } => {
                let record = TextRecord { name: name.clone(), text: text.clone() };
                dns::take_away(app, proof, record).await.map_err(|e| e.to_string())
            }
        };
        match taken {
            Ok(()) => paid.push(row.id),
            Err(error) => {
                store.trouble_with_debt(row.id, &error)?;
                let (words, by_hand) = (row.debt.words(), row.debt.by_hand());
                (app.watch)(&Progress::Note(format!("cannot remove {words}: {error}; by hand: {by_hand}")));
            }
        }
    }
    if paid.is_empty() { Ok(()) } else { store.paid(&paid) }
}

fn take_file_away(path: &Path, folders: &[PathBuf]) -> io::Result<()> {
    match std::fs::remove_file(path) {
        Err(e) if !matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => return Err(e),
        _ => {}
    }
    // A folder that somebody put something into meanwhile is theirs.
    for folder in folders {
        if std::fs::remove_dir(folder).is_err() {
            break;
        }
    }
    Ok(())
}
