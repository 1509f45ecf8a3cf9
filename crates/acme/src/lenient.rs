//! Fields that an authority may leave out, set to null or fill with something odd, without the rest being lost.

use serde::{Deserialize, Deserializer, de::DeserializeOwned};
use serde_json::Value;

/// Reads a field; whatever is not as it should be is taken for missing.
pub(crate) fn or_default<'de, D: Deserializer<'de>, T: DeserializeOwned + Default>(from: D) -> Result<T, D::Error> {
    Ok(serde_json::from_value(Value::deserialize(from)?).unwrap_or_default())
}

/// Reads a list; elements that are not as they should be are passed over.
pub(crate) fn elements<'de, D: Deserializer<'de>, T: DeserializeOwned>(from: D) -> Result<Vec<T>, D::Error> {
    let elements: Vec<Value> = or_default(from)?;
    Ok(elements.into_iter().filter_map(|element| serde_json::from_value(element).ok()).collect())
}
