//! Fetches files at their names as an authority would.

use crate::ProofError;
use crate::file::SiteFile;
use eskort_core::inventory::CheckAddress;
use eskort_core::names::Identifier;
use eskort_probe::look_at_file;

/// Fetches files at their names as an authority would, eight at a time.
pub(crate) async fn look_at_files(
    files: Vec<(Identifier, SiteFile)>,
    instead: Option<CheckAddress>,
) -> Result<(), ProofError> {
    let mut unseen = Vec::new();
    for group in files.chunks(8) {
        let look = |(name, file): (Identifier, SiteFile)| async move {
            look_at_file(&name.in_url(), &file.path, &file.bytes, instead).await
        };
        let looks: Vec<_> = group.iter().map(|file| tokio::spawn(look(file.clone()))).collect();
        for ((name, _), look) in group.iter().zip(looks) {
            let seen = look.await.expect("a look does not panic");
            unseen.extend(seen.err().map(|seen| (name.to_string(), seen)));
        }
    }
    let mut unseen = unseen.into_iter();
    match unseen.next() {
        None => Ok(()),
        Some((name, seen)) => {
            Err(ProofError::NotVisible { name, seen, others: unseen.map(|(name, _)| name).collect() })
        }
    }
}
