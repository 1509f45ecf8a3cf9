//! Files that prove control on a site.

use eskort_core::journey::ProofTask;
use std::path::{Path, PathBuf};

const CHALLENGE_FOLDER: &str = ".well-known/acme-challenge";

/// Returns the path of a challenge's file (RFC 8555 section 8.3). Tokens were checked to be base64url when they came.
pub(crate) fn challenge_path(task: &ProofTask) -> String {
    format!("{CHALLENGE_FOLDER}/{}", task.token)
}

/// A file that proves control, on a site.
#[derive(Clone, Debug)]
pub struct SiteFile {
    /// Its path below the site's folder: plain characters, nothing that leads upwards.
    pub path: String,
    /// What it holds.
    pub bytes: Vec<u8>,
}

impl SiteFile {
    pub(crate) fn of(task: &ProofTask) -> Self {
        SiteFile { path: challenge_path(task), bytes: task.key_authorization.clone().into_bytes() }
    }
}

/// Returns the folder of a file below a site's root.
pub(crate) fn folder_of(root: &Path, file: &SiteFile) -> PathBuf {
    root.join(&file.path).parent().unwrap_or(root).to_owned()
}
