//! Puts proofs up and takes them away: files in a site's folder, a listener of our own, records in a zone.

mod dns;
pub(crate) mod remote;
mod tls;
mod web_api;

pub(crate) use dns::{look as look_at_records, publish as publish_records};
pub use web_api::ApiError;

use crate::{ProofError, StepError};
use bytes::Bytes;
use dns::OwedRecord;
use eskort_core::context::Context;
use eskort_core::debt::Debt;
use eskort_core::inventory::{CertificateEntry, CheckAddress, Proof};
use eskort_core::journey::ProofTask;
use eskort_core::names::Identifier;
use eskort_core::progress::Progress;
use eskort_core::record::Record;
use eskort_host::Session;
use eskort_host::crash_point;
use eskort_host::files::{
    Access, as_owner_of, make_folders, missing_folders, read_whole, remove, remove_folder, write_fleeting,
};
use eskort_probe::look_at_file;
use eskort_store::{DebtRow, Store, StoreError};
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
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;

const CHALLENGE_FOLDER: &str = ".well-known/acme-challenge";
/// No file that proves control is larger.
pub(crate) const LARGEST_SITE_FILE: u64 = 64 * 1024;
/// So many clients are served at once; the others wait.
const MOST_CONNECTIONS: usize = 256;
/// How long a client may hold a connection to our listener.
const LONGEST_CONVERSATION: Duration = Duration::from_secs(10);

/// A listener that answers challenges; it closes when dropped.
pub(crate) struct Listener {
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// A file that proves control, on a site.
#[derive(Clone, Debug)]
pub(crate) struct SiteFile {
    /// Its path below the site's folder: plain characters, nothing that leads upwards.
    pub(crate) path: String,
    pub(crate) bytes: Vec<u8>,
}

impl SiteFile {
    fn of(task: &ProofTask) -> Self {
        // Tokens were checked to be base64url when they came.
        SiteFile {
            path: format!("{CHALLENGE_FOLDER}/{}", task.token),
            bytes: task.key_authorization.clone().into_bytes(),
        }
    }
}

/// Where the files of a site go.
#[derive(Clone, Copy)]
pub(crate) struct SiteFolder<'a> {
    pub(crate) context: &'a Context,
    pub(crate) store: &'a Store,
    /// For whom the files are owed.
    pub(crate) owner: &'a str,
    /// The site's document root.
    pub(crate) root: &'a Path,
    /// The machines it is on; empty for this one.
    pub(crate) hosts: &'a [String],
}

impl SiteFolder<'_> {
    /// Puts files into the folder, on every machine. What is there already stays as it is.
    pub(crate) async fn publish(&self, files: &[SiteFile]) -> Result<(), StepError> {
        if self.hosts.is_empty() { self.publish_here(files) } else { remote::publish(self, files).await }
    }

    fn publish_here(&self, files: &[SiteFile]) -> Result<(), StepError> {
        if !self.root.is_dir() {
            return Err(ProofError::NoFolder { host: None, path: self.root.to_owned() }.into());
        }
        for group in files.chunk_by(|a, b| folder_of(self.root, a) == folder_of(self.root, b)) {
            let folder = folder_of(self.root, &group[0]);
            let there = |file: &&SiteFile| {
                let read = read_whole(&self.root.join(&file.path), LARGEST_SITE_FILE);
                matches!(read, Ok(Some(found)) if found.bytes == file.bytes)
            };
            let missing: Vec<&SiteFile> = group.iter().filter(|file| !there(file)).collect();
            // Owed before it is there: whatever happens next, the following run knows what to take away.
            let folders = missing_folders(&folder);
            self.owe(None, &missing, &folders)?;
            let made = as_owner_of(self.root, || make_folders(&folder, 0o755));
            made.map_err(|source| ProofError::Write { path: folder, source })?;
            for file in missing {
                let path = self.root.join(&file.path);
                let write = || write_fleeting(&path, &file.bytes, Access::mode(0o644));
                let written = as_owner_of(self.root, write);
                written.map_err(|source| ProofError::Write { path, source })?;
                crash_point("file-written");
            }
        }
        Ok(())
    }

    /// Writes down what has to be taken away, on one machine.
    fn owe(&self, host: Option<&String>, files: &[&SiteFile], folders: &[PathBuf]) -> Result<(), StoreError> {
        let debt = |file: &&SiteFile| Debt::File {
            host: host.cloned(),
            path: self.root.join(&file.path),
            folders: folders.to_vec(),
            // On this machine it is found by looking.
            passing: host.map(|_| remote::passing_name()),
        };
        let debts: Vec<Debt> = files.iter().map(debt).collect();
        self.store.owe(self.owner, &debts, (self.context.now)())?;
        crash_point("owed");
        Ok(())
    }
}

fn folder_of(root: &Path, file: &SiteFile) -> PathBuf {
    root.join(&file.path).parent().unwrap_or(root).to_owned()
}

/// What the proofs of one certificate's journey need.
#[derive(Clone, Copy)]
pub(crate) struct Proving<'a> {
    pub(crate) context: &'a Context,
    pub(crate) store: &'a Store,
    pub(crate) certificate: &'a str,
    pub(crate) entry: &'a CertificateEntry,
}

impl<'a> Proving<'a> {
    /// Puts the tasks together by the proof that serves them; what machines do comes before what people do.
    fn by_proof(&self, tasks: &[ProofTask]) -> Vec<(&'a str, &'a Proof, Vec<ProofTask>)> {
        let mut groups: Vec<(&str, &Proof, Vec<ProofTask>)> = Vec::new();
        for task in tasks {
            // The journey's proof is the inventory's, or it would have been given up.
            let Some((name, proof)) = self.context.inventory.proof_of(self.entry, &task.name) else { continue };
            match groups.iter_mut().find(|(known, ..)| *known == name) {
                Some((.., tasks)) => tasks.push(task.clone()),
                None => groups.push((name, proof, vec![task.clone()])),
            }
        }
        groups.sort_by_key(|(_, proof, _)| proof.awaits_person());
        groups
    }

    /// Puts up what the tasks ask for. Doing it again leaves things as they are.
    pub(crate) async fn publish(&self, tasks: &[ProofTask]) -> Result<Vec<Listener>, StepError> {
        let mut listeners = Vec::new();
        for (name, proof, tasks) in self.by_proof(tasks) {
            match proof {
                Proof::HttpFolder { folder, hosts, .. } => {
                    let files: Vec<SiteFile> = tasks.iter().map(SiteFile::of).collect();
                    let Proving { context, store, certificate: owner, .. } = *self;
                    SiteFolder { context, store, owner, root: folder, hosts }.publish(&files).await?;
                }
                Proof::HttpListener { listen, .. } => listeners.push(listen_for(*listen, &tasks).await?),
                Proof::TlsListener { listen, .. } => listeners.push(tls::listen(self.context, *listen, &tasks).await?),
                Proof::Dns(dns) => {
                    let owed = (self.context, self.store, self.certificate);
                    dns::publish(owed, name, dns, &records(&tasks)).await?;
                }
            }
        }
        Ok(listeners)
    }

    /// Looks at every proof as the authority would.
    pub(crate) async fn look_first(&self, tasks: &[ProofTask]) -> Result<(), StepError> {
        for (_, proof, tasks) in self.by_proof(tasks) {
            match proof {
                Proof::HttpFolder { folder, hosts, .. } => {
                    let files: Vec<SiteFile> = tasks.iter().map(SiteFile::of).collect();
                    remote::look(self.context, folder, hosts, &files).await?;
                    look_at_tasks(proof, &tasks).await?;
                }
                Proof::HttpListener { .. } => look_at_tasks(proof, &tasks).await?,
                Proof::TlsListener { check_address, .. } => tls::look(*check_address, &tasks).await?,
                Proof::Dns(dns) => dns::look(self.context, dns, &records(&tasks)).await?,
            }
        }
        Ok(())
    }
}

fn records(tasks: &[ProofTask]) -> Vec<Record> {
    tasks.iter().map(ProofTask::record).collect()
}

/// Opens the port of a listener. Without an address in the inventory it is that of both families, where the machine has both.
async fn bind(address: Option<SocketAddr>, usual_port: u16) -> Result<TcpListener, ProofError> {
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
fn serve_all<S: Future<Output = ()> + Send + 'static>(
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

async fn listen_for(address: Option<SocketAddr>, tasks: &[ProofTask]) -> Result<Listener, ProofError> {
    let listener = bind(address, 80).await?;
    let answers = tasks.iter().map(|t| (format!("/{CHALLENGE_FOLDER}/{}", t.token), t.key_authorization.clone()));
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

async fn look_at_tasks(proof: &Proof, tasks: &[ProofTask]) -> Result<(), StepError> {
    let files = tasks.iter().map(|task| (task.name.clone(), SiteFile::of(task))).collect();
    look_at_files(files, proof.check_address()).await
}

/// Fetches files at their names as an authority would, eight at a time.
pub(crate) async fn look_at_files(
    files: Vec<(Identifier, SiteFile)>,
    instead: Option<CheckAddress>,
) -> Result<(), StepError> {
    let mut unseen = Vec::new();
    for group in files.chunks(8) {
        let look = |(name, file): (Identifier, SiteFile)| async move {
            look_at_file(&name.in_url(), &file.path, &file.bytes, instead).await
        };
        let looks: Vec<_> = group.iter().map(|file| tokio::spawn(look(file.clone()))).collect();
        for ((name, _), look) in group.iter().zip(looks) {
            let seen = look.await.expect("a look does not panic");
            unseen.extend(seen.err().map(|seen| (name.to_string(), seen)));
        }
    }
    let mut unseen = unseen.into_iter();
    match unseen.next() {
        None => Ok(()),
        Some((name, seen)) => Err(StepError::NotVisible { name, seen, others: unseen.map(|(name, _)| name).collect() }),
    }
}

/// Takes away what is owed for the certificates that `whose` names. What cannot be taken away stays owed, with the reason.
pub(crate) async fn pay_debts(
    context: &Context,
    store: &Store,
    whose: impl Fn(&str) -> bool,
) -> Result<(), StoreError> {
    let mut paid = Vec::new();
    let mut unpaid = Vec::new();
    // One connection to each machine, and one conversation for the records of each proof.
    let mut sessions: BTreeMap<String, Result<Session, String>> = BTreeMap::new();
    let mut records: BTreeMap<String, Vec<(DebtRow, OwedRecord)>> = BTreeMap::new();
    let owed: Vec<DebtRow> = store.debts()?.into_iter().filter(|row| whose(&row.certificate)).collect();
    if owed.is_empty() {
        return Ok(());
    }
    (context.watch)(&Progress::Doing("take away what proved control"));
    for row in owed {
        let taken = match &row.debt {
            Debt::Record { proof, record, id } => {
                let owed = OwedRecord { record: record.clone(), id: id.clone() };
                records.entry(proof.clone()).or_default().push((row, owed));
                continue;
            }
            Debt::File { host: None, path, folders, .. } => take_file_away(path, folders).map_err(|e| e.to_string()),
            Debt::File { host: Some(host), path, folders, passing } => {
                if !sessions.contains_key(host) {
                    sessions.insert(host.clone(), remote::open(context, host).await.map_err(|e| e.to_string()));
                }
                match sessions.get_mut(host).expect("it was just put in") {
                    Ok(session) => {
                        remote::take_away(session, path, passing.as_deref(), folders).await.map_err(|e| e.to_string())
                    }
                    Err(error) => Err(error.clone()),
                }
            }
        };
        match taken {
            Ok(()) => paid.push(row.id),
            Err(error) => unpaid.push((row, error)),
        }
    }
    for session in sessions.into_values().flatten() {
        session.close().await;
    }
    for (proof, owed) in records {
        let (rows, owed): (Vec<_>, Vec<_>) = owed.into_iter().unzip();
        match dns::take_away(context, &proof, &owed).await {
            Ok(()) => paid.extend(rows.into_iter().map(|row| row.id)),
            Err(error) => unpaid.extend(rows.into_iter().map(|row| (row, error.to_string()))),
        }
    }
    let mut troubles: BTreeMap<String, Vec<Debt>> = BTreeMap::new();
    for (row, error) in unpaid {
        store.trouble_with_debt(row.id, &error)?;
        troubles.entry(error).or_default().push(row.debt);
    }
    for (error, debts) in troubles {
        let each = |what: fn(&Debt) -> String| debts.iter().map(what).collect::<Vec<_>>().join("; ");
        (context.watch)(&Progress::Note(format!(
            "cannot remove {}: {error}. By hand: {}",
            each(Debt::words),
            each(Debt::by_hand)
        )));
    }
    crash_point("taken-away");
    store.paid(&paid)
}

fn take_file_away(path: &Path, folders: &[PathBuf]) -> io::Result<()> {
    remove(path)?;
    // A folder that somebody put something into meanwhile is theirs.
    for folder in folders {
        if !remove_folder(folder) {
            break;
        }
    }
    Ok(())
}
