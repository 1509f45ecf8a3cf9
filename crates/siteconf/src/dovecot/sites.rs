//! The listeners of a configuration, and the certificates for each name.

use super::tree::{Statement, parse};
use crate::files::{LoadError, ReadFiles};
use crate::reading::Reading;
use crate::site::{CertificateFiles, Listener, NamePattern, Place, Protocol, Site, SiteName, Socket, Value};
use crate::survey::{Survey, absolute};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};

/// The listeners that are there without a word: service, listener, protocol, port, and whether TLS comes first.
const LISTENERS: [(&str, &str, Protocol, u16, bool); 5] = [
    ("imap-login", "imap", Protocol::Imap, 143, false),
    ("imap-login", "imaps", Protocol::Imap, 993, true),
    ("pop3-login", "pop3", Protocol::Pop3, 110, false),
    ("pop3-login", "pop3s", Protocol::Pop3, 995, true),
    ("managesieve-login", "sieve", Protocol::ManageSieve, 4190, false),
];

/// What is set for one name, one address, one protocol, or all.
#[derive(Default)]
struct Scope {
    names: Vec<String>,
    place: Option<Place>,
    certificate: Option<Value>,
    key: Option<Value>,
    more: Option<(Value, Option<Value>)>,
}

#[derive(Default)]
struct Inet {
    port: Option<u16>,
    tls: Option<bool>,
    addresses: Option<String>,
}

struct Reader<'a, 'b> {
    reading: Reading<'a, 'b, Vec<Statement>>,
    settings: BTreeMap<String, String>,
    /// By service and listener.
    inet: BTreeMap<(String, String), Inet>,
    /// The first is that of all who have no other.
    scopes: Vec<Scope>,
}

/// Reads what a Dovecot serves from its main file.
///
/// # Errors
/// A [`LoadError`] with file and line.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    let mut reader = Reader {
        reading: Reading::begin(main, read, parse)?,
        settings: BTreeMap::new(),
        inet: BTreeMap::new(),
        scopes: vec![Scope::default()],
    };
    let all = 0..reader.reading.files.files[0].parsed.len();
    reader.walk(0, all, &mut Vec::new(), 0, 0)?;
    Ok(reader.finish())
}

impl Reader<'_, '_> {
    fn walk(
        &mut self,
        file: usize,
        range: std::ops::Range<usize>,
        blocks: &mut Vec<Vec<String>>,
        scope: usize,
        depth: usize,
    ) -> Result<(), LoadError> {
        let mut index = range.start;
        while index < range.end {
            self.reading.count(depth)?;
            let statement = self.reading.files.files[file].parsed[index].clone();
            index += 1;
            match statement {
                Statement::Setting { name, value, range } => self.set(file, blocks, scope, (&name, &value), range),
                Statement::Block { words, at, end } => {
                    let mut inner = scope;
                    if words.first().is_some_and(|word| word == "local_name") {
                        let names =
                            words.iter().skip(1).flat_map(|word| word.split([' ', ','])).map(str::to_owned).collect();
                        let place = Some(self.reading.files.place(file, at));
                        self.scopes.push(Scope { names, place, ..Scope::default() });
                        inner = self.scopes.len() - 1;
                    }
                    blocks.push(words);
                    self.walk(file, index..end, blocks, inner, depth + 1)?;
                    blocks.pop();
                    index = end;
                }
                Statement::Include { path, optional, at } => {
                    // Relative ones are taken from the folder of the file that they stand in.
                    let pattern = PathBuf::from(absolute(&self.reading.folder_of(file), &path));
                    let place = self.reading.files.place(file, at);
                    for included in self.reading.include(Some((file, at)), place, &pattern, optional)? {
                        let all = 0..self.reading.files.files[included].parsed.len();
                        self.walk(included, all, blocks, scope, depth + 1)?;
                    }
                }
            }
        }
        Ok(())
    }

    fn set(
        &mut self,
        file: usize,
        blocks: &[Vec<String>],
        scope: usize,
        (name, value): (&str, &str),
        range: std::ops::Range<usize>,
    ) {
        let word = |n: usize| blocks.get(n).and_then(|words| words.first()).map(String::as_str);
        let named = |n: usize| blocks.get(n).and_then(|words| words.get(1)).cloned().unwrap_or_default();
        match (word(0), word(1)) {
            (Some("service"), Some("inet_listener")) => {
                let inet = self.inet.entry((named(0), named(1))).or_default();
                match name {
                    "port" => inet.port = value.parse().ok(),
                    "ssl" => inet.tls = Some(value == "yes"),
                    "address" | "listen" => inet.addresses = Some(value.to_owned()),
                    _ => {}
                }
            }
            (Some("service"), _) => {}
            (Some("protocol" | "remote"), _) if !name.starts_with("ssl") => {}
            _ => {
                let folder = self.reading.folder_of(file);
                // `<` takes the setting from a file; without it the certificate itself stands here, in the older form.
                let path = value.trim_start_matches('<').trim().trim_matches(['"', '\'']);
                let found = Value { text: absolute(&folder, path), file: Some(file), range };
                let scope = &mut self.scopes[scope];
                match name {
                    "ssl_cert" | "ssl_server_cert_file" => scope.certificate = Some(found),
                    "ssl_key" | "ssl_server_key_file" => scope.key = Some(found),
                    "ssl_alt_cert" | "ssl_server_alt_cert_file" => scope.more = Some((found, None)),
                    "ssl_alt_key" | "ssl_server_alt_key_file" => {
                        if let Some((_, key)) = &mut scope.more {
                            *key = Some(found);
                        }
                    }
                    _ if blocks.is_empty() => {
                        let before = self.settings.get(name).cloned().unwrap_or_default();
                        let value = value.replace(&format!("${name}"), &before);
                        self.settings.insert(name.to_owned(), value);
                    }
                    _ => {}
                }
            }
        }
    }

    fn listeners(&self) -> Vec<Listener> {
        let setting = |name: &str, otherwise: &str| self.settings.get(name).map_or(otherwise.to_owned(), Clone::clone);
        let protocols = setting("protocols", "imap pop3 lmtp");
        let has = |protocol: &str| protocols.split([' ', ',']).any(|word| word == protocol);
        let offers_tls = setting("ssl", "yes") != "no";
        let everywhere = setting("listen", "*, ::");
        let mut found = Vec::new();
        let mut all: Vec<(String, String, Protocol, u16, bool)> = LISTENERS
            .iter()
            .map(|(s, l, protocol, port, tls)| ((*s).into(), (*l).into(), *protocol, *port, *tls))
            .collect();
        for (service, listener) in self.inet.keys() {
            let usual = LISTENERS.iter().find(|(known, ..)| known == service);
            if let Some((.., protocol, _, _)) = usual
                && !all.iter().any(|(s, l, ..)| s == service && l == listener)
            {
                all.push((service.clone(), listener.clone(), *protocol, 0, false));
            }
        }
        for (service, listener, protocol, port, tls) in all {
            let word = match protocol {
                Protocol::ManageSieve => "sieve",
                other => other.word(),
            };
            if !has(word) {
                continue;
            }
            let inet = self.inet.get(&(service, listener));
            let port = inet.and_then(|inet| inet.port).unwrap_or(port);
            let tls = inet.and_then(|inet| inet.tls).unwrap_or(tls);
            // Port 0 turns a listener off, and so does TLS that is off altogether.
            if port == 0 || (tls && !offers_tls) {
                continue;
            }
            let addresses = inet.and_then(|inet| inet.addresses.clone()).unwrap_or_else(|| everywhere.clone());
            for address in addresses.split([' ', ',']).filter(|word| !word.is_empty()) {
                let socket = match address {
                    "*" => Socket::Ip(Ipv4Addr::UNSPECIFIED.into(), port),
                    "::" | "[::]" => Socket::Ip(Ipv6Addr::UNSPECIFIED.into(), port),
                    other => match other.trim_matches(['[', ']']).parse::<IpAddr>() {
                        Ok(ip) => Socket::Ip(ip, port),
                        Err(_) => Socket::Host(other.to_owned(), port),
                    },
                };
                found.push(Listener { starttls: offers_tls && !tls, ..Listener::new(socket, protocol, tls) });
            }
        }
        found
    }

    fn finish(self) -> Survey {
        let listeners = self.listeners();
        let Reader { reading, scopes, .. } = self;
        let mut sites = Vec::new();
        for scope in scopes {
            let of_all = scope.names.is_empty();
            if (scope.certificate.is_none() && !of_all) || listeners.is_empty() {
                continue;
            }
            let at =
                scope.certificate.as_ref().and_then(|value| Some(reading.files.place(value.file?, value.range.start)));
            let place = scope.place.or(at).unwrap_or_else(|| reading.start());
            let pair = |certificate, key| CertificateFiles { certificate, key, chain: None, only_for: None };
            let mut certificates: Vec<_> = scope.certificate.into_iter().map(|c| pair(c, scope.key.clone())).collect();
            certificates.extend(scope.more.map(|(certificate, key)| pair(certificate, key)));
            let name = |written: String| {
                let lower = written.to_ascii_lowercase();
                let pattern = match lower.strip_prefix("*.") {
                    Some(base) => NamePattern::Below { base: base.to_owned(), and_base: false },
                    None => NamePattern::Exact(lower),
                };
                SiteName { written, pattern }
            };
            let names = scope.names.into_iter().filter(|name| !name.is_empty()).map(name).collect();
            sites.push(Site { names, listeners: listeners.clone(), certificates, ..Site::at(place) });
        }
        reading.end(sites)
    }
}
