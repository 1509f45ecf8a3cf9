//! What is served where: the values that every server's reader makes of its configuration.

use eskort_core::names::Identifier;
use regex::Regex;
use std::collections::BTreeSet;
use std::fmt;
use std::net::{IpAddr, Ipv4Addr};
use std::ops::Range;
use std::path::PathBuf;

/// A place in a configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The file.
    pub path: PathBuf,
    /// The line, counted from 1.
    pub line: usize,
    /// The byte in the line, counted from 1.
    pub column: usize,
    /// The includes that lead to the file, the nearest first: each with its file and line. Empty for the main file.
    pub included_from: Vec<(PathBuf, usize)>,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.path.display(), self.line)
    }
}

/// An address that a server listens at.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Socket {
    /// An address, unspecified for all of its family, and a port.
    Ip(IpAddr, u16),
    /// A host name, which nginx resolves when it starts, and a port.
    Host(String, u16),
    /// The path of a Unix socket.
    Unix(String),
}

impl fmt::Display for Socket {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Socket::Ip(IpAddr::V4(ip), port) if ip.is_unspecified() => write!(f, "{port}"),
            Socket::Ip(IpAddr::V4(ip), port) => write!(f, "{ip}:{port}"),
            Socket::Ip(IpAddr::V6(ip), port) => write!(f, "[{ip}]:{port}"),
            Socket::Host(host, port) => write!(f, "{host}:{port}"),
            Socket::Unix(path) => write!(f, "unix:{path}"),
        }
    }
}

impl Socket {
    /// Returns the same at another port; a Unix socket has none.
    pub(crate) fn at_port(&self, port: u16) -> Option<Socket> {
        match self {
            Socket::Ip(ip, _) => Some(Socket::Ip(*ip, port)),
            Socket::Host(host, _) => Some(Socket::Host(host.clone(), port)),
            Socket::Unix(_) => None,
        }
    }

    /// Returns the socket for all addresses that this one takes its own address from.
    pub(crate) fn shadowed(&self) -> Option<Socket> {
        let (ip, port) = match self {
            Socket::Ip(ip, port) if !ip.is_unspecified() => (*ip, *port),
            Socket::Host(_, port) => (Ipv4Addr::LOCALHOST.into(), *port),
            _ => return None,
        };
        let all: IpAddr = if ip.is_ipv4() { [0, 0, 0, 0].into() } else { [0_u16; 8].into() };
        Some(Socket::Ip(all, port))
    }
}

/// What is spoken at a listener, below TLS where there is any.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Protocol {
    /// HTTP over TCP.
    Http,
    /// HTTP/3, over QUIC and so over UDP; TLS is part of it.
    Quic,
    /// Anything over TCP, passed on.
    Tcp,
    /// Mail between servers, or from those who send it (RFC 5321, RFC 6409).
    Smtp,
    /// Mail that is read where it lies (RFC 9051).
    Imap,
    /// Mail that is fetched (RFC 1939).
    Pop3,
    /// Filters of mail (RFC 5804).
    ManageSieve,
}

impl Protocol {
    /// Returns the word for it.
    pub fn word(self) -> &'static str {
        match self {
            Protocol::Http => "http",
            Protocol::Quic => "http3",
            Protocol::Tcp => "tcp",
            Protocol::Smtp => "smtp",
            Protocol::Imap => "imap",
            Protocol::Pop3 => "pop3",
            Protocol::ManageSieve => "sieve",
        }
    }
}

/// Where a site is served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listener {
    /// Where.
    pub socket: Socket,
    /// What is spoken there.
    pub protocol: Protocol,
    /// Whether TLS is spoken there.
    pub tls: bool,
    /// Whether a visitor may ask for TLS there, after plain words.
    pub starttls: bool,
    /// Whether this site answers there to names that no other does, since it says so.
    pub default: bool,
    /// Whether visitors come through a balancer that speaks the PROXY protocol.
    pub proxy_protocol: bool,
    /// Whether one socket for both families was asked for.
    pub(crate) both_families: bool,
}

/// Which names a site answers to.
#[derive(Clone, Debug)]
pub enum NamePattern {
    /// This very name or address.
    Exact(String),
    /// `*.base`: every name below; `.base`: the base too.
    Below {
        /// What stands below the wildcard.
        base: String,
        /// Whether it stands for the base, too.
        and_base: bool,
    },
    /// `www.lampholm.*`: the part before the wildcard.
    Before(String),
    /// A pattern behind `~`; `None` when it is one that cannot be tried here.
    Pattern(Option<Regex>),
    /// A word that no visitor asks for, as `_`.
    Nobody,
}

impl NamePattern {
    /// How well this answers a name (not a wildcard).
    fn fit(&self, name: &str) -> Option<NameMatch> {
        match self {
            NamePattern::Exact(own) => (own == name).then_some(NameMatch::Exact),
            NamePattern::Below { base, and_base } if name == base => and_base.then_some(NameMatch::Exact),
            NamePattern::Below { base, .. } => name
                .strip_suffix(base.as_str())
                .filter(|rest| rest.ends_with('.'))
                .map(|_| NameMatch::Below(base.len())),
            NamePattern::Before(front) => name
                .strip_prefix(front.as_str())
                .filter(|rest| rest.starts_with('.'))
                .map(|_| NameMatch::Before(front.len())),
            NamePattern::Pattern(pattern) => pattern.as_ref()?.is_match(name).then_some(NameMatch::Pattern),
            NamePattern::Nobody => None,
        }
    }

    /// Whether certificates with these names are good for all that this stands for. nginx's `*.base` stands for names at any
    /// depth; whoever writes it means what a certificate's wildcard means.
    fn is_covered_by(&self, names: &[Identifier]) -> bool {
        let covered = |wanted: &str| names.iter().any(|name| name.covers(wanted));
        let wildcard = |base: &str| names.iter().any(|name| name.is_wildcard() && name.base() == base);
        match self {
            NamePattern::Exact(own) => !own.contains('.') && !own.contains(':') || covered(own),
            NamePattern::Below { base, and_base } => wildcard(base) && (!and_base || covered(base)),
            NamePattern::Before(_) | NamePattern::Pattern(_) => false,
            NamePattern::Nobody => true,
        }
    }
}

/// How well a pattern fits a name, better ones last. nginx takes the exact name, then the longest wildcard at the beginning, then
/// the longest at the end, then the first pattern.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum NameMatch {
    Pattern,
    Before(usize),
    Below(usize),
    Exact,
}

/// A name of a site.
#[derive(Clone, Debug)]
pub struct SiteName {
    /// As it stands in the configuration.
    pub written: String,
    /// What it stands for.
    pub pattern: NamePattern,
}

/// Something that a server serves under names of its own: a server block, a virtual host.
#[derive(Clone, Debug)]
pub struct Site {
    /// Where it is defined.
    pub place: Place,
    /// Its names.
    pub names: Vec<SiteName>,
    /// Where it is served.
    pub listeners: Vec<Listener>,
    /// The certificates that it shows.
    pub certificates: Vec<CertificateFiles>,
    /// The folder that its pages come from.
    pub document_root: Option<String>,
    /// Where it sends visitors who come without TLS.
    pub redirect: Option<String>,
    /// Why its server never comes to it, where that is so.
    pub unreached: Option<String>,
}

impl Site {
    /// Makes a site that nothing is known of but its place.
    pub(crate) fn at(place: Place) -> Self {
        Site {
            place,
            names: Vec::new(),
            listeners: Vec::new(),
            certificates: Vec::new(),
            document_root: None,
            redirect: None,
            unreached: None,
        }
    }
}

/// A word of a configuration, and the bytes that it was read from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Value {
    /// What it says, without quotes; a path is absolute where it can be known.
    pub text: String,
    /// The number of the file among those of the configuration; `None` where a macro or a default has made it.
    pub file: Option<usize>,
    /// Its bytes there, with its quotes.
    pub range: Range<usize>,
}

/// The files of one certificate of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateFiles {
    /// The file with the certificate; often with its chain, and sometimes with its key.
    pub certificate: Value,
    /// The file with its key; `None` where it is in the same one.
    pub key: Option<Value>,
    /// The file with the intermediates, where the server reads them from one of their own.
    pub chain: Option<Value>,
    /// The name, or `.` with the domain, that a map gives it for; `None` where it is shown to all who get no other.
    pub only_for: Option<String>,
}

impl Listener {
    /// Makes a listener that has nothing special about it.
    pub(crate) fn new(socket: Socket, protocol: Protocol, tls: bool) -> Self {
        Listener { socket, protocol, tls, starttls: false, default: false, proxy_protocol: false, both_families: false }
    }
}

impl Site {
    /// Returns whether it speaks TLS on any listener.
    pub fn has_tls(&self) -> bool {
        self.listeners.iter().any(|l| l.tls)
    }

    /// Returns how well the site's names fit a name.
    pub(crate) fn answers(&self, name: &Identifier) -> Option<NameMatch> {
        if name.is_wildcard() {
            let hit = |own: &NamePattern| match own {
                NamePattern::Exact(own) => name.covers(own),
                NamePattern::Below { base, .. } => *base == name.base(),
                _ => false,
            };
            return self.names.iter().any(|own| hit(&own.pattern)).then_some(NameMatch::Exact);
        }
        let wanted = name.to_string();
        self.names.iter().filter_map(|own| own.pattern.fit(&wanted)).max()
    }

    /// Returns the names that a certificate for `names` is not good for.
    pub(crate) fn foreign_names(&self, names: &[Identifier]) -> Vec<String> {
        let foreign = self.names.iter().filter(|own| !own.pattern.is_covered_by(names));
        foreign.map(|own| own.written.clone()).collect()
    }

    /// Returns those of them that are no patterns: what a pattern stands for beside the certificate's names is not known.
    pub(crate) fn known_foreign_names(&self, names: &[Identifier]) -> Vec<String> {
        let is_pattern = |own: &&SiteName| matches!(own.pattern, NamePattern::Pattern(_) | NamePattern::Before(_));
        let foreign = self.names.iter().filter(|own| !is_pattern(own) && !own.pattern.is_covered_by(names));
        foreign.map(|own| own.written.clone()).collect()
    }

    /// Returns the names that the site spells out and a certificate for `name` is good for.
    pub(crate) fn spelled_out<'a>(&'a self, name: &'a Identifier) -> impl Iterator<Item = &'a str> {
        self.names.iter().filter_map(|own| match &own.pattern {
            NamePattern::Exact(own) if name.covers(own) => Some(own.as_str()),
            _ => None,
        })
    }

    /// Returns a pattern for the hosts of the site that some names are for.
    pub(crate) fn host_pattern(&self, names: &[&Identifier]) -> String {
        let mut hosts: BTreeSet<String> = BTreeSet::new();
        for name in names {
            hosts.extend(self.spelled_out(name).map(host_pattern));
            hosts.insert(match name.is_wildcard() {
                true => format!("[^.]+\\.{}", host_pattern(&name.base())),
                false => host_pattern(&name.in_url()),
            });
        }
        hosts.into_iter().collect::<Vec<_>>().join("|")
    }

    /// Whether it is there for names that no other site has: it has none that a visitor asks for.
    pub(crate) fn has_no_names(&self) -> bool {
        self.names.iter().all(|own| matches!(own.pattern, NamePattern::Nobody))
    }
}

/// Returns a pattern that stands for one host name or address.
pub(crate) fn host_pattern(host: &str) -> String {
    host.replace('.', "\\.").replace('[', "\\[").replace(']', "\\]")
}
