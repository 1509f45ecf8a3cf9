//! What every use case has around it: the inventory, the state folder, the time, and whom to tell.

use crate::inventory::Inventory;
use crate::progress::{Progress, ProgressSink};
use jiff::Timestamp;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Tells the time: the system's, or the practice world's.
pub type Now = Arc<dyn Fn() -> Timestamp + Send + Sync>;

/// An inventory that was read, and what is around it.
pub struct Context {
    /// What should be. All paths are absolute.
    pub inventory: Inventory,
    /// The inventory's own file.
    pub inventory_path: PathBuf,
    /// The state folder.
    pub state: PathBuf,
    /// The time.
    pub now: Now,
    /// Whom to tell how it goes.
    pub progress: ProgressSink,
}

impl Context {
    /// Returns what there is to work with where there is no inventory: for checks of endpoints that somebody names.
    pub fn without_inventory(usual_state: &Path, now: Now, progress: ProgressSink) -> Self {
        let (inventory, inventory_path) = (Inventory::default(), PathBuf::from("/"));
        Context { inventory, inventory_path, state: usual_state.to_owned(), now, progress }
    }

    /// Tells how it goes.
    pub fn report(&self, progress: &Progress) {
        (self.progress)(progress);
    }

    /// Returns the folder of the inventory, in which commands run.
    pub fn folder(&self) -> &Path {
        self.inventory_path.parent().unwrap_or(Path::new("/"))
    }
}
