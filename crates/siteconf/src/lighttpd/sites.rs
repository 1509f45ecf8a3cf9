//! The hosts of a configuration: what conditions on the host and on the socket say.

use super::tree::{Part, Statement, parse};
use crate::files::{LoadError, ReadFiles};
use crate::reading::Reading;
use crate::site::{CertificateFiles, Listener, NamePattern, Place, Protocol, Site, SiteName, Socket, Value};
use crate::survey::{Survey, absolute};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};

/// What is set where: a host, a socket, or both.
#[derive(Clone, Default)]
struct Scope {
    place: Option<Place>,
    host: Option<SiteName>,
    socket: Option<Socket>,
    /// Whether it is for visitors without TLS alone.
    plain_only: bool,
    tls: Option<bool>,
    certificate: Option<Value>,
    key: Option<Value>,
    root: Option<String>,
    redirect: Option<String>,
}

struct Reader<'a, 'b> {
    reading: Reading<'a, 'b, Vec<Statement>>,
    variables: BTreeMap<String, String>,
    scopes: Vec<Scope>,
}

/// Reads what a lighttpd serves from its main file.
///
/// # Errors
/// A [`LoadError`] with file and line.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    let reading = Reading::begin(main, read, parse)?;
    let mut reader = Reader { reading, variables: BTreeMap::new(), scopes: vec![Scope::default()] };
    let all = 0..reader.reading.files.files[0].parsed.len();
    reader.walk(0, all, 0, 0)?;
    Ok(reader.finish())
}

impl Reader<'_, '_> {
    fn walk(
        &mut self,
        file: usize,
        range: std::ops::Range<usize>,
        scope: usize,
        depth: usize,
    ) -> Result<(), LoadError> {
        let mut index = range.start;
        while index < range.end {
            self.reading.count(depth)?;
            let statement = self.reading.files.files[file].parsed[index].clone();
            index += 1;
            match statement {
                Statement::Setting { name, adds, parts, is_list, range } => {
                    let text = self.text(&parts);
                    if adds {
                        self.variables.entry(name.clone()).or_default().push_str(&text);
                    } else {
                        self.variables.insert(name.clone(), text.clone());
                    }
                    self.set(file, scope, (&name, text), (&parts, is_list), range);
                }
                Statement::Include { parts, shell: true, at } => self.command(file, &self.text(&parts), at),
                Statement::Include { parts, at, .. } => self.include(file, &parts, at, scope, depth)?,
                Statement::Condition { field, operator, text, is_else, at, end } => {
                    let inner = self.condition(file, at, scope, (&field, &operator, &self.text(&text), is_else));
                    self.walk(file, index..end, inner, depth + 1)?;
                    index = end;
                }
            }
        }
        Ok(())
    }

    /// Takes in what a command would say, where that is known: the commands of Debian's package.
    fn command(&mut self, file: usize, command: &str, at: usize) {
        let mut words = command.split_whitespace();
        let place = self.reading.files.place(file, at);
        match (words.next().unwrap_or_default().rsplit('/').next(), words.next().map(str::parse)) {
            (Some("create-mime.conf.pl"), _) => {}
            (Some("use-ipv6.pl"), Some(Ok(port))) => {
                let socket = Some(Socket::Ip(Ipv6Addr::UNSPECIFIED.into(), port));
                self.scopes.push(Scope { place: Some(place), socket, ..Scope::default() });
            }
            _ => self.reading.remark(place, format!("what the command `{command}` says was left out")),
        }
    }

    fn include(&mut self, file: usize, parts: &[Part], at: usize, scope: usize, depth: usize) -> Result<(), LoadError> {
        let pattern = PathBuf::from(absolute(&self.reading.folder_of(file), &self.text(parts)));
        let place = self.reading.files.place(file, at);
        for included in self.reading.include(Some((file, at)), place, &pattern, false)? {
            let all = 0..self.reading.files.files[included].parsed.len();
            self.walk(included, all, scope, depth + 1)?;
        }
        Ok(())
    }

    /// Puts the parts of a value together.
    fn text(&self, parts: &[Part]) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Name(name) => self.variables.get(name).cloned().unwrap_or_else(|| name.clone()),
        };
        parts.iter().map(part).collect()
    }

    /// Begins what a condition is about, and returns its number.
    fn condition(
        &mut self,
        file: usize,
        at: usize,
        above: usize,
        (field, operator, text, is_else): (&str, &str, &str, bool),
    ) -> usize {
        let mut scope = Scope {
            place: Some(self.reading.files.place(file, at)),
            host: self.scopes[above].host.clone(),
            socket: self.scopes[above].socket.clone(),
            plain_only: self.scopes[above].plain_only,
            ..Scope::default()
        };
        match (field, operator) {
            ("$HTTPhost", "==" | "=~" | "=^" | "=$") => scope.host = Some(host(operator, text)),
            ("$SERVERsocket", "==") => scope.socket = parse_socket(text),
            ("$HTTPscheme", "==") => scope.plain_only = text == "http",
            ("", _) if is_else => {}
            // Other conditions are about some of the requests: what they say of the whole site stands there, too.
            _ => {
                if matches!(field, "$HTTPhost" | "$SERVERsocket") {
                    let text = format!("the condition on {field} with `{operator}` was left out");
                    let place = self.reading.files.place(file, at);
                    self.reading.remark(place, text);
                }
            }
        }
        self.scopes.push(scope);
        self.scopes.len() - 1
    }

    fn set(
        &mut self,
        file: usize,
        scope: usize,
        (name, text): (&str, String),
        (parts, is_list): (&[Part], bool),
        range: std::ops::Range<usize>,
    ) {
        let folder = self.reading.folder();
        let value = Value { text: absolute(folder, &text), file: Some(file), range };
        let scope = &mut self.scopes[scope];
        match name {
            "ssl.engine" => scope.tls = Some(text == "enable"),
            "ssl.pemfile" => scope.certificate = Some(value),
            _ if name.strip_prefix("ssl.priv").is_some_and(|rest| rest == "key") => scope.key = Some(value),
            "server.document-root" => scope.root = Some(text),
            "url.redirect" if is_list => {
                let texts = parts.iter().filter_map(|part| match part {
                    Part::Text(text) => Some(text),
                    Part::Name(_) => None,
                });
                scope.redirect = texts.into_iter().find(|text| text.starts_with("https://")).cloned();
            }
            _ => {}
        }
    }

    fn finish(self) -> Survey {
        let Reader { reading, variables, scopes } = self;
        let port = variables.get("server.port").and_then(|port| port.parse().ok()).unwrap_or(80);
        let bind = variables.get("server.bind").and_then(|bind| parse_socket(&format!("{bind}:{port}")));
        let main_socket = bind.unwrap_or(Socket::Ip(Ipv4Addr::UNSPECIFIED.into(), port));
        let main_tls = scopes[0].tls.unwrap_or(false);
        let mut sockets: Vec<(Socket, bool)> = vec![(main_socket.clone(), main_tls)];
        for scope in scopes.iter().filter(|scope| scope.host.is_none()) {
            if let Some(socket) = &scope.socket
                && !sockets.iter().any(|(known, _)| known == socket)
            {
                let tls = scopes.iter().any(|s| s.socket.as_ref() == Some(socket) && s.tls == Some(true));
                sockets.push((socket.clone(), tls));
            }
        }
        // The site of all names, then one for each host.
        let mut hosts: Vec<Option<&SiteName>> = vec![None];
        for host in scopes.iter().filter_map(|scope| scope.host.as_ref()) {
            if !hosts.iter().flatten().any(|known| known.written == host.written) {
                hosts.push(Some(host));
            }
        }
        let mut sites = Vec::new();
        for host in hosts {
            let is_ours = |scope: &&Scope| match (&scope.host, host) {
                (None, _) => true,
                (Some(own), Some(host)) => own.written == host.written,
                (Some(_), None) => false,
            };
            let ours: Vec<&Scope> = scopes.iter().filter(is_ours).collect();
            // What says it last for this host counts, and that is said for all comes before.
            let last = |find: &dyn Fn(&Scope) -> bool| {
                let own = ours.iter().rev().find(|scope| scope.host.is_some() && find(scope));
                own.or_else(|| ours.iter().rev().find(|scope| find(scope))).copied()
            };
            let listeners: Vec<Listener> =
                sockets.iter().map(|(socket, tls)| Listener::new(socket.clone(), Protocol::Http, *tls)).collect();
            let mut site = Site::at(
                ours.iter()
                    .find(|scope| host.is_some() && scope.host.is_some())
                    .and_then(|scope| scope.place.clone())
                    .unwrap_or_else(|| reading.start()),
            );
            site.names = host.into_iter().cloned().collect();
            if let Some(scope) = last(&|scope| scope.certificate.is_some()) {
                let certificate = scope.certificate.clone().expect("it has one");
                let key = scope.key.clone().or_else(|| last(&|scope| scope.key.is_some()).and_then(|s| s.key.clone()));
                site.certificates.push(CertificateFiles { certificate, key, chain: None, only_for: None });
            }
            if listeners.iter().all(|listener| !listener.tls) {
                site.certificates.clear();
            }
            site.document_root = last(&|scope| scope.root.is_some()).and_then(|scope| scope.root.clone());
            let redirects = |scope: &Scope| scope.redirect.is_some() && (scope.plain_only || scope.host.is_some());
            site.redirect = last(&redirects).and_then(|scope| scope.redirect.clone());
            site.listeners = listeners;
            sites.push(site);
        }
        reading.end(sites)
    }
}

/// Reads the name of a condition on the host.
fn host(operator: &str, text: &str) -> SiteName {
    let pattern = match operator {
        "==" => NamePattern::Exact(text.split(':').next().unwrap_or_default().to_ascii_lowercase()),
        "=$" => match text.strip_prefix('.') {
            Some(base) => NamePattern::Below { base: base.to_ascii_lowercase(), and_base: false },
            None => NamePattern::Pattern(regex::Regex::new(&format!("{}$", regex::escape(text))).ok()),
        },
        "=^" => NamePattern::Pattern(regex::Regex::new(&format!("^{}", regex::escape(text))).ok()),
        _ => NamePattern::Pattern(regex::RegexBuilder::new(text).size_limit(1 << 20).build().ok()),
    };
    let written = if operator == "==" { text.to_owned() } else { format!("{operator} {text}") };
    SiteName { written, pattern }
}

fn parse_socket(text: &str) -> Option<Socket> {
    if text.starts_with('/') || text.starts_with("unix:") {
        return Some(Socket::Unix(text.trim_start_matches("unix:").to_owned()));
    }
    let (host, port) = text.rsplit_once(':')?;
    let port = port.parse().ok()?;
    let host = host.trim_matches(['[', ']']);
    Some(match host.parse::<IpAddr>() {
        Ok(ip) => Socket::Ip(ip, port),
        Err(_) if matches!(host, "" | "*" | "0") => Socket::Ip(Ipv4Addr::UNSPECIFIED.into(), port),
        Err(_) => Socket::Host(host.to_ascii_lowercase(), port),
    })
}
