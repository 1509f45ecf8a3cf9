//! Plans for each server program, each a folder: `edit/SERVER/CASE/in` has the configuration, `wish` says for which names, `out` has the files as they
//! should become, and `plan` what else is planned. `ESKORT_GOLDEN=write` writes the last two.

#![expect(clippy::unwrap_used, reason = "a test stops at the first thing that is not as it should be")]
#![expect(clippy::disallowed_methods, reason = "tests of a pure crate touch the world")]

use eskort_core::https::{Hsts, HttpsWishes, Prefer, TlsLevel};
use eskort_core::inventory::Part;
use eskort_core::names::Identifier;
use eskort_core::software::Software;
use eskort_siteconf::nginx::{self, Sites};
use eskort_siteconf::{Endpoint, FileChange, PlanError, Present, RepointTarget, TlsTarget, apache, repoint, survey};
use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Where the files of `in` lie for the server.
const FOLDER: &str = "/etc/server";

/// The files of a folder, by their paths below it.
fn files(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let pattern = folder.join("**/*").display().to_string();
    let found = glob::glob(&pattern).unwrap().map(Result::unwrap).filter(|path| path.is_file());
    found.map(|path| (path.strip_prefix(folder).unwrap().to_owned(), fs::read(&path).unwrap())).collect()
}

fn read<'a>(files: &'a BTreeMap<PathBuf, Vec<u8>>) -> impl FnMut(&Path) -> io::Result<Vec<(PathBuf, Vec<u8>)>> + 'a {
    |pattern| {
        let below = pattern.strip_prefix(FOLDER).map_err(|_| io::ErrorKind::NotFound)?;
        let wanted = glob::Pattern::new(&below.to_string_lossy()).unwrap();
        let options = glob::MatchOptions { require_literal_separator: true, ..glob::MatchOptions::new() };
        let hits = files.iter().filter(|(path, _)| wanted.matches_path_with(path, options));
        let found: Vec<_> = hits.map(|(path, bytes)| (Path::new(FOLDER).join(path), bytes.clone())).collect();
        match found.is_empty() && !pattern.to_string_lossy().contains('*') {
            true => Err(io::ErrorKind::NotFound.into()),
            false => Ok(found),
        }
    }
}

/// What is planned: the files that change, and what there is to say of it.
type Planned = (Vec<FileChange>, String);

fn plan(
    software: Software,
    files: &BTreeMap<PathBuf, Vec<u8>>,
    wish: &BTreeMap<&str, Vec<&str>>,
) -> Result<Planned, PlanError> {
    let main = Path::new(FOLDER).join(wish["main"][0]);
    let names: Vec<Identifier> = wish["names"][0].split(' ').map(|name| name.parse().unwrap()).collect();
    let endpoints = |endpoints: &[Endpoint]| {
        let line = |e: &Endpoint| {
            let (ip, port) =
                (e.ip.map(|ip| format!(" at {ip}")), e.port.map_or("unseen".to_owned(), |port| port.to_string()));
            format!("endpoint {}:{port}{}\n", e.name, ip.unwrap_or_default())
        };
        endpoints.iter().map(line).collect::<String>()
    };
    let present = |path: &Path| {
        let lines = wish.get("present")?.iter().map(|line| line.split(' ').collect::<Vec<_>>());
        let words = lines.filter(|words| Path::new(words[0]) == path).collect::<Vec<_>>().pop()?;
        let names = words[1..].iter().filter(|word| **word != "other-kind").map(|word| (*word).to_owned()).collect();
        Some(Present { names, same_kind: !words.contains(&"other-kind") })
    };
    if software == Software::Nginx {
        let config = nginx::load(&main, &mut read(files)).unwrap();
        let (bundle, key) = (Path::new("/srv/tls/bundle.pem"), Path::new("/srv/tls/key.pem"));
        let word = |key: &str| wish.get(key).map(|words| words[0]);
        let target = TlsTarget {
            present: &present,
            wishes: wishes(wish),
            hsts_age: hsts_age(wish),
            has_responder: word("stapling").map(|word| word == "yes"),
            version: word("minor").map(|minor| [1, minor.parse().unwrap(), 1]),
            ..TlsTarget::new(&names, bundle, key)
        };
        let planned = nginx::plan(&config, &Sites::find(&config), &target)?;
        let findings: String = planned.findings.iter().map(|finding| format!("finding {}\n", finding.text)).collect();
        return Ok((planned.changes, endpoints(&planned.endpoints) + &findings));
    }
    let mut files = files.clone();
    let mut gained: Vec<FileChange> = Vec::new();
    let mut make = |files: &mut BTreeMap<PathBuf, Vec<u8>>, changes: Vec<FileChange>| {
        for change in changes {
            files.insert(change.path.strip_prefix(FOLDER).unwrap().to_owned(), change.new.clone());
            match gained.iter_mut().find(|known| known.path == change.path) {
                Some(known) => known.new = change.new,
                None => gained.push(change),
            }
        }
    };
    let (bundle, key) = (Path::new("/srv/tls/bundle.pem"), Path::new("/srv/tls/key.pem"));
    let target = TlsTarget {
        wishes: wishes(wish),
        hsts_age: hsts_age(wish),
        has_responder: wish.get("stapling").map(|words| words[0] == "yes"),
        ..TlsTarget::new(&names, bundle, key)
    };
    let of_apache = |files: &BTreeMap<PathBuf, Vec<u8>>| {
        (software == Software::Apache).then(|| apache::load(&main, &mut read(files)).unwrap())
    };
    if let Some(known) = of_apache(&files) {
        make(&mut files, apache::gain_tls(&known, &target)?);
    }
    let found = survey(software, &main, &mut read(&files)).unwrap();
    let path = |part: Part| Path::new("/srv/tls").join(part.file_name());
    let planned = repoint(
        software,
        &found,
        &RepointTarget { names: &names, parts: &path, present: &present, level: target.wishes.tls },
    )?;
    let mut text = endpoints(&planned.endpoints);
    planned.parts.iter().for_each(|part| writeln!(text, "names {}", part.word()).unwrap());
    planned
        .placed
        .iter()
        .for_each(|(part, path)| writeln!(text, "writes {} to {}", part.word(), path.display()).unwrap());
    make(&mut files, planned.changes);
    if let Some(known) = of_apache(&files) {
        let (changes, findings) = apache::grant(&known, &target)?;
        make(&mut files, changes);
        findings.iter().for_each(|finding| writeln!(text, "finding {}", finding.text).unwrap());
    }
    Ok((gained, text))
}

fn hsts_age(wish: &BTreeMap<&str, Vec<&str>>) -> u32 {
    let number = |key: &str| wish.get(key).map(|words| words[0].parse::<u32>().unwrap());
    number("ramp").or(number("hsts")).unwrap_or_default()
}

fn wishes(wish: &BTreeMap<&str, Vec<&str>>) -> HttpsWishes {
    let word = |key: &str| wish.get(key).map(|words| words[0]);
    HttpsWishes {
        redirect: wish.contains_key("redirect"),
        prefer: word("prefer").and_then(|word| Prefer::ALL.into_iter().find(|prefer| prefer.word() == word)),
        hsts: word("ramp").map(|_| Hsts::Ramp).or(word("hsts").map(|_| Hsts::Fixed(hsts_age(wish)))),
        tls: word("tls").and_then(|word| TlsLevel::ALL.into_iter().find(|level| level.word() == word)),
        http2: wish.contains_key("http2"),
        stapling: wish.contains_key("stapling"),
        tls_port: None,
    }
}

#[test]
fn each_plan_is_as_it_should_be_and_changes_nothing_the_second_time() {
    let all = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/edit");
    let cases: Vec<PathBuf> =
        glob::glob(&all.join("*/*/wish").display().to_string()).unwrap().map(Result::unwrap).collect();
    assert!(cases.len() >= 20, "{}", cases.len());
    for wish in cases {
        let case = wish.parent().unwrap();
        let word = case.parent().unwrap().file_name().unwrap().to_str().unwrap();
        let software = Software::ALL.into_iter().find(|software| software.word() == word).unwrap();
        let (text, before) = (fs::read_to_string(&wish).unwrap(), files(&case.join("in")));
        let mut wish: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (key, value) in text.lines().filter_map(|line| line.split_once(" = ")) {
            wish.entry(key).or_default().push(value);
        }
        let mut after = before.clone();
        let said = match plan(software, &before, &wish) {
            Ok((changes, said)) => {
                for change in &changes {
                    after.insert(change.path.strip_prefix(FOLDER).unwrap().to_owned(), change.new.clone());
                }
                let again = plan(software, &after, &wish).unwrap_or_else(|e| panic!("{}: {e}", case.display()));
                assert_eq!(again, (Vec::new(), said.clone()), "{}: planned again", case.display());
                said
            }
            Err(error) => format!("refused: {error}\n"),
        };
        let changed: BTreeMap<PathBuf, Vec<u8>> =
            after.into_iter().filter(|(path, bytes)| before.get(path) != Some(bytes)).collect();
        if std::env::var_os("ESKORT_GOLDEN").is_some_and(|word| word == "write") {
            let _ = fs::remove_dir_all(case.join("out"));
            for (path, bytes) in &changed {
                let path = case.join("out").join(path);
                fs::create_dir_all(path.parent().unwrap()).unwrap();
                fs::write(path, bytes).unwrap();
            }
            fs::write(case.join("plan"), said).unwrap();
            continue;
        }
        let wanted = fs::read_to_string(case.join("plan")).unwrap();
        assert_eq!(said, wanted, "{}", case.display());
        let shown = |files: &BTreeMap<PathBuf, Vec<u8>>| -> Vec<String> {
            files
                .iter()
                .map(|(path, bytes)| format!("{}:\n{}", path.display(), String::from_utf8_lossy(bytes)))
                .collect()
        };
        assert_eq!(shown(&changed), shown(&files(&case.join("out"))), "{}", case.display());
    }
}
