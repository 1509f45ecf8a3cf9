//! What an nginx serves: the server blocks of `http`, `stream` and `mail`.

use super::sites::{Around, Sites, certificates, listen, parse_name, servers};
use super::tree::{Config, Directive, DirectiveRef, all_includes, load};
use crate::files::{LoadError, ReadFiles, why};
use crate::site::{Listener, Protocol, Site, SiteName, Socket};
use crate::survey::{Remark, Survey, SurveyFile};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Reads what an nginx serves from its main file.
///
/// # Errors
/// A [`LoadError`] with file and line.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    let mut unread: BTreeMap<PathBuf, String> = BTreeMap::new();
    let config = load(main, &mut |pattern| match read(pattern) {
        Err(error) if pattern != main => {
            unread.insert(pattern.to_owned(), why(&error));
            Ok(Vec::new())
        }
        found => found,
    })?;
    let remark = |(placed, pattern): (DirectiveRef, PathBuf)| {
        let why = unread.get(&pattern)?;
        Some(Remark { place: config.place_of(placed), text: format!("cannot read {}: {why}", pattern.display()) })
    };
    let remarks = if unread.is_empty() { Vec::new() } else { all_includes(&config).filter_map(remark).collect() };
    let mut sites: Vec<Site> = Sites::find(&config).blocks.into_iter().map(|block| block.site).collect();
    sites.extend(other_sites(&config));
    Ok(Survey { sites, files: survey_files(config), remarks })
}

/// Returns the files of a configuration as a survey has them.
pub(super) fn survey_files(config: Config) -> Vec<SurveyFile> {
    config.files.into_iter().map(|file| SurveyFile { path: file.path, bytes: file.bytes }).collect()
}

/// Returns the server blocks of `stream` and `mail`.
pub fn other_sites(config: &Config) -> Vec<Site> {
    let mut sites = Vec::new();
    for block in config.inside(None) {
        let protocol = match &*config.get(block).name {
            "stream" => None,
            "mail" => Some(mail_protocol as fn(&Directive, &Socket) -> Protocol),
            _ => continue,
        };
        let inside = config.inside(Some(block));
        let around = Around::of(config, &inside);
        let name = inside.iter().map(|p| config.get(*p)).find(|d| d.name == "server_name");
        sites.extend(servers(config, &inside).filter_map(|server| other(config, server, &around, name, protocol)));
    }
    sites
}

/// Reads a server block of `stream`, or one of `mail` with what says its protocol. UDP has no TLS that we know.
fn other(
    config: &Config,
    placed: DirectiveRef,
    around: &Around,
    name: Option<&Directive>,
    protocol: Option<fn(&Directive, &Socket) -> Protocol>,
) -> Option<Site> {
    let directives = config.inside(Some(placed));
    let of = |name: &'static str| directives.iter().map(|p| config.get(*p)).filter(move |d| d.name == name);
    let spoken = of("protocol").next();
    let tls_on = of("ssl").next_back().map_or(around.tls, |d| d.arg(0) == "on");
    let starttls = of("starttls").next_back().is_some_and(|d| matches!(d.arg(0), "on" | "only"));
    let over_tcp = of("listen").filter(|d| d.args.iter().all(|word| word.value != "udp"));
    let listeners: Vec<Listener> = over_tcp
        .map(|directive| {
            let found = listen(directive, tls_on && protocol.is_some());
            let plain = spoken.unwrap_or(directive);
            let protocol = protocol.map_or(Protocol::Tcp, |protocol| protocol(plain, &found.socket));
            Listener { protocol, starttls: starttls && !found.tls, ..found }
        })
        .collect();
    let own: Vec<&Directive> = of("server_name").collect();
    let words = if own.is_empty() { name.into_iter().collect() } else { own };
    let names = words.into_iter().flat_map(|d| &d.args);
    let names = names.map(|word| SiteName { written: word.value.clone(), pattern: parse_name(&word.value) }).collect();
    let certificates = certificates(config, &directives);
    let certificates = if certificates.is_empty() { around.certificates.clone() } else { certificates };
    let site = Site { names, listeners, certificates, ..Site::at(config.place_of(placed)) };
    (!site.listeners.is_empty()).then_some(site)
}

/// Without a word of its own nginx goes by the port.
fn mail_protocol(spoken: &Directive, socket: &Socket) -> Protocol {
    let port = match socket {
        Socket::Ip(_, port) | Socket::Host(_, port) => *port,
        Socket::Unix(_) => 0,
    };
    match (&*spoken.name, spoken.arg(0), port) {
        ("protocol", "imap", _) => Protocol::Imap,
        ("protocol", "pop3", _) => Protocol::Pop3,
        ("protocol", _, _) => Protocol::Smtp,
        (_, _, 143 | 993) => Protocol::Imap,
        (_, _, 110 | 995) => Protocol::Pop3,
        _ => Protocol::Smtp,
    }
}
