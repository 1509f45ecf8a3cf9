//! Secrets that the inventory points to.

use crate::obeyed;
use eskort_core::inventory::SecretSource;
use eskort_core::pki::Secret;

/// A secret that cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("cannot read {place}: {why}")]
pub struct SecretError {
    /// Where it should be.
    pub place: String,
    /// Why not.
    pub why: String,
}

/// Reads a secret from its file, or from the environment. One line end at the end of a file does not count.
///
/// # Errors
/// When it cannot be read, is empty, or somebody else may change its file.
pub fn read_secret(source: &SecretSource) -> Result<Secret<String>, SecretError> {
    let (found, place) = match source {
        SecretSource::File(path) => {
            let text = obeyed::read_text(path);
            (text, format!("the file {}", path.display()))
        }
        SecretSource::Env(name) => {
            let text = std::env::var(name).map_err(|e| e.to_string());
            (text, format!("the environment variable {name}"))
        }
    };
    let fail = |why: String| SecretError { place: place.clone(), why };
    let text = found.map_err(&fail)?;
    let text = text.strip_suffix('\n').map_or(text.as_str(), |t| t.strip_suffix('\r').unwrap_or(t));
    if text.is_empty() {
        return Err(fail("it is empty".into()));
    }
    Ok(Secret::new(text.to_owned()))
}
