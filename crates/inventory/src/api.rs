//! Reads how an HTTP API is talked to.

use crate::fields::secret;
use crate::recipe::{RECIPE, UPLOAD_RECIPE, record_recipe, upload_recipe};
use crate::table::{Section, nearest};
use eskort_core::inventory::{RecipeSource, WebApi};
use eskort_core::recipe::{Recipe, SHIPPED, SHIPPED_UPLOADS, UploadRecipe};
use std::path::PathBuf;

/// What is known of the recipes of one kind.
pub(crate) struct Recipes<R: 'static> {
    pub(crate) keys: &'static [&'static str],
    pub(crate) shipped: &'static [(&'static str, &'static str)],
    pub(crate) read: fn(&Section<'_>) -> Option<R>,
}

pub(crate) const RECORDS: Recipes<Recipe> = Recipes { keys: RECIPE, shipped: SHIPPED, read: record_recipe };
pub(crate) const UPLOADS: Recipes<UploadRecipe> =
    Recipes { keys: UPLOAD_RECIPE, shipped: SHIPPED_UPLOADS, read: upload_recipe };

/// Reads the keys with which an API is talked to.
pub(crate) fn parse_web_api<R>(section: &Section<'_>, recipes: &Recipes<R>) -> Option<WebApi<R>> {
    let recipe = match section.get("recipe").map(|value| value.get_ref().as_table().is_some()) {
        None => {
            let example =
                format!("recipe = \"{}\", or a file \"recipe.toml\"", recipes.shipped[recipes.shipped.len() - 1].0);
            section.missing("recipe", &example);
            None
        }
        Some(true) => {
            let (table, span) = section.table("recipe")?;
            let below = section.below(table, span, "this recipe", recipes.keys);
            (recipes.read)(&below).map(|r| RecipeSource::Inline(Box::new(r)))
        }
        Some(false) => match section.text("recipe")? {
            text if text.value.ends_with(".toml") => Some(RecipeSource::File(PathBuf::from(text.value))),
            text => {
                let known: Vec<&str> = recipes.shipped.iter().map(|(name, _)| *name).collect();
                let found = known.iter().find(|k| **k == text.value);
                if found.is_none() {
                    let advice = nearest(text.value, &known).unwrap_or_else(|| {
                        let known = known.join(", ");
                        format!("shipped are: {known}; a recipe of your own is a file whose name ends with `.toml`")
                    });
                    section.note(text.span, format!("no recipe `{}` is shipped", text.value), Some(advice));
                }
                found.map(|name| RecipeSource::Shipped((*name).to_owned()))
            }
        },
    };
    let address = parse_address(section);
    let roots = section.path("roots");
    let secret = secret(section, "secret");
    Some(WebApi { recipe: recipe?, address: address?, roots, secret, with: section.words("with") })
}

/// Reads the first part of an API's addresses.
pub(crate) fn parse_address(section: &Section<'_>) -> Option<String> {
    if section.get("address").is_none() {
        section.missing("address", "address = \"https://panel.lampholm.example\"");
    }
    let wants = "a URL that begins with https:// (http:// on this machine only)";
    section.parsed("address", wants, |text| {
        let url = url::Url::parse(text).ok()?;
        let here = match url.host()? {
            url::Host::Ipv4(ip) => ip.is_loopback(),
            url::Host::Ipv6(ip) => ip.is_loopback(),
            url::Host::Domain(name) => name == "localhost",
        };
        let safe = url.scheme() == "https" || (url.scheme() == "http" && here);
        (safe && url.query().is_none()).then(|| url.as_str().trim_end_matches('/').to_owned())
    })
}
