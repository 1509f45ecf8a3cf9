//! Versions and ciphers of TLS for all that a lighttpd serves.

use super::tree::{Part, Statement, parse};
use crate::change::PlanError;
use crate::site::Place;
use crate::splice::{Edit, line_number, lines_behind};
use crate::survey::Survey;
use eskort_core::https::TlsLevel;

const COMMANDS: &str = "ssl.openssl.ssl-conf-cmd";

/// Returns the edits that bring lighttpd to a level, each with the number of its file: for all, and in conditions that say something else for
/// themselves.
///
/// # Errors
/// When a list of commands is put together of variables.
pub(crate) fn level(survey: &Survey, level: TlsLevel) -> Result<Vec<(usize, Edit)>, PlanError> {
    let mut wanted = vec![("MinProtocol", level.protocols()[0])];
    wanted.extend(level.ciphers().map(|ciphers| ("CipherString", ciphers)));
    let mut edits = Vec::new();
    let (mut is_there, mut at) = (false, (0, None));
    for (n, file) in survey.files.iter().enumerate() {
        let Ok(statements) = parse(&file.path, &file.bytes) else { continue };
        let mut behind = 0;
        for (index, statement) in statements.iter().enumerate() {
            let is_for_all = index >= behind;
            match statement {
                Statement::Condition { end, .. } if is_for_all => behind = *end,
                Statement::Setting { name, range, .. } if name == "ssl.pemfile" && is_for_all => {
                    at = (n, Some(range.end))
                }
                Statement::Setting { name, parts, range, .. } if name == COMMANDS => {
                    is_there |= is_for_all;
                    let refused = || PlanError::NotEdited {
                        place: Place {
                            path: file.path.clone(),
                            line: line_number(&file.bytes, range.start),
                            column: 1,
                            included_from: Vec::new(),
                        },
                        name: COMMANDS.to_owned(),
                    };
                    let known = pairs(parts).ok_or_else(refused)?;
                    let new = with(&known, &wanted);
                    if new != known {
                        edits.push((n, Edit::replace(range.clone(), written(&new))));
                    }
                }
                Statement::Setting { name, parts, range, .. } if name == "ssl.cipher-list" => {
                    let Some(ciphers) = level.ciphers() else { continue };
                    if !matches!(&parts[..], [Part::Text(known)] if known == ciphers) {
                        edits.push((n, Edit::replace(range.clone(), format!("\"{ciphers}\""))));
                    }
                }
                _ => {}
            }
        }
    }
    if !is_there {
        let line = format!("{COMMANDS} = {}", written(&with(&[], &wanted)));
        let (file, place) = at;
        edits.extend(lines_behind(&survey.files[file].bytes, place, &[line]).map(|edit| (file, edit)));
    }
    Ok(edits)
}

/// Reads a list of commands and their values; `None` where it is not all written out.
fn pairs(parts: &[Part]) -> Option<Vec<(String, String)>> {
    let texts: Option<Vec<&String>> =
        parts.iter().map(|part| if let Part::Text(text) = part { Some(text) } else { None }).collect();
    let texts = texts.filter(|texts| texts.len() % 2 == 0)?;
    Some(texts.chunks(2).map(|pair| (pair[0].clone(), pair[1].clone())).collect())
}

/// Returns the commands with those that are wanted; what else is said of versions goes.
fn with(known: &[(String, String)], wanted: &[(&str, &str)]) -> Vec<(String, String)> {
    let is_other = |(name, _): &&(String, String)| {
        !matches!(name.as_str(), "Protocol" | "MaxProtocol") && wanted.iter().all(|(known, _)| known != name)
    };
    let new = wanted.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
    new.chain(known.iter().filter(is_other).cloned()).collect()
}

fn written(pairs: &[(String, String)]) -> String {
    let pairs: Vec<String> = pairs.iter().map(|(name, value)| format!("\"{name}\" => \"{value}\"")).collect();
    format!("({})", pairs.join(", "))
}
