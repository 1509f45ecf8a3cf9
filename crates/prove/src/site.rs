//! The folder of a site: where its files go, and what is owed for them.

use crate::ProofContext;
use crate::file::SiteFile;
use eskort_core::debt::Debt;
use eskort_host::passing_name;
use eskort_store::StoreError;
use std::path::{Path, PathBuf};

/// Where the files of a site go.
#[derive(Clone, Copy)]
pub(crate) struct SiteFolder<'a> {
    pub(crate) around: ProofContext<'a>,
    /// For whom the files are owed.
    pub(crate) owner: &'a str,
    /// The site's document root.
    pub(crate) root: &'a Path,
    /// The machines it is on; empty for this one.
    pub(crate) hosts: &'a [String],
}

impl SiteFolder<'_> {
    /// Writes down what has to be taken away, on one machine. It is not on the disk yet.
    pub(crate) async fn owe(
        &self,
        host: Option<&String>,
        files: &[&SiteFile],
        folders: &[PathBuf],
    ) -> Result<(), StoreError> {
        let debt = |file: &&SiteFile| Debt::File {
            host: host.cloned(),
            path: self.root.join(&file.path),
            folders: folders.to_vec(),
            passing: Some(passing_name()),
        };
        let debts: Vec<Debt> = files.iter().map(debt).collect();
        let ProofContext { context, store, .. } = self.around;
        store.owe(self.owner, &debts, context.now()).await
    }
}
