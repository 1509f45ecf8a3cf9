//! PKCS#12 containers for application servers.

use super::files::owned_by;
use crate::InstallError;
use crate::plan::{Change, LARGEST, Serving, in_place, read_part};
use eskort_core::context::Context;
use eskort_core::inventory::{Keystore, Part};
use eskort_core::pki::{Chain, Intake, Pkcs12Form, PrivateKey, Secret, to_pkcs12};
use eskort_core::progress::FileChange;
use eskort_host::files::FileRead;
use eskort_host::{MachineError, Machines, read_secret};
use eskort_store::Store;

/// Returns the container where there is something else than what should be, or another access. Each one that is made is another:
/// what counts is what is in it.
pub(super) async fn changed(
    context: &Context,
    store: &Store,
    serving: &Serving<'_>,
    keystore: &Keystore,
    machines: &Machines,
) -> Result<Option<Change>, InstallError> {
    let Serving { name, server, placement, .. } = serving;
    let machine = machines.at(context, server.host.as_deref());
    let owner = (keystore.owner.as_deref(), keystore.group.as_deref());
    let access = owned_by(&machine, name, owner, keystore.mode).await?;
    let change = |new: Vec<u8>| Change {
        certificate: placement.certificate.to_owned(),
        path: keystore.to.clone(),
        new,
        access: Some(access),
        how: FileChange::Whole("keystore"),
    };
    let folder = store.generation_folder(placement.certificate, placement.generation);
    let [bundle, key] = [Part::Bundle, Part::Key].map(|part| read_part(&folder, part, placement.preview));
    let (bundle, key) = (bundle?, key?);
    if bundle.is_empty() {
        return Ok(Some(change(Vec::new())));
    }
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    let refused = |why: String| InstallError::Keystore { server: (*name).to_owned(), why };
    let chain = Chain::from_pem(&text(bundle)).map_err(|e| refused(e.to_string()))?;
    let key = PrivateKey::from_pem(&Secret::new(text(key))).map_err(|e| refused(e.to_string()))?;
    let password = read_secret(&keystore.password).map_err(|e| refused(e.to_string()))?;
    let there = match machine.read(&keystore.to, LARGEST).await {
        Ok(there) => there,
        Err(MachineError::Io { .. }) => None,
        Err(error) => return Err(InstallError::on(name)(error)),
    };
    let holds = |file: &FileRead| {
        let mut intake = Intake::default();
        intake.take("keystore", &file.bytes, Some(&password)).is_ok()
            && intake.certificates.first().is_some_and(|leaf| leaf.fingerprint() == chain.leaf().fingerprint())
            && intake.certificates.len() == chain.certificates().len()
            && intake.keys.iter().any(|found| found.public_key_der() == key.public_key_der())
    };
    if there.is_some_and(|there| in_place(&there, access) && holds(&there)) {
        return Ok(None);
    }
    let made = to_pkcs12(&key, &chain, placement.certificate, &password, Pkcs12Form::Modern);
    let made = made.map_err(|e| refused(e.to_string()))?;
    Ok(Some(change(made.reveal().clone())))
}
