//! Reads the inventory, and finds what is around it.

use eskort_core::context::{Clock, Context};
use eskort_inventory::{Mistakes, parse_inventory};

use eskort_core::progress::{ProgressSink, Teller};
use eskort_host::{TrustError, check_trust};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Why there is nothing to start from.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum SetupError {
    /// No inventory at this path.
    #[error("no inventory exists at {}", path.display())]
    NoInventory {
        /// The path.
        path: PathBuf,
    },
    /// It is there and cannot be read.
    #[error("cannot read the inventory {}: {source}", path.display())]
    Unreadable {
        /// The path.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A path that is not UTF-8.
    #[error("the path {} is not UTF-8, which reports and the ledger need", path.display())]
    NotUtf8 {
        /// The path.
        path: PathBuf,
    },
    /// Somebody else may change it.
    #[error(transparent)]
    Untrusted(TrustError),
    /// It has mistakes.
    #[error("{mistakes}")]
    Mistakes {
        /// The path.
        path: PathBuf,
        /// All of them.
        #[source]
        mistakes: Mistakes,
    },
}

/// Reads an inventory. `usual_state` is where the state goes unless the inventory says otherwise.
///
/// # Errors
/// When there is none, or it has mistakes.
pub fn load(path: &Path, usual_state: &Path, clock: Clock, progress: ProgressSink) -> Result<Context, SetupError> {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    if path.to_str().is_none() {
        return Err(SetupError::NotUtf8 { path });
    }
    match check_trust(&path) {
        Err(TrustError::Io { .. }) | Ok(()) => {}
        Err(error) => return Err(SetupError::Untrusted(error)),
    }
    let bytes = std::fs::read(&path).map_err(|source| match source.kind() {
        std::io::ErrorKind::NotFound => SetupError::NoInventory { path: path.clone() },
        _ => SetupError::Unreadable { path: path.clone(), source },
    })?;
    let text = String::from_utf8_lossy(&bytes);
    let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
    let read = parse_inventory(text);
    let mut inventory = read.map_err(|mistakes| SetupError::Mistakes { path: path.clone(), mistakes })?;
    inventory.resolve_paths(path.parent().unwrap_or(Path::new("/")));
    let state = inventory.state.clone().unwrap_or_else(|| usual_state.to_owned());
    let (inventory, progress) = (Arc::new(inventory), Teller::new(progress));
    Ok(Context { inventory, inventory_path: path, state, clock, progress })
}

/// Returns where the inventory is looked for: the system's for root, wherever root happens to be; for anybody else `eskort.toml` in
/// the working folder if it is there, or the user's.
pub fn usual_inventory(home: Option<&Path>, root: bool) -> PathBuf {
    let here = PathBuf::from("eskort.toml");
    match home {
        _ if !root && here.exists() => here,
        Some(home) if !root => home.join(".config/eskort/eskort.toml"),
        _ => PathBuf::from("/etc/eskort/eskort.toml"),
    }
}

/// Returns where the state is kept unless the inventory says otherwise.
pub fn usual_state(home: Option<&Path>, root: bool) -> PathBuf {
    match home {
        Some(home) if !root => home.join(".local/state/eskort"),
        _ => PathBuf::from("/var/lib/eskort"),
    }
}
