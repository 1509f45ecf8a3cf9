//! Plans the edits that make nginx serve a certificate.

use super::blocks::{Fit, Placed, ServerBlock, find_servers};
use super::tree::Config;
use crate::splice::{Edit, apply_edits, indent, line_end, line_start, next_line};
use eskort_core::finding::{Finding, Weight};
use eskort_core::names::Identifier;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

/// What nginx should do.
#[derive(Clone, Copy, Debug)]
pub struct Wish<'a> {
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
    /// The folder that challenge files are served from, for the redirecting block.
    pub challenge_folder: Option<&'a Path>,
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
    /// The port.
    pub port: u16,
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
    #[error("no server block of {} answers to {}", main.display(), names.join(", "))]
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
    /// A block that has a certificate of its own serves names that the new one lacks.
    #[error("{}:{line}: with this certificate the server block would lose TLS for {}", path.display(), names.join(", "))]
    WouldUncover {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// The names.
        names: Vec<String>,
    },
    /// The certificate's lines stand in a file that other blocks include too.
    #[error("{}:{line}: these certificate lines belong to other sites as well", path.display())]
    SharedLines {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
    },
}

/// Plans the edits. With a configuration that is as wished already, the plan has no changes.
///
/// # Errors
/// A [`PlanError`] when no block answers to any name, or a block cannot be changed without harm to others.
pub fn plan(config: &Config, wish: &Wish<'_>) -> Result<SitePlan, PlanError> {
    let servers = find_servers(config);
    let (chosen, unserved) = choose(&servers, wish.names);
    if chosen.is_empty() {
        let main = config.files.first().map(|f| f.path.clone()).unwrap_or_default();
        return Err(PlanError::NoServerBlock { main, names: unserved });
    }
    let mut planner = Planner { config, wish, servers: &servers, edits: BTreeMap::new(), endpoints: Vec::new() };
    for &index in &chosen {
        let block = &servers[index];
        if block.has_tls() {
            planner.point_at_certificate(block)?;
        } else {
            planner.add_tls(block);
        }
        planner.note_endpoints(block);
        if wish.redirect && block.has_plain() {
            planner.split_off_redirect(block);
        }
    }
    if wish.redirect {
        let plain = |i: &usize| !chosen.contains(i) && !servers[*i].has_tls() && !servers[*i].redirects();
        let answers = |i: &usize| wish.names.iter().any(|n| servers[*i].answers(n) == Some(Fit::Exact));
        for index in (0..servers.len()).filter(plain).filter(answers) {
            planner.redirect_inside(&servers[index]);
        }
    }
    let mut findings: Vec<Finding> = unserved
        .iter()
        .map(|name| {
            let text = format!("no server block answers to {name}");
            let advice = format!("add `server_name {name};` to a server block, or leave the name out");
            Finding::new(Weight::Notice, "names", text).with_advice(advice)
        })
        .collect();
    findings.extend(chosen.iter().filter_map(|i| uncovered(&servers[*i], wish.names)));
    Ok(planner.finish(findings))
}

/// Returns the blocks to serve the certificate from, and the names that no block answers to.
///
/// For each name: blocks with TLS, before those without; blocks that name it, before those with a wildcard.
fn choose(servers: &[ServerBlock], names: &[Identifier]) -> (Vec<usize>, Vec<String>) {
    let mut chosen = Vec::new();
    let mut unserved = Vec::new();
    for name in names {
        let with = |fit: Fit| (0..servers.len()).filter(move |i| servers[*i].answers(name) == Some(fit));
        let mut found: Vec<usize> = with(Fit::Exact).collect();
        if found.is_empty() {
            found = with(Fit::Wildcard).collect();
        }
        if found.iter().any(|i| servers[*i].has_tls()) {
            found.retain(|i| servers[*i].has_tls());
        }
        if found.is_empty() {
            unserved.push(name.to_string());
        }
        chosen.extend(found);
    }
    chosen.sort_unstable();
    chosen.dedup();
    (chosen, unserved)
}

/// Returns the names that a block serves and a certificate for `names` does not have. Patterns are passed over.
fn foreign_names(block: &ServerBlock, names: &[Identifier]) -> Vec<String> {
    let plain = |n: &&String| n.contains('.') && !n.starts_with(['~', '.', '*']);
    let foreign = |n: &&String| !names.iter().any(|name| name.covers(n));
    block.names.iter().filter(plain).filter(foreign).cloned().collect()
}

fn uncovered(block: &ServerBlock, names: &[Identifier]) -> Option<Finding> {
    let foreign = foreign_names(block, names);
    let place = format!("{}:{}", block.path.display(), block.line);
    (!foreign.is_empty()).then(|| {
        let text = format!("{place} serves {} too, which is not on this certificate", foreign.join(", "));
        Finding::new(Weight::Notice, "names", text).with_advice("add it to the certificate's names")
    })
}

struct Planner<'a> {
    config: &'a Config,
    wish: &'a Wish<'a>,
    servers: &'a [ServerBlock],
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
        let quote = |path: &Path| {
            let text = path.display().to_string();
            if text.contains([' ', ';', '{', '\'', '$']) { format!("\"{}\"", text.replace('"', "\\\"")) } else { text }
        };
        [("ssl_certificate", quote(self.wish.bundle)), ("ssl_certificate_key", quote(self.wish.key))]
    }

    /// Points a block that speaks TLS at our files.
    fn point_at_certificate(&mut self, block: &ServerBlock) -> Result<(), PlanError> {
        let mut missing = Vec::new();
        for (name, path) in self.lines() {
            let found: Vec<&Placed> = block.all(name).collect();
            match found[..] {
                [] => missing.push(format!("{name} {path};")),
                [one] => {
                    self.refuse_shared(one, block)?;
                    if let Some(arg) = one.directive.args.first()
                        && arg.value != path.trim_matches('"')
                    {
                        self.refuse_uncovering(block)?;
                        self.edit(one.file, Edit::replace(arg.range.clone(), path));
                    }
                }
                _ => {
                    let file = &self.config.files[block.file];
                    let line = file.line(block.range.start);
                    return Err(PlanError::SeveralCertificates { path: file.path.clone(), line, count: found.len() });
                }
            }
        }
        self.add_lines(block, &missing);
        Ok(())
    }

    /// A certificate that is in use is not replaced by one that has fewer of the block's names.
    fn refuse_uncovering(&self, block: &ServerBlock) -> Result<(), PlanError> {
        let names = foreign_names(block, self.wish.names);
        let (path, line) = (block.path.clone(), block.line);
        if names.is_empty() { Ok(()) } else { Err(PlanError::WouldUncover { path, line, names }) }
    }

    /// An included file may be edited only when all blocks that include it are for our names.
    fn refuse_shared(&self, line: &Placed, block: &ServerBlock) -> Result<(), PlanError> {
        let uses = |b: &&ServerBlock| {
            b.range != block.range
                && b.directives.iter().any(|p| p.file == line.file && p.directive.range == line.directive.range)
        };
        let foreign = |b: &ServerBlock| !self.wish.names.iter().any(|n| b.answers(n).is_some());
        if line.file != block.file && self.servers.iter().filter(uses).any(foreign) {
            let file = &self.config.files[line.file];
            return Err(PlanError::SharedLines {
                path: file.path.clone(),
                line: file.line(line.directive.range.start),
            });
        }
        Ok(())
    }

    /// Adds TLS listeners beside the plain ones, and the certificate's lines.
    fn add_tls(&mut self, block: &ServerBlock) {
        let mut lines = Vec::new();
        // A block without `listen` listens on port 80; with the first `listen` it would stop doing so.
        if block.all("listen").next().is_none() && !self.wish.redirect {
            lines.push("listen 80;".to_owned());
        }
        lines.extend(self.tls_listens(block).into_iter().map(|(address, _)| format!("listen {address} ssl;")));
        lines.extend(self.lines().map(|(name, path)| format!("{name} {path};")));
        self.add_lines(block, &lines);
    }

    /// Returns the addresses for TLS beside the plain ones: as text for `listen`, and the IP address.
    fn tls_listens(&self, block: &ServerBlock) -> Vec<(String, Option<IpAddr>)> {
        let port = self.wish.tls_port;
        let mut found = Vec::new();
        for listen in block.listens.iter().filter(|l| l.port.is_some()) {
            let address = match listen.ip {
                None => port.to_string(),
                Some(IpAddr::V4(ip)) => format!("{ip}:{port}"),
                Some(IpAddr::V6(ip)) => format!("[{ip}]:{port}"),
            };
            if !found.iter().any(|(a, _)| *a == address) {
                found.push((address, listen.ip));
            }
        }
        found
    }

    /// Inserts lines behind the block's last `listen` or `server_name`, or at its beginning, indented as its neighbours.
    fn add_lines(&mut self, block: &ServerBlock, lines: &[String]) {
        if lines.is_empty() {
            return;
        }
        let bytes = self.bytes(block.file);
        let own = |p: &&Placed| p.file == block.file && matches!(&*p.directive.name, "listen" | "server_name");
        let neighbour = block.directives.iter().filter(own).map(|p| p.directive.range.clone()).max_by_key(|r| r.end);
        let end = line_end(bytes);
        let at = match neighbour {
            Some(range) => range.end,
            None => block.range.start + bytes[block.range.clone()].iter().position(|b| *b == b'{').unwrap_or(0) + 1,
        };
        let (_, indent, _) = self.indents(block);
        let text: String = lines.iter().map(|line| format!("{end}{indent}{line}")).collect();
        self.edit(block.file, Edit::insert(at, text));
    }

    /// Returns how a block is indented, how what stands in it is, and by how much that is more.
    fn indents(&self, block: &ServerBlock) -> (String, String, String) {
        let bytes = self.bytes(block.file);
        let of = |at: usize| String::from_utf8_lossy(indent(bytes, at)).into_owned();
        let outer = of(block.range.start);
        let own = block.directives.iter().find(|p| p.file == block.file).map(|p| of(p.directive.range.start));
        let step = own.as_deref().and_then(|own| own.strip_prefix(outer.as_str())).filter(|step| !step.is_empty());
        match step {
            Some(step) => (outer.clone(), format!("{outer}{step}"), step.to_owned()),
            None => (outer.clone(), format!("{outer}    "), "    ".to_owned()),
        }
    }

    /// Takes the plain listeners out of a block and puts a redirecting block with them before it.
    fn split_off_redirect(&mut self, block: &ServerBlock) {
        let bytes = self.bytes(block.file).to_vec();
        let end = line_end(&bytes);
        let (outer, inner, step) = self.indents(block);
        let mut listens = Vec::new();
        for listen in block.listens.iter().filter(|l| !l.tls) {
            match &listen.range {
                Some(range) => {
                    listens.push(String::from_utf8_lossy(&bytes[range.clone()]).into_owned());
                    self.edit(block.file, Edit::replace(self.whole_line(block.file, range), ""));
                }
                None => listens.push("listen 80;".to_owned()),
            }
        }
        let mut lines = listens;
        lines.push(format!("server_name {};", block.names.join(" ")));
        let own_root = block.all("root").next().map(|p| p.directive.arg(0).to_owned());
        let root = self.wish.challenge_folder.map(|f| f.display().to_string()).or(own_root);
        if let Some(root) = root {
            lines.push(String::new());
            lines.push("location /.well-known/acme-challenge/ {".into());
            lines.push(format!("{step}root {root};"));
            lines.push("}".into());
        }
        lines.push("location / {".into());
        lines.push(format!("{step}return 301 {};", self.https_target(block)));
        lines.push("}".into());
        let body: String = lines
            .iter()
            .map(|line| if line.is_empty() { end.to_owned() } else { format!("{inner}{line}{end}") })
            .collect();
        let text = format!("server {{{end}{body}{outer}}}{end}{end}{outer}");
        self.edit(block.file, Edit::insert(block.range.start, text));
    }

    /// Makes a plain block redirect everything but the challenge path, leaving all else in it as it is.
    fn redirect_inside(&mut self, block: &ServerBlock) {
        let target = self.https_target(block);
        let (_, _, step) = self.indents(block);
        let lines = [
            "if ($uri !~ ^/\\.well-known/acme-challenge/) {".to_owned(),
            format!("{step}return 301 {target};"),
            "}".to_owned(),
        ];
        self.add_lines(block, &lines);
    }

    fn https_target(&self, block: &ServerBlock) -> String {
        let own = block.listens.iter().find(|l| l.tls).and_then(|l| l.port);
        let beside = || self.endpoints.iter().find(|e| block.names.contains(&e.name)).map(|e| e.port);
        let tls = own.or_else(beside).unwrap_or(self.wish.tls_port);
        if tls == 443 { "https://$host$request_uri".into() } else { format!("https://$host:{tls}$request_uri") }
    }

    /// Returns the range of a directive with its line, when nothing else stands on it.
    fn whole_line(&self, file: usize, range: &std::ops::Range<usize>) -> std::ops::Range<usize> {
        let bytes = self.bytes(file);
        let (start, end) = (line_start(bytes, range.start), next_line(bytes, range.end));
        let blank = |r: std::ops::Range<usize>| bytes[r].iter().all(u8::is_ascii_whitespace);
        if blank(start..range.start) && blank(range.end..end) { start..end } else { range.clone() }
    }

    fn note_endpoints(&mut self, block: &ServerBlock) {
        let tls: Vec<(Option<IpAddr>, u16)> = if block.has_tls() {
            block.listens.iter().filter(|l| l.tls).filter_map(|l| Some((l.ip, l.port?))).collect()
        } else {
            self.tls_listens(block).into_iter().map(|(_, ip)| (ip, self.wish.tls_port)).collect()
        };
        // A wildcard is looked at under the names that the block spells out.
        let spelled = block.names.iter().filter(|n| !n.starts_with(['*', '.', '~']));
        let ours = spelled.filter(|n| self.wish.names.iter().any(|name| name.covers(n)));
        let exact = self.wish.names.iter().filter(|n| !n.is_wildcard() && block.answers(n).is_some());
        let names: Vec<String> = ours.cloned().chain(exact.map(ToString::to_string)).collect();
        for (ip, port) in tls {
            let single = ip.filter(|ip| !ip.is_unspecified());
            self.endpoints.extend(names.iter().map(|n| Endpoint { name: n.clone(), ip: single, port }));
        }
    }

    fn finish(mut self, findings: Vec<Finding>) -> SitePlan {
        self.endpoints.sort();
        self.endpoints.dedup();
        let change = |(file, edits): (&usize, &Vec<Edit>)| {
            let file = &self.config.files[*file];
            let new = apply_edits(&file.bytes, edits);
            (new != file.bytes).then(|| FileChange { path: file.path.clone(), old: file.bytes.clone(), new })
        };
        SitePlan { changes: self.edits.iter().filter_map(change).collect(), endpoints: self.endpoints, findings }
    }
}
