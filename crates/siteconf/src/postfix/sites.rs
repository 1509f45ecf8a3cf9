//! The services that take mail in, with the certificates that they show.

use super::lex::{Kind, tokens, words};
use super::tree::{Parameter, Service, parameters, services};
use crate::files::{LoadError, ReadFiles};
use crate::reading::Reading;
use crate::site::{CertificateFiles, Listener, NamePattern, Protocol, Site, SiteName, Socket, Value};
use crate::survey::{Survey, absolute};
use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};
use std::ops::Range;
use std::path::{Path, PathBuf};

/// Parameters refer to each other at most so deep.
const DEEPEST: usize = 16;
/// For one service so many are put in place at most.
const MOST_EXPANSIONS: usize = 10_000;

/// Values of parameters that nobody sets, as far as they matter here.
const DEFAULTS: [(&str, &str); 6] = [
    ("smtpd_tls_key_file", "$smtpd_tls_cert_file"),
    ("smtpd_tls_eckey_file", "$smtpd_tls_eccert_file"),
    ("smtpd_tls_dkey_file", "$smtpd_tls_dcert_file"),
    ("inet_interfaces", "all"),
    ("default_database_type", "hash"),
    ("config_directory", "/etc/postfix"),
];

struct Settings<'a> {
    main: &'a BTreeMap<String, Parameter>,
    own: &'a BTreeMap<String, Parameter>,
    folder: &'a Path,
    /// How many more parameters are put in place.
    left: Cell<usize>,
}

impl Settings<'_> {
    /// Returns a parameter with the file that it is set in: 0 is `main.cf`, 1 is `master.cf`.
    fn raw(&self, name: &str) -> Option<(Parameter, Option<usize>)> {
        let own = self.own.get(name).map(|found| (found.clone(), Some(1)));
        let main = || self.main.get(name).map(|found| (found.clone(), Some(0)));
        let default = || {
            let text = DEFAULTS.iter().find(|(known, _)| *known == name)?.1;
            let text = if name == "config_directory" { self.folder.display().to_string() } else { text.to_owned() };
            Some((Parameter { text, range: 0..0 }, None))
        };
        own.or_else(main).or_else(default)
    }

    fn get(&self, name: &str) -> String {
        self.raw(name).map_or_else(String::new, |(found, _)| self.expand(&found.text, 0))
    }

    /// Puts other parameters in place.
    fn expand(&self, text: &str, depth: usize) -> String {
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find('$') {
            out.push_str(&rest[..at]);
            rest = &rest[at + 1..];
            if let Some(more) = rest.strip_prefix('$') {
                (rest, out) = (more, out + "$");
                continue;
            }
            let close = match rest.as_bytes().first() {
                Some(b'{') => Some('}'),
                Some(b'(') => Some(')'),
                _ => None,
            };
            let (name, length) = match close.and_then(|close| rest.find(close)) {
                Some(end) => (&rest[1..end], end + 1),
                None => {
                    let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
                    (&rest[..end], end)
                }
            };
            // `${name?text}` and `${name:text}`: with and without a value.
            let (bare, form) = match name.find(['?', ':']) {
                Some(at) => {
                    (name[..at].trim(), Some((name.as_bytes()[at], name[at + 1..].trim_matches(['{', '}', ' ']))))
                }
                None => (name.trim(), None),
            };
            if depth < DEEPEST && self.left.get() > 0 {
                self.left.set(self.left.get() - 1);
                let value = self.raw(bare).map(|(found, _)| self.expand(&found.text, depth + 1)).unwrap_or_default();
                out.push_str(&match form {
                    None => value,
                    Some((b'?', text)) if !value.is_empty() => self.expand(text, depth + 1),
                    Some((b':', text)) if value.is_empty() => self.expand(text, depth + 1),
                    Some(_) => String::new(),
                });
            }
            rest = &rest[length..];
        }
        out + rest
    }

    /// Returns the files that a parameter names.
    fn files(&self, name: &str) -> Vec<Value> {
        let Some((found, file)) = self.raw(name) else { return Vec::new() };
        let expanded = self.expand(&found.text, 0);
        let words = expanded.split([',', ' ', '\t']).filter(|word| !word.is_empty() && *word != "none");
        let value = |word: &str| Value { text: absolute(self.folder, word), file, range: found.range.clone() };
        words.map(value).collect()
    }
}

/// A configuration that was read, for a survey and for what has to be made of its maps.
pub struct Known {
    /// What it serves.
    pub survey: Survey,
    /// The maps from names to certificates whose text can be read.
    pub maps: Vec<Map>,
}

/// A map from the names that visitors ask for to certificates.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Map {
    /// Its type, such as `hash`.
    pub kind: String,
    /// Its text. Postfix reads what `postmap -F` makes of it: keys and certificates themselves.
    pub path: PathBuf,
    /// The number of the text among the survey's files.
    file: usize,
}

impl Map {
    /// Whether Postfix reads it only once it is compiled.
    pub fn is_compiled(&self) -> bool {
        self.kind != "texthash"
    }

    /// Returns the files that it names.
    pub fn names(&self, known: &Known) -> BTreeSet<PathBuf> {
        let pairs = known.survey.sites.iter().flat_map(|site| &site.certificates);
        let values = pairs.flat_map(|pair| std::iter::once(&pair.certificate).chain(&pair.key));
        values.filter(|value| value.file == Some(self.file)).map(|value| PathBuf::from(&value.text)).collect()
    }
}

/// Reads where a Postfix takes mail in, from its `main.cf` and the `master.cf` beside it.
///
/// # Errors
/// A [`LoadError`] when `main.cf` cannot be read.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    Ok(load(main, read)?.survey)
}

/// Reads a configuration from its main file.
///
/// # Errors
/// As [`survey`].
pub fn load(main: &Path, read: &mut ReadFiles<'_>) -> Result<Known, LoadError> {
    let mut reading = Reading::begin(main, read, |_, _| Ok(()))?;
    let folder = reading.folder();
    let start = reading.start();
    reading.include(None, start, &folder.join("master.cf"), false)?;
    let set = reading.files.files.first().map(|file| parameters(&file.bytes)).unwrap_or_default();
    let all = reading.files.files.get(1).map(|file| services(&file.bytes)).unwrap_or_default();
    let (mut sites, mut known) = (Vec::new(), Vec::new());
    for service in all.iter().filter(|service| service.kind == "inet" && takes_mail(service)) {
        let settings = Settings { main: &set, own: &service.own, folder, left: Cell::new(MOST_EXPANSIONS) };
        let mut site = Site::at(reading.files.place(1, service.range.start));
        let wrapped = settings.get("smtpd_tls_wrappermode") == "yes";
        let offers = matches!(&*settings.get("smtpd_tls_security_level"), "may" | "encrypt")
            || settings.get("smtpd_use_tls") == "yes"
            || settings.get("smtpd_enforce_tls") == "yes";
        let Some(sockets) = sockets(&service.name, &settings.get("inet_interfaces")) else {
            let text = format!("the service `{}` has no port that is known", service.name);
            reading.remark(site.place, text);
            continue;
        };
        site.listeners = sockets
            .into_iter()
            .map(|socket| Listener { starttls: offers && !wrapped, ..Listener::new(socket, Protocol::Smtp, wrapped) })
            .collect();
        let host = settings.get("myhostname");
        site.names.extend((!host.is_empty()).then(|| exact(&host)));
        if wrapped || offers {
            site.certificates = certificates(&settings);
            let maps = settings.files("tls_server_sni_maps");
            for map in maps {
                add_map(&mut site, &map, &mut reading, &mut known)?;
            }
        }
        sites.push(site);
    }
    Ok(Known { survey: reading.end(sites), maps: known })
}

fn takes_mail(service: &Service) -> bool {
    matches!(&*service.program, "smtpd" | "postscreen")
}

fn exact(name: &str) -> SiteName {
    SiteName { written: name.to_owned(), pattern: NamePattern::Exact(name.to_ascii_lowercase()) }
}

/// Returns the certificates of a service: those of `smtpd_tls_chain_files`, where it is set, else those of the older parameters.
fn certificates(settings: &Settings<'_>) -> Vec<CertificateFiles> {
    let chain = settings.files("smtpd_tls_chain_files");
    if !chain.is_empty() {
        return pairs(&chain);
    }
    let kinds = [
        ("smtpd_tls_cert_file", "smtpd_tls_key_file"),
        ("smtpd_tls_eccert_file", "smtpd_tls_eckey_file"),
        ("smtpd_tls_dcert_file", "smtpd_tls_dkey_file"),
    ];
    let pair = |(certificate, key): (&str, &str)| {
        let certificate = settings.files(certificate).into_iter().next()?;
        let key = settings.files(key).into_iter().next().filter(|key| key.text != certificate.text);
        Some(CertificateFiles { certificate, key, chain: None, only_for: None })
    };
    kinds.into_iter().filter_map(pair).collect()
}

/// In a list of files each key comes before its certificate, or is in one file with it.
fn pairs(files: &[Value]) -> Vec<CertificateFiles> {
    let is_key = |value: &Value| value.text.rsplit('/').next().is_some_and(|name| name.contains("key"));
    let mut found = Vec::new();
    let mut rest = files.iter().peekable();
    while let Some(first) = rest.next() {
        let key = (is_key(first) && rest.peek().is_some()).then_some(first);
        let certificate = key.and_then(|_| rest.next()).unwrap_or(first).clone();
        found.push(CertificateFiles { certificate, key: key.cloned(), chain: None, only_for: None });
    }
    found
}

/// Takes in the names of a map, with the files of each. Compiled maps are made from a text beside them.
fn add_map(
    site: &mut Site,
    map: &Value,
    reading: &mut Reading<'_, '_, ()>,
    known: &mut Vec<Map>,
) -> Result<(), LoadError> {
    let folder = reading.folder();
    let written = map.text.strip_prefix(&format!("{}/", folder.display())).unwrap_or(&map.text);
    let (kind, path) = written.split_once(':').unwrap_or(("hash", written));
    let path = PathBuf::from(absolute(folder, path));
    if !matches!(kind, "hash" | "btree" | "lmdb" | "cdb" | "dbm" | "texthash") {
        let text = format!("the map {kind}:{} was left out: it is of a kind that is not read here", path.display());
        reading.remark(site.place.clone(), text);
        return Ok(());
    }
    let file = match known.iter().find(|known| known.path == path) {
        Some(known) => known.file,
        None => {
            let Some(file) = reading.include(None, site.place.clone(), &path, false)?.first().copied() else {
                return Ok(());
            };
            known.push(Map { kind: kind.to_owned(), path, file });
            file
        }
    };
    let bytes = &reading.files.files[file].bytes;
    for line in tokens(bytes).into_iter().filter(|token| token.kind == Kind::Line) {
        let words = words(bytes, line.range);
        let text = |range: &Range<usize>| String::from_utf8_lossy(&bytes[range.clone()]).into_owned();
        let Some((name, list)) = words.split_first() else { continue };
        let paths = list.iter().flat_map(|word| {
            let starts =
                std::iter::once(word.start).chain(word.clone().filter(|at| bytes[*at] == b',').map(|at| at + 1));
            starts.map(|start| start..(start..word.end).find(|at| bytes[*at] == b',').unwrap_or(word.end))
        });
        let paths = paths.filter(|range| !range.is_empty());
        let value = |range: Range<usize>| Value { text: absolute(folder, &text(&range)), file: Some(file), range };
        let name = text(name).to_ascii_lowercase();
        let pattern = match name.strip_prefix('.') {
            Some(base) => NamePattern::Below { base: base.to_owned(), and_base: false },
            None => NamePattern::Exact(name.clone()),
        };
        let pairs = pairs(&paths.map(value).collect::<Vec<_>>()).into_iter();
        site.certificates.extend(pairs.map(|pair| CertificateFiles { only_for: Some(name.clone()), ..pair }));
        site.names.push(SiteName { written: name, pattern });
    }
    Ok(())
}

/// Returns where a service listens: its name is a port, a service of the system, or an address with one of them.
fn sockets(name: &str, interfaces: &str) -> Option<Vec<Socket>> {
    let (host, service) = match name.rsplit_once(':') {
        Some((host, service)) => (Some(host.trim_matches(['[', ']'])), service),
        None => (None, name),
    };
    let port: u16 = match service {
        "smtp" => 25,
        "smtps" | "submissions" | "urd" => 465,
        "submission" => 587,
        other => other.parse().ok()?,
    };
    let socket = |host: &str| match host.parse::<IpAddr>() {
        Ok(ip) => Socket::Ip(ip, port),
        Err(_) => Socket::Host(host.to_owned(), port),
    };
    if let Some(host) = host {
        return Some(vec![socket(host)]);
    }
    let words: Vec<&str> = interfaces.split([',', ' ', '\t']).filter(|word| !word.is_empty()).collect();
    Some(match words[..] {
        [] | ["all"] => vec![Socket::Ip(Ipv4Addr::UNSPECIFIED.into(), port)],
        ["loopback-only"] => vec![Socket::Ip(Ipv4Addr::LOCALHOST.into(), port)],
        _ => words.into_iter().map(|word| socket(word.trim_matches(['[', ']']))).collect(),
    })
}
