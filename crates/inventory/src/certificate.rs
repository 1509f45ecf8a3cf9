//! Reads the sections of certificates.

use crate::fields::{Entry, named_section, points_to, renew_before};
use crate::install::parse_install;
use crate::table::{Notes, Section, nearest};
use eskort_core::inventory::{CertificateEntry, Inventory, Proof};
use eskort_core::names::Identifier;
use eskort_core::pki::{CsrSpecification, KeyKind, KeyUse, Subject, WantedExtension};
use std::collections::BTreeMap;
use std::ops::Range;
use toml::Spanned;

pub(crate) const CERTIFICATE: &[&str] = &[
    "names",
    "authority",
    "proof",
    "proof-for",
    "key",
    "keep-key",
    "key-file",
    "key-password-file",
    "must-staple",
    "profile",
    "renew-before",
    "usages",
    "extensions",
    "subject",
    "install",
];
pub(crate) const SUBJECT: &[&str] = &["common-name", "organization", "unit", "locality", "state", "country", "mail"];

/// The names of the sections that others point to.
pub(crate) struct Known<'a> {
    pub(crate) authorities: Vec<&'a str>,
    pub(crate) proofs: Vec<&'a str>,
    pub(crate) servers: Vec<&'a str>,
}

pub(crate) fn parse_certificate<'a>(
    entry: &'a Entry<'a>,
    known: &Known<'_>,
    inventory: &Inventory,
    notes: &'a Notes<'a>,
) -> Option<CertificateEntry> {
    let section = Section::open(entry.table, entry.span.clone(), &entry.title, CERTIFICATE, notes);
    let mut authorities = parse_authorities(&section, &known.authorities).into_iter();
    let (authority, other_authorities) = (authorities.next(), authorities);
    let known_authority = authority.and_then(|name| inventory.authorities.get(name));
    // One that speaks ACME and has roots of its own certifies what is known on its own network too.
    let speaks_acme = known_authority.is_none_or(|authority| authority.acme().is_some());
    let others: Vec<&str> = other_authorities.collect();
    if let Some(other) = others.iter().chain(&authority).find(|name| {
        !others.is_empty() && inventory.authorities.get(**name).is_some_and(|known| known.kind_word() != "acme")
    }) {
        let what = format!("`authority` lists several, and `{other}` is not of kind acme");
        section.note(section.span(), what, Some("only authorities of kind acme can take each other's place".into()));
    }
    let public = speaks_acme && known_authority.is_none_or(|authority| authority.visitor_roots.is_none());
    let names = parse_names(&section, public);
    if let Some(most) = known_authority.and_then(|authority| authority.most_names)
        && let Some(name) = names.get(most)
    {
        let what = format!("`names` has {}; the authority takes {most} on one certificate", names.len());
        section.note(name.span.clone(), what, Some("make two certificates of it".into()));
    }
    let proof_for = parse_proof_for(&section, &names, known);
    // Where every name has a proof of its own, there need be none for the rest.
    let covered = !names.is_empty() && names.iter().all(|name| proof_for.contains_key(&name.value));
    let needs_none = (covered || !speaks_acme) && section.get("proof").is_none();
    let proof = if needs_none { None } else { points_to(&section, "proof", &known.proofs, "proof") };
    for name in &names {
        let word = proof_for.get(&name.value).map(String::as_str).or(proof);
        if let Some(found) = word.and_then(|word| inventory.proofs.get(word)) {
            check_proves(&section, name, found);
        }
    }
    let profile = section.text("profile").map(|text| text.value.to_owned());
    if profile.is_some() && !speaks_acme {
        let advice = "it is a word of ACME; other authorities have another way to choose";
        section.note(section.span(), "`profile` is for authorities of kind acme", Some(advice.into()));
    }
    let first = names.first().map(|name| name.value.to_string());
    let csr = CsrSpecification {
        subject: parse_subject(&section, first),
        same_subject: None,
        must_staple: section.flag("must-staple"),
        usages: parse_usages(&section),
        extensions: parse_extensions(&section),
    };
    let kinds = "one of \"p256\", \"p384\", \"rsa2048\", \"rsa3072\", \"rsa4096\", \"ed25519\"";
    let key = section.parsed("key", kinds, |text| text.parse::<KeyKind>().ok()).unwrap_or_default();
    let on_it: Vec<&Identifier> = names.iter().map(|name| &name.value).collect();
    let tables = section.tables("install").into_iter();
    let install = tables
        .flat_map(|(table, span)| parse_install(table, span, (&known.servers, inventory), &on_it, notes))
        .collect();
    Some(CertificateEntry {
        authority: authority?.to_owned(),
        other_authorities: others.into_iter().map(str::to_owned).collect(),
        proof: if needs_none { None } else { Some(proof?.to_owned()) },
        proof_for,
        names: names.into_iter().map(|name| name.value).collect(),
        key,
        csr,
        profile,
        renew_before: renew_before(&section),
        keep_key: section.flag("keep-key"),
        key_file: section.path("key-file"),
        key_password_file: section.path("key-password-file"),
        install,
    })
}

/// Reads the authority, or several in the order in which they are asked.
fn parse_authorities<'k>(section: &Section<'_>, known: &[&'k str]) -> Vec<&'k str> {
    if section.get("authority").is_none_or(|value| value.get_ref().as_array().is_none()) {
        return points_to(section, "authority", known, "authority").into_iter().collect();
    }
    let texts = section.texts("authority").unwrap_or_default();
    let mut authorities: Vec<&str> = Vec::new();
    for text in &texts {
        match named_section(section, text, known, "authority") {
            Some(name) if authorities.contains(&name) => {
                section.note(
                    text.span.clone(),
                    format!("`{name}` is listed twice"),
                    Some("remove one of the two".into()),
                );
            }
            name => authorities.extend(name),
        }
    }
    if texts.is_empty() {
        section.missing("authority", "authority = [\"public\", \"other\"], the one to ask first in front");
    }
    authorities
}

fn parse_usages(section: &Section<'_>) -> Vec<KeyUse> {
    let mut usages = Vec::new();
    for text in section.texts("usages").unwrap_or_default() {
        match KeyUse::parse(text.value) {
            Some(usage) => usages.push(usage),
            None => {
                let words = KeyUse::ALL.map(KeyUse::word);
                let advice = nearest(text.value, &words).unwrap_or_else(|| format!("known: {}", words.join(", ")));
                section.note(text.span, format!("`{}` is not a key usage", text.value), Some(advice));
            }
        }
    }
    usages
}

fn parse_extensions(section: &Section<'_>) -> Vec<WantedExtension> {
    let mut extensions = Vec::new();
    for (oid, hex) in section.entries("extensions") {
        match WantedExtension::parse(oid.value, hex.value) {
            Ok(extension) => extensions.push(extension),
            Err(error) => section.note(oid.span, error.to_string(), Some("like \"1.2.3.4\" = \"0500\"".into())),
        }
    }
    extensions
}

/// Reads the subject. With `common-name` the certificate's first name stands in it again.
fn parse_subject(section: &Section<'_>, first: Option<String>) -> Subject {
    let Some((table, span)) = section.table("subject") else { return Subject::default() };
    let part = section.below(table, span, "this `subject`", SUBJECT);
    // RFC 5280 appendix A.1 says how long the parts may be.
    let text = |key, most: usize| {
        let wants = format!("a text of at most {most} characters");
        part.parsed(key, &wants, |t| (!t.trim().is_empty() && t.chars().count() <= most).then(|| t.trim().to_owned()))
    };
    let country = part.parsed("country", "two letters like \"NL\"", |t| {
        (t.len() == 2 && t.bytes().all(|b| b.is_ascii_alphabetic())).then(|| t.to_ascii_uppercase())
    });
    let mail = part.parsed("mail", "a mail address", |t| (t.is_ascii() && t.contains('@')).then(|| t.to_owned()));
    Subject {
        common_name: first.filter(|_| part.flag("common-name")),
        organization: text("organization", 64),
        unit: text("unit", 64),
        locality: text("locality", 128),
        state: text("state", 128),
        country,
        mail,
    }
}

/// A name and where it stands.
struct Name {
    value: Identifier,
    span: Range<usize>,
}

/// `public` is set for authorities that certify names in full only.
fn parse_names(section: &Section<'_>, public: bool) -> Vec<Name> {
    let mut names: Vec<Name> = Vec::new();
    let Some(texts) = section.texts("names") else {
        if section.get("names").is_none() {
            section.missing("names", "names = [\"www.lampholm.example\"], with your site's names");
        }
        return names;
    };
    if texts.is_empty() {
        let span = section.get("names").map_or(section.span(), Spanned::span);
        section.note(span, "`names` is empty: a certificate is for at least one name", None);
    }
    for text in texts {
        match if public { Identifier::parse(text.value) } else { Identifier::parse_any(text.value) } {
            Err(error) => section.note(text.span, error.to_string(), error.advice()),
            Ok(name) if names.iter().any(|n| n.value == name) => {
                section.note(text.span, format!("`{name}` is listed twice"), Some("remove one of the two".into()));
            }
            Ok(value) => names.push(Name { value, span: text.span }),
        }
    }
    names
}

fn parse_proof_for(section: &Section<'_>, names: &[Name], known: &Known<'_>) -> BTreeMap<Identifier, String> {
    let mut chosen = BTreeMap::new();
    for (key, text) in section.entries("proof-for") {
        let name = Identifier::parse_any(key.value).ok().filter(|n| names.iter().any(|known| known.value == *n));
        let proof = named_section(section, &text, &known.proofs, "proof");
        match (name, proof) {
            (None, _) => {
                let what = format!("`proof-for` has `{}`, which is not among `names`", key.value);
                section.note(key.span, what, None);
            }
            (Some(name), Some(proof)) => drop(chosen.insert(name, proof.to_owned())),
            (Some(_), None) => {}
        }
    }
    chosen
}

/// Notes a name that its proof cannot prove.
fn check_proves(section: &Section<'_>, name: &Name, proof: &Proof) {
    let (value, kind) = (&name.value, proof.kind());
    if value.is_wildcard() && !proof.challenges().iter().any(|w| w.proves_wildcards()) {
        section.note(
            name.span.clone(),
            format!("`{value}` is a wildcard, and `{kind}` cannot prove a wildcard"),
            Some("use a proof of kind \"dns-update\", \"web-api\" or \"by-hand\", or list the names one by one".into()),
        );
    }
    if value.address().is_some() && !proof.challenges().iter().any(|w| w.proves_addresses()) {
        let advice = "use a proof over HTTP for it; `proof-for` gives single names a proof of their own";
        let what = format!("`{value}` is an address, and `{kind}` cannot prove an address");
        section.note(name.span.clone(), what, Some(advice.into()));
    }
}
