//! Plans the edits that make nginx serve a certificate.

mod others;
mod prefer;
mod redirect;
mod wishes;

use super::lex::quote_word;
use super::sites::{ServerBlock, Sites, is_listen_at};
use super::tree::{Config, DirectiveRef};
use crate::change::{Endpoint, FileChange, PlanError, SitePlan, TlsTarget, sent_with_challenges};
use crate::site::{Listener, Place, Protocol, Site, Socket};
use crate::splice::{Edit, apply_edits, behind, indent, line_end};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::names::Identifier;
use eskort_core::words;
use redirect::Redirect;
use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;
use std::path::Path;
use wishes::port_of;

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
    let chosen = choose(sites, target.names);
    let http = if chosen.blocks.is_empty() { None } else { Some(plan_http(config, sites, target, &chosen)?) };
    others::plan_others(config, http, target)?.ok_or_else(|| {
        let main = config.files.first().map(|f| f.path.clone()).unwrap_or_default();
        PlanError::NoServerBlock { main, names: chosen.unserved }
    })
}

/// Plans the edits in server blocks of `http`.
fn plan_http(
    config: &Config,
    sites: &Sites,
    target: &TlsTarget<'_>,
    chosen: &Chosen<'_>,
) -> Result<SitePlan, PlanError> {
    let mut planner =
        Planner { config, sites, target, edits: BTreeMap::new(), endpoints: Vec::new(), findings: Vec::new() };
    for (&index, names) in &chosen.blocks {
        let block = &sites.blocks[index];
        if !block.site.has_tls() {
            planner.add_tls(index, &chosen.blocks)?;
        }
        planner.point_at_certificate(block)?;
        planner.note_endpoints(block, names);
        planner.grant(block)?;
    }
    if target.wishes.redirect {
        for (index, names) in &chosen.plain {
            planner.redirect(&sites.blocks[*index], names);
        }
    }
    if let Some(prefer) = target.wishes.prefer {
        planner.prefer(prefer, chosen)?;
    }
    let unserved = chosen.unserved.iter().map(|name| {
        let text = unanswered(&name.to_string());
        let advice = format!("add `server_name {name};` to a server block, or leave the name out");
        Finding::new(Severity::Notice, Topic::Names, text).with_advice(advice)
    });
    planner.findings.extend(unserved);
    planner.findings.extend(chosen.blocks.keys().filter_map(|i| uncovered(&sites.blocks[*i], target.names)));
    planner.finish()
}

fn unanswered(name: &str) -> String {
    format!("no server block answers to {name}")
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

fn uncovered(block: &ServerBlock, names: &[Identifier]) -> Option<Finding> {
    let foreign = block.site.foreign_names(names);
    let place = &block.site.place;
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
    findings: Vec<Finding>,
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
        let lines = self.lines();
        let found = lines.each_ref().map(|(name, _)| block.all(self.config, name).collect::<Vec<DirectiveRef>>());
        let which = self.which(block, [found[0].len(), found[1].len()])?;
        for ((name, path), found) in lines.into_iter().zip(found) {
            let Some(one) = found.get(which).copied() else {
                missing.push(format!("{name} {};", quote_word(&path)));
                continue;
            };
            let Some(arg) = self.config.get(one).args.first() else { continue };
            if arg.value != path {
                let range = arg.range.clone();
                self.refuse_shared(one, block)?;
                self.refuse_uncovering(block)?;
                self.edit(one.file, Edit::replace(range, quote_word(&path)));
            }
        }
        if !missing.is_empty() && block.inherits_certificate {
            self.refuse_uncovering(block)?;
        }
        self.add_lines(block, &missing);
        Ok(())
    }

    /// Returns which of a block's certificates is to be ours. Of several side by side it is the one with a key of the same kind.
    fn which(&self, block: &ServerBlock, [certificates, keys]: [usize; 2]) -> Result<usize, PlanError> {
        if certificates <= 1 && keys <= 1 {
            return Ok(0);
        }
        let files = || block.site.certificates.iter().map(|pair| Path::new(&pair.certificate.text));
        let is_same = |path: &Path| (self.target.present)(path).is_some_and(|present| present.same_kind);
        let found = files().position(|path| path == self.target.bundle).or_else(|| files().position(is_same));
        let several =
            || PlanError::SeveralCertificates { place: block.site.place.clone(), count: certificates.max(keys) };
        found.filter(|_| certificates == keys).ok_or_else(several)
    }

    /// A certificate that is in use is not replaced by one that has fewer of the block's names.
    fn refuse_uncovering(&self, block: &ServerBlock) -> Result<(), PlanError> {
        let names = block.site.foreign_names(self.target.names);
        if names.is_empty() || !block.site.has_tls() {
            return Ok(());
        }
        let ours =
            self.target.names.iter().filter(|name| block.site.answers(name).is_some()).map(Identifier::to_string);
        Err(PlanError::WouldUncover { place: block.site.place.clone(), names, ours: ours.collect() })
    }

    /// An included file may be edited only when all blocks that include it are for our names.
    fn refuse_shared(&self, line: DirectiveRef, block: &ServerBlock) -> Result<(), PlanError> {
        if line.file == block.id.0.file {
            return Ok(());
        }
        for other in self.sites.blocks.iter().filter(|b| b.id != block.id && b.directives.contains(&line)) {
            if !self.target.names.iter().any(|n| other.site.answers(n).is_some()) {
                return Err(PlanError::SharedLines { place: self.config.place_of(line) });
            }
            self.refuse_uncovering(other)?;
        }
        Ok(())
    }

    /// Adds TLS listeners beside the plain ones.
    fn add_tls<T>(&mut self, index: usize, chosen: &BTreeMap<usize, T>) -> Result<(), PlanError> {
        let block = &self.sites.blocks[index];
        if let Some(line) = redirect::sends_everybody(self.config, block) {
            return Err(PlanError::SendsInCircles { place: self.config.place_of(line) });
        }
        let mut lines = Vec::new();
        // A block without `listen` listens on port 80; with the first `listen` it would stop doing so.
        if block.all(self.config, "listen").next().is_none() {
            lines.push("listen 80;".to_owned());
        }
        let new = self.tls_listeners(block);
        let place = || block.site.place.clone();
        if new.is_empty() {
            let sockets = block.site.listeners.iter().map(|l| l.socket.to_string()).collect();
            return Err(PlanError::NoAddress { place: place(), sockets });
        }
        for listen in &new {
            let from = self.taken_from(&listen.socket, chosen);
            if !from.is_empty() {
                return Err(PlanError::WouldTakeAddress { place: place(), socket: listen.socket.to_string(), from });
            }
            if let Some(by) = self.plain_at(&listen.socket) {
                return Err(PlanError::PlainSocket {
                    place: place(),
                    socket: listen.socket.to_string(),
                    by: Box::new(by),
                });
            }
            self.keep_default(index, &listen.socket)?;
            let options = [
                (listen.default, " default_server"),
                (listen.both_families, " ipv6only=off"),
                (listen.proxy_protocol, " proxy_protocol"),
                (self.target.wishes.http2 && !self.has_http2_directive(), " http2"),
            ];
            let options: String = options.iter().filter(|(wanted, _)| *wanted).map(|(_, word)| *word).collect();
            lines.push(format!("listen {} ssl{options};", listen.socket));
        }
        self.add_lines(block, &lines);
        Ok(())
    }

    /// Returns a block that speaks plain HTTP at a socket.
    fn plain_at(&self, socket: &Socket) -> Option<Place> {
        let blocks = self.sites.at(socket).iter().map(|i| &self.sites.blocks[*i].site);
        let is_plain = |site: &&Site| site.listeners.iter().any(|l| !l.tls && l.socket == *socket);
        blocks.into_iter().find(is_plain).map(|site| site.place.clone())
    }

    /// Without a word of its own the first block at a socket is the one that nginx gives all other names to. Where a block is to be
    /// before it, it gets that word.
    fn keep_default(&mut self, index: usize, socket: &Socket) -> Result<(), PlanError> {
        let first = self.sites.at(socket).first().filter(|first| **first > index && !self.sites.has_default(socket));
        let Some(first) = first.map(|first| &self.sites.blocks[*first]) else { return Ok(()) };
        let mut lines = first.all(self.config, "listen");
        let Some(line) = lines.find(|line| is_listen_at(self.config.get(*line), socket)) else { return Ok(()) };
        let shared = |other: &&ServerBlock| other.id != first.id && other.directives.contains(&line);
        if self.sites.blocks.iter().any(|other| shared(&other)) {
            return Err(PlanError::SharedLines { place: self.config.place_of(line) });
        }
        if let Some(last) = self.config.get(line).args.last() {
            self.edit(line.file, Edit::insert(last.range.end, " default_server".to_owned()));
        }
        Ok(())
    }

    /// Returns the listeners for TLS beside the plain ones.
    fn tls_listeners(&self, block: &ServerBlock) -> Vec<Listener> {
        let mut found: Vec<Listener> = Vec::new();
        for listen in block.site.listeners.iter().filter(|l| !l.tls) {
            let Some(socket) = listen.socket.at_port(self.target.tls_port) else { continue };
            // Other names of hosts are resolved by nginx alone: what they would take cannot be seen.
            if matches!(&socket, Socket::Host(host, _) if host != "localhost")
                || found.iter().any(|l| l.socket == socket)
            {
                continue;
            }
            let is_new = self.sites.at(&socket).is_empty();
            found.push(Listener {
                protocol: Protocol::Http,
                tls: true,
                starttls: false,
                default: listen.default && is_new,
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
            others.flat_map(|i| self.sites.blocks[*i].site.names.iter().map(|name| &name.written)).collect();
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
        let open = self.config.get(block.id.0).open.map_or(self.config.get(block.id.0).range.start, |open| open + 1);
        let at = behind(bytes, neighbour.unwrap_or(open));
        let (end, (indent, _)) = (line_end(bytes), self.indents(block));
        let text: String = lines.iter().map(|line| format!("{end}{indent}{line}")).collect();
        self.edit(file, Edit::insert(at, text));
    }

    /// Returns how what stands in a block is indented, and by how much that is more than the block.
    fn indents(&self, block: &ServerBlock) -> (String, String) {
        let bytes = self.bytes(block.id.0.file);
        let of = |at: usize| String::from_utf8_lossy(indent(bytes, at)).into_owned();
        let outer = of(self.config.get(block.id.0).range.start);
        let own = self.config.own(block.id.0).next().map(|p| of(self.config.get(p).range.start));
        let step = own.as_deref().and_then(|own| own.strip_prefix(outer.as_str())).filter(|step| !step.is_empty());
        let step = step.unwrap_or("    ").to_owned();
        (format!("{outer}{step}"), step)
    }

    /// Makes a block redirect what comes without TLS, for some names.
    fn redirect(&mut self, block: &ServerBlock, names: &[&Identifier]) {
        let redirect = Redirect::new(block, names, self.tls_port_of(block, names));
        match redirect::find(self.config, block) {
            redirect::Found::Theirs => {
                let line = redirect::sends_challenges(self.config, block);
                self.findings.extend(line.map(|line| sent_with_challenges(&self.config.place_of(line))));
            }
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
    fn tls_port_of(&self, block: &ServerBlock, names: &[&Identifier]) -> u16 {
        let named = |e: &&Endpoint| names.iter().any(|name| name.covers(&e.name));
        let own = block.site.listeners.iter().filter(|l| l.tls).find_map(|l| port_of(&l.socket));
        let beside = || self.endpoints.iter().filter(named).find_map(|e| e.port);
        own.or_else(beside).unwrap_or(self.target.tls_port)
    }

    fn note_endpoints(&mut self, block: &ServerBlock, served: &[&Identifier]) {
        let new = if block.site.has_tls() { Vec::new() } else { self.tls_listeners(block) };
        // A wildcard is looked at under the names that the block spells out.
        let spelled = served.iter().flat_map(|name| block.site.spelled_out(name)).map(str::to_owned);
        let exact = served.iter().filter(|n| !n.is_wildcard()).map(ToString::to_string);
        let names: BTreeSet<String> = spelled.chain(exact).collect();
        let http = |l: &&Listener| l.tls && l.protocol == Protocol::Http;
        for listen in block.site.listeners.iter().filter(http).chain(&new) {
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

    fn finish(mut self) -> Result<SitePlan, PlanError> {
        self.endpoints.sort();
        self.endpoints.dedup();
        let mut changes = Vec::new();
        for (file, edits) in &self.edits {
            let file = &self.config.files[*file];
            let (path, old) = (file.path.clone(), file.bytes.clone());
            match apply_edits(&old, edits) {
                Ok(new) if new != old => changes.push(FileChange { path, old: Some(old), new }),
                Ok(_) => {}
                Err(source) => return Err(PlanError::Overlap { path, source }),
            }
        }
        Ok(SitePlan { changes, endpoints: self.endpoints, findings: self.findings })
    }
}
