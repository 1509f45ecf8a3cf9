//! What every use case needs: the inventory, the state folder, the time, and whom to tell.

use crate::Watch;
use eskort_core::inventory::{Inventory, Mistakes, read_inventory};
use eskort_host::{TrustError, check_trust};
use jiff::Timestamp;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Tells the time: the system's, or the practice world's.
pub type Now = Arc<dyn Fn() -> Timestamp + Send + Sync>;

/// An inventory that was read, and what is around it.
pub struct App {
    /// What should be. All paths are absolute.
    pub inventory: Inventory,
    /// The inventory's own file.
    pub inventory_path: PathBuf,
    /// The state folder.
    pub state: PathBuf,
    /// The time.
    pub now: Now,
    /// Whom to tell how it goes.
    pub watch: Watch,
}

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

impl App {
    /// Reads an inventory. `usual_state` is where the state goes unless the inventory says otherwise.
    ///
    /// # Errors
    /// When there is none, or it has mistakes.
    pub fn load(path: &Path, usual_state: &Path, now: Now, watch: Watch) -> Result<Self, SetupError> {
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
        let read = read_inventory(text);
        let mut inventory = read.map_err(|mistakes| SetupError::Mistakes { path: path.clone(), mistakes })?;
        inventory.resolve_paths(path.parent().unwrap_or(Path::new("/")));
        let state = inventory.state.clone().unwrap_or_else(|| usual_state.to_owned());
        Ok(App { inventory, inventory_path: path, state, now, watch })
    }
}

impl App {
    /// Returns what there is to work with where there is no inventory: for looks at endpoints that somebody names.
    pub fn without_inventory(usual_state: &Path, now: Now, watch: Watch) -> Self {
        let (inventory, inventory_path) = (Inventory::default(), PathBuf::from("/"));
        App { inventory, inventory_path, state: usual_state.to_owned(), now, watch }
    }
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
