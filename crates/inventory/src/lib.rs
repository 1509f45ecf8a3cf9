//! The inventory, `eskort.toml`: TOML text in, an [`Inventory`] or all its mistakes out.

mod addition;
mod api;
mod authority;
mod certificate;
mod fields;
mod host;
mod install;
mod mistake;
mod notify;
mod proof;
mod recipe;
mod server;
mod table;
#[cfg(test)]
mod tests;

pub use addition::{Addition, NewAuthority, NewCertificate, NewProof, NewServer, add_to_inventory};
pub use mistake::{Mistake, Mistakes};
pub use recipe::{parse_recipe, parse_upload_recipe};

use authority::{ACME, CSR, EST, parse_authority};
use certificate::{CERTIFICATE, Known, SUBJECT, parse_certificate};
use eskort_core::inventory::Inventory;
use eskort_core::keeping::Keeping;
use fields::{Entry, contact};
use host::{FTP, SSH, parse_host};
use install::INSTALL;
use jiff::SignedDuration;
use notify::{LOG, MAIL, NOTIFY_PROGRAM, WEBHOOK, parse_notify};
use proof::{BY_HAND, DNS_UPDATE, HTTP_FOLDER, HTTP_LISTENER, PROGRAM, STANDING, TLS_LISTENER, WEB_API, parse_proof};
use recipe::{RECIPE, REQUEST, UPLOAD_RECIPE, UPLOAD_REQUEST};
use server::{CLUSTER, CONFIGURED, COPY, FILES, KEYSTORE, PARCEL, TOLD, UPLOAD, parse_server};
use table::{Notes, Section};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

const TOP: &[&str] = &[
    "contact",
    "state",
    "keep-generations",
    "keep-days",
    "authority",
    "host",
    "proof",
    "server",
    "certificate",
    "notify",
];
/// Every section of an inventory with the keys it knows, titled as docs/inventory.md titles them.
pub const SECTIONS: &[(&str, &[&str])] = &[
    ("top of the file", TOP),
    ("[authority.NAME] of kind acme", ACME),
    ("[authority.NAME] of kind csr", CSR),
    ("[authority.NAME] of kind est", EST),
    ("[host.NAME] of kind ssh", SSH),
    ("[host.NAME] of kind ftp", FTP),
    ("[proof.NAME] of kind http-folder", HTTP_FOLDER),
    ("[proof.NAME] of kind http-listener", HTTP_LISTENER),
    ("[proof.NAME] of kind tls-listener", TLS_LISTENER),
    ("[proof.NAME] of kind dns-update", DNS_UPDATE),
    ("[proof.NAME] of kind web-api", WEB_API),
    ("recipe of a web-api proof", RECIPE),
    ("request of a recipe", REQUEST),
    ("[proof.NAME] of kind program", PROGRAM),
    ("[proof.NAME] of kind by-hand", BY_HAND),
    ("[proof.NAME] of kind standing-record", STANDING),
    ("[server.NAME] with a configuration", CONFIGURED),
    ("[server.NAME] of kind files", FILES),
    ("[server.NAME] of kind keystore", KEYSTORE),
    ("[server.NAME] of kind parcel", PARCEL),
    ("[server.NAME] of kind web-api", UPLOAD),
    ("recipe of a web-api server", UPLOAD_RECIPE),
    ("request of a recipe for certificates", UPLOAD_REQUEST),
    ("[server.NAME] of kind cluster-secret", CLUSTER),
    ("[server.NAME] of kind program", TOLD),
    ("copy of a files server", COPY),
    ("[certificate.NAME]", CERTIFICATE),
    ("subject of a certificate", SUBJECT),
    ("install of a certificate", INSTALL),
    ("[notify.NAME] of kind mail", MAIL),
    ("[notify.NAME] of kind webhook", WEBHOOK),
    ("[notify.NAME] of kind program", NOTIFY_PROGRAM),
    ("[notify.NAME] of kind log", LOG),
];

/// Reads an inventory.
///
/// # Errors
/// All its mistakes, each with its line: text that is not TOML, unknown keys, missing sections, names that are no names.
pub fn parse_inventory(source: &str) -> Result<Inventory, Mistakes> {
    let root = DeTable::parse(source).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        let what = format!("this is not TOML: {}", error.message().trim());
        Mistakes(vec![Mistake::at(source, span, what, None)])
    })?;
    let notes = Notes::new(source);
    let inventory = parse_root(root.get_ref(), &notes);
    let mistakes = notes.into_mistakes();
    if mistakes.is_empty() { Ok(inventory) } else { Err(Mistakes(mistakes)) }
}

fn parse_root<'a>(root: &'a DeTable<'a>, notes: &'a Notes<'a>) -> Inventory {
    let top = Section::open(root, 0..0, "the top of the file", TOP, notes);
    let usual = Keeping::default();
    let days = top.number("keep-days", 0..=36_500, u32::try_from(usual.time.as_hours() / 24).unwrap_or(30));
    let keeping = Keeping {
        generations: top.number("keep-generations", 2..=1000, usual.generations),
        time: SignedDuration::from_hours(24 * i64::from(days)),
    };
    let mut inventory = Inventory { contact: contact(&top), state: top.path("state"), keeping, ..Inventory::default() };
    for entry in named(root, "authority", notes) {
        inventory.authorities.extend(parse_authority(&entry, notes).map(|a| (entry.name.to_owned(), a)));
    }
    // A section with mistakes of its own still counts as present for those that point to it.
    let present = |kind| named(root, kind, &Notes::new("")).into_iter().map(|e| e.name).collect::<Vec<_>>();
    for entry in named(root, "host", notes) {
        inventory.hosts.extend(parse_host(&entry, notes).map(|h| (entry.name.to_owned(), h)));
    }
    let hosts = present("host");
    for entry in named(root, "proof", notes) {
        inventory.proofs.extend(parse_proof(&entry, &hosts, notes).map(|p| (entry.name.to_owned(), p)));
    }
    for entry in named(root, "server", notes) {
        inventory.servers.extend(parse_server(&entry, &inventory.hosts, notes));
    }
    let known = Known { authorities: present("authority"), proofs: present("proof"), servers: present("server") };
    for entry in named(root, "certificate", notes) {
        if let Some(certificate) = parse_certificate(&entry, &known, &inventory, notes) {
            inventory.certificates.insert(entry.name.to_owned(), certificate);
        }
    }
    for entry in named(root, "notify", notes) {
        inventory.notify.extend(parse_notify(&entry, notes).map(|notify| (entry.name.to_owned(), notify)));
    }
    inventory
}

fn named<'a>(root: &'a DeTable<'a>, kind: &str, notes: &Notes<'_>) -> Vec<Entry<'a>> {
    let Some(group) = root.iter().find(|(k, _)| k.get_ref() == kind).map(|(_, v)| v) else { return Vec::new() };
    let Some(tables) = group.get_ref().as_table() else {
        notes.add(group.span(), format!("`{kind}` wants sections of their own: [{kind}.NAME]"), None);
        return Vec::new();
    };
    let entry = |(key, value): (&'a Spanned<_>, &'a Spanned<DeValue<'a>>)| {
        let name: &'a str = AsRef::<str>::as_ref(Spanned::<std::borrow::Cow<'a, str>>::get_ref(key));
        let Some(table) = value.get_ref().as_table() else {
            notes.add(key.span(), format!("`{name}` wants a section of its own: [{kind}.{name}]"), None);
            return None;
        };
        // Names become folder names.
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if name.is_empty() || name.starts_with(['.', '-']) || !name.chars().all(plain) || name.len() > 100 {
            let what = format!("`{name}` cannot name a section");
            notes.add(key.span(), what, Some("use letters, digits, `-` and `_`, with a letter or digit first".into()));
            return None;
        }
        Some(Entry { name, title: format!("[{kind}.{name}]"), table, span: key.span() })
    };
    tables.iter().filter_map(entry).collect()
}
