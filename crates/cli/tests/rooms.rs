//! The structure of the tree, read from its `use` lines: no circle of files, and the arrows that docs/architecture.md draws.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

fn crates() -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/.."))
}

/// The files of a crate by their modules: `keep::run`, and an empty name for the root.
fn modules(src: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut folders = vec![src.to_owned()];
    while let Some(folder) = folders.pop() {
        for path in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "rs") && path.file_stem().unwrap() != "tests" {
                let inner = path.strip_prefix(src).unwrap().with_extension("");
                let mut parts: Vec<_> = inner.iter().map(|part| part.to_str().unwrap()).collect();
                parts.pop_if(|last| ["mod", "lib", "main"].contains(last));
                let text = std::fs::read_to_string(&path).unwrap();
                let code = text.split("#[cfg(test)]\nmod tests").next().unwrap();
                let code = code.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>();
                found.insert(parts.join("::"), code.join("\n"));
            }
        }
    }
    found
}

/// Takes `a::{b, c::{d}}` apart into its paths.
fn paths(tree: &str) -> Vec<String> {
    let tree = tree.trim();
    let Some((lead, inner)) = tree.split_once('{') else {
        return vec![tree.split(" as ").next().unwrap().trim().to_owned()];
    };
    let inner = inner.trim_end().strip_suffix('}').unwrap_or(inner);
    let (mut parts, mut depth) = (vec![String::new()], 0);
    for c in inner.chars() {
        depth += i32::from(c == '{') - i32::from(c == '}');
        match c {
            ',' if depth == 0 => parts.push(String::new()),
            c => parts.last_mut().unwrap().push(c),
        }
    }
    parts
        .iter()
        .filter(|part| !part.trim().is_empty())
        .flat_map(|part| paths(&format!("{lead}{}", part.trim())))
        .collect()
}

/// The trees of a module's `use` lines, each with whether it is handed on.
fn uses(code: &str) -> Vec<(bool, Vec<String>)> {
    let mut found = Vec::new();
    let mut rest = code;
    while let Some(at) = rest.find("use ") {
        let begins = rest[..at].rsplit('\n').next().unwrap();
        let tail = &rest[at + 4..];
        let end = tail.find(';').unwrap_or(0);
        if begins.is_empty() || begins.starts_with("pub") || begins.trim().is_empty() {
            found.push((begins.contains("pub"), paths(&tail[..end])));
        }
        rest = &tail[end..];
    }
    // What is named in the code itself.
    for lead in ["crate::", "super::"] {
        for (at, _) in code.match_indices(lead) {
            let named = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
            let end = code[at..].find(|c| !named(c)).unwrap_or(0);
            found.push((false, vec![code[at..at + end].trim_end_matches(':').to_owned()]));
        }
    }
    found
}

/// Returns the module of a path, seen from another.
fn resolve(
    modules: &BTreeMap<String, String>,
    handed_on: &BTreeMap<(String, String), String>,
    from: &str,
    path: &str,
) -> Option<String> {
    let mut parts = path.split("::").peekable();
    let mut at = match *parts.peek()? {
        "crate" => String::new(),
        "super" | "self" => from.to_owned(),
        first if modules.contains_key(&join(from, first)) => from.to_owned(),
        _ => return None,
    };
    for part in parts {
        at = match part {
            "crate" | "self" => at,
            "super" => at.rsplit_once("::").map_or(String::new(), |(up, _)| up.to_owned()),
            part if modules.contains_key(&join(&at, part)) => join(&at, part),
            part => return Some(handed_on.get(&(at.clone(), part.to_owned())).cloned().unwrap_or(at)),
        };
    }
    Some(at)
}

fn join(above: &str, name: &str) -> String {
    if above.is_empty() { name.to_owned() } else { format!("{above}::{name}") }
}

/// Which modules each module of a crate uses.
fn arrows(src: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let modules = modules(src);
    let used: BTreeMap<&String, Vec<(bool, Vec<String>)>> =
        modules.iter().map(|(name, code)| (name, uses(code))).collect();
    let mut handed_on = BTreeMap::new();
    for (name, trees) in &used {
        for path in trees.iter().filter(|(on, _)| *on).flat_map(|(_, paths)| paths) {
            let last = path.rsplit("::").next().unwrap();
            if let Some(to) = resolve(&modules, &BTreeMap::new(), name, path) {
                handed_on.insert(((*name).clone(), last.to_owned()), to);
            }
        }
    }
    let mut arrows = BTreeMap::new();
    for (name, trees) in &used {
        let to = trees.iter().filter(|(on, _)| !on).flat_map(|(_, paths)| paths);
        let to: BTreeSet<String> = to
            .filter_map(|path| resolve(&modules, &handed_on, name, path))
            // What a module says about its own parts is no arrow.
            .filter(|to| to != *name && !to.starts_with(&join(name, "")))
            .collect();
        arrows.insert((*name).clone(), to);
    }
    arrows
}

/// Returns the modules that lie on a circle.
fn on_a_circle(arrows: &BTreeMap<String, BTreeSet<String>>) -> Vec<String> {
    let reaches_itself = |start: &&String| {
        let (mut seen, mut open) = (BTreeSet::new(), vec![*start]);
        while let Some(at) = open.pop() {
            for to in arrows.get(at).into_iter().flatten() {
                if to == *start {
                    return true;
                }
                if seen.insert(to) {
                    open.push(to);
                }
            }
        }
        false
    };
    arrows.keys().filter(reaches_itself).cloned().collect()
}

fn names() -> Vec<String> {
    let entries = std::fs::read_dir(crates()).unwrap().map(|entry| entry.unwrap());
    let mut names: Vec<String> = entries.map(|entry| entry.file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[test]
fn no_files_of_a_crate_use_each_other_in_a_circle() {
    let places = |pairs: &[(&str, &[&str])]| -> BTreeMap<String, BTreeSet<String>> {
        pairs.iter().map(|(a, to)| ((*a).to_owned(), to.iter().map(|t| (*t).to_owned()).collect())).collect()
    };
    assert_eq!(on_a_circle(&places(&[("a", &["b"]), ("b", &["c"]), ("c", &["b"])])), ["b", "c"]);
    let mut seen = 0;
    for name in names() {
        let arrows = arrows(&crates().join(&name).join("src"));
        seen += arrows.values().map(BTreeSet::len).sum::<usize>();
        assert_eq!(on_a_circle(&arrows), Vec::<String>::new(), "crate {name}: {arrows:#?}");
    }
    assert!(seen > 200, "only {seen} arrows were read");
}

#[test]
fn the_arrows_between_crates_are_those_of_the_architecture() {
    let text = std::fs::read_to_string(crates().join("../docs/architecture.md")).unwrap();
    let table = text.split("## The parts").nth(1).unwrap().split("\n## ").next().unwrap();
    let rows = table.lines().filter_map(|line| line.strip_prefix("| `"));
    let mut drawn: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for row in rows {
        let cells: Vec<&str> = row.trim_end_matches('|').split(" | ").collect();
        let needs = cells[2].split([',', '–']).map(str::trim).filter(|name| !name.is_empty());
        drawn.insert(cells[0].trim_matches('`').to_owned(), needs.map(str::to_owned).collect());
    }
    let mut found: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for name in names() {
        let manifest = std::fs::read_to_string(crates().join(&name).join("Cargo.toml")).unwrap();
        let needs = manifest.split("[dependencies]").nth(1).unwrap_or("").split("\n[").next().unwrap();
        let needs = needs.lines().filter_map(|line| line.strip_prefix("eskort-")?.split('.').next());
        found.insert(name, needs.map(str::to_owned).collect());
    }
    assert_eq!(drawn, found);
}
