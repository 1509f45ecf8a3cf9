//! Adding to an inventory's text: what stands there stays as it is to the byte.

use std::fmt::Write;
use std::path::PathBuf;

/// What a new inventory begins with.
const HEAD: &str = "\
# What should be: authorities, ways to prove control, servers, and certificates. `eskort keep` brings everything to where it
# should be, and can be run at any time. docs/inventory.md explains every key; `eskort keep --plan` says what would be done.
";

/// What to add.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Addition {
    /// A mail address for authorities, where the inventory has none.
    pub contact: Option<String>,
    /// An authority that speaks ACME.
    pub authority: Option<NewAuthority>,
    /// A way to prove control.
    pub proof: Option<NewProof>,
    /// Servers that have nothing in the inventory yet.
    pub servers: Vec<NewServer>,
    /// The certificate.
    pub certificate: NewCertificate,
}

/// An authority that speaks ACME.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewAuthority {
    /// Its name in the inventory.
    pub name: String,
    /// The address of its directory.
    pub directory: String,
    /// Whether a person agrees to its terms.
    pub accept_terms: bool,
}

/// A way to prove control.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewProof {
    /// Its name in the inventory.
    pub name: String,
    /// The folder of the site's pages; `None` for a listener of our own.
    pub folder: Option<PathBuf>,
}

/// A server whose configuration is read and changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewServer {
    /// Its name in the inventory.
    pub name: String,
    /// Its kind, in the inventory's word.
    pub kind: String,
    /// Its main file.
    pub config: PathBuf,
}

/// A certificate.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NewCertificate {
    /// Its name in the inventory.
    pub name: String,
    /// The names on it.
    pub names: Vec<String>,
    /// The authority; `None` where there is but one.
    pub authority: Option<String>,
    /// The proof; `None` where the authority asks for none.
    pub proof: Option<String>,
    /// The servers to install it on.
    pub install: Vec<String>,
}

/// Returns an inventory's text with the addition, and the addition alone. An empty text becomes an inventory that explains itself.
pub fn add_to_inventory(text: &str, addition: &Addition) -> (String, String) {
    let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let is_new = text.trim().is_empty();
    let sections = sections(addition, is_new);
    let contact = addition.contact.as_ref().map(|contact| format!("contact = {}\n", quoted(contact)));
    let contact = contact.unwrap_or_default();
    let added = format!("{contact}{sections}");
    let with_ends = |text: &str| text.replace('\n', line_end);
    // A key of the whole file has to stand before the first section.
    let mut whole = if is_new { format!("{HEAD}\n{contact}") } else { with_ends(&contact) + text };
    if !whole.ends_with('\n') {
        whole.push_str(line_end);
    }
    whole.push_str(&with_ends(&sections));
    (whole, added)
}

fn sections(addition: &Addition, explain: bool) -> String {
    let mut out = String::new();
    let note = |text: &str| if explain { format!("   # {text}") } else { String::new() };
    // Writing to a string cannot fail.
    let mut line = |text: std::fmt::Arguments<'_>| writeln!(out, "{text}").unwrap_or_default();
    if let Some(NewAuthority { name, directory, accept_terms }) = &addition.authority {
        line(format_args!("\n[authority.{}]", key(name)));
        line(format_args!("kind = \"acme\""));
        line(format_args!("directory = {}", quoted(directory)));
        line(format_args!("accept-terms = {accept_terms}{}", note("whether you agree to the authority's terms")));
    }
    if let Some(NewProof { name, folder }) = &addition.proof {
        line(format_args!("\n[proof.{}]", key(name)));
        match folder {
            Some(folder) => {
                line(format_args!(
                    "kind = \"http-folder\"{}",
                    note("a file among the site's pages, while the authority looks")
                ));
                line(format_args!("folder = {}", quoted(&folder.display().to_string())));
            }
            None => line(format_args!(
                "kind = \"http-listener\"{}",
                note("Eskort answers on port 80 itself, while the authority looks")
            )),
        }
    }
    for NewServer { name, kind, config } in &addition.servers {
        line(format_args!("\n[server.{}]", key(name)));
        line(format_args!("kind = {}", quoted(kind)));
        line(format_args!("config = {}", quoted(&config.display().to_string())));
    }
    let NewCertificate { name, names, authority, proof, install } = &addition.certificate;
    line(format_args!("\n[certificate.{}]", key(name)));
    let all: Vec<String> = names.iter().map(|name| quoted(name)).collect();
    match all.iter().map(String::len).sum::<usize>() {
        0..=90 => line(format_args!("names = [{}]", all.join(", "))),
        _ => line(format_args!("names = [\n    {},\n]", all.join(",\n    "))),
    }
    for (what, value) in [("authority", authority), ("proof", proof)] {
        if let Some(value) = value {
            line(format_args!("{what} = {}", quoted(value)));
        }
    }
    if !install.is_empty() {
        let servers: Vec<String> = install.iter().map(|server| format!("{{ server = {} }}", quoted(server))).collect();
        line(format_args!("install = [{}]", servers.join(", ")));
    }
    out
}

/// Returns a key of TOML: bare where it can be.
fn key(name: &str) -> String {
    let bare = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_');
    if !name.is_empty() && name.bytes().all(bare) { name.to_owned() } else { quoted(name) }
}

/// Returns a text as a basic string of TOML.
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => write!(out, "\\u{:04X}", u32::from(c)).unwrap_or_default(),
            c => out.push(c),
        }
    }
    out + "\""
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parse_inventory;

    fn addition() -> Addition {
        Addition {
            contact: Some("keeper@lampholm.example".into()),
            authority: Some(NewAuthority {
                name: "public".into(),
                directory: "https://ca.example/directory".into(),
                accept_terms: true,
            }),
            proof: Some(NewProof { name: "pages".into(), folder: Some("/srv/www/a \"b\"\\c".into()) }),
            servers: vec![NewServer {
                name: "nginx".into(),
                kind: "nginx".into(),
                config: "/etc/nginx/nginx.conf".into(),
            }],
            certificate: NewCertificate {
                name: "website".into(),
                names: vec!["lampholm.example".into(), "www.lampholm.example".into()],
                authority: None,
                proof: Some("pages".into()),
                install: vec!["nginx".into()],
            },
        }
    }

    #[test]
    fn a_new_inventory_is_read_as_it_was_meant_and_explains_itself() {
        let (text, added) = add_to_inventory("", &addition());
        assert!(
            text.starts_with("# What should be")
                && text.contains("accept-terms = true   # whether")
                && !added.contains("What should be")
        );
        let read = parse_inventory(&text).unwrap();
        let entry = &read.certificates["website"];
        assert_eq!((entry.names.len(), &*entry.authority, entry.proof.as_deref()), (2, "public", Some("pages")));
        assert_eq!(entry.install[0].server, "nginx");
        assert!(
            matches!(&read.proofs["pages"], eskort_core::inventory::Proof::HttpFolder { folder, .. } if folder.ends_with("a \"b\"\\c"))
        );
    }

    #[test]
    fn what_stands_there_stays_to_the_byte() {
        let (first, _) = add_to_inventory("", &addition());
        let more = NewCertificate {
            name: "shop".into(),
            names: vec!["shop.lampholm.example".into()],
            proof: Some("pages".into()),
            ..NewCertificate::default()
        };
        let more = Addition { certificate: more, ..Addition::default() };
        for before in [
            first.clone(),
            first.replace('\n', "\r\n"),
            first.trim_end().to_owned(),
            format!("# mine\n{first}\n# last"),
        ] {
            let (after, added) = add_to_inventory(&before, &more);
            assert!(after.starts_with(&before), "{after}");
            assert_eq!(after.contains("\r\n"), before.contains("\r\n"));
            assert!(!after.contains("\r\n") || after.matches('\n').count() == after.matches("\r\n").count());
            assert_eq!(parse_inventory(&after).unwrap().certificates.len(), 2);
            assert_eq!(added, "\n[certificate.shop]\nnames = [\"shop.lampholm.example\"]\nproof = \"pages\"\n");
        }
        // A contact goes to the top, above all sections.
        let contact = Addition { contact: Some("a@lampholm.example".into()), ..more };
        let (after, _) = add_to_inventory(&first.replace("contact = ", "# contact = "), &contact);
        assert!(after.starts_with("contact = \"a@lampholm.example\"\n# What"), "{after}");
    }

    proptest::proptest! {
        #[test]
        fn any_text_comes_back_from_a_quoted_one(text in "\\PC{0,20}[\"\\\\\t\u{7f}]?\\PC{0,5}") {
            let table: std::collections::BTreeMap<String, String> = toml::from_str(&format!("a = {}", quoted(&text))).unwrap();
            proptest::prop_assert_eq!(&table["a"], &text);
        }
    }
}
