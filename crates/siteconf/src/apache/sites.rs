//! The virtual hosts of a configuration, read in the order in which Apache reads it: conditions, definitions and macros count from
//! where they stand.

use super::tree::{Directive, Word, parse};
use super::version::{PROGRAMS, USUAL, Version, version_holds, version_in};
use crate::files::{LoadError, ReadFiles};
use crate::reading::Reading;
use crate::site::{CertificateFiles, Listener, NamePattern, Place, Protocol, Site, SiteName, Socket, Value};
use crate::survey::{Survey, absolute};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::rc::Rc;

/// Modules that Debian's Apache has built in.
const BUILT_IN: [&str; 8] = ["core", "http_core", "so", "log_config", "logio", "version", "unixd", "watchdog"];

/// What is taken from a virtual host, or from the main server for those that do not say it.
#[derive(Default, Clone)]
struct Settings {
    name: Option<String>,
    aliases: Vec<String>,
    root: Option<String>,
    tls: Option<bool>,
    certificates: Vec<Value>,
    keys: Vec<Value>,
    chain: Option<Value>,
    redirect: Option<String>,
    /// What a site may want to be otherwise.
    lines: Vec<Line>,
}

/// A directive of a host that a plan may change.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub(super) name: String,
    /// Its words, each with its bytes in `file`.
    pub(super) words: Vec<Word>,
    /// The number of the file; `None` in a macro.
    pub(super) file: Option<usize>,
}

struct Host {
    place: Place,
    addresses: Vec<String>,
    settings: Settings,
    section: Option<Section>,
}

/// Where a virtual host stands.
#[derive(Clone, Debug)]
pub(super) struct Section {
    /// The number of the file.
    pub(super) file: usize,
    /// From `<VirtualHost` to its end of the section's last line.
    pub(super) range: Range<usize>,
    /// The bytes between its first and its last line.
    pub(super) inside: Range<usize>,
    /// Lines in it that send all visitors somewhere, each with where to. Conditions come with the rule that follows.
    pub(super) redirects: Vec<(Range<usize>, String)>,
    /// Its addresses as they are written.
    pub(super) addresses: Vec<String>,
}

/// A configuration that was read, for a survey and for plans.
pub struct Known {
    /// What it serves.
    pub survey: Survey,
    /// The virtual hosts, in the order of the survey's sites: where each stands, and its lines.
    pub(super) hosts: Vec<(Option<Section>, Vec<Line>)>,
    pub(super) listens: Vec<Socket>,
    pub(super) modules: BTreeSet<String>,
    /// The lines that are for all hosts.
    pub(super) lines: Vec<Line>,
    /// What brings in files outside of virtual hosts.
    pub(super) patterns: BTreeSet<PathBuf>,
}

#[derive(Clone)]
struct Macro {
    parameters: Vec<String>,
    body: Rc<str>,
    place: Place,
}

/// Where statements come from: a file, or the text of a macro that is used at a place.
#[derive(Clone)]
struct Source {
    file: Option<usize>,
    directives: Rc<Vec<Directive>>,
    /// The text of the macro; empty for a file.
    text: Rc<[u8]>,
    used_at: Option<Place>,
}

struct Reader<'a, 'b> {
    reading: Reading<'a, 'b, Rc<Vec<Directive>>>,
    root: PathBuf,
    defines: BTreeMap<String, String>,
    environment: BTreeMap<String, String>,
    modules: BTreeSet<String>,
    version: Option<Version>,
    patterns: BTreeSet<PathBuf>,
    macros: BTreeMap<String, Macro>,
    listens: Vec<Socket>,
    server: Settings,
    hosts: Vec<Host>,
}

/// Reads what an Apache serves from its main file.
///
/// # Errors
/// A [`LoadError`] when the main file cannot be read, or a file has sections that do not fit together.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    Ok(load(main, read)?.survey)
}

/// Reads a configuration from its main file.
///
/// # Errors
/// As [`survey`].
pub fn load(main: &Path, read: &mut ReadFiles<'_>) -> Result<Known, LoadError> {
    let mut reading = Reading::begin(main, read, |path, bytes| parse(path, bytes).map(Rc::new))?;
    let folder = reading.folder();
    let environment = reading.look(&folder.join("envvars")).unwrap_or_default();
    let environment =
        environment.first().map(|(_, bytes)| exported(&String::from_utf8_lossy(bytes))).unwrap_or_default();
    let mut reader = Reader {
        reading,
        root: folder.to_owned(),
        defines: BTreeMap::new(),
        environment,
        modules: BUILT_IN.iter().flat_map(|name| [format!("{name}_module"), format!("mod_{name}.c")]).collect(),
        version: None,
        patterns: BTreeSet::new(),
        macros: BTreeMap::new(),
        listens: Vec::new(),
        server: Settings::default(),
        hosts: Vec::new(),
    };
    reader.walk_file(0, None, 0)?;
    Ok(reader.finish())
}

/// Returns what the file of the service's variables says, as far as it says it in plain words.
fn exported(text: &str) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    for line in text.lines() {
        let line = line.trim().strip_prefix("export ").unwrap_or(line.trim());
        let Some((name, value)) = line.split_once('=') else { continue };
        // The suffix of further instances, which the first has not.
        let value = value.trim_matches(['"', '\'']).replace("$SUFFIX", "").replace("${SUFFIX}", "");
        if name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_') && !value.contains(['$', '`']) {
            found.insert(name.to_owned(), value);
        }
    }
    found
}

impl Reader<'_, '_> {
    fn place(&self, source: &Source, at: usize) -> Place {
        match (&source.used_at, source.file) {
            (Some(place), _) => place.clone(),
            (None, Some(file)) => self.reading.files.place(file, at),
            (None, None) => self.reading.start(),
        }
    }

    fn walk_file(&mut self, file: usize, host: Option<usize>, depth: usize) -> Result<(), LoadError> {
        let known = &self.reading.files.files[file];
        let source =
            Source { file: Some(file), directives: Rc::clone(&known.parsed), text: Rc::default(), used_at: None };
        let all = 0..source.directives.len();
        self.walk(&source, all, host, depth)
    }

    fn walk(
        &mut self,
        source: &Source,
        range: Range<usize>,
        host: Option<usize>,
        depth: usize,
    ) -> Result<(), LoadError> {
        let mut index = range.start;
        while index < range.end {
            self.reading.count(depth)?;
            let directive = &source.directives[index];
            let inside = index + 1..directive.end;
            index = directive.end;
            match (directive.is_section, &*directive.name) {
                (true, "virtualhost") if host.is_none() => {
                    let addresses: Vec<String> = directive.args.iter().map(|word| self.expand(&word.value)).collect();
                    let place = self.place(source, directive.range.start);
                    let section = self.section(source, directive, &inside, &addresses);
                    self.hosts.push(Host { place, addresses, settings: Settings::default(), section });
                    self.walk(source, inside, Some(self.hosts.len() - 1), depth + 1)?;
                }
                (true, "macro") => self.define_macro(source, directive),
                (true, name) if name.starts_with("if") => {
                    if self.holds(source, directive) {
                        self.walk(source, inside, host, depth + 1)?;
                    }
                }
                // What stands in other sections is about some of the requests.
                (true, _) => {}
                (false, "use") => self.use_macro(source, directive, host, depth)?,
                (false, "include" | "includeoptional") => self.include(source, directive, host, depth)?,
                (false, _) => self.take(source, directive, host),
            }
        }
        Ok(())
    }

    /// Returns where a virtual host stands; `None` for one that a macro makes.
    fn section(
        &self,
        source: &Source,
        directive: &Directive,
        inside: &Range<usize>,
        addresses: &[String],
    ) -> Option<Section> {
        let file = source.file?;
        let bytes = &self.reading.files.files[file].bytes;
        let end = directive.inside.end;
        let end = bytes[end..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| end + n);
        let end = end - usize::from(bytes[..end].ends_with(b"\r"));
        let mut redirects: Vec<(Range<usize>, String)> = Vec::new();
        let mut conditions: Vec<Range<usize>> = Vec::new();
        for directive in &source.directives[inside.clone()] {
            match &*directive.name {
                // They belong to the rule that follows.
                "rewritecond" => conditions.push(directive.range.clone()),
                "redirect" | "redirectpermanent" | "redirecttemp" | "redirectmatch" | "rewriterule" => {
                    let words: Vec<String> = directive.args.iter().map(|word| self.expand(&word.value)).collect();
                    let lines = std::mem::take(&mut conditions).into_iter().chain([directive.range.clone()]);
                    if let Some(to) = all_to(&words) {
                        redirects.extend(lines.map(|range| (range, to.clone())));
                    }
                }
                _ => {}
            }
        }
        let range = directive.range.start..end;
        Some(Section { file, range, inside: directive.inside.clone(), redirects, addresses: addresses.to_vec() })
    }

    fn include(
        &mut self,
        source: &Source,
        directive: &Directive,
        host: Option<usize>,
        depth: usize,
    ) -> Result<(), LoadError> {
        let pattern = PathBuf::from(absolute(&self.root, &self.expand(directive.arg(0))));
        let at = source.file.map(|file| (file, directive.range.start));
        let place = self.place(source, directive.range.start);
        let found = self.reading.include(at, place, &pattern, directive.name == "includeoptional")?;
        if host.is_none() {
            self.patterns.insert(pattern);
        }
        for file in found {
            self.walk_file(file, host, depth + 1)?;
        }
        Ok(())
    }

    /// Returns whether the condition of a section holds.
    fn holds(&mut self, source: &Source, directive: &Directive) -> bool {
        let (wanted, word) = match directive.arg(0).strip_prefix('!') {
            Some(word) => (false, word),
            None => (true, directive.arg(0)),
        };
        let word = self.expand(word);
        let holds = match &*directive.name {
            "ifmodule" => self.modules.contains(&word),
            "ifdefine" => self.defines.contains_key(&word),
            "iffile" => {
                let path = PathBuf::from(absolute(&self.root, &word));
                self.reading.look(&path).is_ok_and(|found| !found.is_empty())
            }
            "ifversion" => {
                let (operator, version) = match directive.args.len() {
                    0 | 1 => ("=", &*word),
                    _ => (&*word, directive.arg(1)),
                };
                match version_holds(self.version(), operator, version) {
                    Some(holds) => holds,
                    None => {
                        let text = format!("the condition `{operator} {version}` was taken for true");
                        let place = self.place(source, directive.range.start);
                        self.reading.remark(place, text);
                        true
                    }
                }
            }
            // `If`, `ElseIf` and `Else` are about requests.
            "if" => return false,
            _ => true,
        };
        holds == wanted
    }

    /// Returns the version of the program, which is read when it is first asked for.
    fn version(&mut self) -> Version {
        if let Some(version) = self.version {
            return version;
        }
        let found = PROGRAMS.iter().find_map(|program| {
            let found = self.reading.look(&self.root.join(program)).unwrap_or_default();
            found.first().and_then(|(_, bytes)| version_in(bytes))
        });
        *self.version.insert(found.unwrap_or(USUAL))
    }

    fn define_macro(&mut self, source: &Source, directive: &Directive) {
        let bytes: &[u8] = match source.file {
            Some(file) => &self.reading.files.files[file].bytes,
            None => &source.text,
        };
        let body = String::from_utf8_lossy(&bytes[directive.inside.clone()]).into_owned();
        let parameters = directive.args.iter().skip(1).map(|word| word.value.clone()).collect();
        let place = self.place(source, directive.range.start);
        let name = directive.arg(0).to_ascii_lowercase();
        self.macros.insert(name, Macro { parameters, body: body.into(), place });
    }

    fn use_macro(
        &mut self,
        source: &Source,
        directive: &Directive,
        host: Option<usize>,
        depth: usize,
    ) -> Result<(), LoadError> {
        let place = self.place(source, directive.range.start);
        let Some(found) = self.macros.get(&directive.arg(0).to_ascii_lowercase()).cloned() else {
            self.reading.remark(place, format!("the macro `{}` is not defined", directive.arg(0)));
            return Ok(());
        };
        let mut body = found.body.to_string();
        // Longer names first: one may begin as another does.
        let mut filled: Vec<_> = found.parameters.iter().zip(directive.args.iter().skip(1)).collect();
        filled.sort_by_key(|(name, _)| std::cmp::Reverse(name.len()));
        for (name, word) in filled {
            body = body.replace(name.as_str(), &self.expand(&word.value));
        }
        if body.len() > 1 << 20 {
            return Err(self.reading.endless());
        }
        let text: Rc<[u8]> = body.into_bytes().into();
        match parse(&found.place.path, &text) {
            Ok(directives) => {
                let count = directives.len();
                let source = Source { file: None, directives: Rc::new(directives), text, used_at: Some(place) };
                self.walk(&source, 0..count, host, depth + 1)
            }
            Err(error) => {
                self.reading.remark(place, format!("the macro `{}`: {error}", directive.arg(0)));
                Ok(())
            }
        }
    }

    /// Puts definitions and variables of the service in place; what is not known stays as it is.
    fn expand(&self, text: &str) -> String {
        if !text.contains("${") {
            return text.to_owned();
        }
        let mut found = String::new();
        let mut rest = text;
        while let Some(begin) = rest.find("${") {
            let Some(length) = rest[begin..].find('}') else { break };
            let name = &rest[begin + 2..begin + length];
            found.push_str(&rest[..begin]);
            match self.defines.get(name).or_else(|| self.environment.get(name)) {
                Some(value) => found.push_str(value),
                None => found.push_str(&rest[begin..=begin + length]),
            }
            rest = &rest[begin + length + 1..];
        }
        found + rest
    }

    fn value(&self, source: &Source, word: &Word) -> Value {
        let text = absolute(&self.root, &self.expand(&word.value));
        Value { text, file: source.file, range: word.range.clone() }
    }

    fn take(&mut self, source: &Source, directive: &Directive, host: Option<usize>) {
        let first = self.expand(directive.arg(0));
        match &*directive.name {
            "define" => drop(self.defines.insert(first, self.expand(directive.arg(1)))),
            "undefine" => drop(self.defines.remove(&first)),
            "loadmodule" => {
                let file = Path::new(directive.arg(1)).file_stem().map(|stem| stem.to_string_lossy().into_owned());
                self.modules.extend(file.map(|stem| format!("{stem}.c")));
                self.modules.insert(first);
            }
            "serverroot" if host.is_none() => self.root = PathBuf::from(first),
            "listen" => self.listens.extend(parse_socket(&first, None)),
            _ => self.set(source, directive, host, first),
        }
    }

    fn set(&mut self, source: &Source, directive: &Directive, host: Option<usize>, first: String) {
        let is_file = directive.name.starts_with("sslcertificate");
        let file = directive.args.first().filter(|_| is_file).map(|word| self.value(source, word));
        let expanded: Vec<String> = match &*directive.name {
            "serveralias" | "redirect" | "redirectpermanent" | "redirecttemp" | "redirectmatch" | "rewriterule" => {
                directive.args.iter().map(|word| self.expand(&word.value)).collect()
            }
            _ => Vec::new(),
        };
        let is_line = matches!(
            &*directive.name,
            "header"
                | "sslprotocol"
                | "sslciphersuite"
                | "sslhonorcipherorder"
                | "protocols"
                | "sslusestapling"
                | "sslstaplingcache"
        );
        let line =
            is_line.then(|| Line { name: directive.name.clone(), words: directive.args.clone(), file: source.file });
        let root = if directive.name == "documentroot" { absolute(&self.root, &first) } else { String::new() };
        let settings = match host {
            Some(host) => &mut self.hosts[host].settings,
            None => &mut self.server,
        };
        settings.lines.extend(line);
        match &*directive.name {
            "servername" => settings.name = Some(first),
            "serveralias" => settings.aliases.extend(expanded),
            "documentroot" => settings.root = Some(root),
            "sslengine" => settings.tls = Some(first.eq_ignore_ascii_case("on")),
            "sslcertificatefile" => settings.certificates.extend(file),
            "sslcertificatekeyfile" => settings.keys.extend(file),
            "sslcertificatechainfile" => settings.chain = file,
            "redirect" | "redirectpermanent" | "redirecttemp" | "redirectmatch" | "rewriterule" => {
                if let Some(to) = all_to(&expanded).filter(|to| to.starts_with("https://")) {
                    settings.redirect = Some(to);
                }
            }
            _ => {}
        }
    }

    fn finish(self) -> Known {
        let Reader { server, hosts, listens, modules, patterns, mut reading, .. } = self;
        let mut sites: Vec<Site> = Vec::new();
        let all: Vec<&Host> = hosts.iter().collect();
        for host in &all {
            let mut listeners: Vec<Listener> = Vec::new();
            let tls = host.settings.tls.or(server.tls).unwrap_or(false);
            for address in &host.addresses {
                let sockets = parse_socket(address, Some(&listens));
                if sockets.is_empty() {
                    let text = format!("the address `{address}` is not understood");
                    reading.remark(host.place.clone(), text);
                }
                for socket in sockets {
                    let found = Listener::new(socket, Protocol::Http, tls);
                    if !listeners.contains(&found) {
                        listeners.push(found);
                    }
                }
            }
            let unheard = listeners.iter().all(|found| !listens.iter().any(|listen| hears(listen, &found.socket)));
            let unreached = unheard.then(|| {
                let at: Vec<String> = listeners.iter().map(|found| found.socket.to_string()).collect();
                format!("no `Listen` is for {}", eskort_core::words::list(&at))
            });
            sites.push(site(host.place.clone(), &host.settings, &server, listeners, unreached));
        }
        // The main server has what no virtual host is for.
        let own: Vec<Listener> = listens
            .iter()
            .filter(|listen| {
                let hears_it = |site: &Site| site.listeners.iter().any(|found| hears(listen, &found.socket));
                !sites.iter().any(hears_it)
            })
            .map(|listen| Listener::new(listen.clone(), Protocol::Http, server.tls.unwrap_or(false)))
            .collect();
        if !own.is_empty() && (hosts.is_empty() || server.name.is_some()) {
            sites.push(site(reading.start(), &server, &Settings::default(), own, None));
        }
        let survey = reading.end(sites);
        let hosts = hosts.into_iter().map(|host| (host.section, host.settings.lines)).collect();
        Known { survey, hosts, listens, modules, lines: server.lines, patterns }
    }
}

/// Returns where the words of a redirect or a rule send all visitors.
fn all_to(words: &[String]) -> Option<String> {
    let is_all = |word: &String| {
        matches!(&**word, "/" | "^" | "^/" | "^(.*)$" | "^/(.*)$" | "(.*)" | ".*" | "^/?(.*)" | "^/?(.*)$" | "^.*$")
    };
    let to = words.iter().skip(1).find(|word| word.starts_with("https://") || word.starts_with("http://"));
    to.filter(|_| words.iter().any(is_all)).cloned()
}

fn site(
    place: Place,
    settings: &Settings,
    server: &Settings,
    listeners: Vec<Listener>,
    unreached: Option<String>,
) -> Site {
    let inherits = settings.certificates.is_empty();
    let from = if inherits { server } else { settings };
    let keys = if settings.keys.is_empty() && inherits { &server.keys } else { &settings.keys };
    let tls = listeners.iter().any(|listener| listener.tls);
    let pair = |(n, certificate): (usize, &Value)| CertificateFiles {
        certificate: certificate.clone(),
        key: keys.get(n).cloned(),
        chain: from.chain.clone(),
        only_for: None,
    };
    Site {
        names: settings.name.iter().chain(&settings.aliases).map(|name| site_name(name)).collect(),
        listeners,
        certificates: if tls { from.certificates.iter().enumerate().map(pair).collect() } else { Vec::new() },
        document_root: settings.root.clone().or_else(|| server.root.clone()),
        redirect: settings.redirect.clone(),
        unreached,
        ..Site::at(place)
    }
}

/// `ServerName` may come with scheme and port; `ServerAlias` with `*` and `?`.
fn site_name(written: &str) -> SiteName {
    let bare = written.split_once("://").map_or(written, |(_, rest)| rest);
    let bare = match bare.rsplit_once(':') {
        Some((name, port)) if !port.is_empty() && port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => bare,
    };
    let name = bare.trim_end_matches('.').to_ascii_lowercase();
    let pattern = match name.strip_prefix("*.") {
        Some(base) if !base.contains(['*', '?']) => NamePattern::Below { base: base.to_owned(), and_base: false },
        _ if name.contains(['*', '?']) => {
            let source = regex::escape(&name).replace("\\*", ".*").replace("\\?", ".");
            NamePattern::Pattern(regex::Regex::new(&format!("^{source}$")).ok())
        }
        _ => NamePattern::Exact(name),
    };
    SiteName { written: bare.to_owned(), pattern }
}

/// Reads an address; without a port, or with `*` for it, it is at all the ports that are listened at.
pub(super) fn parse_socket(text: &str, listens: Option<&Vec<Socket>>) -> Vec<Socket> {
    let any = IpAddr::from(Ipv4Addr::UNSPECIFIED);
    if let Ok(port) = text.parse() {
        return vec![Socket::Ip(any, port)];
    }
    let (host, port) = match text.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') => (host, Some(port)),
        _ => (text, None),
    };
    let at = |port: u16| match host.trim_matches(['[', ']']).parse() {
        Ok(ip) => Socket::Ip(ip, port),
        Err(_) if matches!(host, "*" | "_default_") => Socket::Ip(any, port),
        Err(_) => Socket::Host(host.to_ascii_lowercase(), port),
    };
    match port.map(str::parse) {
        Some(Ok(port)) => vec![at(port)],
        Some(Err(_)) if port != Some("*") => Vec::new(),
        _ => {
            let ports = listens.into_iter().flatten().filter_map(|listen| match listen {
                Socket::Ip(_, port) | Socket::Host(_, port) => Some(*port),
                Socket::Unix(_) => None,
            });
            let mut ports: Vec<u16> = ports.collect();
            ports.sort_unstable();
            ports.dedup();
            ports.into_iter().map(at).collect()
        }
    }
}

/// Whether what is listened at brings visitors to a virtual host's address.
pub(super) fn hears(listen: &Socket, address: &Socket) -> bool {
    match (listen, address) {
        (Socket::Ip(listen, port), Socket::Ip(ip, wanted)) => {
            port == wanted && (listen.is_unspecified() || ip.is_unspecified() || listen == ip)
        }
        (Socket::Ip(_, port) | Socket::Host(_, port), Socket::Host(_, wanted) | Socket::Ip(_, wanted)) => {
            port == wanted
        }
        _ => false,
    }
}
