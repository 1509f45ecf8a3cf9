//! Fuzzes the reading of an inventory, and of a recipe: what is wrong is said with a place that the text has, and what is read can be
//! asked.
#![no_main]

use eskort_inventory::{Mistakes, parse_inventory, parse_recipe};

fn check(source: &str, mistakes: &Mistakes) {
    assert!(!mistakes.0.is_empty());
    for mistake in &mistakes.0 {
        let line = source.split('\n').nth(mistake.line - 1).expect("the line is there");
        assert!(mistake.column - 1 <= line.chars().count() && mistake.width >= 1, "{mistake:?}");
    }
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let source = String::from_utf8_lossy(bytes);
    match parse_inventory(&source) {
        Err(mistakes) => check(&source, &mistakes),
        Ok(inventory) => {
            for (name, certificate) in &inventory.certificates {
                assert!(inventory.authorities.contains_key(&certificate.authority), "{name}");
                assert!(!name.contains('/') && !name.starts_with('.'), "{name} becomes a folder");
                for identifier in &certificate.names {
                    let _ = inventory.proof_of(certificate, identifier);
                }
            }
        }
    }
    if let Err(mistakes) = parse_recipe(&source) {
        check(&source, &mistakes);
    }
});
