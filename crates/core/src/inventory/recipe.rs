//! Reads recipes, from a file of their own or from the inventory.

use super::mistake::{Mistake, Mistakes};
use super::section::{Notes, Section, Text};
use crate::recipe::{Format, Recipe, RecipeRequest, Template, TemplateError, ValuePath};
use toml::de::DeTable;

pub(super) const RECIPE: &[&str] = &["format", "value", "cname-value", "each-value", "read", "find", "add", "remove"];
pub(super) const REQUEST: &[&str] = &["method", "url", "headers", "body", "id", "values", "accept"];

/// Reads a recipe from the text of its file.
///
/// # Errors
/// All its mistakes, each with its line.
pub fn read_recipe(source: &str) -> Result<Recipe, Mistakes> {
    let root = DeTable::parse(source).map_err(|error| {
        let what = format!("this is not TOML: {}", error.message().trim());
        Mistakes(vec![Mistake::at(source, error.span().unwrap_or(0..0), what, None)])
    })?;
    let notes = Notes::new(source);
    let recipe = from_section(&Section::open(root.get_ref(), 0..0, "the recipe", RECIPE, &notes));
    let mistakes = notes.into_mistakes();
    match recipe {
        Some(recipe) if mistakes.is_empty() => Ok(recipe),
        _ => Err(Mistakes(mistakes)),
    }
}

pub(super) fn from_section(section: &Section<'_>) -> Option<Recipe> {
    let format = section.parsed("format", "one of \"json\", \"form\"", |text| match text {
        "json" => Some(Format::Json),
        "form" => Some(Format::Form),
        _ => None,
    });
    for key in ["add", "remove"] {
        if section.get(key).is_none() {
            section.missing(key, &format!("{key} = {{ method = \"POST\", url = \"${{address}}/records\" }}"));
        }
    }
    let usual = || Template::parse("${text}").expect("a template of our own");
    Some(Recipe {
        format: format.unwrap_or(Format::Json),
        value: template(section, "value").unwrap_or_else(usual),
        cname_value: template(section, "cname-value"),
        each_value: template(section, "each-value"),
        read: request(section, "read", "this `read`", "values"),
        find: request(section, "find", "this `find`", "id"),
        add: request(section, "add", "this `add`", "id")?,
        remove: request(section, "remove", "this `remove`", "id")?,
    })
}

fn request(section: &Section<'_>, key: &str, title: &'static str, take: &str) -> Option<RecipeRequest> {
    let (table, span) = section.table(key)?;
    let part = section.below(table, span, title, REQUEST);
    for (key, example) in [("method", "method = \"POST\""), ("url", "url = \"${address}/records\"")] {
        if part.get(key).is_none() {
            part.missing(key, example);
        }
    }
    let asks = matches!(key, "read" | "find");
    if asks && part.get(take).is_none() {
        part.missing(take, &format!("{take} = \"/records/*/{take}\""));
    }
    let method = part.parsed("method", "one of GET, POST, PUT, PATCH, DELETE", |text| {
        ["GET", "POST", "PUT", "PATCH", "DELETE"].into_iter().find(|m| *m == text)
    });
    let mut headers = Vec::new();
    for (name, text) in part.entries("headers") {
        headers.extend(parsed(&part, &text, Template::parse).map(|value| (name.value.to_owned(), value)));
    }
    let take = part.text(take).and_then(|text| parsed(&part, &text, ValuePath::parse));
    Some(RecipeRequest {
        method: method?.to_owned(),
        url: template(&part, "url")?,
        headers,
        body: template(&part, "body"),
        take,
        accept: part.numbers("accept"),
    })
}

fn template(section: &Section<'_>, key: &str) -> Option<Template> {
    section.text(key).and_then(|text| parsed(section, &text, Template::parse))
}

fn parsed<T>(section: &Section<'_>, text: &Text<'_>, parse: impl Fn(&str) -> Result<T, TemplateError>) -> Option<T> {
    match parse(text.value) {
        Ok(value) => Some(value),
        Err(error) => {
            section.note(text.span.clone(), error.to_string(), Some("slots look like ${name}".into()));
            None
        }
    }
}
