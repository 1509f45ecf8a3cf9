//! How many orders may be under way at an authority.

use eskort_core::inventory::Authority;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::{Semaphore, SemaphorePermit};

/// The way to one authority. The first order goes alone until the authority has taken it: that it is out of reach, or takes
/// no more orders, is found out once.
pub(super) struct Gate {
    places: Semaphore,
    at_once: usize,
    is_wide: AtomicBool,
}

impl Gate {
    /// Returns that of an authority.
    pub(super) fn of(authority: &Authority) -> Self {
        Gate { places: Semaphore::new(1), at_once: authority.at_once, is_wide: AtomicBool::new(false) }
    }

    /// Waits for a place.
    pub(super) async fn enter(&self) -> SemaphorePermit<'_> {
        self.places.acquire().await.expect("a gate is never closed")
    }

    /// Lets in as many as the inventory allows: the first has been taken, or is over.
    pub(super) fn widen(&self) {
        if !self.is_wide.swap(true, Ordering::Relaxed) {
            self.places.add_permits(self.at_once - 1);
        }
    }
}
