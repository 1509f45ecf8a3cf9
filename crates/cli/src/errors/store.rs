//! Errors of the state folder in words.

use crate::error_text::ErrorText;
use eskort_store::StoreError;

pub(super) fn tell_store(error: &StoreError) -> ErrorText {
    let told = ErrorText::new(error);
    match error {
        StoreError::Io { .. } => told
            .hint("check that you may write to the folder and that the disk is not full; then run the command again"),
        StoreError::Ledger { .. } => told.hint("check that the disk is not full; the ledger is intact"),
        StoreError::Path { .. } => told.hint("give the file a name in UTF-8, or name another one in the inventory"),
        StoreError::Newer { .. } => told.hint("use the newer version of Eskort, or another state folder"),
        StoreError::Row { .. } => told.hint("put the ledger back from a backup, or move it aside to begin a new one"),
        StoreError::Busy { .. } => told.hint("wait until it has ended; a run that was killed holds no lock"),
    }
}
