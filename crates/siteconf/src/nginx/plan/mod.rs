//! Plans the edits that make nginx serve a certificate.

mod redirect;

use super::lex::quote_word;
use super::sites::{Listen, ServerBlock, Sites, Socket};
use super::tree::{Config, DirectiveRef};
use crate::splice::{Edit, EditsOverlap, apply_edits, behind, indent, line_end};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::names::Identifier;
use eskort_core::words;
use redirect::Redirect;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};

/// What nginx should do.
#[derive(Clone, Copy, Debug)]
pub struct TlsTarget<'a> {
    /// The certificate's names.
    pub names: &'a [Identifier],
    /// Where the chain is.
    pub bundle: &'a Path,
    /// Where the key is.
    pub key: &'a Path,
    /// The port for TLS listeners that are added.
    pub tls_port: u16,
    /// Whether http is to be redirected to https.
    pub redirect: bool,
}

/// A file before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileChange {
    /// The file.
    pub path: PathBuf,
    /// What it holds.
    pub old: Vec<u8>,
    /// What it will hold.
    pub new: Vec<u8>,
}

/// Where a name is served with TLS.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Endpoint {
    /// The name to ask for.
    pub name: String,
    /// The address listened on, when it is a single one.
    pub ip: Option<IpAddr>,
    /// The port; `None` where visitors come through something else: a Unix socket, or a balancer that speaks the PROXY protocol.
    pub port: Option<u16>,
}

/// What is to be done to nginx's configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SitePlan {
    /// The files that change; empty when all is as wished.
    pub changes: Vec<FileChange>,
    /// Where the certificate is served afterwards.
    pub endpoints: Vec<Endpoint>,
    /// What else is worth knowing.
    pub findings: Vec<Finding>,
}

/// Why no plan can be made.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// No server block answers to any of the names.
    #[error("no server block of {} answers to {}", main.display(), words::list(names))]
    NoServerBlock {
        /// The main file.
        main: PathBuf,
        /// The names.
        names: Vec<String>,
    },
    /// More than one certificate in a block.
    #[error("{}:{line}: this server block has {count} certificates of its own", path.display())]
    SeveralCertificates {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// How many.
        count: usize,
    },
    /// A block that has a certificate serves names that the new one lacks.
    #[error("{}:{line}: with this certificate the server block would lose TLS for {}", path.display(), words::list(names))]
    WouldUncover {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// The names.
        names: Vec<String>,
        /// The certificate's names that it answers to.
        ours: Vec<String>,
    },
    /// The certificate's lines stand in a file that other blocks include too.
    #[error("{}:{line}: these certificate lines belong to other sites as well", path.display())]
    SharedLines {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
    },
    /// A TLS listener at a single address would take that address from sites that listen at all of them.
    #[error("{}:{line}: a TLS listener at {socket} would take this address from {}", path.display(), words::list(from))]
    WouldTakeAddress {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// The listener.
        socket: String,
        /// The names of the sites that answer there now.
        from: Vec<String>,
    },
    /// A block to which no TLS listener can be added.
    #[error("{}:{line}: this server block listens at {} only", path.display(), words::list(sockets))]
    NoAddress {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// Where it listens.
        sockets: Vec<String>,
    },
    /// A path that nginx would take for something else.
    #[error("nginx takes the `$` in {} for a variable", path.display())]
    Variable {
        /// The path.
        path: PathBuf,
    },
    /// Changes of one file that get in each other's way: a bug in Eskort.
    #[error("{}: {source}", path.display())]
    Overlap {
        /// The file.
        path: PathBuf,
        /// Where.
        source: EditsOverlap,
    },
}

/// Plans the edits. With a configuration that is as wished already, the plan has no changes.
///
/// # Errors
/// A [`PlanError`] when no block answers to any name, or a block cannot be changed without harm to others.
pub fn plan(config: &Config, sites: &Sites, target: &TlsTarget<'_>) -> Result<SitePlan, PlanError> {
    for path in [target.bundle, target.key] {
        if path.to_string_lossy().contains('$') {
            return Err(PlanError::Variable { path: path.to_owned() });
        }
    }
    let Chosen { blocks, plain, unserved } = choose(sites, target.names);
    if blocks.is_empty() {
        let main = config.files.first().map(|f| f.path.clone()).unwrap_or_default();
        return Err(PlanError::NoServerBlock { main, names: unserved });
    }
    let mut planner = Planner { config, sites, target, edits: BTreeMap::new(), endpoints: Vec::new() };
    for (&index, names) in &blocks {
        let block = &sites.blocks[index];
        if !block.has_tls() {
            planner.add_tls(block, &blocks)?;
        }
        planner.point_at_certificate(block)?;
        planner.note_endpoints(block, names);
    }
    if target.redirect {
        for (index, names) in &plain {
            planner.redirect(&sites.blocks[*index], names);
        }
    }
    let mut findings: Vec<Finding> = unserved
        .iter()
        .map(|name| {
            let text = format!("no server block answers to {name}");
            let advice = format!("add `server_name {name};` to a server block, or leave the name out");
            Finding::new(Severity::Notice, Topic::Names, text).with_advice(advice)
        })
        .collect();
    findings.extend(blocks.keys().filter_map(|i| uncovered(config, &sites.blocks[*i], target.names)));
    planner.finish(findings)
}

/// Which blocks serve what.
struct Chosen<'a> {
    /// The blocks to serve the certificate from, and the certificate's names that each answers to.
    blocks: BTreeMap<usize, Vec<&'a Identifier>>,
    /// The blocks that visitors get without TLS, in the same way.
    plain: BTreeMap<usize, Vec<&'a Identifier>>,
    /// Names that no block answers to.
    unserved: Vec<String>,
}

/// For each name: the blocks with TLS that visitors get; where there are none, those without.
fn choose<'a>(sites: &Sites, names: &'a [Identifier]) -> Chosen<'a> {
    let mut chosen = Chosen { blocks: BTreeMap::new(), plain: BTreeMap::new(), unserved: Vec::new() };
    for name in names {
        let served = sites.serving(name);
        if served.is_empty() {
            chosen.unserved.push(name.to_string());
        }
        let with_tls = served.iter().any(|s| s.tls);
        for found in &served {
            let mut lists = vec![];
            if found.tls == with_tls {
                lists.push(&mut chosen.blocks);
            }
            if !found.tls {
                lists.push(&mut chosen.plain);
            }
            for list in lists {
                let names = list.entry(found.block).or_default();
                if !names.contains(&name) {
                    names.push(name);
                }
            }
        }
    }
    chosen
}

fn uncovered(config: &Config, block: &ServerBlock, names: &[Identifier]) -> Option<Finding> {
    let foreign = block.foreign_names(names);
    let place = format!("{}:{}", block.path.display(), block.line(config));
    (!foreign.is_empty()).then(|| {
        let text = format!("{place} serves {} too, which is not on this certificate", words::list(&foreign));
        Finding::new(Severity::Notice, Topic::Names, text).with_advice("add it to the certificate's names")
    })
}

struct Planner<'a> {
    config: &'a Config,
    sites: &'a Sites,
    target: &'a TlsTarget<'a>,
    edits: BTreeMap<usize, Vec<Edit>>,
    endpoints: Vec<Endpoint>,
}

impl Planner<'_> {
    fn edit(&mut self, file: usize, edit: Edit) {
        let edits = self.edits.entry(file).or_default();
        if !edits.contains(&edit) {
            edits.push(edit);
        }
    }

    fn bytes(&self, file: usize) -> &[u8] {
        &self.config.files[file].bytes
    }

    fn lines(&self) -> [(&'static str, String); 2] {
        [("ssl_certificate", self.target.bundle), ("ssl_certificate_key", self.target.key)]
            .map(|(name, path)| (name, path.display().to_string()))
    }

    /// Points a block at our files.
    fn point_at_certificate(&mut self, block: &ServerBlock) -> Result<(), PlanError> {
        let mut missing = Vec::new();
        for (name, path) in self.lines() {
            let found: Vec<DirectiveRef> = block.all(self.config, name).collect();
            match found[..] {
                [] => missing.push(format!("{name} {};", quote_word(&path))),
                [one] => {
                    let Some(arg) = self.config.get(one).args.first() else { continue };
                    if arg.value != path {
                        let range = arg.range.clone();
                        self.refuse_shared(one, block)?;
                        self.refuse_uncovering(block)?;
                        self.edit(one.file, Edit::replace(range, quote_word(&path)));
                    }
                }
                _ => {
                    let (path, line) = (block.path.clone(), block.line(self.config));
                    return Err(PlanError::SeveralCertificates { path, line, count: found.len() });
                }
            }
        }
        if !missing.is_empty() && block.inherits_certificate {
            self.refuse_uncovering(block)?;
        }
        self.add_lines(block, &missing);
        Ok(())
    }

    /// A certificate that is in use is not replaced by one that has fewer of the block's names.
    fn refuse_uncovering(&self, block: &ServerBlock) -> Result<(), PlanError> {
        let names = block.foreign_names(self.target.names);
        if names.is_empty() || !block.has_tls() {
            return Ok(());
        }
        let ours = self.target.names.iter().filter(|name| block.answers(name).is_some()).map(Identifier::to_string);
        let (path, line) = (block.path.clone(), block.line(self.config));
        Err(PlanError::WouldUncover { path, line, names, ours: ours.collect() })
    }

    /// An included file may be edited only when all blocks that include it are for our names.
    fn refuse_shared(&self, line: DirectiveRef, block: &ServerBlock) -> Result<(), PlanError> {
        if line.file == block.id.0.file {
            return Ok(());
        }
        for other in self.sites.blocks.iter().filter(|b| b.id != block.id && b.directives.contains(&line)) {
            if !self.target.names.iter().any(|n| other.answers(n).is_some()) {
                let file = &self.config.files[line.file];
                let line = file.line(self.config.get(line).range.start);
                return Err(PlanError::SharedLines { path: file.path.clone(), line });
            }
            self.refuse_uncovering(other)?;
        }
        Ok(())
    }

    /// Adds TLS listeners beside the plain ones.
    fn add_tls<T>(&mut self, block: &ServerBlock, chosen: &BTreeMap<usize, T>) -> Result<(), PlanError> {
        let mut lines = Vec::new();
        // A block without `listen` listens on port 80; with the first `listen` it would stop doing so.
        if block.all(self.config, "listen").next().is_none() {
            lines.push("listen 80;".to_owned());
        }
        let new = self.tls_listens(block);
        let (path, line) = (block.path.clone(), block.line(self.config));
        if new.is_empty() {
            let sockets = block.listens.iter().map(|l| l.socket.to_string()).collect();
            return Err(PlanError::NoAddress { path, line, sockets });
        }
        for listen in &new {
            let from = self.taken_from(&listen.socket, chosen);
            if !from.is_empty() {
                return Err(PlanError::WouldTakeAddress { path, line, socket: listen.socket.to_string(), from });
            }
            let options = [
                (listen.default, " default_server"),
                (listen.both_families, " ipv6only=off"),
                (listen.proxy_protocol, " proxy_protocol"),
            ];
            let options: String = options.iter().filter(|(wanted, _)| *wanted).map(|(_, word)| *word).collect();
            lines.push(format!("listen {} ssl{options};", listen.socket));
        }
        self.add_lines(block, &lines);
        Ok(())
    }

    /// Returns the listeners for TLS beside the plain ones.
    fn tls_listens(&self, block: &ServerBlock) -> Vec<Listen> {
        let mut found: Vec<Listen> = Vec::new();
        for listen in block.listens.iter().filter(|l| !l.tls) {
            let Some(socket) = listen.socket.at_port(self.target.tls_port) else { continue };
            // Other names of hosts are resolved by nginx alone: what they would take cannot be seen.
            if matches!(&socket, Socket::Host(host, _) if host != "localhost")
                || found.iter().any(|l| l.socket == socket)
            {
                continue;
            }
            let is_new = self.sites.at(&socket).is_empty();
            found.push(Listen {
                tls: true,
                default: listen.default && !self.sites.has_default(&socket),
                both_families: listen.both_families && is_new,
                socket,
                proxy_protocol: listen.proxy_protocol,
            });
        }
        found
    }

    /// Returns the names of other sites that would not be reached any more at an address.
    fn taken_from<T>(&self, socket: &Socket, chosen: &BTreeMap<usize, T>) -> Vec<String> {
        let Some(all) = socket.shadowed().filter(|_| self.sites.at(socket).is_empty()) else { return Vec::new() };
        let others = self.sites.at(&all).iter().filter(|i| !chosen.contains_key(i));
        let names: BTreeSet<&String> =
            others.flat_map(|i| self.sites.blocks[*i].names.iter().map(|(written, _)| written)).collect();
        names.into_iter().cloned().collect()
    }

    /// Inserts lines behind the block's last `listen` or `server_name`, or at its beginning, indented as its neighbours.
    fn add_lines(&mut self, block: &ServerBlock, lines: &[String]) {
        if lines.is_empty() {
            return;
        }
        let file = block.id.0.file;
        let bytes = self.bytes(file);
        let own = self.config.own(block.id.0).map(|p| self.config.get(p));
        let neighbour = own.filter(|d| matches!(&*d.name, "listen" | "server_name")).map(|d| d.range.end).max();
        let open = self.config.get(block.id.0).open.map_or(block.start, |open| open + 1);
        let at = behind(bytes, neighbour.unwrap_or(open));
        let (end, (indent, _)) = (line_end(bytes), self.indents(block));
        let text: String = lines.iter().map(|line| format!("{end}{indent}{line}")).collect();
        self.edit(file, Edit::insert(at, text));
    }

    /// Returns how what stands in a block is indented, and by how much that is more than the block.
    fn indents(&self, block: &ServerBlock) -> (String, String) {
        let bytes = self.bytes(block.id.0.file);
        let of = |at: usize| String::from_utf8_lossy(indent(bytes, at)).into_owned();
        let outer = of(block.start);
        let own = self.config.own(block.id.0).next().map(|p| of(self.config.get(p).range.start));
        let step = own.as_deref().and_then(|own| own.strip_prefix(outer.as_str())).filter(|step| !step.is_empty());
        let step = step.unwrap_or("    ").to_owned();
        (format!("{outer}{step}"), step)
    }

    /// Makes a block redirect what comes without TLS, for some names.
    fn redirect(&mut self, block: &ServerBlock, names: &[&Identifier]) {
        let redirect = Redirect::new(block, names, self.port_of(block, names));
        match redirect::find(self.config, block) {
            redirect::Found::Theirs => {}
            redirect::Found::Ours { file, condition } => {
                let wanted = redirect.pattern();
                if self.bytes(file)[condition.clone()] != *wanted.as_bytes() {
                    self.edit(file, Edit::replace(condition, wanted));
                }
            }
            redirect::Found::None => {
                let (_, step) = self.indents(block);
                self.add_lines(block, &redirect.lines(&step));
            }
        }
    }

    /// Returns the port where visitors of a block find its names with TLS.
    fn port_of(&self, block: &ServerBlock, names: &[&Identifier]) -> u16 {
        let named = |e: &&Endpoint| names.iter().any(|name| name.covers(&e.name));
        let own = block.listens.iter().filter(|l| l.tls).find_map(|l| match &l.socket {
            Socket::Ip(_, port) | Socket::Host(_, port) => Some(*port),
            Socket::Unix(_) => None,
        });
        let beside = || self.endpoints.iter().filter(named).find_map(|e| e.port);
        own.or_else(beside).unwrap_or(self.target.tls_port)
    }

    fn note_endpoints(&mut self, block: &ServerBlock, served: &[&Identifier]) {
        let new = if block.has_tls() { Vec::new() } else { self.tls_listens(block) };
        // A wildcard is looked at under the names that the block spells out.
        let spelled = served.iter().flat_map(|name| block.spelled_out(name)).map(str::to_owned);
        let exact = served.iter().filter(|n| !n.is_wildcard()).map(ToString::to_string);
        let names: BTreeSet<String> = spelled.chain(exact).collect();
        for listen in block.listens.iter().filter(|l| l.tls).chain(&new) {
            let (ip, port) = match &listen.socket {
                Socket::Ip(ip, port) => (Some(*ip).filter(|ip| !ip.is_unspecified()), Some(*port)),
                Socket::Host(host, port) => {
                    (Some(Ipv4Addr::LOCALHOST.into()).filter(|_| host == "localhost"), Some(*port))
                }
                Socket::Unix(_) => (None, None),
            };
            let port = port.filter(|_| !listen.proxy_protocol);
            self.endpoints.extend(names.iter().map(|n| Endpoint { name: n.clone(), ip, port }));
        }
    }

    fn finish(mut self, findings: Vec<Finding>) -> Result<SitePlan, PlanError> {
        self.endpoints.sort();
        self.endpoints.dedup();
        let mut changes = Vec::new();
        for (file, edits) in &self.edits {
            let file = &self.config.files[*file];
            let (path, old) = (file.path.clone(), file.bytes.clone());
            match apply_edits(&old, edits) {
                Ok(new) if new != old => changes.push(FileChange { path, old, new }),
                Ok(_) => {}
                Err(source) => return Err(PlanError::Overlap { path, source }),
            }
        }
        Ok(SitePlan { changes, endpoints: self.endpoints, findings })
    }
}
