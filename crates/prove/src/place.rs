//! Files for authorities without ACME, on the site of a proof of the inventory.

use crate::fetch::look_at_files;
use crate::file::SiteFile;
use crate::site::SiteFolder;
use crate::{ProofContext, ProofError, folder};
use eskort_core::boxed;
use eskort_core::inventory::{CheckAddress, Proof};
use eskort_core::names::Identifier;
use eskort_core::progress::Progress;
use std::path::Path;

/// The site's folder that a proof of kind http-folder names.
pub struct SitePlace<'a> {
    around: ProofContext<'a>,
    folder: &'a Path,
    hosts: &'a [String],
    check_address: Option<CheckAddress>,
}

impl<'a> SitePlace<'a> {
    /// Returns the folder of a proof.
    ///
    /// # Errors
    /// [`ProofError::NoSiteFolder`].
    pub fn of(around: ProofContext<'a>, proof: &str) -> Result<Self, ProofError> {
        match around.context.inventory.proofs.get(proof) {
            Some(Proof::HttpFolder { folder, hosts, check_address }) => {
                Ok(SitePlace { around, folder, hosts, check_address: *check_address })
            }
            _ => Err(ProofError::NoSiteFolder { proof: proof.to_owned() }),
        }
    }

    /// Puts a file there, and looks at it as an authority would. A file that cannot be seen is left where it is.
    #[boxed]
    pub async fn show(&self, owner: &str, file: &SiteFile, names: &[Identifier]) -> Result<(), ProofError> {
        let SitePlace { around, folder: root, hosts, .. } = *self;
        let context = around.context;
        if folder::has_another(around, root, hosts, file).await? {
            return Err(ProofError::Occupied { path: root.join(&file.path) });
        }
        context.report(&Progress::Doing("place the file"));
        let files = std::slice::from_ref(file);
        folder::publish(&SiteFolder { around, owner, root, hosts }, files).await?;
        context.report(&Progress::Doing("check it as the authority would"));
        folder::read_back(around, root, hosts, files).await?;
        look(file, names, self.check_address).await
    }
}

/// Looks at a file at its names as an authority would.
#[boxed]
pub async fn look(file: &SiteFile, names: &[Identifier], instead: Option<CheckAddress>) -> Result<(), ProofError> {
    look_at_files(names.iter().map(|name| (name.clone(), file.clone())).collect(), instead).await
}

/// Returns where a file is to be seen.
pub fn addresses(file: &SiteFile, names: &[Identifier]) -> Vec<String> {
    names.iter().map(|name| format!("http://{}/{}", name.in_url(), file.path)).collect()
}
