//! Versions and ciphers of TLS for all that a Dovecot serves.

use super::tree::{Statement, parse};
use crate::splice::{Edit, lines_behind};
use crate::survey::Survey;
use eskort_core::https::TlsLevel;

/// Returns the edits that bring Dovecot to a level, each with the number of its file. What blocks say for themselves stays.
pub(crate) fn level(survey: &Survey, level: TlsLevel) -> Vec<(usize, Edit)> {
    let least = level.protocols()[0];
    let wanted: Vec<(&str, &str)> = [("ssl_min_protocol", Some(least)), ("ssl_cipher_list", level.ciphers())]
        .into_iter()
        .filter_map(|(name, value)| Some((name, value?)))
        .collect();
    let mut edits = Vec::new();
    let mut missing = wanted.clone();
    // New lines go behind those that name the certificate.
    let mut at = (0, None);
    for (n, file) in survey.files.iter().enumerate() {
        let Ok(statements) = parse(&file.path, &file.bytes) else { continue };
        let mut index = 0;
        while let Some(statement) = statements.get(index) {
            index += 1;
            match statement {
                Statement::Block { end, .. } => index = *end,
                Statement::Setting { name, value, range } => {
                    if matches!(name.as_str(), "ssl_cert" | "ssl_key" | "ssl_server_cert_file" | "ssl_server_key_file")
                    {
                        at = (n, Some(range.end));
                    }
                    let Some((known, new)) = wanted.iter().find(|(known, _)| known == name) else { continue };
                    missing.retain(|(name, _)| name != known);
                    if value != new {
                        edits.push((n, Edit::replace(range.clone(), *new)));
                    }
                }
                Statement::Include { .. } => {}
            }
        }
    }
    let lines: Vec<String> = missing.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let (file, place) = at;
    edits.extend(lines_behind(&survey.files[file].bytes, place, &lines).map(|edit| (file, edit)));
    edits
}
