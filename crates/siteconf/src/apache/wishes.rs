//! What a site wants of https beside its certificate: lines of its virtual hosts.

use super::plan::{COMMENT, PREFER_COMMENT, Planner, text};
use super::sites::Line;
use crate::change::{PlanError, not_sent_on, nothing_to_staple, sent_with_challenges};
use crate::site::{Socket, host_pattern};
use crate::splice::{Edit, indent, line_end};
use eskort_core::https::{Hsts, Prefer, TlsLevel, with_and_without_www};
use eskort_core::names::Identifier;
use std::collections::BTreeMap;

const HEADER: &str = "Strict-Transport-Security";

impl<'a> Planner<'a> {
    /// Plans all that is wished.
    pub(super) fn grant(&mut self) -> Result<(), PlanError> {
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
            if wishes.http2 {
                self.http2(index, &mut lines)?;
            }
            if wishes.stapling {
                self.stapling(index, &mut lines)?;
            }
            self.add_lines(index, &lines)?;
        }
        if wishes.redirect {
            for index in self.hosts(false) {
                self.needs("alias", "a redirect")?;
                self.redirect(index)?;
            }
        }
        match wishes.prefer {
            Some(prefer) => self.prefer(prefer),
            None => Ok(()),
        }
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
        if site.redirect.is_some() {
            if !self.leaves_challenges(index) {
                let finding = sent_with_challenges(&site.place);
                self.findings.push(finding);
            }
            return Ok(());
        }
        let names: Vec<&Identifier> = self.target.names.iter().filter(|name| site.answers(name).is_some()).collect();
        let port = port_words(self.tls_port(), 443);
        let rule = rule(&site.host_pattern(&names), &format!("https://%{{SERVER_NAME}}{port}"));
        self.write_own(index, COMMENT, &lines(COMMENT, [rule]))
    }

    /// Whether a host has lines of its own for the path of challenges.
    fn leaves_challenges(&self, index: usize) -> bool {
        let Ok(section) = self.section(index) else { return false };
        let bytes = &self.known.survey.files[section.file].bytes[section.inside.clone()];
        String::from_utf8_lossy(bytes).contains("acme-challenge")
    }

    /// Lets visitors have HTTP/2 (RFC 9113).
    fn http2(&mut self, index: usize, lines: &mut Vec<String>) -> Result<(), PlanError> {
        self.needs("http2", "HTTP/2")?;
        let says = |line: &Line| line.words.iter().any(|word| word.value.eq_ignore_ascii_case("h2"));
        let own = self.line(index, |line| line.name == "protocols");
        match own.or_else(|| self.known.lines.iter().rev().find(|line| line.name == "protocols")) {
            Some(line) if says(line) => {}
            Some(line) if own.is_some() => {
                let Some(first) = line.words.first() else { return Ok(()) };
                self.replace(index, line, Edit::insert(first.range.start, "h2 "))?;
            }
            _ => lines.push("Protocols h2 http/1.1".to_owned()),
        }
        Ok(())
    }

    /// Lets the server send what the authority's responder says of the certificate (RFC 6066 section 8).
    fn stapling(&mut self, index: usize, lines: &mut Vec<String>) -> Result<(), PlanError> {
        if self.target.has_responder == Some(false) {
            let finding = nothing_to_staple();
            if !self.findings.contains(&finding) {
                self.findings.push(finding);
            }
            return Ok(());
        }
        self.needs("socache_shmcb", "stapling")?;
        let is_it = |line: &Line| line.name == "sslusestapling";
        match self.line(index, is_it).or_else(|| self.known.lines.iter().rev().find(|line| is_it(line))) {
            Some(line) if line.words.first().is_some_and(|word| word.value.eq_ignore_ascii_case("on")) => {}
            Some(line) if self.line(index, is_it).is_some() => {
                let Some(word) = line.words.first() else { return Ok(()) };
                self.replace(index, line, Edit::replace(word.range.clone(), "on"))?;
            }
            _ => lines.push("SSLUseStapling on".to_owned()),
        }
        // Without one for the whole server it does not start.
        if !self.known.lines.iter().any(|line| line.name == "sslstaplingcache") && !self.has_cache {
            self.has_cache = true;
            let section = self.section(index)?;
            let bytes = &self.known.survey.files[section.file].bytes;
            let (end, outer) = (line_end(bytes), text(indent(bytes, section.range.start)));
            let new = format!("SSLStaplingCache shmcb:stapling(65536){end}{outer}");
            self.edits.entry(section.file).or_default().push(Edit::insert(section.range.start, new));
        }
        Ok(())
    }

    /// Sends visitors to the preferred one of two names, over http and over https.
    fn prefer(&mut self, prefer: Prefer) -> Result<(), PlanError> {
        let mut wanted: BTreeMap<usize, Vec<[String; 3]>> =
            [true, false].into_iter().flat_map(|tls| self.hosts(tls)).map(|index| (index, Vec::new())).collect();
        for bare in with_and_without_www(self.target.names.iter()) {
            let (to, from) = prefer.order(&bare);
            let [Ok(to_name), Ok(from_name)] = [&to, &from].map(|name| Identifier::parse(name)) else { continue };
            let there = [true, false].map(|tls| self.serving(&to_name, tls));
            if there.iter().all(Vec::is_empty) {
                self.findings.push(not_sent_on(&to, &from));
                continue;
            }
            for index in there.iter().flatten() {
                if self.sends_to(*index, &from) {
                    let place = self.known.survey.sites[*index].place.clone();
                    return Err(PlanError::WouldLoop { place, from, to });
                }
            }
            for (tls, scheme, usual) in [(true, "https", 443), (false, "http", 80)] {
                let port = port_words(self.port_of(&there[usize::from(!tls)], tls).unwrap_or(usual), usual);
                for index in self.serving(&from_name, tls) {
                    // What is redirected to https is sent on there: so browsers learn of https for both names.
                    let is_redirected =
                        self.target.wishes.redirect || self.known.survey.sites[index].redirect.is_some();
                    if !self.sends_to(index, &to) && (tls || !is_redirected) {
                        let rule = rule(&host_pattern(&from), &format!("{scheme}://{to}{port}"));
                        wanted.entry(index).or_default().push(rule);
                    }
                }
            }
        }
        for (index, rules) in wanted {
            if !rules.is_empty() {
                self.needs("alias", "a redirect")?;
            }
            let wanted = if rules.is_empty() { Vec::new() } else { lines(PREFER_COMMENT, rules) };
            self.write_own(index, PREFER_COMMENT, &wanted)?;
        }
        Ok(())
    }

    /// Whether a host sends all visitors to a name, by lines that are not ours.
    fn sends_to(&self, index: usize, host: &str) -> bool {
        let Some(section) = &self.known.hosts[index].0 else { return false };
        section.redirects.iter().any(|(_, to)| {
            let to = to.split_once("://").map_or("", |(_, rest)| rest);
            to.split(['/', ':', '$', '?', '%']).next().is_some_and(|to| to.eq_ignore_ascii_case(host))
        })
    }

    /// Returns a port at which hosts are reached.
    fn port_of(&self, hosts: &[usize], tls: bool) -> Option<u16> {
        let listeners = hosts.iter().flat_map(|index| &self.known.survey.sites[*index].listeners);
        listeners.filter(|listener| listener.tls == tls).find_map(|listener| match &listener.socket {
            Socket::Ip(_, port) | Socket::Host(_, port) => Some(*port),
            Socket::Unix(_) => None,
        })
    }
}

/// Returns the lines that send visitors of some hosts on, all paths but that of challenges (RFC 8555 section 8.3).
fn rule(hosts: &str, to: &str) -> [String; 3] {
    [
        format!(
            "<If \"%{{SERVER_NAME}} =~ m#^({hosts})$# && %{{REQUEST_URI}} !~ m#^/\\.well-known/acme-challenge/#\">"
        ),
        format!("    Redirect permanent \"{to}%{{REQUEST_URI}}\""),
        "</If>".to_owned(),
    ]
}

fn lines(comment: &str, rules: impl IntoIterator<Item = [String; 3]>) -> Vec<String> {
    std::iter::once(comment.to_owned()).chain(rules.into_iter().flatten()).collect()
}

fn port_words(port: u16, usual: u16) -> String {
    if port == usual { String::new() } else { format!(":{port}") }
}
