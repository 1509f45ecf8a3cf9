//! The server blocks of a configuration, with everything that includes bring into them, and which of them answers to a name.

use super::tree::{Config, Directive, DirectiveRef};
use crate::site::{CertificateFiles, Listener, NamePattern, Protocol, Site, SiteName, Socket, Value};
use crate::survey::absolute;
use eskort_core::names::Identifier;
use regex::RegexBuilder;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;

/// Patterns that take more than this are not tried.
const LARGEST_PATTERN: usize = 1 << 20;

/// Tells a block from all others.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct BlockId(pub(super) DirectiveRef);

/// A `server { … }` inside `http { … }`.
#[derive(Clone, Debug)]
pub struct ServerBlock {
    /// Which it is.
    pub id: BlockId,
    /// What it serves where; one listener on port 80 when it has no `listen` at all.
    pub site: Site,
    /// What stands in it, includes put in place.
    pub(super) directives: Vec<DirectiveRef>,
    /// Whether it takes a certificate from what surrounds it.
    pub(super) inherits_certificate: bool,
}

impl ServerBlock {
    pub(super) fn all<'c>(&'c self, config: &'c Config, name: &'c str) -> impl Iterator<Item = DirectiveRef> + 'c {
        self.directives.iter().copied().filter(move |p| config.get(*p).name == name)
    }
}

/// All server blocks, in the order nginx reads them.
#[derive(Clone, Debug)]
pub struct Sites {
    /// The blocks.
    pub blocks: Vec<ServerBlock>,
    exact: HashMap<String, Vec<usize>>,
    /// By the base of `*.base` and `.base`.
    below: HashMap<String, Vec<usize>>,
    /// Blocks with names of other kinds.
    others: Vec<usize>,
    /// The blocks of each socket.
    by_socket: HashMap<Socket, Vec<usize>>,
}

impl Sites {
    /// Finds every server block inside `http`.
    pub fn find(config: &Config) -> Self {
        let mut blocks = Vec::new();
        for http in config.inside(None).into_iter().filter(|p| config.get(*p).name == "http") {
            let inside = config.inside(Some(http));
            let around = Around::of(config, &inside);
            blocks.extend(servers(config, &inside).map(|server| server_block(config, server, &around)));
        }
        share_between_blocks(&mut blocks);
        let (mut exact, mut below) = (HashMap::<String, Vec<usize>>::new(), HashMap::<String, Vec<usize>>::new());
        let (mut others, mut by_socket) = (Vec::new(), HashMap::<Socket, Vec<usize>>::new());
        for (index, block) in blocks.iter().enumerate() {
            let mut is_other = false;
            for name in &block.site.names {
                match &name.pattern {
                    NamePattern::Exact(name) => exact.entry(name.clone()).or_default().push(index),
                    NamePattern::Below { base, .. } => below.entry(base.clone()).or_default().push(index),
                    NamePattern::Before(_) | NamePattern::Pattern(_) => is_other = true,
                    NamePattern::Nobody => {}
                }
            }
            if is_other {
                others.push(index);
            }
            for listen in &block.site.listeners {
                by_socket.entry(listen.socket.clone()).or_default().push(index);
            }
        }
        Sites { blocks, exact, below, others, by_socket }
    }

    /// Returns the blocks that listen at a socket.
    pub(super) fn at(&self, socket: &Socket) -> &[usize] {
        self.by_socket.get(socket).map_or(&[], Vec::as_slice)
    }

    /// Returns the blocks with a name that answers to this one.
    fn candidates(&self, name: &Identifier) -> Vec<usize> {
        let wanted = name.to_string();
        let mut found: Vec<usize> = self.others.clone();
        if name.is_wildcard() {
            // What a wildcard covers stands one label below its base.
            found.extend(self.exact.iter().filter(|(own, _)| name.covers(own)).flat_map(|(_, at)| at));
        }
        found.extend(self.exact.get(&wanted).into_iter().flatten());
        let mut rest = Some(wanted.as_str());
        while let Some(base) = rest {
            found.extend(self.below.get(base).into_iter().flatten());
            rest = base.split_once('.').map(|(_, rest)| rest);
        }
        found.sort_unstable();
        found.dedup();
        found.retain(|index| self.blocks[*index].site.answers(name).is_some());
        found
    }

    /// Returns the blocks that visitors of a name get, at one of their sockets or another. Where no block has the name, those that
    /// say that they are for all others count, if they have no names of their own.
    pub(super) fn serving(&self, name: &Identifier) -> Vec<Served> {
        let candidates = self.candidates(name);
        let mut found: Vec<Served> = Vec::new();
        for &index in &candidates {
            for listen in &self.blocks[index].site.listeners {
                let rivals = self.at(&listen.socket).iter().filter(|i| candidates.binary_search(i).is_ok());
                let fit = |i: usize| self.blocks[i].site.answers(name);
                // Of equal ones nginx takes the first. A wildcard certificate is for all blocks that it covers.
                let best = rivals.copied().rev().max_by_key(|i| fit(*i));
                if best == Some(index) || name.is_wildcard() {
                    found.push(Served { block: index, socket: listen.socket.clone(), tls: listen.tls });
                }
            }
        }
        if found.is_empty() && !name.is_wildcard() {
            for (index, block) in self.blocks.iter().enumerate().filter(|(_, block)| block.site.has_no_names()) {
                let default = |l: &&Listener| l.default || self.is_first_without_default(index, &l.socket);
                let listens = block.site.listeners.iter().filter(default);
                found.extend(listens.map(|l| Served { block: index, socket: l.socket.clone(), tls: l.tls }));
            }
        }
        found
    }

    pub(super) fn has_default(&self, socket: &Socket) -> bool {
        let says = |i: &usize| self.blocks[*i].site.listeners.iter().any(|l| l.default && l.socket == *socket);
        self.at(socket).iter().any(says)
    }

    /// Returns the block that nginx gives names to that no block at a socket has.
    pub(super) fn default_at(&self, socket: &Socket) -> Option<usize> {
        let says = |i: &&usize| self.blocks[**i].site.listeners.iter().any(|l| l.default && l.socket == *socket);
        let at = self.at(socket);
        at.iter().find(says).or(at.first()).copied()
    }

    fn is_first_without_default(&self, index: usize, socket: &Socket) -> bool {
        self.at(socket).first() == Some(&index) && !self.has_default(socket)
    }
}

/// nginx speaks TLS, and expects the PROXY protocol, at a socket as soon as one of its blocks says so.
fn share_between_blocks(blocks: &mut [ServerBlock]) {
    let mut shared: HashMap<Socket, (bool, bool)> = HashMap::new();
    for listen in blocks.iter().flat_map(|block| &block.site.listeners) {
        let (tls, proxy_protocol) = shared.entry(listen.socket.clone()).or_default();
        *tls |= listen.tls;
        *proxy_protocol |= listen.proxy_protocol;
    }
    for listen in blocks.iter_mut().flat_map(|block| &mut block.site.listeners) {
        (listen.tls, listen.proxy_protocol) = shared[&listen.socket];
    }
}

/// A block that visitors of a name get at a socket.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Served {
    pub(super) block: usize,
    pub(super) socket: Socket,
    pub(super) tls: bool,
}

/// Returns the `server` blocks among directives.
pub(super) fn servers(config: &Config, inside: &[DirectiveRef]) -> impl Iterator<Item = DirectiveRef> {
    let is_server = |p: &&DirectiveRef| config.get(**p).name == "server" && config.get(**p).open.is_some();
    inside.iter().filter(is_server).copied()
}

/// What a block takes from what surrounds it.
pub(super) struct Around {
    pub(super) tls: bool,
    pub(super) certificates: Vec<CertificateFiles>,
    root: Option<String>,
}

impl Around {
    pub(super) fn of(config: &Config, inside: &[DirectiveRef]) -> Self {
        let first = |name: &str| inside.iter().map(|p| config.get(*p)).find(|d| d.name == name);
        let tls = first("ssl").is_some_and(|d| d.arg(0) == "on");
        Around { tls, certificates: certificates(config, inside), root: first("root").map(|d| d.arg(0).to_owned()) }
    }
}

/// Returns the certificates among directives: nginx takes the first key for the first certificate, and so on.
pub(super) fn certificates(config: &Config, directives: &[DirectiveRef]) -> Vec<CertificateFiles> {
    let folder = config.files.first().and_then(|main| main.path.parent()).unwrap_or(Path::new("/"));
    let values = |name: &'static str| {
        directives.iter().filter(move |p| config.get(**p).name == name).filter_map(|p| {
            let word = config.get(*p).args.first()?;
            let text = if word.value.starts_with("data:") { word.value.clone() } else { absolute(folder, &word.value) };
            Some(Value { text, file: Some(p.file), range: word.range.clone() })
        })
    };
    let mut keys = values("ssl_certificate_key");
    values("ssl_certificate")
        .map(|certificate| CertificateFiles { certificate, key: keys.next(), chain: None, only_for: None })
        .collect()
}

/// Returns where visitors are sent: by the block itself, for all of its pages, or under a condition.
fn redirect(config: &Config, directives: &[DirectiveRef]) -> Option<String> {
    directives.iter().find_map(|placed| {
        let directive = config.get(*placed);
        let to = match &*directive.name {
            "return" if directive.arg(0).starts_with('3') => directive.arg(1),
            "rewrite" => directive.arg(1),
            "if" => return redirect(config, &config.inside(Some(*placed))),
            "location" if matches!(directive.arg(0), "/" | "^~") => {
                return redirect(config, &config.inside(Some(*placed)));
            }
            _ => return None,
        };
        to.starts_with("https:").then(|| to.to_owned())
    })
}

fn server_block(config: &Config, placed: DirectiveRef, around: &Around) -> ServerBlock {
    let directives = config.inside(Some(placed));
    let of = |name: &'static str| directives.iter().map(|p| config.get(*p)).filter(move |d| d.name == name);
    let tls_on = of("ssl").next_back().map_or(around.tls, |d| d.arg(0) == "on");
    let words = of("server_name").flat_map(|d| &d.args);
    let names = words.map(|word| SiteName { written: word.value.clone(), pattern: parse_name(&word.value) }).collect();
    let mut listeners: Vec<Listener> = of("listen").map(|d| listen(d, tls_on)).collect();
    if listeners.is_empty() {
        let socket = Socket::Ip(Ipv4Addr::UNSPECIFIED.into(), 80);
        listeners.push(Listener::new(socket, Protocol::Http, tls_on));
    }
    let own = certificates(config, &directives);
    let inherits_certificate = !around.certificates.is_empty();
    let site = Site {
        names,
        listeners,
        certificates: if own.is_empty() { around.certificates.clone() } else { own },
        document_root: of("root").next().map(|d| d.arg(0).to_owned()).or_else(|| around.root.clone()),
        redirect: redirect(config, &directives),
        ..Site::at(config.place_of(placed))
    };
    ServerBlock { id: BlockId(placed), site, directives, inherits_certificate }
}

pub(super) fn listen(directive: &Directive, tls_on: bool) -> Listener {
    let has = |word: &str| directive.args.iter().skip(1).any(|a| a.value == word);
    Listener {
        socket: parse_socket(directive.arg(0)),
        protocol: if has("quic") { Protocol::Quic } else { Protocol::Http },
        tls: tls_on || has("ssl") || has("quic"),
        starttls: false,
        default: has("default_server") || has("default"),
        proxy_protocol: has("proxy_protocol"),
        both_families: has("ipv6only=off"),
    }
}

/// Returns whether a `listen` is about a socket, over TCP.
pub(super) fn is_listen_at(directive: &Directive, socket: &Socket) -> bool {
    let found = listen(directive, false);
    found.socket == *socket && found.protocol == Protocol::Http
}

/// Reads the first word of `listen`.
fn parse_socket(text: &str) -> Socket {
    if let Some(path) = text.strip_prefix("unix:") {
        return Socket::Unix(path.to_owned());
    }
    let any = IpAddr::from(Ipv4Addr::UNSPECIFIED);
    if let Ok(port) = text.parse() {
        return Socket::Ip(any, port);
    }
    let (host, port) = match text.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') => (host, port.parse().unwrap_or(80)),
        _ => (text, 80),
    };
    match host.trim_matches(['[', ']']).parse() {
        Ok(ip) => Socket::Ip(ip, port),
        Err(_) if host == "*" => Socket::Ip(any, port),
        Err(_) => Socket::Host(host.to_ascii_lowercase(), port),
    }
}

pub(super) fn parse_name(word: &str) -> NamePattern {
    if let Some(pattern) = word.strip_prefix('~') {
        let caseless = pattern.bytes().any(|b| b.is_ascii_uppercase());
        let built = RegexBuilder::new(pattern).case_insensitive(caseless).size_limit(LARGEST_PATTERN).build();
        return NamePattern::Pattern(built.ok());
    }
    let word = word.to_ascii_lowercase();
    if let Some(base) = word.strip_prefix("*.") {
        return NamePattern::Below { base: base.to_owned(), and_base: false };
    }
    if let Some(base) = word.strip_prefix('.') {
        return NamePattern::Below { base: base.to_owned(), and_base: true };
    }
    if let Some(front) = word.strip_suffix(".*") {
        return NamePattern::Before(front.to_owned());
    }
    // nginx writes IPv6 addresses in brackets, in any spelling.
    match word.trim_matches(['[', ']']).parse::<IpAddr>() {
        Ok(ip) => NamePattern::Exact(ip.to_string()),
        Err(_) if word.contains('.') || word == "localhost" => NamePattern::Exact(word),
        Err(_) if word.is_empty() || !word.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') => {
            NamePattern::Nobody
        }
        Err(_) => NamePattern::Exact(word),
    }
}
