//! Leads the configuration of a server to the files of a certificate, where it names those of another.
//!
//! The words that name files are replaced and nothing else. What stands in a macro or a default, in a compiled map, or in lines that are
//! for other names too is left alone, and named.

use crate::change::{Endpoint, FileChange, PlanError};
use crate::site::{CertificateFiles, Listener, Protocol, Site, Socket, Value};
use crate::splice::{Edit, apply_edits};
use crate::survey::{Survey, SurveyFile};
use eskort_core::inventory::Part;
use eskort_core::names::Identifier;
use eskort_core::software::Software;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::path::{Path, PathBuf};

/// What stands in a certificate's file now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Present {
    /// The names on the certificate.
    pub names: Vec<String>,
    /// Whether its key is of the same kind as that of the certificate to come.
    pub same_kind: bool,
}

/// What a server should do for a certificate.
#[derive(Clone, Copy)]
pub struct RepointTarget<'a> {
    /// The certificate's names.
    pub names: &'a [Identifier],
    /// Where each part of it is.
    pub parts: &'a dyn Fn(Part) -> PathBuf,
    /// What stands in a file now; `None` for what cannot be read.
    pub present: &'a dyn Fn(&Path) -> Option<Present>,
}

/// What is to be done to a server's configuration.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Repointed {
    /// The files that change; empty when all is as wished.
    pub changes: Vec<FileChange>,
    /// The parts that it names afterwards.
    pub parts: BTreeSet<Part>,
    /// Files that are to hold a part: those of a folder from which the server takes all.
    pub placed: Vec<(Part, PathBuf)>,
    /// Where the certificate is served afterwards.
    pub endpoints: Vec<Endpoint>,
}

/// Plans the edits. With a configuration that is as wished already, the plan has no changes.
///
/// # Errors
/// A [`PlanError`] when no site answers to any name, or one cannot be changed without harm to others.
pub fn repoint(software: Software, survey: &Survey, target: &RepointTarget<'_>) -> Result<Repointed, PlanError> {
    let chosen = choose(software, survey, target)?;
    let mut planner = Planner { software, survey, target, edits: BTreeMap::new(), done: Repointed::default() };
    for (index, names) in &chosen {
        let site = &survey.sites[*index];
        planner.site(site)?;
        planner.note_endpoints(site, names);
    }
    planner.finish()
}

/// Whether visitors come to it by the names of other records, and get what it shows whatever they ask for.
fn is_mail(software: Software) -> bool {
    matches!(software, Software::Postfix | Software::Dovecot | Software::Exim)
}

fn speaks_tls(site: &Site) -> bool {
    site.listeners.iter().any(|listener| listener.tls || listener.starttls)
}

/// Returns the sites that are to serve the certificate, each with the names for which visitors come to it.
fn choose<'a>(
    software: Software,
    survey: &Survey,
    target: &RepointTarget<'a>,
) -> Result<BTreeMap<usize, Vec<&'a Identifier>>, PlanError> {
    let mut chosen: BTreeMap<usize, Vec<&Identifier>> = BTreeMap::new();
    let with_tls = || survey.sites.iter().enumerate().filter(|(_, site)| speaks_tls(site));
    let is_of_all = |site: &Site| site.has_no_names() || is_mail(software);
    for name in target.names {
        let best = with_tls().filter_map(|(_, site)| site.answers(name)).max();
        let of_name = with_tls().filter(|(_, site)| best.is_some() && site.answers(name) == best);
        // Who has no site of its own comes to those that are for everybody.
        let of_all = with_tls().filter(|(_, site)| best.is_none() && is_of_all(site) && is_there(site, target));
        for (index, _) in of_name.chain(of_all) {
            chosen.entry(index).or_default().push(name);
        }
    }
    if chosen.is_empty() {
        let main = survey.files.first().map(|file| file.path.clone()).unwrap_or_default();
        let names = target.names.iter().map(ToString::to_string).collect();
        return Err(PlanError::NoTlsSite { main, names });
    }
    Ok(chosen)
}

/// Whether a site that is for everybody may be meant: it has one certificate, or one for our names.
fn is_there(site: &Site, target: &RepointTarget<'_>) -> bool {
    site.certificates.len() == 1 || site.certificates.iter().any(|pair| shares_names(pair, target))
}

fn shares_names(pair: &CertificateFiles, target: &RepointTarget<'_>) -> bool {
    let ours = |part: Part| Path::new(&pair.certificate.text) == (target.parts)(part);
    if ours(Part::Bundle) || ours(Part::Certificate) || ours(Part::Combined) {
        return true;
    }
    let present = (target.present)(Path::new(&pair.certificate.text));
    present.is_some_and(|present| {
        present.same_kind && present.names.iter().any(|name| target.names.iter().any(|own| own.to_string() == *name))
    })
}

struct Planner<'a> {
    software: Software,
    survey: &'a Survey,
    target: &'a RepointTarget<'a>,
    edits: BTreeMap<usize, Vec<Edit>>,
    done: Repointed,
}

impl Planner<'_> {
    /// Leads one site to our files.
    fn site(&mut self, site: &Site) -> Result<(), PlanError> {
        let place = || site.place.clone();
        let pair = match &site.certificates[..] {
            [] => return Err(PlanError::NoCertificateLines { place: place() }),
            [one] => one,
            several => match several.iter().find(|pair| shares_names(pair, self.target)) {
                Some(pair) => pair,
                None => return Err(PlanError::SeveralCertificates { place: place(), count: several.len() }),
            },
        };
        // One word for several files is a folder.
        let same_word = |other: &&CertificateFiles| {
            let word = |pair: &CertificateFiles| (pair.certificate.file, pair.certificate.range.clone());
            word(other) == word(pair) && other.certificate.text != pair.certificate.text
        };
        let is_folder = self.software == Software::Haproxy && self.is_folder(&pair.certificate);
        if is_folder || (self.software == Software::Haproxy && site.certificates.iter().any(|other| same_word(&other)))
        {
            let path = PathBuf::from(&pair.certificate.text);
            self.done.placed.push((Part::Combined, path));
            return Ok(());
        }
        let (words, parts) = self.words(pair);
        // A certificate in use is not replaced by one that has fewer of the site's names.
        let is_ours = words.iter().all(|(value, text)| value.text == *text || self.written(value) == *text);
        let foreign = site.known_foreign_names(self.target.names);
        if !is_ours && !foreign.is_empty() && !is_mail(self.software) {
            let ours = self.target.names.iter().filter(|name| site.answers(name).is_some());
            let ours = ours.map(Identifier::to_string).collect();
            return Err(PlanError::WouldUncover { place: place(), names: foreign, ours });
        }
        self.done.parts.extend(parts);
        for (value, text) in words {
            self.replace(site, value, &text)?;
        }
        Ok(())
    }

    /// Whether a word names the folder that a file lies in, and not the file.
    fn is_folder(&self, value: &Value) -> bool {
        let written = self.written(value);
        let path = written.trim_matches('"');
        !path.is_empty() && !path.contains('$') && !value.text.ends_with(path)
    }

    /// Returns the bytes of a word.
    fn written(&self, value: &Value) -> String {
        let bytes = value
            .file
            .and_then(|file| self.survey.files.get(file))
            .and_then(|file| file.bytes.get(value.range.clone()));
        bytes.map(|bytes| String::from_utf8_lossy(bytes).into_owned()).unwrap_or_default()
    }

    /// Returns the words of a pair with what they should say, and the parts that are named then.
    fn words<'p>(&self, pair: &'p CertificateFiles) -> (Vec<(&'p Value, String)>, Vec<Part>) {
        let path = |part: Part| (self.target.parts)(part).display().to_string();
        match pair {
            // Key and certificate in one list.
            CertificateFiles { certificate, key: Some(key), .. } if same_place(certificate, key) => {
                let new = [(key, path(Part::Key)), (certificate, path(Part::Bundle))];
                (vec![(certificate, self.list_with(certificate, &new))], vec![Part::Key, Part::Bundle])
            }
            CertificateFiles { certificate, key: Some(key), chain: Some(chain) } => (
                vec![
                    (certificate, path(Part::Certificate)),
                    (key, path(Part::Key)),
                    (chain, path(Part::Intermediates)),
                ],
                vec![Part::Certificate, Part::Key, Part::Intermediates],
            ),
            CertificateFiles { certificate, key: Some(key), chain: None } => {
                (vec![(certificate, path(Part::Bundle)), (key, path(Part::Key))], vec![Part::Bundle, Part::Key])
            }
            CertificateFiles { certificate, key: None, .. } => {
                (vec![(certificate, path(Part::Combined))], vec![Part::Combined])
            }
        }
    }

    /// Returns a list of files with others in the place of some; what stands between them stays.
    fn list_with(&self, list: &Value, new: &[(&Value, String)]) -> String {
        let is_between = |c: char| c == ',' || c.is_whitespace();
        let word = |word: &str| {
            let is_it = |old: &Value| old.text == word || old.text.ends_with(&format!("/{word}"));
            let found = new.iter().find(|(old, _)| !word.is_empty() && is_it(old));
            found.map_or_else(|| word.to_owned(), |(_, text)| text.clone())
        };
        let written = self.written(list);
        written
            .split_inclusive(is_between)
            .map(|part| {
                let bare = part.trim_end_matches(is_between);
                word(bare) + &part[bare.len()..]
            })
            .collect()
    }

    fn replace(&mut self, site: &Site, value: &Value, text: &str) -> Result<(), PlanError> {
        if value.text == text {
            return Ok(());
        }
        let place = || site.place.clone();
        let (Some(index), Some(file)) = (value.file, value.file.and_then(|file| self.survey.files.get(file))) else {
            return Err(PlanError::NotEditable { place: place(), file: value.text.clone() });
        };
        let new = self.quoted(file, &value.range, text).ok_or_else(|| PlanError::Variable { path: text.into() })?;
        if file.bytes[value.range.clone()] == *new.as_bytes() {
            return Ok(());
        }
        self.check_shared(site, value)?;
        let edit = Edit::replace(value.range.clone(), new);
        let edits = self.edits.entry(index).or_default();
        if !edits.contains(&edit) {
            edits.push(edit);
        }
        Ok(())
    }

    /// A word that other sites use too may be changed only when they are for our names as well.
    fn check_shared(&self, site: &Site, value: &Value) -> Result<(), PlanError> {
        if is_mail(self.software) {
            return Ok(());
        }
        let uses = |other: &&Site| other.certificates.iter().any(|pair| same_place(&pair.certificate, value));
        for other in self.survey.sites.iter().filter(|other| other.place != site.place).filter(uses) {
            if !other.known_foreign_names(self.target.names).is_empty() {
                return Err(PlanError::SharedLines { place: site.place.clone() });
            }
        }
        Ok(())
    }

    /// Returns a path as this server's configuration writes it; `None` for one that it cannot write.
    fn quoted(&self, file: &SurveyFile, range: &Range<usize>, text: &str) -> Option<String> {
        let is_plain = |c: char| c.is_ascii_alphanumeric() || "/._-+@:".contains(c) || !c.is_ascii();
        let plain = text.chars().all(is_plain);
        let list = text.chars().all(|c| is_plain(c) || c == ',' || c.is_whitespace());
        let with_blanks = text.chars().all(|c| is_plain(c) || c == ' ');
        match self.software {
            Software::Lighttpd => with_blanks.then(|| format!("\"{text}\"")),
            Software::Apache if !plain => with_blanks.then(|| format!("\"{text}\"")),
            Software::Postfix => list.then(|| text.to_owned()),
            Software::Dovecot if file.bytes[range.clone()].starts_with(b"<") => plain.then(|| format!("<{text}")),
            _ => plain.then(|| text.to_owned()),
        }
    }

    /// Says where visitors see the certificate.
    fn note_endpoints(&mut self, site: &Site, names: &[&Identifier]) {
        let spoken = |listener: &&Listener| (listener.tls || listener.starttls) && listener.protocol != Protocol::Quic;
        let name = |name: &&&Identifier| {
            let spelled = site.spelled_out(name).next().map(str::to_owned);
            spelled
                .unwrap_or_else(|| if name.is_wildcard() { format!("www.{}", name.base()) } else { name.to_string() })
        };
        for listener in site.listeners.iter().filter(spoken) {
            let (ip, port) = match &listener.socket {
                Socket::Ip(ip, port) => ((!ip.is_unspecified()).then_some(*ip), Some(*port)),
                Socket::Host(_, port) => (None, Some(*port)),
                Socket::Unix(_) => (None, None),
            };
            let port = port.filter(|_| !listener.proxy_protocol);
            let endpoints = names.iter().take(if is_mail(self.software) { 1 } else { names.len() });
            self.done.endpoints.extend(endpoints.map(|own| Endpoint { name: name(&own), ip, port }));
        }
    }

    fn finish(mut self) -> Result<Repointed, PlanError> {
        for (index, edits) in &self.edits {
            let SurveyFile { path, bytes } = &self.survey.files[*index];
            let overlap = |source| PlanError::Overlap { path: path.clone(), source };
            let new = apply_edits(bytes, edits).map_err(overlap)?;
            if new != *bytes {
                self.done.changes.push(FileChange { path: path.clone(), old: bytes.clone(), new });
            }
        }
        self.done.endpoints.sort();
        self.done.endpoints.dedup();
        self.done.placed.sort();
        self.done.placed.dedup();
        Ok(self.done)
    }
}

fn same_place(one: &Value, other: &Value) -> bool {
    one.file.is_some() && one.file == other.file && one.range == other.range
}
