//! Versions and ciphers of TLS for all that an HAProxy listens at.

use super::tree::parse;
use crate::splice::{Edit, indent, line_end, lines_behind};
use crate::survey::Survey;
use eskort_core::https::TlsLevel;
use std::ops::Range;

/// Words that begin a section.
const SECTIONS: [&str; 18] = [
    "global",
    "defaults",
    "frontend",
    "backend",
    "listen",
    "peers",
    "resolvers",
    "userlist",
    "mailers",
    "program",
    "http-errors",
    "ring",
    "log-forward",
    "cache",
    "fcgi-app",
    "crt-store",
    "traces",
    "log-profile",
];
const OPTIONS: &str = "ssl-default-bind-options";
const CIPHERS: &str = "ssl-default-bind-ciphers";

/// Returns the edits that bring HAProxy to a level, each with the number of its file: in `global`, and on lines that say something else for
/// themselves.
pub(crate) fn level(survey: &Survey, level: TlsLevel) -> Vec<(usize, Edit)> {
    let least = level.protocols()[0];
    let mut edits = Vec::new();
    let mut missing = vec![(OPTIONS, format!("ssl-min-ver {least}"))];
    missing.extend(level.ciphers().map(|ciphers| (CIPHERS, ciphers.to_owned())));
    // New lines go behind the word `global`, and are indented as what follows it.
    let (mut place, mut blanks): (Option<(usize, usize)>, Option<String>) = (None, None);
    for (n, file) in survey.files.iter().enumerate() {
        let text = |range: &Range<usize>| String::from_utf8_lossy(&file.bytes[range.clone()]).into_owned();
        let mut section = String::new();
        for line in parse(&file.bytes) {
            let words: Vec<String> = line.words.iter().map(text).collect();
            if SECTIONS.contains(&words[0].as_str()) {
                section.clone_from(&words[0]);
                if section == "global" && place.is_none() {
                    place = line.words.last().map(|word| (n, word.end));
                }
                continue;
            }
            if section == "global" && blanks.is_none() {
                blanks = Some(String::from_utf8_lossy(indent(&file.bytes, line.words[0].start)).into_owned());
            }
            match words[0].as_str() {
                OPTIONS | CIPHERS if section == "global" => {
                    let Some((name, wanted)) = missing.iter().find(|(name, _)| *name == words[0]).cloned() else {
                        continue;
                    };
                    missing.retain(|(known, _)| *known != name);
                    let new = if name == OPTIONS { options(&words[1..], &wanted) } else { wanted };
                    if words[1..].join(" ") != new
                        && let (Some(first), Some(last)) = (line.words.get(1), line.words.last())
                    {
                        edits.push((n, Edit::replace(first.start..last.end, new)));
                    }
                }
                "bind" if words.iter().any(|word| word == "ssl") => {
                    for (word, value) in [("ssl-min-ver", Some(least)), ("ciphers", level.ciphers())] {
                        let at = words.iter().position(|known| known == word).map(|at| at + 1);
                        let (Some(value), Some(range)) = (value, at.and_then(|at| line.words.get(at))) else {
                            continue;
                        };
                        if text(range) != value {
                            edits.push((n, Edit::replace(range.clone(), value)));
                        }
                    }
                }
                _ => {}
            }
        }
    }
    let blanks = blanks.unwrap_or_else(|| "    ".to_owned());
    let lines: Vec<String> = missing.iter().map(|(name, value)| format!("{blanks}{name} {value}")).collect();
    match place {
        Some((file, at)) => {
            edits.extend(lines_behind(&survey.files[file].bytes, Some(at), &lines).map(|edit| (file, edit)));
        }
        None => {
            let end = line_end(&survey.files[0].bytes);
            edits.push((0, Edit::insert(0, format!("global{end}{}{end}", lines.join(end)))));
        }
    }
    edits
}

/// Returns options with this lowest version and no word about versions beside it.
fn options(words: &[String], least: &str) -> String {
    let mut kept = Vec::new();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        match word.as_str() {
            "ssl-min-ver" | "ssl-max-ver" => drop(words.next()),
            word if ["no-sslv", "no-tlsv", "force-"].iter().any(|begin| word.starts_with(begin)) => {}
            word => kept.push(word),
        }
    }
    kept.insert(0, least);
    kept.join(" ")
}
