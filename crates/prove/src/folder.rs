//! Puts files into a site's folder, on this machine or on others.

use crate::file::{LARGEST_SITE_FILE, SiteFile, folder_of};
use crate::site::SiteFolder;
use crate::{ProofError, remote};
use eskort_host::crash_point;
use eskort_host::files::{Access, as_owner_of, make_folders, missing_folders, read_whole, write_transient};

/// Puts files into the folder, on every machine. What is there already stays as it is.
pub(crate) async fn publish(site: &SiteFolder<'_>, files: &[SiteFile]) -> Result<(), ProofError> {
    if site.hosts.is_empty() { publish_here(site, files) } else { remote::publish(site, files).await }
}

fn publish_here(site: &SiteFolder<'_>, files: &[SiteFile]) -> Result<(), ProofError> {
    if !site.root.is_dir() {
        return Err(ProofError::NoFolder { host: None, path: site.root.to_owned() });
    }
    for group in files.chunk_by(|a, b| folder_of(site.root, a) == folder_of(site.root, b)) {
        let folder = folder_of(site.root, &group[0]);
        let there = |file: &&SiteFile| {
            let read = read_whole(&site.root.join(&file.path), LARGEST_SITE_FILE);
            matches!(read, Ok(Some(found)) if found.bytes == file.bytes)
        };
        let missing: Vec<&SiteFile> = group.iter().filter(|file| !there(file)).collect();
        // Owed before it is there: whatever happens next, the following run knows what to take away.
        let folders = missing_folders(&folder);
        site.owe(None, &missing, &folders)?;
        let made = as_owner_of(site.root, || make_folders(&folder, 0o755));
        made.map_err(|source| ProofError::Write { path: folder, source })?;
        for file in missing {
            let path = site.root.join(&file.path);
            let write = || write_transient(&path, &file.bytes, Access::mode(0o644));
            let written = as_owner_of(site.root, write);
            written.map_err(|source| ProofError::Write { path, source })?;
            crash_point("file-written");
        }
    }
    Ok(())
}
