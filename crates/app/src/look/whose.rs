//! Whose key it is.

use eskort_core::context::Context;
use eskort_core::pki::PrivateKey;
use eskort_store::{Store, StoreError};
use serde::Serialize;

/// A generation of ours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct OursView {
    /// The certificate's name in the inventory.
    pub certificate: String,
    /// The generation.
    pub generation: u32,
}

/// Returns the certificate and generation whose stored key this is.
pub(crate) async fn whose(context: &Context, public_key: &[u8]) -> Result<Option<OursView>, StoreError> {
    let Some(store) = Store::open_existing(&context.state)? else { return Ok(None) };
    for certificate in context.inventory.certificates.keys() {
        let open = store.open_journey(certificate).await?.map(|open| open.generation);
        let known = store.generations(certificate).await?.into_iter().map(|g| g.number);
        for number in open.into_iter().chain(known) {
            let key = store.generation_folder(certificate, number).key()?;
            let fits = key.is_some_and(|pem| PrivateKey::from_pem(&pem).is_ok_and(|key| key.fits(public_key)));
            if fits {
                return Ok(Some(OursView { certificate: certificate.clone(), generation: number }));
            }
        }
    }
    Ok(None)
}
