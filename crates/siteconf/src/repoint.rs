//! Leads the configuration of a server to the files of a certificate, where it names those of another.
//!
//! The words that name files are replaced and nothing else. What stands in a macro or a default, or in lines that are
//! for other names too is left alone, and named.

use crate::change::{Endpoint, FileChange, PlanError, Present};
use crate::site::{CertificateFiles, Listener, Protocol, Site, SiteName, Socket, Value};
use crate::splice::{Edit, apply_edits};
use crate::survey::{Survey, SurveyFile};
use crate::{dovecot, haproxy, lighttpd, postfix};
use eskort_core::https::TlsLevel;
use eskort_core::inventory::Part;
use eskort_core::names::Identifier;
use eskort_core::software::Software;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What a server should do for a certificate.
#[derive(Clone, Copy)]
pub struct RepointTarget<'a> {
    /// The certificate's names.
    pub names: &'a [Identifier],
    /// Where each part of it is.
    pub parts: &'a dyn Fn(Part) -> PathBuf,
    /// What stands in a file now; `None` for what cannot be read.
    pub present: &'a dyn Fn(&Path) -> Option<Present>,
    /// Whom TLS is for, where that is wished; for nginx and Apache that is no part of this.
    pub level: Option<TlsLevel>,
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
    if let Some(level) = target.level {
        let edits = match software {
            Software::Haproxy => haproxy::level(survey, level),
            Software::Lighttpd => lighttpd::level(survey, level)?,
            Software::Postfix => postfix::level(survey, level),
            Software::Dovecot => dovecot::level(survey, level),
            Software::Nginx | Software::Apache | Software::Exim => Vec::new(),
        };
        for (file, edit) in edits {
            planner.edits.entry(file).or_default().push(edit);
        }
    }
    planner.finish()
}

/// Whether visitors get what a site shows whatever name they ask for: they come to mail servers by the names of other records.
fn is_for_all(software: Software, site: &Site) -> bool {
    matches!(software, Software::Postfix | Software::Exim) || site.has_no_names()
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
    let mut others = Vec::new();
    for name in target.names {
        let best = with_tls().filter_map(|(_, site)| site.answers(name)).max();
        if best.is_none() {
            others.push(name);
        }
        for (index, _) in with_tls().filter(|(_, site)| best.is_some() && site.answers(name) == best) {
            chosen.entry(index).or_default().push(name);
        }
    }
    // Who has no site of its own comes to those that are for everybody; those of other hosts are meant only where nothing else is.
    let none_named = chosen.is_empty();
    for (index, site) in with_tls().filter(|(_, site)| is_there(site, target)) {
        if site.has_no_names() || (none_named && is_for_all(software, site)) {
            chosen.entry(index).or_default().extend(&others);
        }
    }
    chosen.retain(|_, names| !names.is_empty());
    if chosen.is_empty() {
        let main = survey.files.first().map(|file| file.path.clone()).unwrap_or_default();
        let names = target.names.iter().map(ToString::to_string).collect();
        return Err(PlanError::NoTlsSite { main, names });
    }
    Ok(chosen)
}

/// Whether a site that is for everybody may be meant: it has one certificate, or one for our names.
fn is_there(site: &Site, target: &RepointTarget<'_>) -> bool {
    let mut shown_to_all = site.certificates.iter().filter(|pair| pair.only_for.is_none());
    shown_to_all.clone().count() == 1 || shown_to_all.any(|pair| shares_names(pair, target))
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

/// A word of the configuration, and the files that it should name: one, or those of a list, each in the place of another.
struct Word<'a> {
    value: &'a Value,
    files: Vec<(&'a Value, String)>,
}

impl Word<'_> {
    /// Returns what is to stand there, where that is something else than now; inside, `None` for what cannot be written.
    fn change(&self, planner: &Planner<'_>) -> Option<Option<String>> {
        let written = planner.written(self.value);
        if let [(old, path)] = &self.files[..] {
            return (old.text != *path).then(|| planner.quoted(&written, path));
        }
        let is_between = |c: char| c == ',' || c.is_whitespace();
        let word = |word: &str| {
            let is_it = |old: &Value| old.text == word || old.text.ends_with(&format!("/{word}"));
            match self.files.iter().find(|(old, _)| !word.is_empty() && is_it(old)) {
                Some((_, path)) => planner.quoted("", path),
                None => Some(word.to_owned()),
            }
        };
        let part = |part: &str| {
            let bare = part.trim_end_matches(is_between);
            Some(word(bare)? + &part[bare.len()..])
        };
        let new: Option<String> = written.split_inclusive(is_between).map(part).collect();
        (new.as_ref() != Some(&written)).then_some(new)
    }
}

struct Planner<'a> {
    software: Software,
    survey: &'a Survey,
    target: &'a RepointTarget<'a>,
    edits: BTreeMap<usize, Vec<Edit>>,
    done: Repointed,
}

impl Planner<'_> {
    /// Leads one site to our files: what a map names for our names, and what is shown to all others, if it is for us.
    fn site(&mut self, site: &Site) -> Result<(), PlanError> {
        let is_ours = |name: &str| match name.strip_prefix('.') {
            Some(base) => self.target.names.iter().any(|own| own.is_wildcard() && own.base() == base),
            None => self.target.names.iter().any(|own| own.covers(name)),
        };
        let mapped = |pair: &&CertificateFiles| pair.only_for.as_deref().is_some_and(is_ours);
        let mapped: Vec<&CertificateFiles> = site.certificates.iter().filter(mapped).collect();
        for pair in &mapped {
            let (words, parts) = self.words(pair);
            self.done.parts.extend(parts);
            words.iter().try_for_each(|word| self.replace(site, word))?;
        }
        let in_map =
            |name: &&SiteName| site.certificates.iter().any(|pair| pair.only_for.as_ref() == Some(&name.written));
        if !mapped.is_empty() && !site.names.iter().filter(|name| !in_map(name)).any(|name| is_ours(&name.written)) {
            return Ok(());
        }
        self.shown_to_all(site)
    }

    /// Leads what a site shows to all who get no other certificate to our files.
    fn shown_to_all(&mut self, site: &Site) -> Result<(), PlanError> {
        let place = || site.place.clone();
        // What stands in a macro is meant only where nothing else is there.
        let all: Vec<&CertificateFiles> = site.certificates.iter().filter(|pair| pair.only_for.is_none()).collect();
        let written: Vec<&CertificateFiles> =
            all.iter().copied().filter(|pair| pair.certificate.file.is_some()).collect();
        let pair = match &(if written.is_empty() { all } else { written })[..] {
            [] => return Err(PlanError::NoCertificateLines { place: place() }),
            [one] => *one,
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
            self.check_covers(site, pair, true)?;
            let path = PathBuf::from(&pair.certificate.text);
            self.done.placed.push((Part::Combined, path));
            return Ok(());
        }
        let (words, parts) = self.words(pair);
        if words.iter().any(|word| word.change(self).is_some()) {
            self.check_covers(site, pair, site.certificates.len() > 1)?;
        }
        self.done.parts.extend(parts);
        words.iter().try_for_each(|word| self.replace(site, word))
    }

    /// A certificate in use is not replaced by one that has fewer names: those of the site, or `of_file` those in the file.
    fn check_covers(&self, site: &Site, pair: &CertificateFiles, of_file: bool) -> Result<(), PlanError> {
        let present = (self.target.present)(Path::new(&pair.certificate.text)).filter(|_| of_file);
        let foreign = match present {
            Some(present) => {
                let covered =
                    |name: &String| self.target.names.iter().any(|own| own.covers(name) || own.to_string() == *name);
                present.names.into_iter().filter(|name| !covered(name)).collect()
            }
            None if is_for_all(self.software, site) => Vec::new(),
            None => site.known_foreign_names(self.target.names),
        };
        if foreign.is_empty() {
            return Ok(());
        }
        let ours = self.target.names.iter().filter(|name| site.answers(name).is_some());
        let ours = ours.map(Identifier::to_string).collect();
        Err(PlanError::WouldUncover { place: site.place.clone(), names: foreign, ours })
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
    fn words<'p>(&self, pair: &'p CertificateFiles) -> (Vec<Word<'p>>, Vec<Part>) {
        let CertificateFiles { certificate, key, chain, .. } = pair;
        let wanted: Vec<(&Value, Part)> = match (key, chain) {
            (Some(key), Some(chain)) => {
                vec![(certificate, Part::Certificate), (key, Part::Key), (chain, Part::Intermediates)]
            }
            (Some(key), None) => vec![(certificate, Part::Bundle), (key, Part::Key)],
            (None, _) => vec![(certificate, Part::Combined)],
        };
        let parts = wanted.iter().map(|(_, part)| *part).collect();
        let path = |part: Part| (self.target.parts)(part).display().to_string();
        let words = match key {
            // Key and certificate in one list.
            Some(key) if same_place(certificate, key) => {
                vec![Word {
                    value: certificate,
                    files: wanted.iter().map(|(value, part)| (*value, path(*part))).collect(),
                }]
            }
            _ => wanted.iter().map(|(value, part)| Word { value, files: vec![(*value, path(*part))] }).collect(),
        };
        (words, parts)
    }

    fn replace(&mut self, site: &Site, word: &Word<'_>) -> Result<(), PlanError> {
        let Some(new) = word.change(self) else { return Ok(()) };
        let refused = || PlanError::NotEditable { place: site.place.clone(), file: word.value.text.clone() };
        let index = word.value.file.filter(|file| *file < self.survey.files.len()).ok_or_else(refused)?;
        let written = self.written(word.value);
        // What Exim makes of a macro or an expansion is not what stands there.
        if self.software == Software::Exim && !written.trim_matches('"').starts_with('/') {
            return Err(refused());
        }
        let new = new.ok_or_else(|| PlanError::Variable { path: word.files[0].1.clone().into() })?;
        self.check_shared(site, word.value)?;
        let edit = Edit::replace(word.value.range.clone(), new);
        let edits = self.edits.entry(index).or_default();
        if !edits.contains(&edit) {
            edits.push(edit);
        }
        Ok(())
    }

    /// A word that other sites use too may be changed only when they are for our names as well.
    fn check_shared(&self, site: &Site, value: &Value) -> Result<(), PlanError> {
        if is_for_all(self.software, site) {
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

    /// Returns a path as this server's configuration writes it in the place of a word; `None` for one that it cannot write.
    fn quoted(&self, written: &str, path: &str) -> Option<String> {
        let is_plain = |c: char| c.is_ascii_alphanumeric() || "/._-+@:".contains(c) || !c.is_ascii();
        let plain = path.chars().all(is_plain);
        let with_blanks = path.chars().all(|c| is_plain(c) || c == ' ');
        match self.software {
            Software::Lighttpd => with_blanks.then(|| format!("\"{path}\"")),
            Software::Apache if !plain => with_blanks.then(|| format!("\"{path}\"")),
            Software::Dovecot if written.starts_with('<') => plain.then(|| format!("<{path}")),
            _ => plain.then(|| path.to_owned()),
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
        // A mail server shows all visitors the same, unless a map has it otherwise.
        let is_mail = matches!(self.software, Software::Postfix | Software::Dovecot | Software::Exim)
            && site.certificates.iter().all(|pair| pair.only_for.is_none());
        for listener in site.listeners.iter().filter(spoken) {
            let (ip, port) = match &listener.socket {
                Socket::Ip(ip, port) => ((!ip.is_unspecified()).then_some(*ip), Some(*port)),
                Socket::Host(_, port) => (None, Some(*port)),
                Socket::Unix(_) => (None, None),
            };
            let port = port.filter(|_| !listener.proxy_protocol);
            let endpoints = names.iter().take(if is_mail { 1 } else { names.len() });
            self.done.endpoints.extend(endpoints.map(|own| Endpoint { name: name(&own), ip, port }));
        }
    }

    fn finish(mut self) -> Result<Repointed, PlanError> {
        for (index, edits) in &self.edits {
            let SurveyFile { path, bytes } = &self.survey.files[*index];
            let overlap = |source| PlanError::Overlap { path: path.clone(), source };
            let new = apply_edits(bytes, edits).map_err(overlap)?;
            if new != *bytes {
                self.done.changes.push(FileChange { path: path.clone(), old: Some(bytes.clone()), new });
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
