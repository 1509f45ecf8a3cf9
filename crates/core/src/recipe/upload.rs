//! How a certificate is uploaded to a panel, a balancer or a platform, and put into use there.

use super::{Format, RecipeRequest};
use std::collections::BTreeSet;

/// The recipes that are shipped: names and texts.
pub const SHIPPED_UPLOADS: &[(&str, &str)] = &[
    ("cluster-secret", include_str!("../../recipes/cluster-secret.toml")),
    ("lampholm-hosting", include_str!("../../recipes/lampholm-hosting.toml")),
    ("lampholm-platform", include_str!("../../recipes/lampholm-platform.toml")),
];

/// The slots that every recipe can use; those of `with` come on top.
pub const UPLOAD_SLOTS: &[&str] = &[
    "address",
    "secret",
    "name",
    "label",
    "certificate",
    "intermediates",
    "bundle",
    "bundle-base64",
    "key",
    "key-base64",
    "object",
    "pkcs12",
    "password",
    "fingerprint",
    "id",
];

/// How a certificate is put into use over an HTTP API. A request with the slot `name` is sent for each name, any other once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UploadRecipe {
    /// How bodies are written.
    pub format: Format,
    /// Asks which certificate is in use: the answer has it in PEM, or its SHA-256 fingerprint in hexadecimal.
    pub active: RecipeRequest,
    /// Asks for the id of what was uploaded under a label.
    pub find: Option<RecipeRequest>,
    /// Uploads it; the answer may have an id.
    pub upload: RecipeRequest,
    /// Puts what was uploaded into use.
    pub bind: Option<RecipeRequest>,
    /// Removes what was uploaded before and is no longer used.
    pub remove: Option<RecipeRequest>,
}

impl UploadRecipe {
    /// What no message shows.
    pub const HIDDEN: &[&str] = &["secret", "key", "key-base64", "pkcs12", "password"];

    /// Returns its requests.
    pub fn requests(&self) -> impl Iterator<Item = &RecipeRequest> {
        let all =
            [Some(&self.active), self.find.as_ref(), Some(&self.upload), self.bind.as_ref(), self.remove.as_ref()];
        all.into_iter().flatten()
    }

    /// Returns the slots that it uses.
    pub fn slots(&self) -> BTreeSet<&str> {
        self.requests().flat_map(RecipeRequest::slots).collect()
    }
}
