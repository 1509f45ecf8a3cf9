//! Recipes: how to place and remove a record, or to put a certificate into use, over an HTTP API, as data.
//!
//! A recipe has requests, made from templates with slots like `${name}`, and says where in an answer to find what is needed
//! later. What is put into a slot is encoded for the place where the slot stands, so that no value can break out of it.

mod upload;

pub use upload::{SHIPPED_UPLOADS, UPLOAD_SLOTS, UploadRecipe};

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

/// The recipes that are shipped: names and texts.
pub const SHIPPED: &[(&str, &str)] = &[
    ("lampholm-panel", include_str!("../../recipes/lampholm-panel.toml")),
    ("powerdns", include_str!("../../recipes/powerdns.toml")),
];

/// The slots that every recipe can use; those of `with` come on top.
pub const SLOTS: &[&str] =
    &["address", "secret", "name", "name-in-zone", "zone", "type", "text", "ttl", "id", "value", "values"];

/// How to place and remove a record over an HTTP API.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recipe {
    /// How bodies are written.
    pub format: Format,
    /// The record's text as the API writes it; `${text}` unless it wants quotes or the like.
    pub value: Template,
    /// The same for the target of a CNAME record; `None` for an API that places TXT records only.
    pub cname_value: Option<Template>,
    /// How one of `${values}` is written in a body; they are joined with commas.
    pub each_value: Option<Template>,
    /// Asks for all values at the name, for APIs that only replace all of them.
    pub read: Option<RecipeRequest>,
    /// Asks for the record's id.
    pub find: Option<RecipeRequest>,
    /// Places the record; with `read`, replaces all values at the name.
    pub add: RecipeRequest,
    /// Removes the record; with `read`, removes the name's last one.
    pub remove: RecipeRequest,
}

/// One request of a recipe.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecipeRequest {
    /// The HTTP method.
    pub method: String,
    /// The address.
    pub url: Template,
    /// The header fields.
    pub headers: Vec<(String, Template)>,
    /// The body.
    pub body: Option<Template>,
    /// Where the answer has the ids or values that are asked for.
    pub take: Option<ValuePath>,
    /// Statuses that count as success beside those from 200 to 299.
    pub accept: Vec<u16>,
}

/// How bodies are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// JSON (RFC 8259).
    Json,
    /// A form: `application/x-www-form-urlencoded`.
    Form,
}

impl Format {
    /// Returns the media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Format::Json => "application/json",
            Format::Form => "application/x-www-form-urlencoded",
        }
    }

    fn place(self) -> SlotPlace {
        match self {
            Format::Json => SlotPlace::Json,
            Format::Form => SlotPlace::Url,
        }
    }
}

/// Where a slot stands, which says how its value is encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SlotPlace {
    /// In an address or a form: percent-encoded (RFC 3986 section 2.1).
    Url,
    /// Inside a JSON text.
    Json,
    /// As it is: in a header field, where control characters are refused on sending.
    Plain,
}

/// Why a template cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// `${` without its end.
    #[error("`${{` without `}}`")]
    Open,
    /// A slot that is not known.
    #[error("nothing gives a value for `${{{0}}}`")]
    Unknown(String),
    /// A value that would make an address lead to something else than the recipe means.
    #[error("the value `{value}` of `${{{slot}}}` cannot stand in an address")]
    Segment {
        /// The slot.
        slot: String,
        /// Its value.
        value: String,
    },
    /// A value outside of quotes in JSON that is no number.
    #[error("`${{{0}}}` stands outside of quotes, where only a number can")]
    Unquoted(String),
}

/// A text with slots like `${name}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    pieces: Vec<Piece>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Slot(String),
}

/// The values of slots.
pub type Slots = BTreeMap<String, String>;

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// [`TemplateError::Open`].
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some(start) = rest.find("${") {
            let length = rest[start..].find('}').ok_or(TemplateError::Open)?;
            pieces.push(Piece::Text(rest[..start].to_owned()));
            pieces.push(Piece::Slot(rest[start + 2..start + length].trim().to_owned()));
            rest = &rest[start + length + 1..];
        }
        pieces.push(Piece::Text(rest.to_owned()));
        Ok(Template { pieces })
    }

    /// Returns the slots in it.
    pub fn slots(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Slot(slot) => Some(slot.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// Fills the slots.
    ///
    /// # Errors
    /// [`TemplateError::Unknown`].
    pub fn fill(&self, slots: &Slots, place: SlotPlace) -> Result<String, TemplateError> {
        self.fill_but(slots, place, &[])
    }

    /// Fills the slots, but puts `[redacted]` into those that are `hidden`, whatever their values are.
    fn fill_but(&self, slots: &Slots, place: SlotPlace, hidden: &[&str]) -> Result<String, TemplateError> {
        let mut out = String::new();
        let mut in_quotes = false;
        for piece in &self.pieces {
            match piece {
                Piece::Text(text) => {
                    in_quotes = ends_in_quotes(text, in_quotes);
                    out += text;
                }
                Piece::Slot(slot) if hidden.contains(&slot.as_str()) => out += "[redacted]",
                Piece::Slot(slot) => {
                    let value = slots.get(slot).ok_or_else(|| TemplateError::Unknown(slot.clone()))?;
                    let is_number = !value.is_empty() && value.bytes().all(|b| b.is_ascii_digit());
                    if place == SlotPlace::Json && !in_quotes && !is_number && slot != "values" {
                        return Err(TemplateError::Unquoted(slot.clone()));
                    }
                    // The values are encoded one by one before they are joined.
                    if slot == "values" { out += value } else { encode(value, place, &mut out) }
                }
            }
        }
        Ok(out)
    }
}

/// Whether JSON that goes on behind a text is inside a string.
fn ends_in_quotes(text: &str, mut inside: bool) -> bool {
    let mut bytes = text.bytes();
    while let Some(byte) = bytes.next() {
        match byte {
            b'\\' if inside => drop(bytes.next()),
            b'"' => inside = !inside,
            _ => {}
        }
    }
    inside
}

fn encode(value: &str, place: SlotPlace, out: &mut String) {
    match place {
        SlotPlace::Plain => out.push_str(value),
        SlotPlace::Json => {
            let quoted = serde_json::to_string(value).expect("a text is valid JSON");
            out.push_str(&quoted[1..quoted.len() - 1]);
        }
        SlotPlace::Url => {
            for byte in value.bytes() {
                if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) {
                    out.push(char::from(byte));
                } else {
                    write!(out, "%{byte:02X}").expect("writing to a string");
                }
            }
        }
    }
}

/// Returns whether a text repeats a secret, in any of the ways in which one is written in addresses, forms, JSON and headers.
pub fn repeats_secret(text: &str, secret: &str) -> bool {
    let encoded = |place| {
        let mut out = String::new();
        encode(secret, place, &mut out);
        out
    };
    let url = encoded(SlotPlace::Url);
    let forms = [
        secret.to_owned(),
        encoded(SlotPlace::Json),
        url.replace("%20", "+"),
        secret.replace('/', "\\/"),
        secret.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;"),
        crate::pki::base64(secret.as_bytes()).trim_end_matches('=').to_owned(),
        crate::pki::base64url(secret.as_bytes()),
    ];
    let lower = text.to_lowercase();
    forms.iter().chain([&url]).any(|form| !form.is_empty() && lower.contains(&form.to_lowercase()))
}

/// A request with its slots filled. Its debug form hides what may be secret.
#[derive(Clone, PartialEq, Eq)]
pub struct FilledRequest {
    /// The HTTP method.
    pub method: String,
    /// The address.
    pub url: String,
    /// The header fields.
    pub headers: Vec<(String, String)>,
    /// The body.
    pub body: Option<String>,
}

impl std::fmt::Debug for FilledRequest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("FilledRequest").field("method", &self.method).finish_non_exhaustive()
    }
}

impl RecipeRequest {
    /// Fills the slots. The slot `address` is put in as it is, since it is the beginning of an address; `values` is what
    /// [`Recipe::join_values`] made.
    ///
    /// # Errors
    /// [`TemplateError`].
    pub fn fill(&self, format: Format, slots: &Slots) -> Result<FilledRequest, TemplateError> {
        let header = |(name, value): &(String, Template)| Ok((name.clone(), value.fill(slots, SlotPlace::Plain)?));
        Ok(FilledRequest {
            method: self.method.clone(),
            url: self.url(slots, &[])?,
            headers: self.headers.iter().map(header).collect::<Result<_, _>>()?,
            body: self.body.as_ref().map(|body| body.fill(slots, format.place())).transpose()?,
        })
    }

    /// Returns the address as it may be shown: filled a second time, with `[redacted]` in the place of what is hidden. So it does not
    /// matter how a secret is encoded where it stands.
    ///
    /// # Errors
    /// [`TemplateError`].
    pub fn shown_url(&self, slots: &Slots, hidden: &[&str]) -> Result<String, TemplateError> {
        self.url(slots, hidden)
    }

    /// Returns the slots that it uses.
    pub fn slots(&self) -> impl Iterator<Item = &str> {
        let headers = self.headers.iter().map(|(_, template)| template);
        let of_path = self.take.iter().flat_map(|path| &path.steps);
        [&self.url].into_iter().chain(headers).chain(&self.body).chain(of_path).flat_map(Template::slots)
    }

    fn url(&self, slots: &Slots, hidden: &[&str]) -> Result<String, TemplateError> {
        // Encoded or not, these lead upwards, or to all of what is one level up.
        for slot in self.url.slots().filter(|slot| *slot != "address") {
            if let Some(value) = slots.get(slot).filter(|value| matches!(value.as_str(), "" | "." | "..")) {
                return Err(TemplateError::Segment { slot: slot.to_owned(), value: value.clone() });
            }
        }
        Ok(match self.url.pieces.as_slice() {
            [Piece::Text(before), Piece::Slot(first), rest @ ..] if before.is_empty() && first == "address" => {
                let rest = Template { pieces: rest.to_vec() };
                let address = slots.get("address").ok_or_else(|| TemplateError::Unknown("address".into()))?;
                format!("{address}{}", rest.fill_but(slots, SlotPlace::Url, hidden)?)
            }
            _ => self.url.fill_but(slots, SlotPlace::Url, hidden)?,
        })
    }
}

impl Recipe {
    /// Returns the slots that are not shown in addresses: the secret, and whatever is made from it.
    pub fn hidden(&self) -> &'static [&'static str] {
        let made_from = |template: &Template| template.slots().any(|slot| slot == "secret");
        let values = [Some(&self.value), self.cname_value.as_ref(), self.each_value.as_ref()];
        let all = &["secret", "value", "values"];
        if values.into_iter().flatten().any(made_from) { all } else { &all[..1] }
    }

    /// Writes all values as the slot `values` wants them.
    ///
    /// # Errors
    /// [`TemplateError::Unknown`].
    pub fn join_values(&self, values: &[String], slots: &Slots) -> Result<String, TemplateError> {
        let mut slots = slots.clone();
        let mut written = Vec::new();
        for value in values {
            slots.insert("value".into(), value.clone());
            written.push(match &self.each_value {
                Some(each) => each.fill(&slots, self.format.place())?,
                None => {
                    let mut out = String::new();
                    encode(value, self.format.place(), &mut out);
                    out
                }
            });
        }
        Ok(written.join(","))
    }

    /// Returns the slots that it uses.
    pub fn slots(&self) -> BTreeSet<&str> {
        let requests = [Some(&self.add), Some(&self.remove), self.find.as_ref(), self.read.as_ref()];
        let mut found = BTreeSet::new();
        found.extend(requests.into_iter().flatten().flat_map(RecipeRequest::slots));
        let values = [Some(&self.value), self.cname_value.as_ref(), self.each_value.as_ref()];
        found.extend(values.into_iter().flatten().flat_map(Template::slots));
        found
    }
}

/// Where values stand in a JSON answer: steps after slashes. `key` goes into an object, a number into a list, `*` into each
/// element, and `key=text` keeps, of a list or one object, what has that text at that key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ValuePath {
    steps: Vec<Template>,
}

impl ValuePath {
    /// Reads a path like `/records/type=TXT/id`.
    ///
    /// # Errors
    /// [`TemplateError::Open`].
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let steps = text.split('/').filter(|step| !step.is_empty()).map(Template::parse);
        Ok(ValuePath { steps: steps.collect::<Result<_, _>>()? })
    }

    /// Returns the texts and numbers that the path leads to.
    ///
    /// # Errors
    /// [`TemplateError::Unknown`].
    pub fn values(&self, answer: &Value, slots: &Slots) -> Result<Vec<String>, TemplateError> {
        let mut at = vec![answer];
        for step in &self.steps {
            let step = step.fill(slots, SlotPlace::Plain)?;
            at = at.into_iter().flat_map(|value| take_step(value, &step)).collect();
        }
        Ok(at.into_iter().filter_map(leaf).collect())
    }
}

fn take_step<'v>(value: &'v Value, step: &str) -> Vec<&'v Value> {
    if let Some((key, wanted)) = step.split_once('=') {
        let has = |v: &&Value| v.get(key).and_then(leaf).is_some_and(|found| found == wanted);
        return match value {
            Value::Array(items) => items.iter().filter(has).collect(),
            other => Some(other).filter(has).into_iter().collect(),
        };
    }
    match value {
        Value::Array(items) if step == "*" => items.iter().collect(),
        Value::Array(items) => step.parse::<usize>().ok().and_then(|i| items.get(i)).into_iter().collect(),
        Value::Object(fields) if step == "*" => fields.values().collect(),
        other => other.get(step).into_iter().collect(),
    }
}

fn leaf(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    }
}
