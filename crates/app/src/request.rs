//! CSRs outside journeys: made from options alone, and read.

use crate::App;
use eskort_core::names::Identifier;
use eskort_core::pki::{
    CsrFacts, CsrWish, KeyKind, PkiError, PrivateKey, Secret, find_csr, key_words, look_at_csr, make_csr, request_pem,
};
use eskort_store::files::{Access, write_whole};
use eskort_store::{Store, StoreError};
use serde::Serialize;
use std::io;
use std::path::{Path, PathBuf};

/// What to make a CSR from.
#[derive(Clone, Debug)]
pub struct CsrOptions {
    /// The names.
    pub names: Vec<Identifier>,
    /// What it asks for beside them.
    pub wish: CsrWish,
    /// The key's file: read when it is there, made otherwise.
    pub key: PathBuf,
    /// The kind of key to make.
    pub kind: KeyKind,
}

/// Why no CSR was made or read.
#[derive(Debug, thiserror::Error)]
pub enum RequestError {
    /// The key's file.
    #[error("cannot {job} the key {}: {source}", path.display())]
    KeyFile {
        /// What was tried.
        job: &'static str,
        /// The file.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// The key.
    #[error("cannot use the key {}: {source}", path.display())]
    Key {
        /// The file.
        path: PathBuf,
        /// Why not.
        source: PkiError,
    },
    /// What is no CSR.
    #[error("there is no CSR in it")]
    NoCsr,
    /// A CSR that cannot be read.
    #[error(transparent)]
    Unreadable(#[from] PkiError),
    /// The state folder.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A CSR, and whether its key was made for it.
#[derive(Clone, Debug)]
pub struct MadeRequest {
    /// The CSR as PEM.
    pub pem: String,
    /// Whether the key is new.
    pub new_key: bool,
}

/// Makes a CSR. A new key is stored before the CSR is made.
///
/// # Errors
/// When the key cannot be read, made or stored.
pub fn make_request(options: &CsrOptions) -> Result<MadeRequest, RequestError> {
    let path = &options.key;
    let key_error = |source| RequestError::Key { path: path.clone(), source };
    let (key, new_key) = match std::fs::read_to_string(path) {
        Ok(text) => (PrivateKey::from_any_pem(&Secret::new(text)).map_err(key_error)?, false),
        Err(source) if source.kind() == io::ErrorKind::NotFound => {
            let key = PrivateKey::generate(options.kind).map_err(key_error)?;
            let written = write_whole(path, key.to_pem().reveal().as_bytes(), Access::mode(0o600));
            written.map_err(|source| RequestError::KeyFile { job: "store", path: path.clone(), source })?;
            (key, true)
        }
        Err(source) => return Err(RequestError::KeyFile { job: "read", path: path.clone(), source }),
    };
    let names: Vec<&str> = options.names.iter().map(Identifier::as_str).collect();
    let der = make_csr(&key, &names, &options.wish).map_err(key_error)?;
    Ok(MadeRequest { pem: request_pem(&der), new_key })
}

/// What a CSR says, and what we know of it.
#[derive(Clone, Debug, Serialize)]
pub struct RequestView {
    /// Its subject: types and values.
    pub subject: Vec<(String, String)>,
    /// Its names and addresses.
    pub names: Vec<String>,
    /// Its key, in words.
    pub key: String,
    /// Whether its own signature holds; `None` when the algorithm is not known.
    pub signature_holds: Option<bool>,
    /// Whether it asks for stapling.
    pub must_staple: bool,
    /// What else it asks for.
    pub extensions: Vec<String>,
    /// The certificate and generation whose key it is made with.
    pub ours: Option<(String, u32)>,
    /// What the inventory wants otherwise, in words.
    pub differs: Vec<String>,
}

/// Reads a CSR in any form, and compares it with what is known.
///
/// # Errors
/// When there is none in it, or the ledger cannot be read.
pub fn view_request(app: Option<&App>, bytes: &[u8]) -> Result<RequestView, RequestError> {
    let CsrFacts { subject, names, public_key, signature_holds, must_staple, extensions } =
        look_at_csr(&find_csr(bytes).ok_or(RequestError::NoCsr)?)?;
    let mut view = RequestView {
        subject,
        names,
        key: key_words(&public_key),
        signature_holds,
        must_staple,
        extensions,
        ours: None,
        differs: Vec::new(),
    };
    if let Some(app) = app {
        view.ours = whose(app, &public_key)?;
        if let Some((certificate, _)) = &view.ours
            && let Some(entry) = app.inventory.certificates.get(certificate)
        {
            let wanted: Vec<String> = entry.names.iter().map(ToString::to_string).collect();
            let lacking =
                wanted.iter().filter(|n| !view.names.contains(n)).map(|n| format!("the inventory wants {n} too"));
            let more =
                view.names.iter().filter(|n| !wanted.contains(n)).map(|n| format!("the inventory does not have {n}"));
            view.differs = lacking.chain(more).collect();
        }
    }
    Ok(view)
}

/// Returns the certificate and generation whose stored key this is.
pub(crate) fn whose(app: &App, public_key: &[u8]) -> Result<Option<(String, u32)>, RequestError> {
    let Some(store) = Store::open_existing(&app.state)? else { return Ok(None) };
    for certificate in app.inventory.certificates.keys() {
        let open = store.open_journey(certificate)?.map(|open| open.generation);
        let known = store.generations(certificate)?.into_iter().map(|g| g.number);
        for number in open.into_iter().chain(known) {
            let key = store.generation_folder(certificate, number).key()?;
            let fits = key.is_some_and(|pem| PrivateKey::from_pem(&pem).is_ok_and(|key| key.fits(public_key)));
            if fits {
                return Ok(Some((certificate.clone(), number)));
            }
        }
    }
    Ok(None)
}

/// Writes a CSR to a file that everybody may read.
///
/// # Errors
/// When it cannot be written.
pub fn save_request(path: &Path, pem: &str) -> io::Result<()> {
    write_whole(path, pem.as_bytes(), Access::mode(0o644))
}
