//! What every use case has around it: the inventory, the state folder, the time, and whom to tell.

use crate::inventory::Inventory;
use crate::progress::{Progress, ProgressSink, Teller};
use jiff::Timestamp;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

type Waiting = Pin<Box<dyn Future<Output = ()> + Send>>;

/// Tells the time, and waits for it: the system's, or the practice world's.
#[derive(Clone)]
pub struct Clock {
    now: Arc<dyn Fn() -> Timestamp + Send + Sync>,
    wait: Arc<dyn Fn(Duration) -> Waiting + Send + Sync>,
}

impl Clock {
    /// Makes a clock from what tells the time and what waits.
    pub fn new<W: Future<Output = ()> + Send + 'static>(
        now: impl Fn() -> Timestamp + Send + Sync + 'static,
        wait: impl Fn(Duration) -> W + Send + Sync + 'static,
    ) -> Self {
        Clock { now: Arc::new(now), wait: Arc::new(move |time| Box::pin(wait(time))) }
    }

    /// Returns the time.
    pub fn now(&self) -> Timestamp {
        (self.now)()
    }

    /// Waits until so much time has passed on this clock.
    pub async fn wait(&self, time: Duration) {
        (self.wait)(time).await;
    }
}

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
    pub clock: Clock,
    /// Tells how it goes.
    pub progress: Teller,
}

impl Context {
    /// Returns what there is to work with where there is no inventory: for checks of endpoints that somebody names.
    pub fn without_inventory(usual_state: &Path, clock: Clock, progress: ProgressSink) -> Self {
        let (inventory, inventory_path) = (Arc::default(), PathBuf::from("/"));
        let progress = Teller::new(progress);
        Context { inventory, inventory_path, state: usual_state.to_owned(), clock, progress }
    }

    /// Returns the time.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
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
