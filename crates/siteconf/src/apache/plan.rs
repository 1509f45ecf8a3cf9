//! Plans what Apache's virtual hosts gain: TLS beside a plain one, and what a site wants of https.

use super::sites::{Known, Section, hears, parse_socket};
use crate::change::{FileChange, PlanError, TlsTarget};
use crate::files::pattern_has;
use crate::site::{Protocol, Site, Socket};
use crate::splice::{Edit, apply_edits, indent, line_end, line_start};
use eskort_core::finding::Finding;
use eskort_core::names::Identifier;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::path::{Path, PathBuf};

/// By these lines our own ones, which follow, are known again.
pub(super) const COMMENT: &str = "# From http to https; certificate authorities ask for their challenges over http.";
pub(super) const PREFER_COMMENT: &str = "# One name of two: visitors of the other one are sent on.";

/// Returns the changes that give the certificate's names TLS where they have none: each plain virtual host gets one beside it, with the same directives.
///
/// # Errors
/// A [`PlanError`] when a module is off, or a host is made by a macro.
pub fn gain_tls(known: &Known, target: &TlsTarget<'_>) -> Result<Vec<FileChange>, PlanError> {
    Planner::new(known, target).gain_tls()
}

/// Returns the changes that a site wants of https beside its certificate, and what there is to say.
///
/// # Errors
/// As [`gain_tls`].
pub fn grant(known: &Known, target: &TlsTarget<'_>) -> Result<(Vec<FileChange>, Vec<Finding>), PlanError> {
    let mut planner = Planner::new(known, target);
    planner.grant()?;
    let findings = std::mem::take(&mut planner.findings);
    Ok((planner.finish()?, findings))
}

pub(super) struct Planner<'a> {
    pub(super) known: &'a Known,
    pub(super) target: &'a TlsTarget<'a>,
    pub(super) edits: BTreeMap<usize, Vec<Edit>>,
    /// Files that do not exist yet.
    made: BTreeMap<PathBuf, String>,
    pub(super) findings: Vec<Finding>,
    /// Whether a cache for stapling is added.
    pub(super) has_cache: bool,
}

impl<'a> Planner<'a> {
    fn new(known: &'a Known, target: &'a TlsTarget<'a>) -> Self {
        Planner { known, target, edits: BTreeMap::new(), made: BTreeMap::new(), findings: Vec::new(), has_cache: false }
    }

    /// Returns the hosts that answer best to a name, among those with TLS or those without.
    pub(super) fn serving(&self, name: &Identifier, tls: bool) -> Vec<usize> {
        let sites = || self.known.survey.sites.iter().take(self.known.hosts.len()).enumerate();
        let is_it = |site: &Site| site.listeners.iter().any(|l| l.protocol == Protocol::Http && l.tls == tls);
        let fits = |site: &Site| site.answers(name).filter(|_| is_it(site) && site.unreached.is_none());
        let best = sites().filter_map(|(_, site)| fits(site)).max();
        sites().filter(|(_, site)| best.is_some() && fits(site) == best).map(|(index, _)| index).collect()
    }

    pub(super) fn hosts(&self, tls: bool) -> BTreeSet<usize> {
        self.target.names.iter().flat_map(|name| self.serving(name, tls)).collect()
    }

    pub(super) fn needs(&self, module: &'static str, what: &'static str) -> Result<(), PlanError> {
        match self.known.modules.contains(&format!("{module}_module")) {
            true => Ok(()),
            false => {
                let main = self.known.survey.files.first().map(|file| file.path.clone()).unwrap_or_default();
                Err(PlanError::ModuleOff { main, module, what })
            }
        }
    }

    /// Returns where a host stands; one that a macro makes is left alone.
    pub(super) fn section(&self, index: usize) -> Result<&'a Section, PlanError> {
        let refused = || PlanError::NotEditable {
            place: self.known.survey.sites[index].place.clone(),
            file: "a virtual host".to_owned(),
        };
        self.known.hosts[index].0.as_ref().ok_or_else(refused)
    }

    fn gain_tls(mut self) -> Result<Vec<FileChange>, PlanError> {
        let mut plain: BTreeSet<usize> = BTreeSet::new();
        for name in self.target.names {
            if self.serving(name, true).is_empty() {
                plain.extend(self.serving(name, false));
            }
        }
        let mut listens: BTreeSet<u16> = BTreeSet::new();
        for index in plain {
            self.needs("ssl", "TLS")?;
            let section = self.section(index)?;
            self.add_host(index, section, &mut listens)?;
        }
        self.finish()
    }

    /// Puts a host with TLS behind a plain one.
    fn add_host(&mut self, index: usize, section: &Section, listens: &mut BTreeSet<u16>) -> Result<(), PlanError> {
        let port = self.target.tls_port;
        let addresses: Vec<String> = section
            .addresses
            .iter()
            .filter_map(|address| at_port(address, port))
            .collect::<BTreeSet<_>>()
            .into_iter()
            .collect();
        let place = || self.known.survey.sites[index].place.clone();
        if addresses.is_empty() {
            return Err(PlanError::NoAddress { place: place(), sockets: section.addresses.clone() });
        }
        let sockets: Vec<Socket> = addresses.iter().flat_map(|address| parse_socket(address, None)).collect();
        let mut sites = self.known.survey.sites.iter().filter(|site| !site.has_tls());
        let meets = |other: &Socket| sockets.iter().any(|socket| hears(socket, other) || hears(other, socket));
        let plain_there = |site: &&Site| site.listeners.iter().any(|l| meets(&l.socket));
        if let Some(by) = sites.find(plain_there) {
            let (socket, by) = (sockets[0].to_string(), Box::new(by.place.clone()));
            return Err(PlanError::PlainSocket { place: place(), socket, by });
        }
        let bytes = &self.known.survey.files[section.file].bytes;
        let (end, outer) = (line_end(bytes), text(indent(bytes, section.range.start)));
        let inner = self.indent_inside(section, &outer);
        let mut kept = Vec::new();
        let mut at = section.inside.start;
        // With TLS a redirect to the site itself would go in circles.
        let site = &self.known.survey.sites[index];
        let circles = section.redirects.iter().filter(|(_, to)| leads_to(site, to)).map(|(range, _)| range.clone());
        let ours = [COMMENT, PREFER_COMMENT].into_iter().filter_map(|comment| self.own_lines(section, comment));
        let whole = |range: Range<usize>| {
            let start = line_start(bytes, range.start);
            let end = bytes[range.end..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| range.end + n + 1);
            let alone = [start..range.start, range.end..end].iter().all(|rest| bytes[rest.clone()].trim_ascii() == b"");
            if alone { start..end } else { range }
        };
        let mut without: Vec<Range<usize>> = circles.map(whole).chain(ours).collect();
        without.sort_by_key(|range| range.start);
        for range in without.into_iter().filter(|range| !range.is_empty()) {
            kept.extend_from_slice(&bytes[at.min(range.start)..range.start]);
            at = at.max(range.end);
        }
        kept.extend_from_slice(&bytes[at..section.inside.end]);
        // The last line is the indentation of the section's end.
        let kept = text(&kept);
        let kept = kept.trim_end_matches([' ', '\t']).trim_end_matches(['\r', '\n']);
        let own = self.own_file(section);
        let mut new = String::new();
        if !self.known.listens.iter().any(|listen| sockets.iter().any(|socket| hears(listen, socket)))
            && listens.insert(port)
        {
            new += &format!("{end}{end}{outer}Listen {port}");
        }
        let paths = [self.target.bundle, self.target.key].map(quoted);
        let [Some(bundle), Some(key)] = paths else {
            return Err(PlanError::Variable { path: self.target.bundle.to_owned() });
        };
        let of = own.as_ref().and(self.known.survey.files[section.file].path.file_name());
        let of = of.map(|name| format!(" as in {}", name.display())).unwrap_or_default();
        new += &format!(
            "{end}{end}{outer}# The same{of} with TLS.{end}{outer}<VirtualHost {}>{kept}{end}{inner}SSLEngine on{end}{inner}SSLCertificateFile {bundle}{end}\
             {inner}SSLCertificateKeyFile {key}{end}{outer}</VirtualHost>",
            addresses.join(" ")
        );
        match own {
            Some(path) => {
                let text = self.made.entry(path).or_default();
                let new = new.trim_start_matches(['\r', '\n']);
                let new = new.lines().map(|line| line.strip_prefix(&*outer).unwrap_or(line));
                let apart = if text.is_empty() { "" } else { end };
                *text += apart;
                new.for_each(|line| *text += &format!("{line}{end}"));
            }
            None => self.edits.entry(section.file).or_default().push(Edit::insert(section.range.end, new)),
        }
        Ok(())
    }

    /// Returns a file of its own for a host beside that of another, where files of its folder are all read; `None` where none would be. Its
    /// name comes behind the other's in the order of names, in which they are read.
    fn own_file(&self, section: &Section) -> Option<PathBuf> {
        let path = &self.known.survey.files[section.file].path;
        let (stem, extension) = (path.file_stem()?.to_str()?, path.extension().and_then(|e| e.to_str()));
        let extension = extension.map(|extension| format!(".{extension}")).unwrap_or_default();
        let own = path.with_file_name(format!("{stem}_tls{extension}"));
        let is_read = self.known.patterns.iter().any(|pattern| pattern_has(pattern, &own));
        let is_new = self.known.survey.files.iter().all(|file| file.path != own);
        (is_read && is_new).then_some(own)
    }

    /// Returns the port where visitors find the certificate's names with TLS.
    pub(super) fn tls_port(&self) -> u16 {
        let of_hosts = self.hosts(true).into_iter().flat_map(|index| &self.known.survey.sites[index].listeners);
        let ports = of_hosts.filter(|listener| listener.tls).filter_map(|listener| match &listener.socket {
            Socket::Ip(_, port) | Socket::Host(_, port) => Some(*port),
            Socket::Unix(_) => None,
        });
        ports.min().unwrap_or(self.target.tls_port)
    }

    /// Returns the lines of ours in a host that follow a comment of ours, with it: conditions, each with a redirect in it.
    pub(super) fn own_lines(&self, section: &Section, comment: &str) -> Option<Range<usize>> {
        let bytes = &self.known.survey.files[section.file].bytes;
        let lines = bytes[section.inside.clone()].split_inclusive(|byte| *byte == b'\n');
        let start = section.inside.start
            + lines.map_while(|line| (line.trim_ascii() != comment.as_bytes()).then_some(line.len())).sum::<usize>();
        if start >= section.inside.end {
            return None;
        }
        let mut end = start;
        let mut open = false;
        for (n, line) in bytes[start..section.inside.end].split_inclusive(|byte| *byte == b'\n').enumerate() {
            let words = line.trim_ascii();
            if n > 0 && !open && !words.starts_with(b"<If ") {
                break;
            }
            open = (open || n > 0) && !words.eq_ignore_ascii_case(b"</If>");
            end += line.len();
        }
        (!open).then_some(start..end)
    }

    /// Gives a host lines that follow a comment of ours, in the place of those that it has; none takes them away.
    pub(super) fn write_own(&mut self, index: usize, comment: &str, lines: &[String]) -> Result<(), PlanError> {
        let section = self.section(index)?;
        let Some(range) = self.own_lines(section, comment) else { return self.add_lines(index, lines) };
        let bytes = &self.known.survey.files[section.file].bytes;
        let inner = text(indent(bytes, range.start));
        let end = line_end(bytes);
        let new: String = lines.iter().map(|line| format!("{inner}{line}{end}")).collect();
        if bytes[range.clone()] != *new.as_bytes() {
            self.edits.entry(section.file).or_default().push(Edit::replace(range, new));
        }
        Ok(())
    }

    /// Adds lines at the end of a host.
    pub(super) fn add_lines(&mut self, index: usize, lines: &[String]) -> Result<(), PlanError> {
        if lines.is_empty() {
            return Ok(());
        }
        let section = self.section(index)?;
        let bytes = &self.known.survey.files[section.file].bytes;
        let outer = text(indent(bytes, section.range.start));
        let inner = self.indent_inside(section, &outer);
        let end = line_end(bytes);
        let new: String = lines.iter().map(|line| format!("{inner}{line}{end}")).collect();
        // Before the line with which the section ends.
        let blanks = bytes[..section.inside.end].iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
        let at = section.inside.end - blanks;
        self.edits.entry(section.file).or_default().push(Edit::insert(at, new));
        Ok(())
    }

    /// Returns how what stands in a section is indented.
    fn indent_inside(&self, section: &Section, outer: &str) -> String {
        let bytes = &self.known.survey.files[section.file].bytes[section.inside.clone()];
        let first = bytes.split(|b| *b == b'\n').find(|line| !line.trim_ascii().is_empty());
        first.map_or_else(|| format!("{outer}    "), |line| text(indent(line, 0)))
    }

    fn finish(self) -> Result<Vec<FileChange>, PlanError> {
        let change = |(file, edits): (usize, Vec<Edit>)| {
            let file = &self.known.survey.files[file];
            let overlap = |source| PlanError::Overlap { path: file.path.clone(), source };
            let new = apply_edits(&file.bytes, &edits).map_err(overlap)?;
            Ok(FileChange { path: file.path.clone(), old: Some(file.bytes.clone()), new })
        };
        let made = self.made.into_iter().map(|(path, text)| Ok(FileChange { path, old: None, new: text.into_bytes() }));
        self.edits.into_iter().map(change).chain(made).collect()
    }
}

/// Whether an address leads to a site; one with variables in it does.
fn leads_to(site: &Site, to: &str) -> bool {
    let host = to.trim_start_matches("https://").split(['/', ':', '?']).next().unwrap_or_default();
    host.is_empty()
        || host.contains(['%', '$'])
        || Identifier::parse(host).is_ok_and(|name| site.answers(&name).is_some())
}

pub(super) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Returns an address of a virtual host at another port.
fn at_port(address: &str, port: u16) -> Option<String> {
    let host = match address.rsplit_once(':') {
        Some((host, written)) if !written.contains(']') => host,
        _ if address.parse::<u16>().is_ok() => "*",
        _ => address,
    };
    (!host.contains("${")).then(|| format!("{host}:{port}"))
}

/// Returns a path as Apache's configuration writes it; `None` for one that it cannot.
fn quoted(path: &Path) -> Option<String> {
    let path = path.display().to_string();
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+@:".contains(c) || !c.is_ascii();
    match path.chars().all(plain) {
        true => Some(path),
        false => path.chars().all(|c| plain(c) || c == ' ').then(|| format!("\"{path}\"")),
    }
}
