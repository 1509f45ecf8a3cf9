//! Packs a generation for other programs.

use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::Part;
use eskort_core::pki::{
    Chain, ChainError, Pkcs12Form, PkiError, PrivateKey, Secret, tls_secret_manifest, to_pkcs7, to_pkcs12,
};
use eskort_host::files::{Access, make_folders, write_atomic};
use eskort_store::{Store, StoreError};
use std::io;
use std::path::{Path, PathBuf};

/// What to pack a generation as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// Leaf and intermediates in PEM.
    Pem,
    /// Leaf, intermediates and key in one PEM file, as load balancers want it.
    PemWithKey,
    /// Leaf, intermediates and key in PEM files of their own, named as in the state folder.
    PemParts,
    /// The leaf in DER.
    Der,
    /// Leaf and intermediates in PKCS#7.
    Pkcs7,
    /// Key and chain in PKCS#12.
    Pkcs12(Pkcs12Form),
    /// Key and chain in the manifest of a TLS secret, for a container orchestrator.
    Manifest,
}

impl Packing {
    /// Returns whether the private key is in it.
    pub fn has_key(self) -> bool {
        matches!(self, Packing::PemWithKey | Packing::PemParts | Packing::Pkcs12(_) | Packing::Manifest)
    }
}

/// Why nothing was packed.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum PackError {
    /// There is no such generation.
    #[error("`{certificate}` has no generation {}", generation.map_or("yet".to_owned(), |n| n.to_string()))]
    NoGeneration {
        /// The certificate.
        certificate: String,
        /// The generation asked for.
        generation: Option<u32>,
    },
    /// The stored chain.
    #[error("the stored chain cannot be used: {0}")]
    Chain(#[from] ChainError),
    /// The stored key.
    #[error("the stored key cannot be used: {0}")]
    Key(#[from] PkiError),
    /// The key's file is gone.
    #[error("the key of generation {generation} is gone")]
    NoKey {
        /// The generation.
        generation: u32,
    },
    /// The file to write.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// The state folder.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Packs a generation into a file: the newest one, or one by its number. A file with the key in it is readable by its owner
/// only, from the first byte on. `password` is for PKCS#12. Returns the generation.
///
/// # Errors
/// When there is no such generation, or the file cannot be written.
#[boxed]
pub async fn pack(
    context: &Context,
    certificate: &str,
    generation: Option<u32>,
    packing: Packing,
    password: &Secret<String>,
    to: &Path,
) -> Result<u32, PackError> {
    let missing = || PackError::NoGeneration { certificate: certificate.to_owned(), generation };
    let store = Store::open_existing(&context.state)?.ok_or_else(missing)?;
    let known = store.generations(certificate).await?;
    let found = known.iter().map(|g| g.number).find(|n| generation.is_none_or(|wanted| wanted == *n));
    let number = found.ok_or_else(missing)?;
    let folder = store.generation_folder(certificate, number);
    let chain = Chain::from_pem(&folder.bundle()?.ok_or_else(missing)?)?;
    let key = || -> Result<PrivateKey, PackError> {
        let pem = folder.key()?.ok_or(PackError::NoKey { generation: number })?;
        Ok(PrivateKey::from_pem(&pem)?)
    };
    let write = |to: &Path, bytes: &[u8], mode| {
        let written = write_atomic(to, bytes, Access::mode(mode));
        written.map_err(|source| PackError::Write { path: to.to_owned(), source })
    };
    let bytes: Secret<Vec<u8>> = match packing {
        Packing::PemParts => {
            let key = key()?;
            make_folders(to, 0o755).map_err(|source| PackError::Write { path: to.to_owned(), source })?;
            write(&to.join(Part::Key.file_name()), key.to_pem().reveal().as_bytes(), 0o600)?;
            for (part, pem) in [(Part::Certificate, chain.leaf_pem()), (Part::Intermediates, chain.intermediates_pem())]
            {
                write(&to.join(part.file_name()), pem.as_bytes(), 0o644)?;
            }
            return Ok(number);
        }
        Packing::Pem => Secret::new(chain.bundle_pem().into_bytes()),
        Packing::PemWithKey => Secret::new((chain.bundle_pem() + key()?.to_pem().reveal()).into_bytes()),
        Packing::Der => Secret::new(chain.leaf().der().to_vec()),
        Packing::Pkcs7 => Secret::new(to_pkcs7(chain.certificates())),
        Packing::Pkcs12(form) => to_pkcs12(&key()?, &chain, certificate, password, form)?,
        Packing::Manifest => {
            Secret::new(tls_secret_manifest(certificate, &chain.bundle_pem(), key()?.to_pem().reveal()).into_bytes())
        }
    };
    write(to, bytes.reveal(), if packing.has_key() { 0o600 } else { 0o644 })?;
    Ok(number)
}
