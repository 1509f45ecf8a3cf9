//! Conversations with HTTP APIs, as recipes say.

use crate::http::{self, HttpError, innermost};
use eskort_core::boxed;
use eskort_core::inventory::{RecipeSource, WebApi};
use eskort_core::pki::Secret;
use eskort_core::recipe::{FilledRequest, Format, RecipeRequest, Slots, TemplateError, repeats_secret};
use eskort_core::words::printable;
use eskort_host::{SecretError, obeyed, read_secret};
use reqwest::header::{CONTENT_TYPE, HeaderName, HeaderValue};
use std::collections::BTreeSet;
use std::time::Duration;

const LONGEST_ANSWER: Duration = Duration::from_secs(30);
const LARGEST_RESPONSE: usize = 4 << 20;

/// Why an API did not do what was asked.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum ApiError {
    /// The recipe.
    #[error("the recipe {place} cannot be used: {why}")]
    Recipe {
        /// Where it is.
        place: String,
        /// What is wrong with it.
        why: String,
    },
    /// No connection, no answer, or none that can be trusted.
    #[error("cannot reach {url}: {what}")]
    Unreachable {
        /// What was asked for.
        url: String,
        /// What happened.
        what: String,
    },
    /// An answer that says no.
    #[error("{method} {url} was answered with {status}{}", if said.is_empty() { String::new() } else { format!(": {said}") })]
    Refused {
        /// The method.
        method: String,
        /// What was asked for.
        url: String,
        /// The HTTP status.
        status: u16,
        /// How the answer begins, tamed.
        said: String,
    },
    /// A secret that it wants.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// An answer in which something is missing.
    #[error("the answer of {url} has no id at the place that the recipe names, and the recipe has no `find`")]
    NoId {
        /// What was asked for.
        url: String,
    },
}

/// What is known of a recipe and of the slots that it may use.
pub struct KnownRecipe<'a, R> {
    /// Names and texts of those that are shipped.
    pub shipped: &'a [(&'a str, &'a str)],
    /// Reads one; errors are in words.
    pub parse: fn(&str) -> Result<R, String>,
}

/// Reads a recipe from where the inventory says, and says where that is.
///
/// # Errors
/// [`ApiError::Recipe`].
pub fn load_recipe<R: Clone>(source: &RecipeSource<R>, known: &KnownRecipe<'_, R>) -> Result<(R, String), ApiError> {
    let read = |text: &str, place: String| match (known.parse)(text) {
        Ok(recipe) => Ok((recipe, place)),
        Err(why) => Err(ApiError::Recipe { place, why }),
    };
    match source {
        RecipeSource::Inline(recipe) => Ok(((**recipe).clone(), "in the inventory".to_owned())),
        RecipeSource::Shipped(name) => {
            let text = known.shipped.iter().find(|(known, _)| known == name).map_or("", |(_, text)| text);
            read(text, format!("`{name}`"))
        }
        RecipeSource::File(path) => {
            let place = path.display().to_string();
            let text = obeyed::read_text(path).map_err(|why| ApiError::Recipe { place: place.clone(), why })?;
            read(&text, place)
        }
    }
}

/// A conversation with an API.
pub struct Api {
    /// The slots that all requests have: what `with` gives, the address, the secret.
    pub slots: Slots,
    format: Format,
    /// Where the recipe is, for messages.
    place: String,
    hidden: &'static [&'static str],
    http: reqwest::Client,
}

impl Api {
    /// Begins a conversation. `used` are the slots of the recipe, `given` those that are filled later; those that are `hidden` are shown in
    /// no message.
    ///
    /// # Errors
    /// When a slot has no value, a secret or roots cannot be read.
    pub fn open<R>(
        settings: &WebApi<R>,
        (format, place): (Format, String),
        used: &BTreeSet<&str>,
        given: &[&str],
        hidden: &'static [&'static str],
    ) -> Result<Self, ApiError> {
        let is_given = |slot: &&str| {
            let given = given.contains(slot) && (*slot != "secret" || settings.secret.is_some());
            given || settings.with.contains_key(*slot)
        };
        if let Some(slot) = used.iter().find(|slot| !is_given(slot)) {
            return Err(bad_recipe(&place, &TemplateError::Unknown((*slot).to_owned())));
        }
        let secret = settings.secret.as_ref().map(read_secret).transpose()?;
        // A redirect could carry the secret elsewhere.
        let none = reqwest::redirect::Policy::none();
        let mut builder = http::client(&settings.address).redirect(none).timeout(LONGEST_ANSWER);
        if let Some(path) = &settings.roots {
            let fail = |why: String| SecretError { place: format!("the roots in {}", path.display()), why };
            builder = builder.tls_certs_merge(http::roots(path).map_err(fail)?);
        }
        let unreachable =
            |e: reqwest::Error| ApiError::Unreachable { url: settings.address.clone(), what: e.to_string() };
        let http = builder.build().map_err(unreachable)?;
        let mut slots = settings.with.clone();
        slots.insert("address".into(), settings.address.clone());
        slots.extend(secret.map(|secret| ("secret".to_owned(), secret.reveal().clone())));
        Ok(Api { slots, format, place, hidden, http })
    }

    /// Says what is wrong with the recipe.
    pub fn bad_recipe(&self, error: &TemplateError) -> ApiError {
        bad_recipe(&self.place, error)
    }

    /// Says what is wrong with the recipe, in words.
    pub fn recipe_lacks(&self, why: &str) -> ApiError {
        ApiError::Recipe { place: self.place.clone(), why: why.to_owned() }
    }

    /// Sends a request, and takes out of its answer what the request asks for.
    ///
    /// # Errors
    /// When the API is out of reach or refuses, or a slot has no value.
    #[boxed]
    pub async fn ask(&self, request: &RecipeRequest, slots: &Slots) -> Result<Vec<String>, ApiError> {
        let answer = self.send(request, slots).await?;
        let Some(path) = &request.take else { return Ok(Vec::new()) };
        let answer = serde_json::from_slice(&answer).unwrap_or_default();
        path.values(&answer, slots).map_err(|e| self.bad_recipe(&e))
    }

    async fn send(&self, request: &RecipeRequest, slots: &Slots) -> Result<Vec<u8>, ApiError> {
        let bad = |e: TemplateError| self.bad_recipe(&e);
        let FilledRequest { method, url, headers, body } = request.fill(self.format, slots).map_err(bad)?;
        let shown = request.shown_url(slots, self.hidden).map_err(bad)?;
        let fail = |what: String| ApiError::Unreachable { url: shown.clone(), what };
        let verb = reqwest::Method::from_bytes(method.as_bytes()).expect("the recipe's methods were checked");
        let mut sent = self.http.request(verb, &url);
        for (name, value) in headers {
            let bad = |what: &str| self.recipe_lacks(&format!("{what} in header `{name}`"));
            let key = HeaderName::from_bytes(name.as_bytes()).map_err(|_| bad("a name that is not allowed"))?;
            let mut value = HeaderValue::from_str(&value).map_err(|_| bad("a character that is not allowed"))?;
            value.set_sensitive(true);
            sent = sent.header(key, value);
        }
        if let Some(body) = body {
            let says_it = request.headers.iter().any(|(name, _)| name.eq_ignore_ascii_case("content-type"));
            sent = if says_it { sent } else { sent.header(CONTENT_TYPE, self.format.media_type()) }.body(body);
        }
        let answer = sent.send().await.map_err(|error| fail(innermost(&error.without_url()).0))?;
        let status = answer.status();
        let bytes = http::body(answer, LARGEST_RESPONSE, &shown, LONGEST_ANSWER).await;
        let bytes = bytes.map_err(|error| match error {
            HttpError::TooLarge { .. } => fail("the response is too large".into()),
            HttpError::TimedOut { .. } => fail("its response does not end".into()),
            HttpError::Unreachable { what, .. } => fail(what),
        })?;
        if status.is_success() || request.accept.contains(&status.as_u16()) {
            return Ok(bytes);
        }
        let said = self.printed(&String::from_utf8_lossy(&bytes), slots);
        Err(ApiError::Refused { method, url: shown, status: status.as_u16(), said })
    }

    /// Returns the beginning of an answer as it may be shown: one that repeats a secret is not.
    fn printed(&self, text: &str, slots: &Slots) -> String {
        let secrets = self.hidden.iter().filter_map(|slot| slots.get(*slot)).map(|value| Secret::new(value.clone()));
        let repeats = secrets.into_iter().any(|secret| repeats_secret(text, secret.reveal()));
        match repeats || text.contains("PRIVATE KEY") {
            true => "what it says has the secret in it, and is not shown".to_owned(),
            false => printable(text.chars().take(1_000).collect::<String>().trim(), 200),
        }
    }
}

fn bad_recipe(place: &str, error: &TemplateError) -> ApiError {
    let why = match error {
        TemplateError::Unknown(slot) if slot == "secret" => {
            "it wants a secret: give `secret-file` or `secret-env` in the inventory".to_owned()
        }
        TemplateError::Unknown(slot) => {
            format!("{error}; a value of your own comes from `with = {{ {slot} = \"…\" }}`")
        }
        TemplateError::Open | TemplateError::Segment { .. } | TemplateError::Unquoted(_) => error.to_string(),
    };
    ApiError::Recipe { place: place.to_owned(), why }
}
