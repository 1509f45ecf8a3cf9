//! Reads an inventory: TOML text in, an [`Inventory`] or all its mistakes out.

use super::authority::{ACME, CSR, EST, read_authority};
use super::host::{FTP, SSH, read_host};
use super::proof::{
    BY_HAND, DNS_UPDATE, HTTP_FOLDER, HTTP_LISTENER, PROGRAM, STANDING, TLS_LISTENER, WEB_API, read_proof,
};
use super::recipe::{RECIPE, REQUEST};
use super::section::{Notes, Section, Text, nearest};
use super::*;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

const TOP: &[&str] = &["contact", "state", "authority", "host", "proof", "server", "certificate"];
const NGINX: &[&str] =
    &["kind", "config", "tls-port", "test", "reload", "check-address", "settle", "env", "user", "timeout"];
const FILES: &[&str] = &["kind", "copy", "run", "check-address", "settle", "env", "user", "timeout"];
const COPY: &[&str] = &["part", "to", "owner", "group", "mode"];
const CERTIFICATE: &[&str] = &[
    "names",
    "authority",
    "proof",
    "proof-for",
    "key",
    "keep-key",
    "key-file",
    "key-password-file",
    "must-staple",
    "usages",
    "extensions",
    "subject",
    "install",
];
const SUBJECT: &[&str] = &["common-name", "organization", "unit", "locality", "state", "country", "mail"];
const INSTALL: &[&str] = &["server", "redirect"];

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
    ("[server.NAME] of kind nginx", NGINX),
    ("[server.NAME] of kind files", FILES),
    ("copy of a files server", COPY),
    ("[certificate.NAME]", CERTIFICATE),
    ("subject of a certificate", SUBJECT),
    ("install of a certificate", INSTALL),
];

const USUAL_SETTLE: Duration = Duration::from_secs(30);

/// Reads an inventory.
///
/// # Errors
/// All its mistakes, each with its line: text that is not TOML, unknown keys, missing sections, names that are no names.
pub fn read_inventory(source: &str) -> Result<Inventory, Mistakes> {
    let root = DeTable::parse(source).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        let what = format!("this is not TOML: {}", error.message().trim());
        Mistakes(vec![Mistake::at(source, span, what, None)])
    })?;
    let notes = Notes::new(source);
    let inventory = read_root(root.get_ref(), &notes);
    let mistakes = notes.into_mistakes();
    if mistakes.is_empty() { Ok(inventory) } else { Err(Mistakes(mistakes)) }
}

fn read_root<'a>(root: &'a DeTable<'a>, notes: &'a Notes<'a>) -> Inventory {
    let top = Section::open(root, 0..0, "the top of the file", TOP, notes);
    let mut inventory = Inventory { contact: contact(&top), state: top.path("state"), ..Inventory::default() };
    for entry in named(root, "authority", notes) {
        inventory.authorities.extend(read_authority(&entry, notes).map(|a| (entry.name.to_owned(), a)));
    }
    // A section with mistakes of its own still counts as present for those that point to it.
    let present = |kind| named(root, kind, &Notes::new("")).into_iter().map(|e| e.name).collect::<Vec<_>>();
    for entry in named(root, "host", notes) {
        inventory.hosts.extend(read_host(&entry, notes).map(|h| (entry.name.to_owned(), h)));
    }
    let hosts = present("host");
    for entry in named(root, "proof", notes) {
        inventory.proofs.extend(read_proof(&entry, &hosts, notes).map(|p| (entry.name.to_owned(), p)));
    }
    for entry in named(root, "server", notes) {
        inventory.servers.extend(read_server(&entry, notes).map(|s| (entry.name.to_owned(), s)));
    }
    let known = Known { authorities: present("authority"), proofs: present("proof"), servers: present("server") };
    for entry in named(root, "certificate", notes) {
        if let Some(certificate) = read_certificate(&entry, &known, &inventory, notes) {
            inventory.certificates.insert(entry.name.to_owned(), certificate);
        }
    }
    inventory
}

/// The names of the sections that others point to.
struct Known<'a> {
    authorities: Vec<&'a str>,
    proofs: Vec<&'a str>,
    servers: Vec<&'a str>,
}

/// A table like `[proof.pages]`.
pub(super) struct Entry<'a> {
    pub(super) name: &'a str,
    pub(super) title: String,
    pub(super) table: &'a DeTable<'a>,
    pub(super) span: Range<usize>,
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

pub(super) fn contact(section: &Section<'_>) -> Option<String> {
    section.parsed("contact", "a mail address", |text| {
        let bare = text.strip_prefix("mailto:").unwrap_or(text);
        let (user, domain) = bare.split_once('@')?;
        (!user.is_empty() && domain.contains('.') && !bare.contains([' ', ',', '?'])).then(|| bare.to_owned())
    })
}

pub(super) fn check_address(section: &Section<'_>) -> Option<CheckAddress> {
    section.parsed("check-address", "an address like \"127.0.0.1\" or \"127.0.0.1:8080\"", |t| t.parse().ok())
}

/// Returns the kind a section names; notes it when missing or unknown.
pub(super) fn kind<'a>(entry: &Entry<'a>, known: &[&'static str], notes: &Notes<'_>) -> Option<&'static str> {
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

fn read_server<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Server> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let (section, kind) = match kind(entry, &["nginx", "files"], notes)? {
        "nginx" => {
            let section = open(NGINX);
            let config = section.path("config").unwrap_or_else(|| PathBuf::from("/etc/nginx/nginx.conf"));
            let tls_port = section.number("tls-port", 1..=65_535, 443);
            let tls_port = u16::try_from(tls_port).expect("the range is that of ports");
            let (test, reload) = (section.command("test"), section.command("reload"));
            (section, ServerKind::Nginx { config, tls_port, test, reload })
        }
        _ => {
            let section = open(FILES);
            if section.get("copy").is_none() {
                section.missing("copy", "copy = [{ part = \"bundle\", to = \"/etc/app/tls.pem\" }]");
            }
            let copies = section.tables("copy").into_iter();
            let copies = copies.filter_map(|(table, span)| read_copy(table, span, notes)).collect();
            (section, ServerKind::Files { copies, run: section.command("run").unwrap_or_default() })
        }
    };
    let settle = duration(&section, "settle", USUAL_SETTLE);
    Some(Server { kind, check_address: check_address(&section), settle, rules: program_rules(&section) })
}

/// Reads how the programs of a section are run.
pub(super) fn program_rules(section: &Section<'_>) -> ProgramRules {
    let mut environment = Vec::new();
    for text in section.texts("env").unwrap_or_default() {
        let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
        if text.value.is_empty() || !text.value.chars().all(plain) {
            let what = format!("`{}` names no variable of the environment", text.value);
            section.note(text.span, what, Some("`env` has names only: env = [\"LAMP_TOKEN\"]".into()));
        } else {
            environment.push(text.value.to_owned());
        }
    }
    let usual = ProgramRules::default();
    let user = section.text("user").map(|t| t.value.to_owned());
    ProgramRules { environment, user, timeout: duration(section, "timeout", usual.timeout) }
}

pub(super) fn duration(section: &Section<'_>, key: &str, usual: Duration) -> Duration {
    let parsed = section.parsed(key, "a time like \"30s\" or \"2m\"", |text| {
        let time: jiff::SignedDuration = text.parse().ok()?;
        Duration::try_from(time).ok().filter(|d| !d.is_zero())
    });
    parsed.unwrap_or(usual)
}

fn read_copy<'a>(table: &'a DeTable<'a>, span: Range<usize>, notes: &'a Notes<'a>) -> Option<FileCopy> {
    let section = Section::open(table, span, "this `copy`", COPY, notes);
    for (key, example) in [("part", "part = \"bundle\""), ("to", "to = \"/etc/app/tls.pem\"")] {
        if section.get(key).is_none() {
            section.missing(key, example);
        }
    }
    let part = section.parsed("part", "one of \"bundle\", \"certificate\", \"intermediates\", \"key\"", |text| {
        Part::ALL.into_iter().find(|p| p.word() == text)
    });
    let to = section.path("to");
    let mode = match section.get("mode") {
        None => part?.usual_mode(),
        Some(_) => section.parsed("mode", "four octal digits like \"0640\"", |text| {
            u32::from_str_radix(text, 8).ok().filter(|m| *m <= 0o777)
        })?,
    };
    let part = part?;
    if part == Part::Key && mode & 0o007 != 0 {
        let at = section.text("mode").map_or(section.span(), |t| t.span);
        section.note(at, "a private key must not be open to everybody", Some("use mode = \"0600\" or \"0640\"".into()));
    }
    let word = |key| section.text(key).map(|t: super::section::Text<'_>| t.value.to_owned());
    Some(FileCopy { part, to: to?, owner: word("owner"), group: word("group"), mode })
}

fn read_certificate<'a>(
    entry: &'a Entry<'a>,
    known: &Known<'_>,
    inventory: &Inventory,
    notes: &'a Notes<'a>,
) -> Option<CertificateEntry> {
    let section = Section::open(entry.table, entry.span.clone(), &entry.title, CERTIFICATE, notes);
    let authority = points_to(&section, "authority", &known.authorities, "authority");
    let known_authority = authority.and_then(|name| inventory.authorities.get(name));
    // One that speaks ACME and has roots of its own certifies what is known on its own network too.
    let speaks_acme = known_authority.is_none_or(|authority| authority.acme().is_some());
    let public = speaks_acme && known_authority.is_none_or(|authority| authority.visitor_roots.is_none());
    let names = read_names(&section, public);
    if let Some(most) = known_authority.and_then(|authority| authority.most_names)
        && let Some(name) = names.get(most)
    {
        let what = format!("`names` has {}; the authority takes {most} on one certificate", names.len());
        section.note(name.span.clone(), what, Some("make two certificates of it".into()));
    }
    let proof_for = read_proof_for(&section, &names, known);
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
    let first = names.first().map(|name| name.value.to_string());
    let wish = CsrWish {
        subject: read_subject(&section, first),
        same_subject: None,
        must_staple: section.flag("must-staple"),
        usages: read_usages(&section),
        extensions: read_extensions(&section),
    };
    let kinds = "one of \"p256\", \"p384\", \"rsa2048\", \"rsa3072\", \"rsa4096\", \"ed25519\"";
    let key = section.parsed("key", kinds, |text| text.parse::<KeyKind>().ok()).unwrap_or_default();
    let mut install = Vec::new();
    for (table, span) in section.tables("install") {
        let part = Section::open(table, span, "this `install`", INSTALL, notes);
        if let Some(server) = points_to(&part, "server", &known.servers, "server") {
            install.push(Install { server: server.to_owned(), redirect: part.flag("redirect") });
        }
    }
    Some(CertificateEntry {
        authority: authority?.to_owned(),
        proof: if needs_none { None } else { Some(proof?.to_owned()) },
        proof_for,
        names: names.into_iter().map(|name| name.value).collect(),
        key,
        wish,
        keep_key: section.flag("keep-key"),
        key_file: section.path("key-file"),
        key_password_file: section.path("key-password-file"),
        install,
    })
}

fn read_usages(section: &Section<'_>) -> Vec<KeyUse> {
    let mut usages = Vec::new();
    for text in section.texts("usages").unwrap_or_default() {
        match KeyUse::parse(text.value) {
            Some(usage) => usages.push(usage),
            None => {
                let words = KeyUse::ALL.map(KeyUse::word);
                let advice = nearest(text.value, &words).unwrap_or_else(|| format!("known: {}", words.join(", ")));
                section.note(text.span, format!("`{}` is no use of a key", text.value), Some(advice));
            }
        }
    }
    usages
}

fn read_extensions(section: &Section<'_>) -> Vec<WantedExtension> {
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
fn read_subject(section: &Section<'_>, first: Option<String>) -> Subject {
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

/// Returns the section that a key points to. Where there is only one section of the kind, the key may be left out.
fn points_to<'k>(section: &Section<'_>, key: &str, known: &[&'k str], kind: &str) -> Option<&'k str> {
    let Some(_) = section.get(key) else {
        return match known {
            [only] => Some(only),
            [] => {
                let what = format!("there is no [{kind}.NAME] section to use");
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
pub(super) fn named_section<'k>(
    section: &Section<'_>,
    text: &Text<'_>,
    known: &[&'k str],
    kind: &str,
) -> Option<&'k str> {
    let found = known.iter().find(|k| **k == text.value).copied();
    if found.is_none() {
        let advice = nearest(text.value, known).unwrap_or_else(|| format!("add a section [{kind}.{}]", text.value));
        section.note(text.span.clone(), format!("there is no [{kind}.{}]", text.value), Some(advice));
    }
    found
}

/// A name and where it stands.
struct Name {
    value: Identifier,
    span: Range<usize>,
}

/// `public` is set for authorities that certify names in full only.
fn read_names(section: &Section<'_>, public: bool) -> Vec<Name> {
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

fn read_proof_for(section: &Section<'_>, names: &[Name], known: &Known<'_>) -> BTreeMap<Identifier, String> {
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
    if value.is_wildcard() && !proof.ways().iter().any(|w| w.proves_wildcards()) {
        section.note(
            name.span.clone(),
            format!("`{value}` is a wildcard, and `{kind}` cannot prove a wildcard"),
            Some("use a proof of kind \"dns-update\", \"web-api\" or \"by-hand\", or list the names one by one".into()),
        );
    }
    if value.address().is_some() && !proof.ways().iter().any(|w| w.proves_addresses()) {
        let advice = "use a proof over HTTP for it; `proof-for` gives single names a proof of their own";
        let what = format!("`{value}` is an address, and `{kind}` cannot prove an address");
        section.note(name.span.clone(), what, Some(advice.into()));
    }
}
