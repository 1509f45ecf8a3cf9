//! What is done to records.

/// Whether records are added or removed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Change {
    Add,
    Remove,
}
