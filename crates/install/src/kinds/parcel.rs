//! Parcels for machines that nobody reaches from here: everything that a person carries there, with the steps in writing.

use super::files::owned_by;
use crate::InstallError;
use crate::plan::{Change, LARGEST, LiveEndpoint, Serving, read_part};
use eskort_core::inventory::{Parcel, Part};
use eskort_core::pki::{Chain, Pkcs12Form, PrivateKey, Secret, to_pkcs12};
use eskort_core::progress::FileChange;
use eskort_core::words;
use eskort_host::files::{Access, read_whole};
use eskort_host::{Machine, read_secret};
use eskort_store::Store;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The page with the steps.
const STEPS: &str = "steps.html";

/// Returns the folder of a certificate's parcel.
pub(super) fn folder(parcel: &Parcel, certificate: &str) -> PathBuf {
    parcel.folder.join(certificate)
}

/// Returns the files of a parcel, when one is missing or is for another generation: the page says which one it is for.
pub(super) async fn changed(
    machine: &Machine<'_>,
    store: &Store,
    serving: &Serving<'_>,
    parcel: &Parcel,
) -> Result<Vec<Change>, InstallError> {
    let Serving { name, placement, .. } = serving;
    let folder = folder(parcel, placement.certificate);
    let open = owned_by(machine, name, (parcel.owner.as_deref(), parcel.group.as_deref()), 0o644).await?;
    let closed = Access { mode: if parcel.group.is_some() { 0o640 } else { 0o600 }, ..open };
    let change = |file: &str, what: &'static str, access: Access, new: Vec<u8>| Change {
        certificate: placement.certificate.to_owned(),
        path: folder.join(file),
        new,
        access: Some(access),
        how: FileChange::Whole(what),
    };
    let stored = store.generation_folder(placement.certificate, placement.generation);
    let [bundle, key] = [Part::Bundle, Part::Key].map(|part| read_part(&stored, part, placement.preview));
    let (bundle, key) = (bundle?, key?);
    let container = format!("{}.p12", placement.certificate);
    if bundle.is_empty() {
        return Ok(vec![change(&container, "keystore", closed, Vec::new()), change(STEPS, "steps", open, Vec::new())]);
    }
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let refused = |why: String| InstallError::Keystore { server: (*name).to_owned(), why };
    let chain = Chain::from_pem(&text(&bundle)).map_err(|e| refused(e.to_string()))?;
    let above = || chain.certificates().iter().skip(1);
    let issuers: Vec<String> = (1..=above().count()).map(|n| format!("intermediate-{n}.cer")).collect();
    let page = page(serving, parcel, &chain, &container, &issuers);
    let is_there = |file: &str| read_whole(&folder.join(file), LARGEST).ok().flatten();
    let files = ["certificate.pem", "intermediates.pem", "key.pem", &container];
    let has_all = || files.into_iter().chain(issuers.iter().map(String::as_str)).all(|file| is_there(file).is_some());
    if is_there(STEPS).is_some_and(|found| found.bytes == page.as_bytes()) && has_all() {
        return Ok(Vec::new());
    }
    let private = PrivateKey::from_pem(&Secret::new(text(&key))).map_err(|e| refused(e.to_string()))?;
    let password = read_secret(&parcel.password).map_err(|e| refused(e.to_string()))?;
    let form = if parcel.old_encryption { Pkcs12Form::Old } else { Pkcs12Form::Modern };
    let packed = to_pkcs12(&private, &chain, friendly_name(parcel, placement.certificate), &password, form);
    let packed = packed.map_err(|e| refused(e.to_string()))?;
    let mut changes = vec![
        change(&container, "keystore", closed, packed.reveal().clone()),
        change("key.pem", "key", closed, key),
        change("certificate.pem", "certificate", open, chain.leaf_pem().into_bytes()),
        change("intermediates.pem", "intermediates", open, chain.intermediates_pem().into_bytes()),
    ];
    let each = issuers.iter().zip(above());
    changes.extend(each.map(|(file, issuer)| change(file, "intermediate", open, issuer.der().to_vec())));
    // The page last: with it the parcel is whole.
    changes.push(change(STEPS, "steps", open, page.into_bytes()));
    Ok(changes)
}

/// Returns where a person's work is seen.
pub(super) fn endpoints(serving: &Serving<'_>) -> Vec<LiveEndpoint> {
    let Serving { server, placement, .. } = serving;
    let names = placement.names.iter().filter(|name| !name.is_wildcard());
    let endpoint = |name: String| LiveEndpoint {
        server: serving.name.to_owned(),
        certificate: placement.certificate.to_owned(),
        name,
        port: server.check_address.and_then(|address| address.port).unwrap_or(443),
        instead: server.check_address,
        here: None,
        reload_timeout: Duration::ZERO,
    };
    names.map(|name| endpoint(name.to_string())).collect()
}

fn friendly_name<'a>(parcel: &'a Parcel, certificate: &'a str) -> &'a str {
    parcel.friendly_name.as_deref().unwrap_or(certificate)
}

/// Writes the page with the steps, filled in.
fn page(serving: &Serving<'_>, parcel: &Parcel, chain: &Chain, container: &str, issuers: &[String]) -> String {
    let Serving { server, placement, .. } = serving;
    let leaf = chain.leaf();
    let names = words::list(&placement.names.iter().map(ToString::to_string).collect::<Vec<_>>());
    let port = server.check_address.and_then(|address| address.port).unwrap_or(443);
    let friendly = friendly_name(parcel, placement.certificate);
    let until = words::day(leaf.not_after);
    let code = |text: &str| format!("<code>{}</code>", escape(text));
    let issuers = words::list(&issuers.iter().map(|file| code(file)).collect::<Vec<_>>());
    let steps = [
        format!(
            "Carry this folder to the machine that serves {}, on something that nobody else reads: the private key is in it.",
            escape(&names)
        ),
        format!(
            "A server with a certificate store (a desktop-managed web server): import {} into the store of the computer, under Personal, with its private key. \
             The password is in {} of the machine that made this parcel. It appears there as {}.",
            code(container),
            escape(&parcel.password.to_string()),
            code(friendly)
        ),
        format!(
            "Import {issuers} into the store of intermediate authorities, each by itself, unless the import has put them there."
        ),
        format!(
            "An appliance, or a program with fields for PEM: give it {} as the certificate, {} as the key, and {} as intermediates or chain.",
            code("certificate.pem"),
            code("key.pem"),
            code("intermediates.pem")
        ),
        format!(
            "Bind the certificate to {} on port {port}, for each of these names. Take the one before out of use.",
            escape(&names)
        ),
        format!("Run {}, or wait for its next run: it looks whether {} show it.", code("eskort keep"), escape(&names)),
        "Then delete this folder, here and there.".to_owned(),
    ];
    let steps: String = steps.iter().map(|step| format!("<li>{step}</li>\n")).collect();
    let rows = [
        ("names", escape(&names)),
        ("port", port.to_string()),
        ("friendly name", code(friendly)),
        ("valid until", until),
        ("issuer", escape(&leaf.issuer)),
        ("generation", placement.generation.to_string()),
        ("SHA-256 fingerprint", code(&leaf.fingerprint().to_string())),
    ];
    let rows: String = rows.iter().map(|(what, is)| format!("<tr><th>{what}</th><td>{is}</td></tr>\n")).collect();
    format!(
        "<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\"><title>{0}: a certificate to put in place</title>\n<style>\nbody {{ font: 16px/1.5 sans-serif; \
         max-width: 54em; margin: 2em auto; padding: 0 1em; color: #20242c; background: #fbfaf6 }}\nth {{ text-align: left; white-space: nowrap; padding-right: 2em; vertical-align: top; \
         font-weight: normal; color: #5b6270 }}\ntd {{ overflow-wrap: anywhere }}\nli {{ margin: .6em 0 }}\ncode {{ font-size: 14px; background: #efece2; padding: .1em .3em }}\n</style>\n\
         <h1>A certificate for {0}</h1>\n<table>\n{rows}</table>\n<h2>Steps</h2>\n<ol>\n{steps}</ol>\n</html>\n",
        escape(&placement.names[0].to_string())
    )
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Returns the page of a certificate's parcel.
pub fn steps_of(parcel: &Parcel, certificate: &str) -> PathBuf {
    folder(parcel, certificate).join(Path::new(STEPS))
}
