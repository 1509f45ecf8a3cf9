//! Makes the key, or takes the one that is kept.

use super::acme::AcmeOrders;
use super::work::{Work, beside};
use crate::StepError;
use eskort_core::inventory::SecretSource;
use eskort_core::journey::Outcome;
use eskort_core::pki::{KeyKind, PkiError, PrivateKey, Secret};
use eskort_core::progress::Progress;
use eskort_host::{obeyed, read_secret};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether this process has made a key.
static MADE_ONE: AtomicBool = AtomicBool::new(false);

/// Makes the key, unless it is stored already, and checks that a CSR can be made with it.
pub(super) async fn prepare(work: &Work<'_>, acme: &AcmeOrders<'_>) -> Result<Outcome, StepError> {
    let kind: KeyKind = work.specification.key.parse().map_err(|source| work.key_error(source))?;
    let folder = work.store.generation_folder(work.certificate, work.generation);
    folder.forget_request()?;
    for name in work.specification.names.iter().filter(|name| !name.is_qualified()) {
        let text = format!(
            "`{name}` is not a fully qualified name: only a private authority will issue for it, and it means something else on every network"
        );
        work.context.report(&Progress::Note(text));
    }
    // A key of another kind than is wanted now is of no use; where its text cannot be read, that is said below.
    let stored = folder.key()?;
    let read = stored.as_ref().and_then(|pem| PrivateKey::from_pem(pem).ok());
    let other = read.is_some_and(|key| key.kind() != kind);
    if stored.is_none() || other {
        let kept = kept_key(work, kind).await?;
        // The first key of a process takes a while, and large ones always do; the directory comes meanwhile. What is wrong with it
        // stops the journey only once the key is stored.
        let takes_long = kind.is_slow() || !MADE_ONE.swap(true, Ordering::Relaxed);
        let making =
            (kept.is_none() && takes_long).then(|| tokio::task::spawn_blocking(move || PrivateKey::generate(kind)));
        let directory =
            if work.talks_acme() { acme.conversation(work).await?.directory().await.map(|_| ()) } else { Ok(()) };
        let key = match (kept, making) {
            (Some(key), _) => key,
            (None, Some(making)) => {
                making.await.expect("making a key does not panic").map_err(|source| work.key_error(source))?
            }
            (None, None) => PrivateKey::generate(kind).map_err(|source| work.key_error(source))?,
        };
        let key = beside(move || folder.save_key(&key).map(|()| key)).await?;
        let _ = work.key.set(key);
        directory?;
    }
    work.csr()?;
    Ok(Outcome::Prepared)
}

/// Returns the key that the inventory names, or that of the generation before where it is kept.
async fn kept_key(work: &Work<'_>, kind: KeyKind) -> Result<Option<PrivateKey>, StepError> {
    if let Some(path) = &work.entry.key_file {
        let key = read_key_file(work, path)?;
        if key.kind() != kind {
            let why = format!("it is {}; say `key = \"{}\"` of the certificate", key.kind().word(), key.kind().word());
            return Err(StepError::KeyFile { path: path.clone(), why });
        }
        return Ok(Some(key));
    }
    if !work.entry.keep_key {
        return Ok(None);
    }
    let Some(newest) = work.store.newest(work.certificate).await? else { return Ok(None) };
    let Some(pem) = work.store.generation_folder(work.certificate, newest.number).key()? else { return Ok(None) };
    let key = PrivateKey::from_pem(&pem).map_err(|source| work.key_error(source))?;
    Ok(Some(key).filter(|k| k.kind() == kind))
}

/// Reads a key that somebody else keeps.
fn read_key_file(work: &Work<'_>, path: &Path) -> Result<PrivateKey, StepError> {
    let fail = |path: &Path| {
        let path = path.to_owned();
        move |why| StepError::KeyFile { path, why }
    };
    let password = match &work.entry.key_password_file {
        Some(path) => {
            let read = read_secret(&SecretSource::File(path.clone()));
            Some(read.map_err(|error| fail(path)(error.why))?)
        }
        None => None,
    };
    let bytes = obeyed::read(path).map_err(fail(path))?;
    let pem = Secret::new(String::from_utf8_lossy(&bytes).into_owned());
    let read = match PrivateKey::from_any_pem(&pem, password.as_ref()) {
        Err(PkiError::NoPemBlock { .. }) => PrivateKey::from_pkcs8_der(&bytes),
        read => read,
    };
    read.map_err(|error| fail(path)(error.to_string()))
}
