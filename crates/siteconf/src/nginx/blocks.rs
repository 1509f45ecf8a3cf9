//! The server blocks of a configuration, with everything that includes bring into them.

use super::tree::{Config, Directive};
use crate::splice::line_number;
use eskort_core::names::Identifier;
use std::net::IpAddr;
use std::ops::Range;
use std::path::PathBuf;

/// A `listen` of a server block.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listen {
    /// The address; `None` for all of IPv4, or a Unix socket.
    pub ip: Option<IpAddr>,
    /// The port; `None` for a Unix socket.
    pub port: Option<u16>,
    /// Whether TLS is spoken there.
    pub tls: bool,
    /// Where the directive stands, when it is in the block's own file.
    pub(super) range: Option<Range<usize>>,
}

/// A directive inside a server block and the file it stands in.
#[derive(Clone, Debug)]
pub(super) struct Placed {
    pub(super) file: usize,
    pub(super) directive: Directive,
}

/// A `server { … }` inside `http { … }`.
#[derive(Clone, Debug)]
pub struct ServerBlock {
    /// Index of its file in the configuration.
    pub file: usize,
    /// The file's path.
    pub path: PathBuf,
    /// The line it begins in.
    pub line: usize,
    /// Its `server_name`s as written.
    pub names: Vec<String>,
    /// Its listeners; one on port 80 when it has no `listen` at all.
    pub listens: Vec<Listen>,
    pub(super) range: Range<usize>,
    pub(super) directives: Vec<Placed>,
}

impl ServerBlock {
    /// Returns whether it speaks TLS on any listener.
    pub fn has_tls(&self) -> bool {
        self.listens.iter().any(|l| l.tls)
    }

    /// Returns whether it speaks plain HTTP on any listener.
    pub fn has_plain(&self) -> bool {
        self.listens.iter().any(|l| !l.tls)
    }

    pub(super) fn all(&self, name: &str) -> impl Iterator<Item = &Placed> {
        let name = name.to_owned();
        self.directives.iter().filter(move |p| p.directive.name == name)
    }

    /// Returns the block's names that a certificate for `name` is good for, or that `name` would be served under.
    pub(super) fn answers(&self, name: &Identifier) -> Option<Fit> {
        if name.is_wildcard() {
            let hit = |n: &String| *n == name.as_str() || name.covers(n) || *n == format!(".{}", name.base());
            return self.names.iter().any(hit).then_some(Fit::Exact);
        }
        let wanted = name.as_str();
        // nginx writes IPv6 addresses in brackets, in any spelling.
        let address = |n: &String| n.trim_matches(['[', ']']).parse::<IpAddr>().ok();
        if name.address().is_some() {
            return self.names.iter().any(|n| address(n) == name.address()).then_some(Fit::Exact);
        }
        if self.names.iter().any(|n| n == wanted || n.strip_prefix('.') == Some(wanted)) {
            return Some(Fit::Exact);
        }
        let wild = |n: &String| {
            let base = n.strip_prefix("*.").or_else(|| n.strip_prefix('.'));
            base.is_some_and(|b| wanted.strip_suffix(b).is_some_and(|rest| rest.ends_with('.')))
        };
        self.names.iter().any(wild).then_some(Fit::Wildcard)
    }

    /// Returns whether it sends visitors to https somewhere.
    pub(super) fn redirects(&self) -> bool {
        fn sends(d: &Directive) -> bool {
            let own = match d.name.as_str() {
                "return" => d.arg(0).starts_with('3') && d.arg(1).starts_with("https://"),
                "rewrite" => d.arg(1).starts_with("https://"),
                _ => false,
            };
            own || d.block.iter().flatten().any(sends)
        }
        self.directives.iter().any(|p| sends(&p.directive))
    }
}

/// How well a block answers a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fit {
    Exact,
    Wildcard,
}

/// Returns every server block inside `http`, in the order nginx reads them.
pub fn find_servers(config: &Config) -> Vec<ServerBlock> {
    let mut top = Vec::new();
    if !config.files.is_empty() {
        flatten(config, 0, &config.files[0].directives, 0, &mut top);
    }
    let mut found = Vec::new();
    for http in top.iter().filter(|p| p.directive.name == "http") {
        let mut inside = Vec::new();
        flatten(config, http.file, http.directive.block.as_deref().unwrap_or_default(), 0, &mut inside);
        let defaults: Vec<&Placed> = inside.iter().filter(|p| p.directive.name == "ssl").collect();
        let tls_by_default = defaults.iter().any(|p| p.directive.arg(0) == "on");
        for server in inside.iter().filter(|p| p.directive.name == "server" && p.directive.block.is_some()) {
            found.push(server_block(config, server, tls_by_default));
        }
    }
    found
}

/// Puts what includes bring in where the include stands.
fn flatten(config: &Config, file: usize, directives: &[Directive], depth: usize, out: &mut Vec<Placed>) {
    for directive in directives {
        out.push(Placed { file, directive: directive.clone() });
        if directive.name == "include" && depth < 20 {
            for &included in config.included(file, directive) {
                flatten(config, included, &config.files[included].directives, depth + 1, out);
            }
        }
    }
}

fn server_block(config: &Config, placed: &Placed, tls_by_default: bool) -> ServerBlock {
    let mut directives = Vec::new();
    flatten(config, placed.file, placed.directive.block.as_deref().unwrap_or_default(), 0, &mut directives);
    let of = |name: &str| directives.iter().filter(|p| p.directive.name == name).collect::<Vec<_>>();
    let tls_on = tls_by_default || of("ssl").iter().any(|p| p.directive.arg(0) == "on");
    let names =
        of("server_name").iter().flat_map(|p| &p.directive.args).map(|a| a.value.to_ascii_lowercase()).collect();
    let mut listens: Vec<Listen> = of("listen").iter().map(|p| listen(p, placed.file, tls_on)).collect();
    if listens.is_empty() {
        listens.push(Listen { ip: None, port: Some(80), tls: tls_on, range: None });
    }
    let file = &config.files[placed.file];
    ServerBlock {
        file: placed.file,
        path: file.path.clone(),
        line: line_number(&file.bytes, placed.directive.range.start),
        names,
        listens,
        range: placed.directive.range.clone(),
        directives,
    }
}

fn listen(placed: &Placed, own_file: usize, tls_on: bool) -> Listen {
    let directive = &placed.directive;
    let address = directive.arg(0);
    let tls = tls_on || directive.args.iter().skip(1).any(|a| a.value == "ssl" || a.value == "quic");
    let (ip, port) = if address.starts_with("unix:") {
        (None, None)
    } else if let Ok(port) = address.parse() {
        (None, Some(port))
    } else if let Ok(socket) = address.parse::<std::net::SocketAddr>() {
        (Some(socket.ip()), Some(socket.port()))
    } else if let Ok(ip) = address.trim_matches(['[', ']']).parse() {
        (Some(ip), Some(80))
    } else {
        (None, address.rsplit_once(':').map_or(Some(80), |(_, port)| port.parse().ok()))
    };
    Listen { ip, port, tls, range: (placed.file == own_file).then(|| directive.range.clone()) }
}
