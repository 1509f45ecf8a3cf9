//! Records over an HTTP API, as a recipe says.

use super::change::Change;
use crate::ProofError;
use eskort_core::inventory::WebApi;
use eskort_core::recipe::{Recipe, SHIPPED, SLOTS, SlotPlace, Slots, TemplateError};
use eskort_core::record::{Record, RecordType};
use eskort_inventory::parse_recipe;
use eskort_talk::{ApiError, KnownRecipe, load_recipe};

/// A conversation with an API, for one proof.
pub(super) struct Api {
    recipe: Recipe,
    api: eskort_talk::Api,
    ttl: u32,
}

impl Api {
    pub(super) fn open(settings: &WebApi, ttl: u32) -> Result<Self, ProofError> {
        let known = KnownRecipe { shipped: SHIPPED, parse: |text| parse_recipe(text).map_err(|e| e.in_one_line()) };
        let (recipe, place) = load_recipe(&settings.recipe, &known)?;
        let api = eskort_talk::Api::open(settings, (recipe.format, place), &recipe.slots(), SLOTS, recipe.hidden())?;
        Ok(Api { recipe, api, ttl })
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
            0 => Ok(self.api.ask(&self.recipe.remove, &slots).await.map(drop)?),
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
        Ok(self.api.ask(&self.recipe.add, &slots).await?.pop())
    }

    /// Removes a record from an API that takes one at a time; it may be gone already.
    pub(super) async fn remove(&self, zone: &str, record: &Record, id: Option<&str>) -> Result<(), ProofError> {
        let mut slots = self.slots(zone, record, id)?;
        let wants_id = self.recipe.remove.url.slots().chain(self.recipe.remove.body.iter().flat_map(|b| b.slots()));
        if wants_id.into_iter().any(|slot| slot == "id") && id.is_none() {
            if self.recipe.find.is_none() {
                return Err(ApiError::NoId { url: slots["address"].clone() }.into());
            }
            for id in self.find(&slots).await? {
                slots.insert("id".into(), id);
                self.api.ask(&self.recipe.remove, &slots).await?;
            }
            return Ok(());
        }
        Ok(self.api.ask(&self.recipe.remove, &slots).await.map(drop)?)
    }

    fn slots(&self, zone: &str, record: &Record, id: Option<&str>) -> Result<Slots, ProofError> {
        let mut slots: Slots = self.api.slots.clone();
        let in_zone = record.name.strip_suffix(zone).map_or(record.name.as_str(), |rest| rest.trim_end_matches('.'));
        let known = [
            ("name", record.name.as_str()),
            ("name-in-zone", if in_zone.is_empty() { "@" } else { in_zone }),
            ("zone", zone),
            ("type", record.kind.word()),
            ("text", &record.text),
        ];
        slots.extend(known.map(|(name, value)| (name.to_owned(), value.to_owned())));
        slots.insert("ttl".into(), self.ttl.to_string());
        slots.extend(id.map(|id| ("id".to_owned(), id.to_owned())));
        let template = match record.kind {
            RecordType::Txt => Some(&self.recipe.value),
            RecordType::Cname => self.recipe.cname_value.as_ref(),
            RecordType::Tlsa => None,
        };
        let add = &self.recipe.add;
        let mut named = add.url.slots().chain(add.body.iter().flat_map(|body| body.slots()));
        let value = match (template, record.kind) {
            (Some(template), _) => template.fill(&slots, SlotPlace::Plain).map_err(|e| self.bad_recipe(&e))?,
            // Its data stands as it is where the recipe says the type.
            (None, RecordType::Tlsa) if named.any(|slot| slot == "type") => record.text.clone(),
            (None, RecordType::Tlsa) => {
                return Err(self.api.recipe_lacks("it places TXT records only: its `add` has no `{type}`").into());
            }
            (None, _) => {
                return Err(self.api.recipe_lacks("it places TXT records only: it has no `cname-value`").into());
            }
        };
        slots.insert("value".into(), value);
        Ok(slots)
    }

    fn bad_recipe(&self, error: &TemplateError) -> ProofError {
        self.api.bad_recipe(error).into()
    }

    async fn find(&self, slots: &Slots) -> Result<Vec<String>, ProofError> {
        let Some(find) = &self.recipe.find else { return Ok(Vec::new()) };
        Ok(self.api.ask(find, slots).await?)
    }

    async fn read_values(&self, slots: &Slots) -> Result<Vec<String>, ProofError> {
        let read = self.recipe.read.as_ref().expect("only called for recipes that read");
        Ok(self.api.ask(read, slots).await?)
    }

    async fn replace_values(&self, slots: &mut Slots, values: &[String]) -> Result<(), ProofError> {
        let joined = self.recipe.join_values(values, slots).map_err(|e| self.bad_recipe(&e))?;
        slots.insert("values".into(), joined);
        Ok(self.api.ask(&self.recipe.add, slots).await.map(drop)?)
    }
}
