//! The frontends of a configuration, with the certificates of their `bind` lines.

use super::lex::value;
use super::tree::{Line, parse};
use crate::files::{LoadError, ReadFiles};
use crate::reading::{Conditions, Reading};
use crate::site::{CertificateFiles, Listener, NamePattern, Place, Protocol, Site, SiteName, Socket, Value};
use crate::survey::{Survey, absolute};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};

/// The version that conditions are held against: packages of today have it or a later one.
const VERSION: [u32; 2] = [2, 6];

/// Words that begin a section.
const SECTIONS: [&str; 22] = [
    "global",
    "defaults",
    "frontend",
    "listen",
    "backend",
    "userlist",
    "peers",
    "resolvers",
    "cache",
    "http-errors",
    "mailers",
    "program",
    "ring",
    "log-forward",
    "log-profile",
    "crt-store",
    "fcgi-app",
    "traces",
    "acme",
    "dynamic-update",
    "namespace_list",
    "healthcheck",
];

/// Extensions of files beside a certificate that are no certificates.
const BESIDE: [&str; 4] = ["issuer", "ocsp", "sctl", "key"];

/// A word of a line.
struct Word {
    text: String,
    value: Value,
}

struct Reader<'a, 'b> {
    reading: Reading<'a, 'b, Vec<Line>>,
    variables: BTreeMap<String, String>,
    crt_base: Option<String>,
    key_base: Option<String>,
    /// Whether HTTP is spoken, as `defaults` has it.
    http_by_default: bool,
    sites: Vec<Site>,
    /// What `unix-bind` puts before the paths of sockets.
    socket_prefix: String,
    admin_sockets: Vec<String>,
}

/// A configuration that was read, for a survey and for what is done while the server runs.
pub struct Known {
    /// What it serves.
    pub survey: Survey,
    /// The Unix sockets at which it takes orders, certificates among them, while it runs.
    pub admin_sockets: Vec<PathBuf>,
}

/// Reads what an HAProxy serves from its main file.
///
/// # Errors
/// A [`LoadError`] when the file cannot be read.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    Ok(load(main, read)?.survey)
}

/// Reads a configuration from its main file.
///
/// # Errors
/// As [`survey`].
pub fn load(main: &Path, read: &mut ReadFiles<'_>) -> Result<Known, LoadError> {
    let mut reader = Reader {
        reading: Reading::begin(main, read, |_, bytes| Ok(parse(bytes)))?,
        variables: BTreeMap::new(),
        crt_base: None,
        key_base: None,
        http_by_default: false,
        sites: Vec::new(),
        socket_prefix: String::new(),
        admin_sockets: Vec::new(),
    };
    reader.file(0);
    let sockets = reader.admin_sockets.iter().map(|socket| PathBuf::from(format!("{}{socket}", reader.socket_prefix)));
    // A relative one is relative to where the server was begun, which is not known.
    let admin_sockets = sockets.filter(|socket| socket.is_absolute()).collect();
    Ok(Known { survey: reader.reading.end(reader.sites), admin_sockets })
}

impl Reader<'_, '_> {
    fn place(&self, word: &Value) -> Place {
        self.reading.files.place(word.file.unwrap_or(0), word.range.start)
    }

    fn remark(&mut self, word: &Word, text: String) {
        let place = self.place(&word.value);
        self.reading.remark(place, text);
    }

    fn words(&self, file: usize, line: &Line) -> Vec<Word> {
        let bytes = &self.reading.files.files[file].bytes;
        let known = |name: &str| self.variables.get(name).cloned();
        let word = |range: &std::ops::Range<usize>| {
            let text = value(&bytes[range.clone()], known);
            Word { value: Value { text: text.clone(), file: Some(file), range: range.clone() }, text }
        };
        line.words.iter().map(word).collect()
    }

    fn file(&mut self, file: usize) {
        let mut section = String::new();
        let mut named: BTreeMap<String, bool> = BTreeMap::new();
        let mut conditions = Conditions::default();
        let mut speaks_http = false;
        for line in self.reading.files.files[file].parsed.clone() {
            let words = self.words(file, &line);
            let Some(first) = words.first() else { continue };
            if first.text.starts_with('.') {
                self.condition(&words, &mut conditions);
                continue;
            }
            if !conditions.count() {
                continue;
            }
            if SECTIONS.contains(&&*first.text) {
                section.clone_from(&first.text);
                let from = words.iter().position(|word| word.text == "from").and_then(|at| words.get(at + 1));
                speaks_http = from.and_then(|from| named.get(&from.text)).copied().unwrap_or(self.http_by_default);
                if section == "defaults" {
                    speaks_http = false;
                    self.http_by_default = false;
                }
                if matches!(&*section, "frontend" | "listen") {
                    let place = self.place(&first.value);
                    self.sites.push(Site::at(place));
                    // The older form has the address behind the name.
                    if let Some(address) = words.get(2).filter(|word| word.text.contains(':')) {
                        self.bind(&[address], speaks_http);
                    }
                }
                if let Some(name) = words.get(1) {
                    named.insert(name.text.clone(), speaks_http);
                }
                continue;
            }
            match (&*section, &*first.text) {
                (_, "setenv" | "presetenv") => {
                    if let [_, name, value, ..] = &words[..] {
                        self.variables.insert(name.text.clone(), value.text.clone());
                    }
                }
                ("global" | "crt-store", "crt-base") => self.crt_base = words.get(1).map(|word| word.text.clone()),
                ("global" | "crt-store", "key-base") => self.key_base = words.get(1).map(|word| word.text.clone()),
                ("global", "unix-bind") => {
                    self.socket_prefix = setting(&words, "prefix").unwrap_or_default().to_owned()
                }
                ("global", "stats") => {
                    if let [_, socket, address, ..] = &words[..]
                        && socket.text == "socket"
                        && setting(&words, "level") == Some("admin")
                    {
                        let path = address.text.strip_prefix("unix@").unwrap_or(&address.text);
                        self.admin_sockets.push(path.to_owned());
                    }
                }
                ("defaults", "mode") => self.http_by_default = words.get(1).is_some_and(|word| word.text == "http"),
                ("frontend" | "listen", "mode") => {
                    speaks_http = words.get(1).is_some_and(|word| word.text == "http");
                    self.set_protocol(speaks_http);
                }
                ("frontend" | "listen", "bind") => self.bind(&words.iter().skip(1).collect::<Vec<_>>(), speaks_http),
                ("frontend" | "listen", _) => self.take(&words),
                _ => {}
            }
        }
    }

    fn condition(&mut self, words: &[Word], conditions: &mut Conditions) {
        let text = words.iter().skip(1).map(|word| &*word.text).collect::<Vec<_>>().join(" ");
        let known = self.holds(&text);
        if known.is_none() && matches!(&*words[0].text, ".if" | ".elif") {
            self.remark(&words[0], format!("the condition `{text}` was taken for true"));
        }
        let holds = known.unwrap_or(true);
        match &*words[0].text {
            ".if" => conditions.begin(holds),
            ".elif" => conditions.otherwise(holds),
            ".else" => conditions.otherwise(true),
            ".endif" => conditions.end(),
            _ => {}
        }
    }

    /// Returns whether a condition holds; `None` for one of another form.
    fn holds(&self, text: &str) -> Option<bool> {
        if let Some(rest) = text.strip_prefix('!') {
            return self.holds(rest.trim()).map(|holds| !holds);
        }
        if let Ok(number) = text.parse::<i64>() {
            return Some(number != 0);
        }
        let (name, rest) = text.split_once('(')?;
        let argument = rest.strip_suffix(')')?.trim();
        let version = || {
            let mut parts = argument.split(['.', '-']).map_while(|part| part.parse::<u32>().ok());
            [parts.next().unwrap_or(0), parts.next().unwrap_or(0)]
        };
        Some(match name {
            "defined" => self.variables.contains_key(argument),
            "version_atleast" => VERSION >= version(),
            "version_before" => VERSION < version(),
            _ => return None,
        })
    }

    fn set_protocol(&mut self, speaks_http: bool) {
        let protocol = if speaks_http { Protocol::Http } else { Protocol::Tcp };
        for listener in self.sites.last_mut().into_iter().flat_map(|site| &mut site.listeners) {
            if listener.protocol != Protocol::Quic {
                listener.protocol = protocol;
            }
        }
    }

    fn bind(&mut self, words: &[&Word], speaks_http: bool) {
        let Some((addresses, settings)) = words.split_first() else { return };
        let tls = settings.iter().any(|word| word.text == "ssl");
        let mut listeners = Vec::new();
        for address in addresses.text.split(',') {
            match parse_socket(address) {
                Some((socket, quic)) => {
                    let spoken = if speaks_http { Protocol::Http } else { Protocol::Tcp };
                    let protocol = if quic { Protocol::Quic } else { spoken };
                    let mut listener = Listener::new(socket, protocol, tls);
                    listener.proxy_protocol = settings.iter().any(|word| word.text == "accept-proxy");
                    listeners.push(listener);
                }
                None => self.remark(addresses, format!("the address `{address}` is not understood")),
            }
        }
        let mut certificates = Vec::new();
        let mut names = Vec::new();
        for pair in settings.windows(2) {
            match &*pair[0].text {
                "crt" | "default-crt" => certificates.extend(self.crt(pair[1])),
                "crt-list" => self.crt_list(pair[1], &mut certificates, &mut names),
                _ => {}
            }
        }
        let Some(site) = self.sites.last_mut() else { return };
        site.listeners.extend(listeners);
        site.certificates.extend(certificates);
        add_names(site, names);
    }

    /// Returns the certificates of a file, or of the files in a folder.
    fn crt(&mut self, word: &Word) -> Vec<CertificateFiles> {
        let base = PathBuf::from(self.crt_base.as_deref().unwrap_or("/"));
        if word.text.starts_with('@') {
            self.remark(word, format!("`{}` is of a store: it was left out", word.text));
            return Vec::new();
        }
        let path = absolute(&base, &word.text);
        let one = |text: String| CertificateFiles {
            certificate: Value { text, ..word.value.clone() },
            key: None,
            chain: None,
            only_for: None,
        };
        let looks_like_folder = path.ends_with('/') || Path::new(&path).extension().is_none();
        if looks_like_folder {
            let found = self.reading.look(&Path::new(&path).join("*")).unwrap_or_default();
            let is_beside = |path: &Path| path.extension().is_some_and(|e| BESIDE.iter().any(|beside| e == *beside));
            let files: Vec<_> = found.into_iter().filter(|(path, _)| !is_beside(path)).collect();
            if !files.is_empty() {
                return files.into_iter().map(|(path, _)| one(path.display().to_string())).collect();
            }
        }
        vec![one(path)]
    }

    /// Reads a list of certificates, with the names that each is for.
    fn crt_list(&mut self, word: &Word, certificates: &mut Vec<CertificateFiles>, names: &mut Vec<String>) {
        let path = PathBuf::from(absolute(Path::new("/"), &word.text));
        let at = word.value.file.map(|file| (file, word.value.range.start));
        let place = self.place(&word.value);
        let Ok(files) = self.reading.include(at, place, &path, false) else { return };
        for file in files {
            for line in self.reading.files.files[file].parsed.clone() {
                let words = self.words(file, &line);
                let Some(first) = words.first() else { continue };
                certificates.extend(self.crt(first));
                let mut inside = false;
                for word in words.iter().skip(1) {
                    inside |= word.text.starts_with('[');
                    if !inside && !word.text.starts_with('!') {
                        names.push(word.text.clone());
                    }
                    inside &= !word.text.ends_with(']');
                }
            }
        }
    }

    /// Takes names and redirects from a line of a frontend.
    fn take(&mut self, words: &[Word]) {
        let texts: Vec<&str> = words.iter().map(|word| &*word.text).collect();
        let Some(site) = self.sites.last_mut() else { return };
        let redirects = texts.contains(&"redirect");
        if redirects && texts.windows(2).any(|pair| pair == ["scheme", "https"]) {
            site.redirect = Some("https".into());
        }
        if redirects && let Some(to) = texts.iter().find(|text| text.starts_with("https://")) {
            site.redirect = Some((*to).to_owned());
        }
        let asks = |text: &&str| {
            let text = text.to_ascii_lowercase();
            ["hdr(host)", "req.hdr(host)", "hdr(host,1)", "ssl_fc_sni", "req.ssl_sni", "req_ssl_sni", "hdr_dom(host)"]
                .iter()
                .any(|fetch| text.starts_with(fetch))
        };
        if let Some(at) = texts.iter().position(asks) {
            let values =
                texts[at + 1..].iter().skip_while(|text| text.starts_with('-')).take_while(|text| **text != "}");
            let names = values.filter(|text| text.contains('.')).map(|text| (*text).to_owned()).collect();
            add_names(site, names);
        }
    }
}

/// Returns the word behind another.
fn setting<'a>(words: &'a [Word], name: &str) -> Option<&'a str> {
    let at = words.iter().position(|word| word.text == name)?;
    words.get(at + 1).map(|word| &*word.text)
}

fn add_names(site: &mut Site, names: Vec<String>) {
    for written in names {
        if site.names.iter().any(|known| known.written == written) {
            continue;
        }
        let name = written.to_ascii_lowercase();
        let pattern = match name.strip_prefix("*.") {
            Some(base) => NamePattern::Below { base: base.to_owned(), and_base: false },
            None => NamePattern::Exact(name.split(':').next().unwrap_or_default().to_owned()),
        };
        site.names.push(SiteName { written, pattern });
    }
}

/// Reads an address of a `bind` line, and whether QUIC is spoken there.
fn parse_socket(text: &str) -> Option<(Socket, bool)> {
    let quic = text.starts_with("quic");
    let (family, rest) = text.split_once('@').unwrap_or(("", text));
    if family == "unix" || rest.starts_with('/') {
        return Some((Socket::Unix(rest.to_owned()), false));
    }
    if !matches!(family, "" | "ipv4" | "ipv6" | "quic4" | "quic6") {
        return None;
    }
    let (host, port) = rest.rsplit_once(':')?;
    let port = port.split('-').next()?.parse().ok()?;
    let host = host.trim_matches(['[', ']']);
    let ip = match host {
        "" | "*" if family.ends_with('6') => Ipv6Addr::UNSPECIFIED.into(),
        "" | "*" => Ipv4Addr::UNSPECIFIED.into(),
        _ => match host.parse::<IpAddr>() {
            Ok(ip) => ip,
            Err(_) => return Some((Socket::Host(host.to_owned(), port), quic)),
        },
    };
    Some((Socket::Ip(ip, port), quic))
}
