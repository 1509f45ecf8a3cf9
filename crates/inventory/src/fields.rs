//! Reads what stands in sections of several kinds.

use crate::table::{Notes, Section, Text, nearest};
use eskort_core::inventory::{CheckAddress, ProgramRules, SecretSource};
use std::ops::Range;
use std::time::Duration;
use toml::de::DeTable;

/// A table like `[proof.pages]`.
pub(crate) struct Entry<'a> {
    pub(crate) name: &'a str,
    pub(crate) title: String,
    pub(crate) table: &'a DeTable<'a>,
    pub(crate) span: Range<usize>,
}

pub(crate) fn contact(section: &Section<'_>) -> Option<String> {
    section.parsed("contact", "a mail address", |text| {
        let bare = text.strip_prefix("mailto:").unwrap_or(text);
        let (user, domain) = bare.split_once('@')?;
        (!user.is_empty() && domain.contains('.') && !bare.contains([' ', ',', '?'])).then(|| bare.to_owned())
    })
}

pub(crate) fn check_address(section: &Section<'_>) -> Option<CheckAddress> {
    section.parsed("check-address", "an address like \"127.0.0.1\" or \"127.0.0.1:8080\"", |t| t.parse().ok())
}

/// Returns the kind a section names; notes it when missing or unknown.
pub(crate) fn kind<'a>(entry: &Entry<'a>, known: &[&'static str], notes: &Notes<'_>) -> Option<&'static str> {
    let quoted: Vec<String> = known.iter().map(|k| format!("\"{k}\"")).collect();
    let Some((_, value)) = entry.table.iter().find(|(k, _)| k.get_ref() == "kind") else {
        let advice = format!("add a line: kind = {}", quoted.join(" or "));
        notes.add(entry.span.clone(), format!("{} has no `kind`", entry.title), Some(advice));
        return None;
    };
    let word = value.get_ref().as_str().unwrap_or_default();
    let found = known.iter().find(|k| **k == word).copied();
    if found.is_none() {
        let advice = nearest(word, known).unwrap_or_else(|| format!("known kinds: {}", quoted.join(", ")));
        notes.add(value.span(), format!("{} has an unknown kind `{word}`", entry.title), Some(advice));
    }
    found
}

/// Reads how the programs of a section are run.
pub(crate) fn program_rules(section: &Section<'_>) -> ProgramRules {
    let mut environment = Vec::new();
    for text in section.texts("env").unwrap_or_default() {
        let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
        if text.value.is_empty() || !text.value.chars().all(plain) {
            let what = format!("`{}` is not the name of an environment variable", text.value);
            section.note(text.span, what, Some("`env` has names only: env = [\"LAMP_TOKEN\"]".into()));
        } else {
            environment.push(text.value.to_owned());
        }
    }
    let usual = ProgramRules::default();
    let user = section.text("user").map(|t| t.value.to_owned());
    ProgramRules { environment, user, timeout: duration(section, "timeout", usual.timeout) }
}

pub(crate) fn duration(section: &Section<'_>, key: &str, usual: Duration) -> Duration {
    let parsed = section.parsed(key, "a time like \"30s\" or \"2m\"", |text| {
        let time: jiff::SignedDuration = text.parse().ok()?;
        Duration::try_from(time).ok().filter(|d| !d.is_zero())
    });
    parsed.unwrap_or(usual)
}

/// Reads a time in days, or in the units of other times.
pub(crate) fn days(text: &str) -> Option<jiff::SignedDuration> {
    let time = match text.strip_suffix('d').map(str::parse::<u16>) {
        Some(days) => jiff::SignedDuration::from_hours(24 * i64::from(days.ok()?)),
        None => text.parse().ok()?,
    };
    (time.is_positive() && time <= jiff::SignedDuration::from_hours(24 * 365)).then_some(time)
}

/// Reads how long before the end of a certificate its renewal begins at the latest.
pub(crate) fn renew_before(section: &Section<'_>) -> Option<jiff::SignedDuration> {
    section.parsed("renew-before", "a time like \"30d\" or \"72h\"", days)
}

/// Returns the section that a key points to. Where there is only one section of the kind, the key may be left out.
pub(crate) fn points_to<'k>(section: &Section<'_>, key: &str, known: &[&'k str], kind: &str) -> Option<&'k str> {
    let Some(_) = section.get(key) else {
        return match known {
            [only] => Some(only),
            [] => {
                let what = format!("the inventory has no [{kind}.NAME] section");
                section.note(section.span(), what, Some(format!("add a [{kind}.NAME] section; see docs/inventory.md")));
                None
            }
            _ => {
                section.missing(key, &format!("{key} = \"{}\"", known[0]));
                None
            }
        };
    };
    named_section(section, &section.text(key)?, known, kind)
}

/// Returns the section that a text names; notes it when there is none.
pub(crate) fn named_section<'k>(
    section: &Section<'_>,
    text: &Text<'_>,
    known: &[&'k str],
    kind: &str,
) -> Option<&'k str> {
    let found = known.iter().find(|k| **k == text.value).copied();
    if found.is_none() {
        let advice = nearest(text.value, known).unwrap_or_else(|| format!("add a section [{kind}.{}]", text.value));
        section.note(text.span.clone(), format!("the inventory has no [{kind}.{}]", text.value), Some(advice));
    }
    found
}

/// Reads where a secret is: `KEY-file` or `KEY-env`.
pub(crate) fn secret(section: &Section<'_>, key: &str) -> Option<SecretSource> {
    match (section.path(&format!("{key}-file")), section.text(&format!("{key}-env"))) {
        (Some(path), None) => Some(SecretSource::File(path)),
        (None, Some(name)) => Some(SecretSource::Env(name.value.to_owned())),
        (None, None) => None,
        (Some(path), Some(second)) => {
            let what = format!("`{key}-file` and `{key}-env` both say where the secret is");
            section.note(second.span, what, Some("keep one of the two".into()));
            Some(SecretSource::File(path))
        }
    }
}
