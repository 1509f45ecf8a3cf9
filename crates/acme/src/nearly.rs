//! For property tests: documents that are nearly what they should be.

use proptest::prelude::*;
use proptest::sample::Index;
use serde_json::{Value, json};

/// Draws a document with a few changes, each anywhere in it: a member that is missing, or is something else.
pub(crate) fn nearly(good: &Value) -> impl Strategy<Value = Value> + use<> {
    let something = prop_oneof![
        Just(None),
        Just(Some(Value::Null)),
        any::<i64>().prop_map(|number| Some(json!(number))),
        any::<bool>().prop_map(|yes| Some(json!(yes))),
        Just(Some(json!([]))),
        Just(Some(json!({}))),
        "[ -~\u{1b}\u{202e}]{0,12}".prop_map(|text| Some(json!(text))),
        "http(s)?://[a-z.:/]{0,12}".prop_map(|text| Some(json!(text))),
    ];
    let good = good.clone();
    proptest::collection::vec((any::<Index>(), something), 0..4).prop_map(move |changes| {
        let mut document = good.clone();
        for (at, new) in changes {
            let pointers = pointers(&document, "");
            if pointers.is_empty() {
                break;
            }
            change(&mut document, at.get::<String>(&pointers), new);
        }
        document
    })
}

/// Returns a JSON pointer to each value below the root.
fn pointers(value: &Value, at: &str) -> Vec<String> {
    let members: Vec<(String, &Value)> = match value {
        Value::Object(members) => members.iter().map(|(name, value)| (name.clone(), value)).collect(),
        Value::Array(elements) => elements.iter().enumerate().map(|(n, value)| (n.to_string(), value)).collect(),
        _ => Vec::new(),
    };
    let below = |(name, value): (String, &Value)| {
        let at = format!("{at}/{name}");
        let mut found = pointers(value, &at);
        found.push(at);
        found
    };
    members.into_iter().flat_map(below).collect()
}

fn change(document: &mut Value, pointer: &str, new: Option<Value>) {
    let (parent, name) = pointer.rsplit_once('/').expect("a pointer below the root");
    match (document.pointer_mut(parent), new) {
        (Some(Value::Object(members)), None) => drop(members.remove(name)),
        (Some(Value::Array(elements)), None) => drop(elements.remove(name.parse().expect("an index"))),
        (Some(_), Some(new)) => *document.pointer_mut(pointer).expect("it was found there") = new,
        _ => unreachable!("a parent has members"),
    }
}
