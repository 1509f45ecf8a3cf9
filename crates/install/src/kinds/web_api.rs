//! Certificates uploaded over an HTTP API, as a recipe says: to a hosting panel, a balancer, a platform.

use crate::InstallError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::{CertificateEntry, Part, Server, ServerKind, UploadApi};
use eskort_core::names::Identifier;
use eskort_core::pki::{
    Certificate, Chain, Pkcs12Form, PrivateKey, Secret, base64, base64_decode, object_name, random_text, to_pkcs12,
};
use eskort_core::progress::Progress;
use eskort_core::recipe::{RecipeRequest, SHIPPED_UPLOADS, Slots, UPLOAD_SLOTS, UploadRecipe};
use eskort_host::{crash_point, read_secret};
use eskort_inventory::parse_upload_recipe;
use eskort_store::{GenerationFolder, Store};
use eskort_talk::{Api, ApiError, KnownRecipe, load_recipe};
use std::fs;
use std::time::{Duration, Instant};

/// How long to wait at first and at most before it is asked again whether a certificate is in use.
const ASK_AGAIN: [Duration; 2] = [Duration::from_millis(200), Duration::from_secs(5)];

/// A conversation about the certificates of one server.
struct Uploading {
    recipe: UploadRecipe,
    api: Api,
    password: Secret<String>,
}

/// What is put into use: a generation, and the slots filled with it.
struct Wanted {
    names: Vec<String>,
    fingerprint: String,
    slots: Slots,
}

/// Puts all certificates of a server into use that are not, as they lie now. With `insist` those too that are in use: another one may be on
/// its way there.
pub(crate) async fn put(
    context: &Context,
    store: &Store,
    (name, server): (&str, &Server),
    upload: &UploadApi,
    insist: bool,
) -> Result<(), InstallError> {
    let failed = |source: ApiError| InstallError::Upload { server: name.to_owned(), source };
    let uploading = Uploading::open(upload).map_err(failed)?;
    for (certificate, entry) in of_server(context, name) {
        let Some(generation) = store.current_generation(certificate) else { continue };
        let folder = store.generation_folder(certificate, generation);
        let wanted = uploading.wanted((certificate, generation), entry, &folder, (name, upload))?;
        if !insist && uploading.is_active(&wanted).await.map_err(failed)? {
            continue;
        }
        context.report(&Progress::Doing("upload the certificate"));
        uploading.put(&wanted).await.map_err(failed)?;
        context.report(&Progress::Doing("wait until the certificate is in use"));
        uploading.await_active(&wanted, name, server.reload_timeout).await?;
        let others = store.generations(certificate).await?.into_iter().map(|row| row.number);
        let others = others.filter(|number| *number != generation);
        let cleared = uploading.clear(&wanted, others.map(|number| label(certificate, number))).await;
        if let Err(error) = cleared {
            let text = format!("what was uploaded to `{name}` before could not be removed: {error}");
            context.report(&Progress::Note(text));
        }
    }
    Ok(())
}

/// Returns whether a generation of a certificate is in use.
pub(super) async fn is_active(
    context: &Context,
    store: &Store,
    (certificate, generation): (&str, u32),
    (name, upload): (&str, &UploadApi),
) -> Result<bool, InstallError> {
    let failed = |source: ApiError| InstallError::Upload { server: name.to_owned(), source };
    let uploading = Uploading::open(upload).map_err(failed)?;
    let entry = &context.inventory.certificates[certificate];
    let folder = store.generation_folder(certificate, generation);
    let wanted = uploading.wanted((certificate, generation), entry, &folder, (name, upload))?;
    uploading.is_active(&wanted).await.map_err(failed)
}

/// Asks the API of a server which certificate is in use for the first name of one; changes nothing. Returns `false` for a server without one.
///
/// # Errors
/// When the recipe cannot be used, or the API is out of reach or refuses.
///
/// # Panics
/// When server or certificate are not in the inventory: callers look first.
#[boxed]
pub async fn ask_api(context: &Context, certificate: &str, server: &str) -> Result<bool, InstallError> {
    let ServerKind::WebApi(upload) = &context.inventory.servers[server].kind else { return Ok(false) };
    let failed = |source: ApiError| InstallError::Upload { server: server.to_owned(), source };
    let uploading = Uploading::open(upload).map_err(failed)?;
    let mut slots = uploading.api.slots.clone();
    slots.entry("object".into()).or_insert_with(|| object_name(certificate));
    let name = context.inventory.certificates[certificate].names.first();
    slots.extend(name.map(|name| ("name".to_owned(), name.to_string())));
    uploading.api.ask(&uploading.recipe.active, &slots).await.map_err(failed)?;
    Ok(true)
}

fn of_server<'c>(context: &'c Context, server: &str) -> impl Iterator<Item = (&'c String, &'c CertificateEntry)> {
    let all = context.inventory.certificates.iter();
    all.filter(move |(_, entry)| entry.install.iter().any(|install| install.server == server))
}

/// Under what a generation is uploaded.
fn label(certificate: &str, generation: u32) -> String {
    format!("{certificate}-{generation}")
}

impl Uploading {
    fn open(upload: &UploadApi) -> Result<Self, ApiError> {
        let parse = |text: &str| parse_upload_recipe(text).map_err(|mistakes| mistakes.in_one_line());
        let known = KnownRecipe { shipped: SHIPPED_UPLOADS, parse };
        let (recipe, place) = load_recipe(&upload.api.recipe, &known)?;
        let place = (recipe.format, place);
        let api = Api::open(&upload.api, place, &recipe.slots(), UPLOAD_SLOTS, UploadRecipe::HIDDEN)?;
        let password = match &upload.password {
            Some(source) => read_secret(source)?,
            // It is good for this upload alone.
            None => Secret::new(random_text()),
        };
        Ok(Uploading { recipe, api, password })
    }

    /// Fills the slots that are the same for all names.
    fn wanted(
        &self,
        (certificate, generation): (&str, u32),
        entry: &CertificateEntry,
        folder: &GenerationFolder,
        (server, upload): (&str, &UploadApi),
    ) -> Result<Wanted, InstallError> {
        let refused = |why: String| InstallError::Keystore { server: server.to_owned(), why };
        let read = |part: Part| fs::read_to_string(folder.part(part)).map_err(|e| refused(e.to_string()));
        let (bundle, key) = (read(Part::Bundle)?, read(Part::Key)?);
        let chain = Chain::from_pem(&bundle).map_err(|e| refused(e.to_string()))?;
        let fingerprint = chain.leaf().fingerprint().to_string();
        let mut slots = self.api.slots.clone();
        slots.entry("object".into()).or_insert_with(|| object_name(certificate));
        let mut fill = |slot: &str, value: String| drop(slots.insert(slot.to_owned(), value));
        if self.recipe.slots().contains("pkcs12") {
            let key = PrivateKey::from_pem(&Secret::new(key.clone())).map_err(|e| refused(e.to_string()))?;
            let form = if upload.old_encryption { Pkcs12Form::Old } else { Pkcs12Form::Modern };
            let made = to_pkcs12(&key, &chain, certificate, &self.password, form);
            fill("pkcs12", base64(made.map_err(|e| refused(e.to_string()))?.reveal()));
        }
        fill("label", label(certificate, generation));
        fill("certificate", chain.leaf_pem());
        fill("intermediates", chain.intermediates_pem());
        fill("bundle-base64", base64(bundle.as_bytes()));
        fill("key-base64", base64(key.as_bytes()));
        fill("bundle", bundle);
        fill("key", key);
        fill("password", self.password.reveal().clone());
        fill("fingerprint", fingerprint.clone());
        Ok(Wanted { names: entry.names.iter().map(Identifier::to_string).collect(), fingerprint, slots })
    }

    /// Sends a request for each name, or once where it has no slot for one. Returns what the answers have, the last one's last.
    async fn ask(&self, request: &RecipeRequest, wanted: &Wanted) -> Result<Vec<Vec<String>>, ApiError> {
        let mut taken = Vec::new();
        let mut slots = wanted.slots.clone();
        let each = request.slots().any(|slot| slot == "name");
        for name in wanted.names.iter().take(if each { usize::MAX } else { 1 }) {
            slots.insert("name".into(), name.clone());
            taken.push(self.api.ask(request, &slots).await?);
        }
        Ok(taken)
    }

    async fn is_active(&self, wanted: &Wanted) -> Result<bool, ApiError> {
        let all = self.ask(&self.recipe.active, wanted).await?;
        Ok(all.iter().all(|values| values.iter().any(|value| is_it(value, &wanted.fingerprint))))
    }

    /// Uploads what is not there, and binds it.
    async fn put(&self, wanted: &Wanted) -> Result<(), ApiError> {
        let found = match &self.recipe.find {
            Some(find) => self.ask(find, wanted).await?.concat().pop(),
            None => None,
        };
        let id = match found {
            Some(id) => Some(id),
            None => self.ask(&self.recipe.upload, wanted).await?.concat().pop(),
        };
        crash_point("uploaded");
        let Some(bind) = &self.recipe.bind else { return Ok(()) };
        let mut slots = wanted.slots.clone();
        match id {
            Some(id) => drop(slots.insert("id".into(), id)),
            None if bind.slots().any(|slot| slot == "id") => {
                return Err(ApiError::NoId { url: self.api.slots["address"].clone() });
            }
            None => {}
        }
        let bound = Wanted { names: wanted.names.clone(), fingerprint: String::new(), slots };
        self.ask(bind, &bound).await.map(drop)
    }

    /// Asks again until it is in use: a panel may take its time.
    async fn await_active(&self, wanted: &Wanted, server: &str, longest: Duration) -> Result<(), InstallError> {
        let (begun, [mut pause, most]) = (Instant::now(), ASK_AGAIN);
        loop {
            let asked = self.is_active(wanted).await;
            match asked {
                Ok(true) => return Ok(()),
                Ok(false) if begun.elapsed() < longest => {}
                Ok(false) => {
                    let seen = "its API goes on naming another certificate".to_owned();
                    let server = server.to_owned();
                    return Err(InstallError::NotServed { server, seen, is_there: true, after: longest });
                }
                Err(source) if begun.elapsed() >= longest => {
                    return Err(InstallError::Upload { server: server.to_owned(), source });
                }
                Err(_) => {}
            }
            tokio::time::sleep(pause.min(longest.saturating_sub(begun.elapsed()))).await;
            pause = (pause * 2).min(most);
        }
    }

    /// Removes what was uploaded under other labels.
    async fn clear(&self, wanted: &Wanted, labels: impl Iterator<Item = String>) -> Result<(), ApiError> {
        let (Some(find), Some(remove)) = (&self.recipe.find, &self.recipe.remove) else { return Ok(()) };
        for label in labels {
            let mut slots = wanted.slots.clone();
            slots.insert("label".into(), label);
            for id in self.api.ask(find, &slots).await? {
                slots.insert("id".into(), id);
                self.api.ask(remove, &slots).await?;
            }
        }
        Ok(())
    }
}

/// Whether an answer names a certificate: by its fingerprint, or as PEM, which may be in base64.
fn is_it(value: &str, fingerprint: &str) -> bool {
    let bare = |text: &str| text.replace(':', "").to_ascii_lowercase();
    if bare(value) == bare(fingerprint) {
        return true;
    }
    let decoded = base64_decode(value).and_then(|bytes| String::from_utf8(bytes).ok());
    let first = |text: &str| Certificate::all_from_pem(text).ok()?.into_iter().next();
    let leaf = first(value).or_else(|| first(&decoded?));
    leaf.is_some_and(|leaf| leaf.fingerprint().to_string() == fingerprint)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_known_by_its_fingerprint_however_it_is_written() {
        for (value, is) in [("AB:CD", true), ("abcd", true), ("abce", false), ("", false), ("-----BEGIN", false)] {
            assert_eq!(is_it(value, "abcd"), is, "{value}");
        }
    }
}
