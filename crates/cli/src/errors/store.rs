//! Errors of the state folder in words.

use crate::error_text::ErrorText;
use eskort_store::StoreError;

pub(super) fn tell_store(error: &StoreError) -> ErrorText {
    let text = ErrorText::new(error);
    match error {
        StoreError::Io { .. } => text
            .hint("check that you may write to the folder and that the disk is not full; then run the command again"),
        StoreError::Ledger { .. } => text.hint("check that the disk is not full; the ledger is intact"),
        StoreError::Lost { .. } => text
            .hint("check that the disk is not full, then run the command again: it goes on from what the ledger knows"),
        StoreError::Path { .. } => text.hint("give the file a name in UTF-8, or name another one in the inventory"),
        StoreError::Newer { .. } => text.hint("use the newer version of Eskort, or another state folder"),
        StoreError::Row { .. } => text.hint("put the ledger back from a backup, or move it aside to begin a new one"),
        StoreError::Busy { .. } | StoreError::Leased { .. } => {
            text.hint("wait until it has ended; a run that was killed holds no lock")
        }
    }
}
