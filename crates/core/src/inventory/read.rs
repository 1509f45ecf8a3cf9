//! Reads an inventory: TOML text in, an [`Inventory`] or all its mistakes out.

use super::section::{Notes, Section, nearest};
use super::*;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

const TOP: &[&str] = &["contact", "state", "authority", "proof", "server", "certificate"];
const AUTHORITY: &[&str] = &[
    "kind",
    "directory",
    "accept-terms",
    "contact",
    "api-roots",
    "visitor-roots",
    "top-issuer",
    "patience",
    "external-key-id",
    "external-key-file",
];
const HTTP_FOLDER: &[&str] = &["kind", "folder", "check-address"];
const HTTP_LISTENER: &[&str] = &["kind", "listen", "check-address"];
const TLS_LISTENER: &[&str] = &["kind", "listen", "check-address"];
const DNS_UPDATE: &[&str] = &["kind", "server", "key-file", "zone", "name-servers", "ttl", "settle"];
const BY_HAND: &[&str] = &["kind", "server", "name-servers", "ttl"];
const PROGRAM: &[&str] = &["kind", "command", "server", "name-servers", "ttl", "settle"];
const NGINX: &[&str] = &["kind", "config", "tls-port", "test", "reload", "check-address", "settle"];
const FILES: &[&str] = &["kind", "copy", "run", "check-address", "settle"];
const COPY: &[&str] = &["part", "to", "owner", "group", "mode"];
const CERTIFICATE: &[&str] = &["names", "authority", "proof", "key", "keep-key", "install"];
const INSTALL: &[&str] = &["server", "redirect"];

/// Every section of an inventory with the keys it knows, titled as docs/inventory.md titles them.
pub const SECTIONS: &[(&str, &[&str])] = &[
    ("top of the file", TOP),
    ("[authority.NAME] of kind acme", AUTHORITY),
    ("[proof.NAME] of kind http-folder", HTTP_FOLDER),
    ("[proof.NAME] of kind http-listener", HTTP_LISTENER),
    ("[proof.NAME] of kind tls-listener", TLS_LISTENER),
    ("[proof.NAME] of kind dns-update", DNS_UPDATE),
    ("[proof.NAME] of kind by-hand", BY_HAND),
    ("[proof.NAME] of kind program", PROGRAM),
    ("[server.NAME] of kind nginx", NGINX),
    ("[server.NAME] of kind files", FILES),
    ("copy of a files server", COPY),
    ("[certificate.NAME]", CERTIFICATE),
    ("install of a certificate", INSTALL),
];

const USUAL_PATIENCE: Duration = Duration::from_secs(5 * 60);
const USUAL_SPREAD: Duration = Duration::from_secs(2 * 60);
const USUAL_TTL: u32 = 60;
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
    for entry in named(root, "proof", notes) {
        inventory.proofs.extend(read_proof(&entry, notes).map(|p| (entry.name.to_owned(), p)));
    }
    for entry in named(root, "server", notes) {
        inventory.servers.extend(read_server(&entry, notes).map(|s| (entry.name.to_owned(), s)));
    }
    // A section with mistakes of its own still counts as present for those that point to it.
    let present = |kind| named(root, kind, &Notes::new("")).into_iter().map(|e| e.name).collect::<Vec<_>>();
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
struct Entry<'a> {
    name: &'a str,
    title: String,
    table: &'a DeTable<'a>,
    span: Range<usize>,
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

fn contact(section: &Section<'_>) -> Option<String> {
    section.parsed("contact", "a mail address", |text| {
        let bare = text.strip_prefix("mailto:").unwrap_or(text);
        let (user, domain) = bare.split_once('@')?;
        (!user.is_empty() && domain.contains('.') && !bare.contains([' ', ',', '?'])).then(|| bare.to_owned())
    })
}

fn check_address(section: &Section<'_>) -> Option<CheckAddress> {
    section.parsed("check-address", "an address like \"127.0.0.1\" or \"127.0.0.1:8080\"", |t| t.parse().ok())
}

/// Returns the kind a section names; notes it when missing or unknown.
fn kind<'a>(entry: &Entry<'a>, known: &[&'static str], notes: &Notes<'_>) -> Option<&'static str> {
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

fn read_authority<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Authority> {
    kind(entry, &["acme"], notes)?;
    let section = Section::open(entry.table, entry.span.clone(), &entry.title, AUTHORITY, notes);
    if section.get("directory").is_none() {
        section.missing("directory", "directory = \"https://ca.example/directory\", with your authority's address");
    }
    let directory = section.parsed("directory", "an address that begins with https://", |text| {
        let url = url::Url::parse(text).ok()?;
        (url.scheme() == "https" && url.has_host()).then(|| url.to_string())
    });
    let external_account = match (section.text("external-key-id"), section.path("external-key-file")) {
        (Some(id), Some(key_file)) => Some(ExternalAccount { key_id: id.value.to_owned(), key_file }),
        (None, None) => None,
        (Some(_), None) => {
            section.missing("external-key-file", "external-key-file = \"authority.key\", a file with the key");
            None
        }
        (None, Some(_)) => {
            section.missing("external-key-id", "external-key-id = \"…\", as the authority gave it");
            None
        }
    };
    Some(Authority {
        directory: directory?,
        accept_terms: section.flag("accept-terms"),
        contact: contact(&section),
        api_roots: section.path("api-roots"),
        visitor_roots: section.path("visitor-roots"),
        top_issuer: section.text("top-issuer").map(|t| t.value.to_owned()),
        patience: duration(&section, "patience", USUAL_PATIENCE),
        external_account,
    })
}

fn read_proof<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Proof> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    match kind(entry, &["http-folder", "http-listener", "tls-listener", "dns-update", "by-hand", "program"], notes)? {
        "http-folder" => {
            let section = open(HTTP_FOLDER);
            if section.get("folder").is_none() {
                section.missing("folder", "folder = \"/srv/www/site\", the folder that the site is served from");
            }
            Some(Proof::HttpFolder { folder: section.path("folder")?, check_address: check_address(&section) })
        }
        "dns-update" => read_dns_update(&open(DNS_UPDATE)).map(Proof::DnsUpdate),
        "program" => {
            let section = open(PROGRAM);
            if section.get("command").is_none() {
                section.missing("command", "command = [\"/usr/local/bin/records\"]");
            }
            Some(Proof::Program(ProofProgram {
                command: section.command("command")?,
                server: name_server(&section),
                name_servers: name_servers(&section),
                ttl: section.number("ttl", 1..=86_400, USUAL_TTL),
                settle: duration(&section, "settle", USUAL_SPREAD),
            }))
        }
        "by-hand" => {
            let section = open(BY_HAND);
            let (server, name_servers) = (name_server(&section), name_servers(&section));
            Some(Proof::ByHand(ByHand { server, name_servers, ttl: section.number("ttl", 1..=86_400, USUAL_TTL) }))
        }
        "tls-listener" => {
            let section = open(TLS_LISTENER);
            Some(Proof::TlsListener { listen: listen(&section, 443)?, check_address: check_address(&section) })
        }
        _ => {
            let section = open(HTTP_LISTENER);
            Some(Proof::HttpListener { listen: listen(&section, 80)?, check_address: check_address(&section) })
        }
    }
}

fn listen(section: &Section<'_>, usual_port: u16) -> Option<SocketAddr> {
    match section.get("listen") {
        None => Some(SocketAddr::from(([0, 0, 0, 0], usual_port))),
        Some(_) => section.parsed("listen", "an address with a port like \"0.0.0.0:80\"", |t| t.parse().ok()),
    }
}

fn read_dns_update(section: &Section<'_>) -> Option<DnsUpdate> {
    for (key, example) in [("server", "server = \"192.0.2.53\""), ("key-file", "key-file = \"zone.key\"")] {
        if section.get(key).is_none() {
            section.missing(key, example);
        }
    }
    let (server, name_servers) = (name_server(section), name_servers(section));
    let zone = section.parsed("zone", "the name of a zone", |text| DnsName::parse(text).ok().map(|n| n.to_string()));
    Some(DnsUpdate {
        server: server?,
        key_file: section.path("key-file")?,
        zone,
        name_servers,
        ttl: section.number("ttl", 1..=86_400, USUAL_TTL),
        settle: duration(section, "settle", USUAL_SPREAD),
    })
}

fn dns_address(text: &str) -> Option<SocketAddr> {
    text.parse().ok().map(|a: CheckAddress| a.socket(53))
}

fn name_server(section: &Section<'_>) -> Option<SocketAddr> {
    section.parsed("server", "an address like \"192.0.2.53\" or \"192.0.2.53:5353\"", dns_address)
}

fn name_servers(section: &Section<'_>) -> Vec<SocketAddr> {
    let mut found = Vec::new();
    for text in section.texts("name-servers").unwrap_or_default() {
        match dns_address(text.value) {
            Some(address) => found.push(address),
            None => section.note(text.span, format!("`name-servers` wants addresses, this is `{}`", text.value), None),
        }
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
    Some(Server { kind, check_address: check_address(&section), settle: duration(&section, "settle", USUAL_SETTLE) })
}

fn duration(section: &Section<'_>, key: &str, usual: Duration) -> Duration {
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
    let proof = points_to(&section, "proof", &known.proofs, "proof");
    let names = read_names(&section, proof.and_then(|p| inventory.proofs.get(p)));
    let kinds = "one of \"p256\", \"p384\", \"rsa2048\", \"rsa3072\", \"rsa4096\"";
    let key = section.parsed("key", kinds, |text| text.parse::<KeyKind>().ok()).unwrap_or_default();
    let mut install = Vec::new();
    for (table, span) in section.tables("install") {
        let part = Section::open(table, span, "this `install`", INSTALL, notes);
        if let Some(server) = points_to(&part, "server", &known.servers, "server") {
            install.push(Install { server: server.to_owned(), redirect: part.flag("redirect") });
        }
    }
    Some(CertificateEntry {
        names,
        authority: authority?.to_owned(),
        proof: proof?.to_owned(),
        key,
        keep_key: section.flag("keep-key"),
        install,
    })
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
    let text = section.text(key)?;
    let found = known.iter().find(|k| **k == text.value).copied();
    if found.is_none() {
        let advice = nearest(text.value, known).unwrap_or_else(|| format!("add a section [{kind}.{}]", text.value));
        section.note(text.span, format!("there is no [{kind}.{}]", text.value), Some(advice));
    }
    found
}

fn read_names(section: &Section<'_>, proof: Option<&Proof>) -> Vec<DnsName> {
    let mut names: Vec<DnsName> = Vec::new();
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
        match DnsName::parse(text.value) {
            Err(error) => section.note(text.span, error.to_string(), error.advice()),
            Ok(name) if names.contains(&name) => {
                section.note(text.span, format!("`{name}` is listed twice"), Some("remove one of the two".into()));
            }
            // RFC 8555 section 7.1.3: wildcards are proved over DNS.
            Ok(name) if name.is_wildcard() && proof.is_some_and(|p| p.way() != Way::Dns) => {
                let kind = proof.map_or("", Proof::kind);
                let what = format!("`{name}` is a wildcard, and `{kind}` cannot prove a wildcard");
                section.note(
                    text.span,
                    what,
                    Some("use a proof of kind \"dns-update\" or \"by-hand\", or list the names one by one".into()),
                );
            }
            Ok(name) => names.push(name),
        }
    }
    names
}
