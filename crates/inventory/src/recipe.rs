//! Reads recipes, from a file of their own or from the inventory.

use crate::mistake::{Mistake, Mistakes};
use crate::table::{Notes, Section, Text};
use eskort_core::recipe::{Format, Recipe, RecipeRequest, Template, TemplateError, UploadRecipe, ValuePath};
use toml::de::DeTable;

pub(crate) const RECIPE: &[&str] = &["format", "value", "cname-value", "each-value", "read", "find", "add", "remove"];
pub(crate) const REQUEST: &[&str] = &["method", "url", "headers", "body", "id", "values", "accept"];
/// Of a recipe for certificates.
pub(crate) const UPLOAD_RECIPE: &[&str] = &["format", "active", "find", "upload", "bind", "remove"];
pub(crate) const UPLOAD_REQUEST: &[&str] =
    &["method", "url", "headers", "body", "id", "certificate", "fingerprint", "accept"];

/// Reads a recipe for records from the text of its file.
///
/// # Errors
/// All its mistakes, each with its line.
pub fn parse_recipe(source: &str) -> Result<Recipe, Mistakes> {
    parse(source, RECIPE, record_recipe)
}

/// Reads a recipe for certificates from the text of its file.
///
/// # Errors
/// As [`parse_recipe`].
pub fn parse_upload_recipe(source: &str) -> Result<UploadRecipe, Mistakes> {
    parse(source, UPLOAD_RECIPE, upload_recipe)
}

fn parse<R>(source: &str, keys: &[&str], read: impl Fn(&Section<'_>) -> Option<R>) -> Result<R, Mistakes> {
    let root = DeTable::parse(source).map_err(|error| {
        let what = format!("this is not TOML: {}", error.message().trim());
        Mistakes(vec![Mistake::at(source, error.span().unwrap_or(0..0), what, None)])
    })?;
    let notes = Notes::new(source);
    let recipe = read(&Section::open(root.get_ref(), 0..0, "the recipe", keys, &notes));
    let mistakes = notes.into_mistakes();
    match recipe {
        Some(recipe) if mistakes.is_empty() => Ok(recipe),
        _ => Err(Mistakes(mistakes)),
    }
}

fn format(section: &Section<'_>) -> Format {
    let format = section.parsed("format", "one of \"json\", \"form\"", |text| match text {
        "json" => Some(Format::Json),
        "form" => Some(Format::Form),
        _ => None,
    });
    format.unwrap_or(Format::Json)
}

fn needs(section: &Section<'_>, keys: &[&str]) {
    for key in keys.iter().filter(|key| section.get(key).is_none()) {
        section.missing(key, &format!("{key} = {{ method = \"POST\", url = \"${{address}}/…\" }}"));
    }
}

pub(crate) fn record_recipe(section: &Section<'_>) -> Option<Recipe> {
    let format = format(section);
    needs(section, &["add", "remove"]);
    let usual = || Template::parse("${text}").expect("a template of our own");
    let request = |key, title, take| request(section, (key, title), REQUEST, &[take]);
    Some(Recipe {
        format,
        value: template(section, "value").unwrap_or_else(usual),
        cname_value: template(section, "cname-value"),
        each_value: template(section, "each-value"),
        read: request("read", "this `read`", "values"),
        find: request("find", "this `find`", "id"),
        add: request("add", "this `add`", "id")?,
        remove: request("remove", "this `remove`", "id")?,
    })
}

pub(crate) fn upload_recipe(section: &Section<'_>) -> Option<UploadRecipe> {
    let format = format(section);
    needs(section, &["active", "upload"]);
    let request = |key, title, takes| request(section, (key, title), UPLOAD_REQUEST, takes);
    Some(UploadRecipe {
        format,
        active: request("active", "this `active`", &["certificate", "fingerprint"])?,
        find: request("find", "this `find`", &["id"]),
        upload: request("upload", "this `upload`", &["id"])?,
        bind: request("bind", "this `bind`", &["id"]),
        remove: request("remove", "this `remove`", &["id"]),
    })
}

/// Reads a request; `takes` are the keys of which one says where its answer has what is asked for.
fn request(
    section: &Section<'_>,
    (key, title): (&str, &'static str),
    keys: &'static [&'static str],
    takes: &[&str],
) -> Option<RecipeRequest> {
    let (table, span) = section.table(key)?;
    let part = section.below(table, span, title, keys);
    for (key, example) in [("method", "method = \"POST\""), ("url", "url = \"${address}/records\"")] {
        if part.get(key).is_none() {
            part.missing(key, example);
        }
    }
    let asks = matches!(key, "read" | "find" | "active");
    if asks && takes.iter().all(|take| part.get(take).is_none()) {
        let take = takes[0];
        part.missing(take, &format!("{take} = \"/records/*/{take}\""));
    }
    let method = part.parsed("method", "one of GET, POST, PUT, PATCH, DELETE", |text| {
        ["GET", "POST", "PUT", "PATCH", "DELETE"].into_iter().find(|m| *m == text)
    });
    let mut headers = Vec::new();
    for (name, text) in part.entries("headers") {
        headers.extend(parsed(&part, &text, Template::parse).map(|value| (name.value.to_owned(), value)));
    }
    let take = takes.iter().find_map(|take| part.text(take)).and_then(|text| parsed(&part, &text, ValuePath::parse));
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

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::recipe::*;
    use serde_json::{Value, json};

    fn slots(pairs: &[(&str, &str)]) -> Slots {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    #[test]
    fn a_value_cannot_break_out_of_its_place() {
        let template = Template::parse("\"a ${name} b").unwrap();
        let slots = slots(&[("name", "\"}/?&=\n${secret}")]);
        for (place, wanted) in [
            (SlotPlace::Json, "\"a \\\"}/?&=\\n${secret} b"),
            (SlotPlace::Url, "\"a %22%7D%2F%3F%26%3D%0A%24%7Bsecret%7D b"),
            (SlotPlace::Plain, "\"a \"}/?&=\n${secret} b"),
        ] {
            assert_eq!(template.fill(&slots, place).unwrap(), wanted);
        }
        assert_eq!(Template::parse("${name"), Err(TemplateError::Open));
        let unknown = Template::parse("${lamp}").unwrap().fill(&slots, SlotPlace::Url);
        assert_eq!(unknown, Err(TemplateError::Unknown("lamp".into())));
    }

    #[test]
    fn paths_lead_to_values() {
        let answer = json!({"id": 7, "rrsets": [
            {"name": "a.", "type": "TXT", "records": [{"content": "one"}, {"content": "two"}]},
            {"name": "a.", "type": "MX", "records": [{"content": "ten"}]},
            {"name": "b.", "type": "TXT", "records": [{"content": "far"}]}]});
        let slots = slots(&[("name", "a")]);
        for (path, wanted) in [
            ("/id", vec!["7"]),
            ("/rrsets/name=${name}./type=TXT/records/*/content", vec!["one", "two"]),
            ("/rrsets/2/records/0/content", vec!["far"]),
            ("/rrsets/*/type", vec!["TXT", "MX", "TXT"]),
            ("/rrsets/9/type", vec![]),
            ("/id/deeper", vec![]),
            ("/rrsets", vec![]),
        ] {
            assert_eq!(ValuePath::parse(path).unwrap().values(&answer, &slots).unwrap(), wanted, "{path}");
        }
    }

    #[test]
    fn no_value_leads_an_address_or_a_body_elsewhere() {
        let recipe = parse_recipe(SHIPPED[0].1).unwrap();
        let url = Template::parse("${address}/records/${id}").unwrap();
        let request = RecipeRequest { url, body: None, headers: Vec::new(), ..recipe.remove.clone() };
        let filled = |id: &str| request.fill(recipe.format, &slots(&[("address", "x"), ("id", id)]));
        let url = |id: &str| filled(id).map(|request| request.url);
        for value in ["..", ".", ""] {
            assert!(matches!(url(value), Err(TemplateError::Segment { .. })), "{value}");
        }
        assert_eq!(url("../a").unwrap(), "x/records/..%2Fa");
        for (body, value, wanted) in [
            ("{\"ttl\": ${ttl}}", "60", Ok("{\"ttl\": 60}")),
            ("{\"ttl\": ${ttl}}", "60, \"x\": 1", Err(())),
            ("{\"ttl\": ${ttl}}", "", Err(())),
            ("{\"a\\\"\": \"${ttl}\"}", "a\"b", Ok("{\"a\\\"\": \"a\\\"b\"}")),
        ] {
            let filled = Template::parse(body).unwrap().fill(&slots(&[("ttl", value)]), SlotPlace::Json);
            assert_eq!(filled.as_deref().map_err(|_| ()), wanted, "{body} {value}");
        }
    }

    #[test]
    fn every_shipped_recipe_reads_and_fills() {
        for (name, text) in SHIPPED {
            let recipe = parse_recipe(text).unwrap_or_else(|m| panic!("{name}: {m:?}"));
            let mut slots: Slots = recipe.slots().into_iter().map(|s| (s.to_owned(), format!("<{s}>"))).collect();
            slots.insert("address".into(), "https://panel.lampholm.example/api".into());
            slots.insert("ttl".into(), "60".into());
            slots.insert("values".into(), recipe.join_values(&["\"one\"".into()], &slots).unwrap());
            for request in [&recipe.add, &recipe.remove] {
                let filled = request.fill(recipe.format, &slots).unwrap();
                assert!(filled.url.starts_with("https://panel.lampholm.example/api/"), "{name}");
                let body = filled.body.unwrap_or_else(|| "{}".into());
                assert!(serde_json::from_str::<Value>(&body).is_ok(), "{name}: {body}");
            }
        }
    }

    #[test]
    fn every_shipped_recipe_for_certificates_reads_and_has_a_value_for_each_slot() {
        for (name, text) in SHIPPED_UPLOADS {
            let recipe = parse_upload_recipe(text).unwrap_or_else(|m| panic!("{name}: {}", m.in_one_line()));
            let unknown: Vec<&str> = recipe
                .slots()
                .into_iter()
                .filter(|slot| !UPLOAD_SLOTS.contains(slot) && *slot != "namespace")
                .collect();
            assert_eq!(unknown, [""; 0], "{name}");
        }
        let lacking = parse_upload_recipe("[active]\nmethod = \"GET\"\nurl = \"x\"").unwrap_err().in_one_line();
        assert!(lacking.contains("upload") && lacking.contains("certificate = "), "{lacking}");
    }

    proptest::proptest! {
        #[test]
        fn filled_json_stays_json(value in ".{0,40}") {
            let body = Template::parse("{\"name\": \"${name}\"}").unwrap();
            let filled = body.fill(&slots(&[("name", &value)]), SlotPlace::Json).unwrap();
            let read: Value = serde_json::from_str(&filled).unwrap();
            proptest::prop_assert_eq!(read, json!({"name": value}));
        }
    }
}
