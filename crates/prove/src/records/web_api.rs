//! Records over an HTTP API, as a recipe says.

use super::change::Change;
use crate::{ApiError, ProofError};
use eskort_core::inventory::{RecipeSource, WebApi};
use eskort_core::pki::Secret;
use eskort_core::recipe::{
    FilledRequest, Recipe, RecipeRequest, SHIPPED, SLOTS, SlotPlace, Slots, TemplateError, repeats_secret,
};
use eskort_core::record::{Record, RecordType};
use eskort_core::words::printable;
use eskort_host::SecretError;
use eskort_host::obeyed;
use eskort_host::read_secret;
use eskort_inventory::{Mistake, Mistakes, parse_recipe};
use eskort_talk::http::{self, HttpError, innermost};
use reqwest::header::{CONTENT_TYPE, HeaderName, HeaderValue};
use std::time::Duration;

const LONGEST_ANSWER: Duration = Duration::from_secs(30);
const LARGEST_RESPONSE: usize = 4 << 20;

/// A conversation with an API, for one proof.
pub(super) struct Api<'a> {
    settings: &'a WebApi,
    recipe: Recipe,
    place: String,
    secret: Option<Secret<String>>,
    http: reqwest::Client,
    ttl: u32,
}

impl<'a> Api<'a> {
    pub(super) fn open(settings: &'a WebApi, ttl: u32) -> Result<Self, ProofError> {
        let (recipe, place) = match &settings.recipe {
            RecipeSource::Inline(recipe) => ((**recipe).clone(), "in the inventory".to_owned()),
            RecipeSource::Shipped(name) => {
                let text = SHIPPED.iter().find(|(known, _)| known == name).map_or("", |(_, text)| text);
                let recipe =
                    parse_recipe(text).map_err(|e| ApiError::Recipe { place: name.clone(), why: e.to_string() })?;
                (recipe, format!("`{name}`"))
            }
            RecipeSource::File(path) => {
                let place = path.display().to_string();
                let fail = |why: String| ApiError::Recipe { place: place.clone(), why };
                let text = obeyed::read_text(path).map_err(fail)?;
                (parse_recipe(&text).map_err(|mistakes| fail(in_words(&mistakes)))?, place)
            }
        };
        let known = |slot: &&str| {
            let given = *slot != "secret" || settings.secret.is_some();
            settings.with.contains_key(*slot) || (given && SLOTS.contains(slot))
        };
        let unknown = recipe.slots().into_iter().find(|slot| !known(slot)).map(str::to_owned);
        if let Some(slot) = unknown {
            return Err(bad_recipe(&place, &TemplateError::Unknown(slot)));
        }
        let secret = settings.secret.as_ref().map(read_secret).transpose()?;
        // A redirect could carry the secret elsewhere.
        let none = reqwest::redirect::Policy::none();
        let mut builder = http::client(&settings.address).redirect(none).timeout(LONGEST_ANSWER);
        if let Some(path) = &settings.roots {
            let fail = |why: String| SecretError { place: format!("the roots in {}", path.display()), why };
            builder = builder.tls_certs_merge(http::roots(path).map_err(fail)?);
        }
        let http = builder
            .build()
            .map_err(|e| ApiError::Unreachable { url: settings.address.clone(), what: e.to_string() })?;
        Ok(Api { settings, recipe, place, secret, http, ttl })
    }

    /// Returns whether the API replaces all values of a name at once; it gives no ids then.
    pub(super) fn replaces_all(&self) -> bool {
        self.recipe.read.is_some()
    }

    /// Places or removes records of one name and type with an API that replaces all values at once; it may be done already. All
    /// of them go into one request, since what was just replaced need not be read back yet.
    pub(super) async fn change_all(&self, zone: &str, records: &[&Record], what: Change) -> Result<(), ProofError> {
        let Some(first) = records.first() else { return Ok(()) };
        let mut slots = self.slots(zone, first, None)?;
        let before = self.read_values(&slots).await?;
        let mut values = before.clone();
        for record in records {
            let value = self.slots(zone, record, None)?["value"].clone();
            values.retain(|known| *known != value);
            values.extend((what == Change::Add).then_some(value));
        }
        match values.len() {
            length if length == before.len() => Ok(()),
            0 => self.send(&self.recipe.remove, &slots).await.map(drop),
            _ => self.replace_values(&mut slots, &values).await,
        }
    }

    /// Places a record with an API that takes one at a time; it may be there already. Returns what the API calls it, if it
    /// says so.
    pub(super) async fn add(&self, zone: &str, record: &Record) -> Result<Option<String>, ProofError> {
        let slots = self.slots(zone, record, None)?;
        if let Some(id) = self.find(&slots).await?.pop() {
            return Ok(Some(id));
        }
        let answer = self.send(&self.recipe.add, &slots).await?;
        Ok(self.taken(&self.recipe.add, &answer, &slots)?.pop())
    }

    /// Removes a record from an API that takes one at a time; it may be gone already.
    pub(super) async fn remove(&self, zone: &str, record: &Record, id: Option<&str>) -> Result<(), ProofError> {
        let mut slots = self.slots(zone, record, id)?;
        let wants_id = self.recipe.remove.url.slots().chain(self.recipe.remove.body.iter().flat_map(|b| b.slots()));
        if wants_id.into_iter().any(|slot| slot == "id") && id.is_none() {
            if self.recipe.find.is_none() {
                return Err(ApiError::NoId { url: self.settings.address.clone() }.into());
            }
            for id in self.find(&slots).await? {
                slots.insert("id".into(), id);
                self.send(&self.recipe.remove, &slots).await?;
            }
            return Ok(());
        }
        self.send(&self.recipe.remove, &slots).await.map(drop)
    }

    fn slots(&self, zone: &str, record: &Record, id: Option<&str>) -> Result<Slots, ProofError> {
        let mut slots: Slots = self.settings.with.clone();
        let in_zone = record.name.strip_suffix(zone).map_or(record.name.as_str(), |rest| rest.trim_end_matches('.'));
        let known = [
            ("address", self.settings.address.as_str()),
            ("name", &record.name),
            ("name-in-zone", if in_zone.is_empty() { "@" } else { in_zone }),
            ("zone", zone),
            ("type", record.kind.word()),
            ("text", &record.text),
        ];
        slots.extend(known.map(|(name, value)| (name.to_owned(), value.to_owned())));
        slots.insert("ttl".into(), self.ttl.to_string());
        slots.extend(id.map(|id| ("id".to_owned(), id.to_owned())));
        slots.extend(self.secret.as_ref().map(|secret| ("secret".to_owned(), secret.reveal().clone())));
        let template = match record.kind {
            RecordType::Txt => Some(&self.recipe.value),
            RecordType::Cname => self.recipe.cname_value.as_ref(),
        };
        let only_txt = || {
            let why = "it places TXT records only: it has no `cname-value`".to_owned();
            ProofError::from(ApiError::Recipe { place: self.place.clone(), why })
        };
        let value = template.ok_or_else(only_txt)?.fill(&slots, SlotPlace::Plain).map_err(|e| self.bad_recipe(&e))?;
        slots.insert("value".into(), value);
        Ok(slots)
    }

    fn bad_recipe(&self, error: &TemplateError) -> ProofError {
        bad_recipe(&self.place, error)
    }

    async fn find(&self, slots: &Slots) -> Result<Vec<String>, ProofError> {
        let Some(find) = &self.recipe.find else { return Ok(Vec::new()) };
        let answer = self.send(find, slots).await?;
        self.taken(find, &answer, slots)
    }

    async fn read_values(&self, slots: &Slots) -> Result<Vec<String>, ProofError> {
        let read = self.recipe.read.as_ref().expect("only called for recipes that read");
        let answer = self.send(read, slots).await?;
        self.taken(read, &answer, slots)
    }

    async fn replace_values(&self, slots: &mut Slots, values: &[String]) -> Result<(), ProofError> {
        let joined = self.recipe.join_values(values, slots).map_err(|e| self.bad_recipe(&e))?;
        slots.insert("values".into(), joined);
        self.send(&self.recipe.add, slots).await.map(drop)
    }

    /// Takes what a request asks for out of its answer.
    fn taken(&self, request: &RecipeRequest, answer: &[u8], slots: &Slots) -> Result<Vec<String>, ProofError> {
        let Some(path) = &request.take else { return Ok(Vec::new()) };
        let answer = serde_json::from_slice(answer).unwrap_or_default();
        path.values(&answer, slots).map_err(|e| self.bad_recipe(&e))
    }

    async fn send(&self, request: &RecipeRequest, slots: &Slots) -> Result<Vec<u8>, ProofError> {
        let FilledRequest { method, url, headers, body } =
            self.recipe.fill(request, slots).map_err(|e| self.bad_recipe(&e))?;
        let shown = self.recipe.shown_url(request, slots).map_err(|e| self.bad_recipe(&e))?;
        let fail = |what: String| ApiError::Unreachable { url: shown.clone(), what };
        let verb = reqwest::Method::from_bytes(method.as_bytes()).expect("the recipe's methods were checked");
        let mut sent = self.http.request(verb, &url);
        for (name, value) in headers {
            let bad =
                |what: &str| ApiError::Recipe { place: self.place.clone(), why: format!("{what} in header `{name}`") };
            let key = HeaderName::from_bytes(name.as_bytes()).map_err(|_| bad("a name that is not allowed"))?;
            let mut value = HeaderValue::from_str(&value).map_err(|_| bad("a character that is not allowed"))?;
            value.set_sensitive(true);
            sent = sent.header(key, value);
        }
        if let Some(body) = body {
            sent = sent.header(CONTENT_TYPE, self.recipe.format.media_type()).body(body);
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
        let text = String::from_utf8_lossy(&bytes);
        let repeats = self.secret.as_ref().is_some_and(|secret| repeats_secret(&text, secret.reveal()));
        let said = if repeats {
            "what it says has the secret in it, and is not shown".to_owned()
        } else {
            printable(text.chars().take(1_000).collect::<String>().trim(), 200)
        };
        Err(ApiError::Refused { method, url: shown, status: status.as_u16(), said }.into())
    }
}

fn bad_recipe(place: &str, error: &TemplateError) -> ProofError {
    let why = match error {
        TemplateError::Unknown(slot) if slot == "secret" => {
            "it wants a secret: give `secret-file` or `secret-env` in the inventory".to_owned()
        }
        TemplateError::Unknown(slot) => {
            format!("{error}; a value of your own comes from `with = {{ {slot} = \"…\" }}`")
        }
        TemplateError::Open | TemplateError::Segment { .. } | TemplateError::Unquoted(_) => error.to_string(),
    };
    ApiError::Recipe { place: place.to_owned(), why }.into()
}

fn in_words(mistakes: &Mistakes) -> String {
    let line = |m: &Mistake| {
        let advice = m.advice.as_ref().map(|a| format!(" ({a})")).unwrap_or_default();
        format!("line {}: {}{advice}", m.line, m.what)
    };
    mistakes.0.iter().map(line).collect::<Vec<_>>().join("; ")
}
