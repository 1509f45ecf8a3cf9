//! The server blocks of a configuration, with everything that includes bring into them, and which of them answers to a name.

use super::tree::{Config, Directive, DirectiveRef};
use crate::splice::line_number;
use eskort_core::names::Identifier;
use regex::{Regex, RegexBuilder};
use std::collections::HashMap;
use std::fmt;
use std::net::{IpAddr, Ipv4Addr};
use std::path::PathBuf;

/// Patterns that take more than this are not tried.
const LARGEST_PATTERN: usize = 1 << 20;

/// Where a server block listens.
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
    /// Reads the first word of `listen`.
    fn parse(text: &str) -> Self {
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

    /// Returns the same at another port; a Unix socket has none.
    pub(super) fn at_port(&self, port: u16) -> Option<Socket> {
        match self {
            Socket::Ip(ip, _) => Some(Socket::Ip(*ip, port)),
            Socket::Host(host, _) => Some(Socket::Host(host.clone(), port)),
            Socket::Unix(_) => None,
        }
    }

    /// Returns the socket for all addresses that this one takes its own address from.
    pub(super) fn shadowed(&self) -> Option<Socket> {
        let (ip, port) = match self {
            Socket::Ip(ip, port) if !ip.is_unspecified() => (*ip, *port),
            Socket::Host(_, port) => (Ipv4Addr::LOCALHOST.into(), *port),
            _ => return None,
        };
        let all: IpAddr = if ip.is_ipv4() { [0, 0, 0, 0].into() } else { [0_u16; 8].into() };
        Some(Socket::Ip(all, port))
    }
}

/// A `listen` of a server block.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listen {
    /// Where.
    pub socket: Socket,
    /// Whether TLS is spoken there.
    pub tls: bool,
    /// Whether this block answers there to names that no other does, since it says so.
    pub default: bool,
    /// Whether visitors come through a balancer that speaks the PROXY protocol.
    pub proxy_protocol: bool,
    /// Whether one socket for both families was asked for.
    pub(super) both_families: bool,
}

/// A name of a server block, as nginx matches it.
#[derive(Clone, Debug)]
pub(super) enum ServerName {
    /// This very name or address.
    Exact(String),
    /// `*.base`: every name below; `.base`: the base too.
    Below { base: String, and_base: bool },
    /// `www.lampholm.*`
    Before(String),
    /// A pattern behind `~`; `None` when it is one that cannot be tried here.
    Pattern(Option<Regex>),
    /// A word that no visitor asks for, as `_`.
    Nobody,
}

impl ServerName {
    fn parse(word: &str) -> Self {
        if let Some(pattern) = word.strip_prefix('~') {
            let caseless = pattern.bytes().any(|b| b.is_ascii_uppercase());
            let built = RegexBuilder::new(pattern).case_insensitive(caseless).size_limit(LARGEST_PATTERN).build();
            return ServerName::Pattern(built.ok());
        }
        let word = word.to_ascii_lowercase();
        if let Some(base) = word.strip_prefix("*.") {
            return ServerName::Below { base: base.to_owned(), and_base: false };
        }
        if let Some(base) = word.strip_prefix('.') {
            return ServerName::Below { base: base.to_owned(), and_base: true };
        }
        if let Some(front) = word.strip_suffix(".*") {
            return ServerName::Before(front.to_owned());
        }
        // nginx writes IPv6 addresses in brackets, in any spelling.
        match word.trim_matches(['[', ']']).parse::<IpAddr>() {
            Ok(ip) => ServerName::Exact(ip.to_string()),
            Err(_) if word.contains('.') || word == "localhost" => ServerName::Exact(word),
            Err(_) if word.is_empty() || !word.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') => {
                ServerName::Nobody
            }
            Err(_) => ServerName::Exact(word),
        }
    }

    /// How well this answers a name (not a wildcard).
    fn fit(&self, name: &str) -> Option<NameMatch> {
        match self {
            ServerName::Exact(own) => (own == name).then_some(NameMatch::Exact),
            ServerName::Below { base, and_base } if name == base => and_base.then_some(NameMatch::Exact),
            ServerName::Below { base, .. } => name
                .strip_suffix(base.as_str())
                .filter(|rest| rest.ends_with('.'))
                .map(|_| NameMatch::Below(base.len())),
            ServerName::Before(front) => name
                .strip_prefix(front.as_str())
                .filter(|rest| rest.starts_with('.'))
                .map(|_| NameMatch::Before(front.len())),
            ServerName::Pattern(pattern) => pattern.as_ref()?.is_match(name).then_some(NameMatch::Pattern),
            ServerName::Nobody => None,
        }
    }

    /// Whether certificates with these names are good for all that this stands for. nginx's `*.base` stands for names at any
    /// depth; whoever writes it means what a certificate's wildcard means.
    fn is_covered_by(&self, names: &[Identifier]) -> bool {
        let covered = |wanted: &str| names.iter().any(|name| name.covers(wanted));
        let wildcard = |base: &str| names.iter().any(|name| name.is_wildcard() && name.base() == base);
        match self {
            ServerName::Exact(own) => !own.contains('.') && !own.contains(':') || covered(own),
            ServerName::Below { base, and_base } => wildcard(base) && (!and_base || covered(base)),
            ServerName::Before(_) | ServerName::Pattern(_) => false,
            ServerName::Nobody => true,
        }
    }
}

/// How well a block answers a name, better ones last: nginx takes the exact name, then the longest wildcard at the beginning, then
/// the longest at the end, then the first pattern.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum NameMatch {
    Pattern,
    Before(usize),
    Below(usize),
    Exact,
}

/// Tells a block from all others.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct BlockId(pub(super) DirectiveRef);

/// A `server { … }` inside `http { … }`.
#[derive(Clone, Debug)]
pub struct ServerBlock {
    /// Which it is.
    pub id: BlockId,
    /// Its file's path.
    pub path: PathBuf,
    /// Where it begins in that file.
    pub(super) start: usize,
    /// Its `server_name`s as written, with where each stands.
    pub(super) names: Vec<(String, ServerName)>,
    /// Its listeners; one on port 80 when it has no `listen` at all.
    pub listens: Vec<Listen>,
    /// What stands in it, includes put in place.
    pub(super) directives: Vec<DirectiveRef>,
    /// Whether it takes a certificate from what surrounds it.
    pub(super) inherits_certificate: bool,
}

impl ServerBlock {
    /// Returns whether it speaks TLS on any listener.
    pub fn has_tls(&self) -> bool {
        self.listens.iter().any(|l| l.tls)
    }

    pub(super) fn all<'c>(&'c self, config: &'c Config, name: &'c str) -> impl Iterator<Item = DirectiveRef> + 'c {
        self.directives.iter().copied().filter(move |p| config.get(*p).name == name)
    }

    /// Returns how well a name of the block answers to a name.
    pub(super) fn answers(&self, name: &Identifier) -> Option<NameMatch> {
        if name.is_wildcard() {
            let hit = |own: &ServerName| match own {
                ServerName::Exact(own) => name.covers(own),
                ServerName::Below { base, .. } => *base == name.base(),
                _ => false,
            };
            return self.names.iter().any(|(_, own)| hit(own)).then_some(NameMatch::Exact);
        }
        let wanted = name.to_string();
        self.names.iter().filter_map(|(_, own)| own.fit(&wanted)).max()
    }

    /// Returns the names that a certificate for `names` is not good for.
    pub(super) fn foreign_names(&self, names: &[Identifier]) -> Vec<String> {
        let foreign = self.names.iter().filter(|(_, own)| !own.is_covered_by(names));
        foreign.map(|(written, _)| written.clone()).collect()
    }

    /// Returns the names that the block spells out and a certificate for `name` is good for.
    pub(super) fn spelled_out<'a>(&'a self, name: &'a Identifier) -> impl Iterator<Item = &'a str> {
        self.names.iter().filter_map(|(_, own)| match own {
            ServerName::Exact(own) if name.covers(own) => Some(own.as_str()),
            _ => None,
        })
    }

    /// Whether it is there for names that no other block has: it has none that a visitor asks for.
    fn has_no_names(&self) -> bool {
        self.names.iter().all(|(_, own)| matches!(own, ServerName::Nobody))
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
            let around = |name: &str| inside.iter().map(|p| config.get(*p)).find(|d| d.name == name);
            let tls_by_default = around("ssl").is_some_and(|d| d.arg(0) == "on");
            let certificate = around("ssl_certificate").is_some();
            let servers = inside.iter().filter(|p| config.get(**p).name == "server" && config.get(**p).open.is_some());
            blocks.extend(servers.map(|server| server_block(config, *server, tls_by_default, certificate)));
        }
        share_between_blocks(&mut blocks);
        let (mut exact, mut below) = (HashMap::<String, Vec<usize>>::new(), HashMap::<String, Vec<usize>>::new());
        let (mut others, mut by_socket) = (Vec::new(), HashMap::<Socket, Vec<usize>>::new());
        for (index, block) in blocks.iter().enumerate() {
            let mut is_other = false;
            for (_, name) in &block.names {
                match name {
                    ServerName::Exact(name) => exact.entry(name.clone()).or_default().push(index),
                    ServerName::Below { base, .. } => below.entry(base.clone()).or_default().push(index),
                    ServerName::Before(_) | ServerName::Pattern(_) => is_other = true,
                    ServerName::Nobody => {}
                }
            }
            if is_other {
                others.push(index);
            }
            for listen in &block.listens {
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
        found.retain(|index| self.blocks[*index].answers(name).is_some());
        found
    }

    /// Returns the blocks that visitors of a name get, at one of their sockets or another. Where no block has the name, those that
    /// say that they are for all others count, if they have no names of their own.
    pub(super) fn serving(&self, name: &Identifier) -> Vec<Served> {
        let candidates = self.candidates(name);
        let mut found: Vec<Served> = Vec::new();
        for &index in &candidates {
            for listen in &self.blocks[index].listens {
                let rivals = self.at(&listen.socket).iter().filter(|i| candidates.binary_search(i).is_ok());
                let fit = |i: usize| self.blocks[i].answers(name);
                // Of equal ones nginx takes the first. A wildcard certificate is for all blocks that it covers.
                let best = rivals.copied().rev().max_by_key(|i| fit(*i));
                if best == Some(index) || name.is_wildcard() {
                    found.push(Served { block: index, socket: listen.socket.clone(), tls: listen.tls });
                }
            }
        }
        if found.is_empty() && !name.is_wildcard() {
            for (index, block) in self.blocks.iter().enumerate().filter(|(_, block)| block.has_no_names()) {
                let default = |l: &&Listen| l.default || self.is_first_without_default(index, &l.socket);
                let listens = block.listens.iter().filter(default);
                found.extend(listens.map(|l| Served { block: index, socket: l.socket.clone(), tls: l.tls }));
            }
        }
        found
    }

    pub(super) fn has_default(&self, socket: &Socket) -> bool {
        let says = |i: &usize| self.blocks[*i].listens.iter().any(|l| l.default && l.socket == *socket);
        self.at(socket).iter().any(says)
    }

    fn is_first_without_default(&self, index: usize, socket: &Socket) -> bool {
        self.at(socket).first() == Some(&index) && !self.has_default(socket)
    }
}

/// nginx speaks TLS, and expects the PROXY protocol, at a socket as soon as one of its blocks says so.
fn share_between_blocks(blocks: &mut [ServerBlock]) {
    let mut shared: HashMap<Socket, (bool, bool)> = HashMap::new();
    for listen in blocks.iter().flat_map(|block| &block.listens) {
        let (tls, proxy_protocol) = shared.entry(listen.socket.clone()).or_default();
        *tls |= listen.tls;
        *proxy_protocol |= listen.proxy_protocol;
    }
    for listen in blocks.iter_mut().flat_map(|block| &mut block.listens) {
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

fn server_block(
    config: &Config,
    placed: DirectiveRef,
    tls_by_default: bool,
    inherits_certificate: bool,
) -> ServerBlock {
    let directives = config.inside(Some(placed));
    let of = |name: &'static str| directives.iter().map(|p| config.get(*p)).filter(move |d| d.name == name);
    let tls_on = of("ssl").next_back().map_or(tls_by_default, |d| d.arg(0) == "on");
    let words = of("server_name").flat_map(|d| &d.args);
    let names = words.map(|word| (word.value.clone(), ServerName::parse(&word.value))).collect();
    let mut listens: Vec<Listen> = of("listen").map(|d| listen(d, tls_on)).collect();
    if listens.is_empty() {
        let socket = Socket::Ip(Ipv4Addr::UNSPECIFIED.into(), 80);
        listens.push(Listen { socket, tls: tls_on, default: false, proxy_protocol: false, both_families: false });
    }
    let path = config.files[placed.file].path.clone();
    let start = config.get(placed).range.start;
    ServerBlock { id: BlockId(placed), path, start, names, listens, directives, inherits_certificate }
}

impl ServerBlock {
    /// Returns the line it begins in.
    pub(super) fn line(&self, config: &Config) -> usize {
        line_number(&config.files[self.id.0.file].bytes, self.start)
    }
}

fn listen(directive: &Directive, tls_on: bool) -> Listen {
    let has = |word: &str| directive.args.iter().skip(1).any(|a| a.value == word);
    Listen {
        socket: Socket::parse(directive.arg(0)),
        tls: tls_on || has("ssl") || has("quic"),
        default: has("default_server") || has("default"),
        proxy_protocol: has("proxy_protocol"),
        both_families: has("ipv6only=off"),
    }
}
