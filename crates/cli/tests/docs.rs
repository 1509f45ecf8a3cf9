//! The documents hold what the program does.

use crate::world::Place;
use eskort_inventory::{SECTIONS, parse_inventory};

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
            parse_inventory(example).unwrap_or_else(|e| panic!("{name}: {e:?}\n{example}"));
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

#[test]
fn the_glossary_has_each_word_once_and_none_of_the_old_ones_is_left() {
    let glossary = document("docs/glossary.md");
    let words = glossary.lines().filter_map(|line| line.strip_prefix("| ")?.split(" | ").next());
    let mut words: Vec<&str> = words.filter(|word| *word != "word" && !word.starts_with("---")).collect();
    let count = words.len();
    words.sort_unstable();
    words.dedup();
    assert!(words.len() == count && count > 20, "{words:?}");
    // Words that were given up: as they stood in code, keys, messages and documents.
    let old = [
        "patience",
        "lead-days",
        "lead_days",
        "pick-up",
        "pick_up",
        "errand",
        "RealHands",
        "CsrWish",
        "LookFirst",
        "look_first",
        "write_whole",
        "costs_too_much",
        "is not to be seen",
        "did not get to its end",
        "a bug of ours",
        "let us in",
        "Say every",
        "fits no key",
        "is of no use:",
        "no name in full",
        "wants to be asked again at",
        "does not hold",
        "signature_holds",
        "holds something else",
        "--told",
        "mark_told",
        "put_in_place",
    ];
    let mut read = 0;
    let mut folders = vec![PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))];
    let passed_over = ["target", "fuzz", ".git", "tests", "screenshots", "CHANGELOG.md"];
    while let Some(folder) = folders.pop() {
        for path in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            let name = path.file_name().unwrap().to_str().unwrap();
            if passed_over.contains(&name) {
                continue;
            }
            if path.is_dir() {
                folders.push(path);
            } else if name.ends_with(".rs") || name.ends_with(".md") || name.ends_with(".toml") {
                let text = std::fs::read_to_string(&path).unwrap();
                let left: Vec<&&str> = old.iter().filter(|word| text.contains(**word)).collect();
                assert!(left.is_empty(), "{}: {left:?}", path.display());
                read += 1;
            }
        }
    }
    assert!(read > 150, "only {read} files were read");
}

#[test]
fn the_reference_of_all_commands_is_what_the_program_takes() {
    let place = crate::world::Place::new();
    let made = place.run(&["man", "--reference"]);
    made.check(0, &["## `eskort keep`", "## `eskort csr make`"]);
    let known = document("docs/commands.md");
    assert_eq!(known.trim(), made.out.trim(), "`cargo run -- man --reference > docs/commands.md` makes it anew");
}

#[test]
fn manual_pages_and_completions_are_what_man_and_the_shells_read() {
    let place = crate::world::Place::new();
    let title = concat!(".TH eskort-csr-make 1  \"eskort ", env!("CARGO_PKG_VERSION"), "\"");
    place.run(&["man", "csr", "make"]).check(0, &[title, "eskort\\-csr\\-make"]);
    place.run(&["man", "csr", "mend"]).check(2, &["`csr mend` is no command"]);
    place.run(&["man", "--to", "pages"]).check(0, &["pages are in pages"]);
    for name in ["eskort", "eskort-keep", "eskort-csr-make", "eskort-man"] {
        assert!(place.read(&format!("pages/{name}.1")).contains(".SH SYNOPSIS"), "{name}");
    }
    place.write("completions", &place.run(&["completions", "bash"]).out);
    let script = "source ./completions; COMP_WORDS=(eskort ke); COMP_CWORD=1; _eskort eskort ke eskort; echo \"${COMPREPLY[@]}\"";
    let bash = std::process::Command::new("bash").args(["-c", script]).current_dir(place.dir.path()).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&bash.stdout).trim(), "keep");
}

#[test]
fn the_rubric_of_ratings_is_that_of_the_code() {
    use eskort_core::rating::{RANGES, RUBRIC, RUBRIC_VERSION};
    let page = document("docs/rating.md");
    let rows: Vec<&str> = page.lines().filter(|line| line.starts_with("| `")).collect();
    let wanted: Vec<String> = RUBRIC
        .iter()
        .map(|rule| {
            let cap = rule.cap.map(|cap| cap.to_string()).unwrap_or_default();
            format!("| `{}` | {} | {cap} | {} |", rule.code, rule.cost, rule.why)
        })
        .collect();
    assert_eq!(rows, wanted);
    assert!(page.contains(&format!("version `{RUBRIC_VERSION}`")));
    for (least, word) in RANGES {
        assert!(page.contains(&format!("| {least} to ")) && page.contains(&format!("| {word} |")), "{word}");
    }
}
