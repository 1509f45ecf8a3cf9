//! The practice world's clock: the machine's, moved on demand.

use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

/// A clock that can be moved. Copies show the same time.
#[derive(Clone, Debug, Default)]
pub struct Clock {
    offset_seconds: Arc<AtomicI64>,
}

impl Clock {
    /// Returns the time in the practice world.
    pub fn now(&self) -> Timestamp {
        Timestamp::now() + SignedDuration::from_secs(self.offset_seconds.load(Ordering::Relaxed))
    }

    /// Sets how far the practice world's time is from the machine's.
    pub fn set_offset(&self, offset: SignedDuration) {
        self.offset_seconds.store(offset.as_secs(), Ordering::Relaxed);
    }
}
