//! CSRs outside journeys: made from options alone, and read.

use crate::look::whose::{OursView, whose};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::Part;
use eskort_core::names::Identifier;
use eskort_core::pki::{
    CsrFacts, CsrSpecification, KeyKind, PkiError, PrivateKey, Secret, base64, find_csr, key_words, make_csr,
    parse_csr_unverified, request_pem,
};
use eskort_host::files::{Access, write_atomic};
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
    pub specification: CsrSpecification,
    /// The key.
    pub key: KeySource,
}

/// Where the key of a CSR is.
#[derive(Clone, Debug)]
pub enum KeySource {
    /// In a file.
    File {
        /// The file: read when it is there, made otherwise.
        path: PathBuf,
        /// The kind of key to make.
        kind: KeyKind,
        /// Whether a new key is protected with the password.
        protect: bool,
    },
    /// Stored for a certificate of the inventory: that of its open journey, or of its newest generation.
    Stored {
        /// The certificate.
        certificate: String,
    },
}

/// Why no CSR was made or read.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
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
    /// No key is stored.
    #[error("no key of `{certificate}` is stored yet")]
    NoKey {
        /// The certificate.
        certificate: String,
    },
    /// The password that was to be read.
    #[error("{0}")]
    Password(String),
    /// What is no CSR.
    #[error("it contains no CSR")]
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
    /// Its base64 alone, on one line.
    pub bare: String,
    /// Whether the key is new.
    pub new_key: bool,
}

/// Makes a CSR. A new key is stored before the CSR is made. `password` opens a key that is there, or protects a new one.
///
/// # Errors
/// When the key cannot be read, made or stored.
#[boxed]
pub async fn make_request(
    context: Option<&Context>,
    options: &CsrOptions,
    password: Option<&Secret<String>>,
) -> Result<MadeRequest, RequestError> {
    let (key, new_key) = match &options.key {
        KeySource::Stored { certificate } => (stored_key(context, certificate).await?, false),
        KeySource::File { path, kind, protect } => {
            let key_error = |source| RequestError::Key { path: path.clone(), source };
            match std::fs::read_to_string(path) {
                Ok(text) => (PrivateKey::from_any_pem(&Secret::new(text), password).map_err(key_error)?, false),
                Err(source) if source.kind() == io::ErrorKind::NotFound => {
                    let key = PrivateKey::generate(*kind).map_err(key_error)?;
                    let pem = match password.filter(|_| *protect) {
                        Some(password) => key.to_encrypted_pem(password).map_err(key_error)?,
                        None => key.to_pem(),
                    };
                    let written = write_atomic(path, pem.reveal().as_bytes(), Access::mode(0o600));
                    written.map_err(|source| RequestError::KeyFile { job: "store", path: path.clone(), source })?;
                    (key, true)
                }
                Err(source) => return Err(RequestError::KeyFile { job: "read", path: path.clone(), source }),
            }
        }
    };
    let der = make_csr(&key, &options.names, &options.specification)?;
    Ok(MadeRequest { pem: request_pem(&der), bare: base64(&der), new_key })
}

async fn stored_key(context: Option<&Context>, certificate: &str) -> Result<PrivateKey, RequestError> {
    let missing = || RequestError::NoKey { certificate: certificate.to_owned() };
    let store = Store::open_existing(&context.ok_or_else(missing)?.state)?.ok_or_else(missing)?;
    let number = match store.open_journey(certificate).await? {
        Some(open) => Some(open.generation),
        None => store.newest(certificate).await?.map(|newest| newest.number),
    };
    let folder = store.generation_folder(certificate, number.ok_or_else(missing)?);
    let pem = folder.key()?.ok_or_else(missing)?;
    PrivateKey::from_pem(&pem).map_err(|source| RequestError::Key { path: folder.part(Part::Key), source })
}

/// What a CSR says, and what we know of it.
#[derive(Clone, Debug, Serialize)]
pub struct RequestView {
    /// Its subject.
    pub subject: Vec<SubjectPart>,
    /// Its names and addresses.
    pub names: Vec<String>,
    /// Its key, in words.
    pub key: String,
    /// Whether its own signature is valid; `None` when the algorithm is not known.
    pub signature_valid: Option<bool>,
    /// Whether it asks for stapling.
    pub must_staple: bool,
    /// What it wants to use the key for.
    pub usages: Vec<String>,
    /// What else it asks for.
    pub extensions: Vec<String>,
    /// The certificate and generation whose key it is made with.
    pub ours: Option<OursView>,
    /// What the inventory wants otherwise, in words.
    pub differs: Vec<String>,
}

/// One part of a subject.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SubjectPart {
    /// Its type.
    pub r#type: String,
    /// Its value.
    pub value: String,
}

/// Reads a CSR in any form, and compares it with what is known.
///
/// # Errors
/// When there is none in it, or the ledger cannot be read.
#[boxed]
pub async fn view_request(context: Option<&Context>, bytes: &[u8]) -> Result<RequestView, RequestError> {
    let CsrFacts { subject, names, public_key, signature_valid, must_staple, usages, extensions } =
        parse_csr_unverified(&find_csr(bytes).ok_or(RequestError::NoCsr)?)?;
    let mut view = RequestView {
        subject: subject.into_iter().map(|(r#type, value)| SubjectPart { r#type, value }).collect(),
        names: names.iter().map(ToString::to_string).collect(),
        key: key_words(&public_key),
        signature_valid,
        must_staple,
        usages,
        extensions,
        ours: None,
        differs: Vec::new(),
    };
    if let Some(context) = context {
        view.ours = whose(context, &public_key).await?;
        if let Some(OursView { certificate, .. }) = &view.ours
            && let Some(entry) = context.inventory.certificates.get(certificate)
        {
            let wanted: Vec<String> = entry.names.iter().map(ToString::to_string).collect();
            let lacking =
                wanted.iter().filter(|n| !view.names.contains(n)).map(|n| format!("the inventory wants {n} too"));
            let more =
                view.names.iter().filter(|n| !wanted.contains(n)).map(|n| format!("the inventory does not have {n}"));
            view.differs = lacking.chain(more).collect();
            if entry.csr.must_staple != view.must_staple {
                let not = if entry.csr.must_staple { "" } else { "not " };
                view.differs.push(format!("the inventory does {not}want stapling (must-staple)"));
            }
        }
    }
    Ok(view)
}

/// Writes a CSR to a file that everybody may read.
///
/// # Errors
/// When it cannot be written.
pub fn save_request(path: &Path, pem: &str) -> io::Result<()> {
    write_atomic(path, pem.as_bytes(), Access::mode(0o644))
}
