//! What every use case has around it: the inventory, the state folder, the time, and whom to tell.

use crate::inventory::Inventory;
use crate::progress::{Progress, ProgressSink, Teller};
use jiff::Timestamp;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Tells the time: the system's, or the practice world's.
pub type Now = Arc<dyn Fn() -> Timestamp + Send + Sync>;

/// An inventory that was read, and what is around it.
#[derive(Clone)]
pub struct Context {
    /// What should be. All paths are absolute.
    pub inventory: Arc<Inventory>,
    /// The inventory's own file.
    pub inventory_path: PathBuf,
    /// The state folder.
    pub state: PathBuf,
    /// The time.
    pub now: Now,
    /// Tells how it goes.
    pub progress: Teller,
}

impl Context {
    /// Returns what there is to work with where there is no inventory: for checks of endpoints that somebody names.
    pub fn without_inventory(usual_state: &Path, now: Now, progress: ProgressSink) -> Self {
        let (inventory, inventory_path) = (Arc::default(), PathBuf::from("/"));
        let progress = Teller::new(progress);
        Context { inventory, inventory_path, state: usual_state.to_owned(), now, progress }
    }

    /// Tells how it goes.
    pub fn report(&self, progress: &Progress) {
        self.progress.tell(progress);
    }

    /// Returns the same context for one certificate: what it tells is about that.
    pub fn about(&self, certificate: &str) -> Self {
        Context { progress: self.progress.about(certificate), ..self.clone() }
    }

    /// Returns the folder of the inventory, in which commands run.
    pub fn folder(&self) -> &Path {
        self.inventory_path.parent().unwrap_or(Path::new("/"))
    }
}
