//! Plans what Apache's virtual hosts gain: TLS beside a plain one, and what a site wants of https.

use super::sites::{Known, Line, Section, hears, parse_socket};
use crate::change::{FileChange, PlanError, TlsTarget};
use crate::site::{Protocol, Site, Socket};
use crate::splice::{Edit, apply_edits, indent, line_end};
use eskort_core::https::{Hsts, TlsLevel};
use eskort_core::names::Identifier;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

const HEADER: &str = "Strict-Transport-Security";
/// By these words our own redirect is known again.
const REDIRECT: &str = "Redirect permanent \"https://%{SERVER_NAME}";

/// Returns the changes that give the certificate's names TLS where they have none: each plain virtual host gets one beside it, with the same directives.
///
/// # Errors
/// A [`PlanError`] when a module is off, or a host is made by a macro.
pub fn gain_tls(known: &Known, target: &TlsTarget<'_>) -> Result<Vec<FileChange>, PlanError> {
    Planner::new(known, target).gain_tls()
}

/// Returns the changes that a site wants of https beside its certificate.
///
/// # Errors
/// As [`gain_tls`].
pub fn grant(known: &Known, target: &TlsTarget<'_>) -> Result<Vec<FileChange>, PlanError> {
    Planner::new(known, target).grant()
}

struct Planner<'a> {
    known: &'a Known,
    target: &'a TlsTarget<'a>,
    edits: BTreeMap<usize, Vec<Edit>>,
}

impl<'a> Planner<'a> {
    fn new(known: &'a Known, target: &'a TlsTarget<'a>) -> Self {
        Planner { known, target, edits: BTreeMap::new() }
    }

    /// Returns the hosts that answer best to a name, among those with TLS or those without.
    fn serving(&self, name: &Identifier, tls: bool) -> Vec<usize> {
        let sites = || self.known.survey.sites.iter().take(self.known.hosts.len()).enumerate();
        let is_it = |site: &Site| site.listeners.iter().any(|l| l.protocol == Protocol::Http && l.tls == tls);
        let fits = |site: &Site| site.answers(name).filter(|_| is_it(site) && site.unreached.is_none());
        let best = sites().filter_map(|(_, site)| fits(site)).max();
        sites().filter(|(_, site)| best.is_some() && fits(site) == best).map(|(index, _)| index).collect()
    }

    fn hosts(&self, tls: bool) -> BTreeSet<usize> {
        self.target.names.iter().flat_map(|name| self.serving(name, tls)).collect()
    }

    fn needs(&self, module: &'static str, what: &'static str) -> Result<(), PlanError> {
        match self.known.modules.contains(&format!("{module}_module")) {
            true => Ok(()),
            false => {
                let main = self.known.survey.files.first().map(|file| file.path.clone()).unwrap_or_default();
                Err(PlanError::ModuleOff { main, module, what })
            }
        }
    }

    /// Returns where a host stands; one that a macro makes is left alone.
    fn section(&self, index: usize) -> Result<&'a Section, PlanError> {
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
        for (range, _) in section.redirects.iter().filter(|(_, to)| leads_to(site, to)) {
            kept.extend_from_slice(&bytes[at..range.start]);
            at = range.end;
        }
        kept.extend_from_slice(&bytes[at..section.inside.end]);
        // Blank lines stay where redirects were; the last line is the indentation of the section's end.
        let kept = text(&kept);
        let kept = kept.trim_end_matches([' ', '\t']).trim_end_matches(['\r', '\n']);
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
        new += &format!(
            "{end}{end}{outer}# The same with TLS.{end}{outer}<VirtualHost {}>{kept}{end}{inner}SSLEngine on{end}{inner}SSLCertificateFile {bundle}{end}\
             {inner}SSLCertificateKeyFile {key}{end}{outer}</VirtualHost>",
            addresses.join(" ")
        );
        self.edits.entry(section.file).or_default().push(Edit::insert(section.range.end, new));
        Ok(())
    }

    fn grant(mut self) -> Result<Vec<FileChange>, PlanError> {
        let wishes = self.target.wishes;
        for index in self.hosts(true) {
            let mut lines = Vec::new();
            if let Some(level) = wishes.tls {
                self.tls_level(index, level, &mut lines)?;
            }
            if let Some(hsts) = wishes.hsts {
                self.needs("headers", "HSTS")?;
                self.hsts(index, hsts, &mut lines)?;
            }
            self.add_lines(index, &lines)?;
        }
        if wishes.redirect {
            for index in self.hosts(false) {
                self.needs("alias", "a redirect")?;
                self.redirect(index)?;
            }
        }
        self.finish()
    }

    /// Returns the last line of a host with a name for which a word says that it is the one.
    fn line(&self, index: usize, is_it: impl Fn(&Line) -> bool) -> Option<&'a Line> {
        self.known.hosts[index].1.iter().rev().find(|line| is_it(line))
    }

    fn tls_level(&mut self, index: usize, level: TlsLevel, lines: &mut Vec<String>) -> Result<(), PlanError> {
        let versions = level.protocols().iter().map(|version| format!(" +{version}")).collect::<String>();
        let mut wanted = vec![("SSLProtocol", format!("-all{versions}"))];
        if let Some(ciphers) = level.ciphers() {
            wanted.push(("SSLCipherSuite", ciphers.to_owned()));
            wanted.push(("SSLHonorCipherOrder", "off".to_owned()));
        }
        for (name, words) in wanted {
            let Some(line) = self.line(index, |line| line.name == name.to_ascii_lowercase()) else {
                lines.push(format!("{name} {words}"));
                continue;
            };
            let (Some(first), Some(last)) = (line.words.first(), line.words.last()) else { continue };
            if line.words.iter().map(|word| &*word.value).collect::<Vec<_>>().join(" ") != words {
                let range = first.range.start..last.range.end;
                self.replace(index, line, Edit::replace(range, words))?;
            }
        }
        Ok(())
    }

    /// Tells browsers for how long to come back over https alone. A ramp never takes back what browsers were told already.
    fn hsts(&mut self, index: usize, hsts: Hsts, lines: &mut Vec<String>) -> Result<(), PlanError> {
        let age = self.target.hsts_age;
        let is_it = |line: &Line| line.words.iter().any(|word| word.value.eq_ignore_ascii_case(HEADER));
        let Some(line) = self.line(index, |line| line.name == "header" && is_it(line)) else {
            lines.push("# Browsers come back over https alone, for so many seconds.".to_owned());
            lines.push(format!("Header always set {HEADER} \"max-age={age}\""));
            return Ok(());
        };
        let Some(word) = line.words.iter().find(|word| word.value.to_ascii_lowercase().contains("max-age=")) else {
            return Ok(());
        };
        let Some(file) = line.file else { return Ok(()) };
        let written = text(&self.known.survey.files[file].bytes[word.range.clone()]).to_ascii_lowercase();
        let Some(start) = written.find("max-age=").map(|at| at + "max-age=".len()) else { return Ok(()) };
        let digits = written[start..].bytes().take_while(u8::is_ascii_digit).count();
        let theirs: u64 = written[start..start + digits].parse().unwrap_or_default();
        let is_right = match hsts {
            Hsts::Ramp => theirs >= u64::from(age),
            Hsts::Off | Hsts::Fixed(_) => theirs == u64::from(age),
        };
        if !is_right {
            let start = word.range.start + start;
            self.replace(index, line, Edit::replace(start..start + digits, age.to_string()))?;
        }
        Ok(())
    }

    /// Replaces words of a line, where that is nobody else's.
    fn replace(&mut self, index: usize, line: &Line, edit: Edit) -> Result<(), PlanError> {
        let section = self.section(index)?;
        if line.file != Some(section.file) || !section.inside.contains(&edit.range.start) {
            return Err(PlanError::SharedLines { place: self.known.survey.sites[index].place.clone() });
        }
        self.edits.entry(section.file).or_default().push(edit);
        Ok(())
    }

    /// Redirects http to https for the certificate's names, all paths but that of challenges (RFC 8555 section 8.3).
    fn redirect(&mut self, index: usize) -> Result<(), PlanError> {
        let site = &self.known.survey.sites[index];
        let names: Vec<&Identifier> = self.target.names.iter().filter(|name| site.answers(name).is_some()).collect();
        let hosts = site.host_pattern(&names);
        let port = self.tls_port();
        let port = if port == 443 { String::new() } else { format!(":{port}") };
        let condition = format!(
            "<If \"%{{SERVER_NAME}} =~ m#^({hosts})$# && %{{REQUEST_URI}} !~ m#^/\\.well-known/acme-challenge/#\">"
        );
        let section = self.section(index)?;
        let bytes = &self.known.survey.files[section.file].bytes;
        let inside = text(&bytes[section.inside.clone()]);
        if let Some(at) = inside.find(REDIRECT) {
            // Ours: the condition is in the line before.
            let start = inside[..at].rfind("<If ").unwrap_or(at);
            let end = inside[start..].find(['\r', '\n']).map_or(at, |n| start + n);
            if start < at && inside[start..end] != condition {
                let start = section.inside.start + start;
                let edit = Edit::replace(start..section.inside.start + end, condition);
                self.edits.entry(section.file).or_default().push(edit);
            }
            return Ok(());
        }
        if site.redirect.is_some() {
            return Ok(());
        }
        let lines = [
            "# From http to https; certificate authorities ask for their challenges over http.".to_owned(),
            condition,
            format!("    {REDIRECT}{port}%{{REQUEST_URI}}\""),
            "</If>".to_owned(),
        ];
        self.add_lines(index, &lines)
    }

    /// Returns the port where visitors find the certificate's names with TLS.
    fn tls_port(&self) -> u16 {
        let of_hosts = self.hosts(true).into_iter().flat_map(|index| &self.known.survey.sites[index].listeners);
        let ports = of_hosts.filter(|listener| listener.tls).filter_map(|listener| match &listener.socket {
            Socket::Ip(_, port) | Socket::Host(_, port) => Some(*port),
            Socket::Unix(_) => None,
        });
        ports.min().unwrap_or(self.target.tls_port)
    }

    /// Adds lines at the end of a host.
    fn add_lines(&mut self, index: usize, lines: &[String]) -> Result<(), PlanError> {
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
            Ok(FileChange { path: file.path.clone(), old: file.bytes.clone(), new })
        };
        self.edits.into_iter().map(change).collect()
    }
}

/// Whether an address leads to a site; one with variables in it does.
fn leads_to(site: &Site, to: &str) -> bool {
    let host = to.trim_start_matches("https://").split(['/', ':', '?']).next().unwrap_or_default();
    host.is_empty()
        || host.contains(['%', '$'])
        || Identifier::parse(host).is_ok_and(|name| site.answers(&name).is_some())
}

fn text(bytes: &[u8]) -> String {
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
