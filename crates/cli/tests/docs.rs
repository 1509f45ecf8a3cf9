//! The documents hold what the program does.

use crate::world::Place;
use eskort_inventory::{SECTIONS, read_inventory};

use std::path::PathBuf;

fn document(name: &str) -> String {
    let path = PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../..")).join(name);
    std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
}

#[test]
fn every_key_of_the_inventory_is_explained_and_no_other() {
    let text = document("docs/inventory.md");
    let mut explained: Vec<(String, Vec<String>)> = Vec::new();
    for line in text.lines() {
        if let Some(title) = line.strip_prefix("## ") {
            explained.push((title.replace('`', ""), Vec::new()));
        } else if let Some(key) = line.strip_prefix("| `").and_then(|l| l.split('`').next()) {
            explained.last_mut().unwrap().1.push(key.to_owned());
            assert_eq!(line.matches(" | ").count(), 3, "key, meaning, default, example: {line}");
        }
    }
    explained.retain(|(_, keys)| !keys.is_empty());
    let known: Vec<(String, Vec<String>)> =
        SECTIONS.iter().map(|(t, keys)| ((*t).to_owned(), keys.iter().map(|k| (*k).to_owned()).collect())).collect();
    assert_eq!(explained, known);
}

#[test]
fn every_example_of_an_inventory_reads_without_mistakes() {
    for name in ["README.md", "docs/inventory.md"] {
        let text = document(name);
        let examples: Vec<&str> = text.split("```toml\n").skip(1).filter_map(|t| t.split("```").next()).collect();
        assert!(!examples.is_empty(), "{name} has an example");
        for example in examples {
            read_inventory(example).unwrap_or_else(|e| panic!("{name}: {e:?}\n{example}"));
        }
    }
}

#[test]
fn every_command_is_in_the_readme_and_every_picture_is_there() {
    let readme = document("README.md");
    let help = Place::new().run(&["--help"]).out;
    let commands = help.split("Commands:").nth(1).unwrap().split("Options:").next().unwrap();
    let names: Vec<&str> = commands
        .lines()
        .filter(|l| l.starts_with("  ") && !l.starts_with("   "))
        .filter_map(|l| l.split_whitespace().next())
        .collect();
    assert!(names.contains(&"keep"), "{help}");
    for name in names {
        assert!(readme.contains(&format!("`eskort {name}")), "README.md lacks `eskort {name}`");
    }
    for link in readme.split("](").skip(1).filter_map(|t| t.split(')').next()).filter(|l| !l.contains("://")) {
        let path = PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../..")).join(link);
        assert!(path.exists(), "README.md links {link}");
    }
}
