//! Reads the sections of servers.

use crate::api::{UPLOADS, parse_address, parse_web_api};
use crate::fields::{Entry, check_address, duration, kind, named_section, program_rules, secret};
use crate::table::{Notes, Section, Text};
use eskort_core::inventory::{
    CheckAddress, Configured, FileCopy, FtpHost, FtpTls, Host, HostKind, Keystore, Parcel, Part, RecipeSource, Server,
    ServerKind, UploadApi, WebApi,
};
use eskort_core::recipe::UploadRecipe;
use eskort_core::software::Software;
use std::collections::BTreeMap;
use std::ops::Range;
use std::path::PathBuf;
use std::time::Duration;
use toml::de::DeTable;

/// Of a server whose configuration is read and changed.
pub(crate) const CONFIGURED: &[&str] = &[
    "kind",
    "host",
    "partial",
    "config",
    "certificates-folder",
    "owner",
    "group",
    "tls-port",
    "test",
    "reload",
    "runtime-socket",
    "check-address",
    "reload-timeout",
    "env",
    "user",
    "timeout",
];
pub(crate) const FILES: &[&str] =
    &["kind", "host", "partial", "copy", "run", "check-address", "reload-timeout", "env", "user", "timeout"];
/// Of a server that a program looks after.
pub(crate) const TOLD: &[&str] = &["kind", "command", "check-address", "reload-timeout", "env", "user", "timeout"];
pub(crate) const KEYSTORE: &[&str] = &[
    "kind",
    "host",
    "partial",
    "to",
    "password-file",
    "password-env",
    "owner",
    "group",
    "mode",
    "run",
    "check-address",
    "reload-timeout",
    "env",
    "user",
    "timeout",
];
/// Of an API that certificates are uploaded to.
pub(crate) const UPLOAD: &[&str] = &[
    "kind",
    "recipe",
    "address",
    "roots",
    "secret-file",
    "secret-env",
    "with",
    "password-file",
    "password-env",
    "old-encryption",
    "check-address",
    "reload-timeout",
];
pub(crate) const CLUSTER: &[&str] = &[
    "kind",
    "address",
    "roots",
    "secret-file",
    "secret-env",
    "namespace",
    "object",
    "check-address",
    "reload-timeout",
];
pub(crate) const PARCEL: &[&str] = &[
    "kind",
    "folder",
    "password-file",
    "password-env",
    "friendly-name",
    "old-encryption",
    "owner",
    "group",
    "check-address",
];
pub(crate) const COPY: &[&str] = &["part", "to", "owner", "group", "mode"];
const USUAL_RELOAD: Duration = Duration::from_secs(30);

/// Reads a server. One that runs on several machines comes as several, each with its machine's name behind its own: `front@web1`.
pub(crate) fn parse_server<'a>(
    entry: &'a Entry<'a>,
    hosts: &BTreeMap<String, Host>,
    notes: &'a Notes<'a>,
) -> Vec<(String, Server)> {
    let Some((section, kind)) = parse_kind(entry, notes) else { return Vec::new() };
    let reload_timeout = duration(&section, "reload-timeout", USUAL_RELOAD);
    let on: Vec<&str> = server_hosts(&section, hosts, &kind);
    if !on.is_empty() {
        check_paths(&section, &kind);
    }
    let addresses = check_addresses(&section);
    if addresses.len() > 1 && addresses.len() != on.len() {
        let what = format!("`check-address` has {}, and `host` has {}", addresses.len(), on.len());
        section.note(section.span(), what, Some("write one address for each host, in the same order".into()));
    }
    let (partial, rules) = (section.flag("partial"), program_rules(&section));
    if partial && on.len() < 2 {
        let advice = Some("it leaves out the machines on which it fails".into());
        section.note(section.span(), "`partial` is for servers on several hosts", advice);
    }
    let server = |host: Option<&str>, check_address: Option<CheckAddress>| Server {
        kind: kind.clone(),
        host: host.map(str::to_owned),
        partial,
        check_address,
        reload_timeout,
        rules: rules.clone(),
    };
    match on[..] {
        [] | [_] => vec![(entry.name.to_owned(), server(on.first().copied(), addresses.first().copied()))],
        _ => {
            let each = on.iter().enumerate().map(|(n, host)| {
                let address = addresses.get(n).or(addresses.first()).copied();
                // The machine's own address, where no other is named: the names may lead to any of them.
                let address = address.or_else(|| address_of(&hosts[*host]));
                (format!("{}@{host}", entry.name), server(Some(host), address))
            });
            each.collect()
        }
    }
}

/// Returns the address of a machine, where it is reached by one.
fn address_of(host: &Host) -> Option<CheckAddress> {
    match &host.kind {
        HostKind::Ssh(ssh) => Some(CheckAddress { ip: ssh.address.parse().ok()?, port: None }),
        HostKind::Ftp(_) => None,
    }
}

fn parse_kind<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<(Section<'a>, ServerKind)> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let mut kinds = Software::ALL.map(Software::word).to_vec();
    kinds.extend(["files", "keystore", "parcel", "web-api", "cluster-secret", "program"]);
    let word = kind(entry, &kinds, notes)?;
    Some(match Software::ALL.into_iter().find(|software| software.word() == word) {
        Some(software) => {
            let section = open(CONFIGURED);
            let usual = software.usual_files()[0];
            let tls_port = section.number("tls-port", 1..=65_535, 443);
            let can_gain = matches!(software, Software::Nginx | Software::Apache);
            if !can_gain && section.get("tls-port").is_some() {
                let advice = format!("{word} is led to a certificate where it speaks TLS already");
                section.note(section.span(), "`tls-port` is for servers of kind nginx and apache", Some(advice));
            }
            if software != Software::Haproxy && section.get("runtime-socket").is_some() {
                section.note(section.span(), "`runtime-socket` is for servers of kind haproxy", None);
            }
            let word = |key| section.text(key).map(|text: Text<'_>| text.value.to_owned());
            let configured = Configured {
                software,
                config: section.path("config").unwrap_or_else(|| PathBuf::from(usual)),
                certificates: section.path("certificates-folder"),
                owner: word("owner"),
                group: word("group"),
                tls_port: u16::try_from(tls_port).expect("the range is that of ports"),
                test: section.command("test"),
                reload: section.command("reload"),
                runtime_socket: section.get("runtime-socket").is_none() || section.flag("runtime-socket"),
            };
            (section, ServerKind::Configured(configured))
        }
        None if word == "program" => {
            let section = open(TOLD);
            if section.get("command").is_none() {
                section.missing("command", "command = [\"/usr/local/bin/put-on-panel\"]");
            }
            let command = section.command("command").unwrap_or_default();
            (section, ServerKind::Program { command })
        }
        None if word == "web-api" => {
            let section = open(UPLOAD);
            let api = parse_web_api(&section, &UPLOADS);
            let (password, old_encryption) = (secret(&section, "password"), section.flag("old-encryption"));
            (section, ServerKind::WebApi(UploadApi { api: api?, password, old_encryption }))
        }
        None if word == "parcel" => {
            let section = open(PARCEL);
            let parcel = parse_parcel(&section);
            (section, ServerKind::Parcel(parcel?))
        }
        None if word == "cluster-secret" => {
            let section = open(CLUSTER);
            let api = parse_cluster(&section);
            (section, ServerKind::WebApi(UploadApi { api: api?, password: None, old_encryption: false }))
        }
        None if word == "keystore" => {
            let section = open(KEYSTORE);
            let keystore = parse_keystore(&section);
            (section, ServerKind::Keystore(keystore?))
        }
        None => {
            let section = open(FILES);
            if section.get("copy").is_none() {
                section.missing("copy", "copy = [{ part = \"bundle\", to = \"/etc/app/tls.pem\" }]");
            }
            let copies = section.tables("copy").into_iter();
            let copies = copies.filter_map(|(table, span)| parse_copy(table, span, notes)).collect();
            (section, ServerKind::Files { copies, run: section.command("run").unwrap_or_default() })
        }
    })
}

fn parse_cluster(section: &Section<'_>) -> Option<WebApi<UploadRecipe>> {
    let word = |key| section.text(key).map(|text: Text<'_>| text.value.to_owned());
    let namespace = Some(("namespace".to_owned(), word("namespace").unwrap_or_else(|| "default".to_owned())));
    let object = word("object").map(|object| ("object".to_owned(), object));
    Some(WebApi {
        recipe: RecipeSource::Shipped("cluster-secret".to_owned()),
        address: parse_address(section)?,
        roots: section.path("roots"),
        secret: secret(section, "secret"),
        with: namespace.into_iter().chain(object).collect(),
    })
}

fn parse_parcel(section: &Section<'_>) -> Option<Parcel> {
    if section.get("folder").is_none() {
        section.missing("folder", "folder = \"/mnt/carry\"");
    }
    let password = secret(section, "password");
    if password.is_none() {
        section.missing("password-file", "password-file = \"/etc/eskort/parcel.password\"");
    }
    let word = |key| section.text(key).map(|text: Text<'_>| text.value.to_owned());
    Some(Parcel {
        folder: section.path("folder")?,
        password: password?,
        friendly_name: word("friendly-name"),
        old_encryption: section.flag("old-encryption"),
        owner: word("owner"),
        group: word("group"),
    })
}

fn parse_keystore(section: &Section<'_>) -> Option<Keystore> {
    if section.get("to").is_none() {
        section.missing("to", "to = \"/etc/app/site.p12\"");
    }
    let password = secret(section, "password");
    if password.is_none() {
        section.missing("password-file", "password-file = \"/etc/eskort/app.password\"");
    }
    let word = |key| section.text(key).map(|text: Text<'_>| text.value.to_owned());
    let mode = parse_mode(section, Part::Combined)?;
    check_secret(section, Part::Combined, mode);
    let run = section.command("run").unwrap_or_default();
    Some(Keystore {
        to: section.path("to")?,
        password: password?,
        owner: word("owner"),
        group: word("group"),
        mode,
        run,
    })
}

/// Reads the permission bits of a file with a part.
fn parse_mode(section: &Section<'_>, part: Part) -> Option<u32> {
    match section.get("mode") {
        None => Some(part.usual_mode()),
        Some(_) => section.parsed("mode", "four octal digits like \"0640\"", |text| {
            u32::from_str_radix(text, 8).ok().filter(|m| *m <= 0o777)
        }),
    }
}

/// Notes a key that everybody could read.
fn check_secret(section: &Section<'_>, part: Part, mode: u32) {
    if part.is_secret() && mode & 0o007 != 0 {
        let at = section.text("mode").map_or(section.span(), |t| t.span);
        section.note(at, "a private key must not be open to everybody", Some("use mode = \"0600\" or \"0640\"".into()));
    }
}

/// Returns the machines that a server runs on; none for this one. They have to be such as run commands, and what runs there has rules
/// of its own.
fn server_hosts<'a>(section: &Section<'a>, hosts: &BTreeMap<String, Host>, kind: &ServerKind) -> Vec<&'a str> {
    let known: Vec<&str> = hosts.keys().map(String::as_str).collect();
    let mut found: Vec<&str> = Vec::new();
    for text in section.one_or_more("host") {
        let Some(name) = named_section(section, &text, &known, "host") else { continue };
        if let HostKind::Ftp(ftp) = &hosts[name].kind
            && let Some((what, advice)) = not_over_ftp(kind, ftp)
        {
            section.note(text.span, format!("host `{name}` is reached over FTP, {what}"), Some(advice.into()));
        } else if found.contains(&name) {
            section.note(text.span, format!("host `{name}` is here twice"), None);
        } else {
            found.push(text.value);
        }
    }
    for key in ["env", "user"].into_iter().filter(|key| !found.is_empty() && section.get(key).is_some()) {
        let advice = "the commands run as the user of the host, in its environment";
        section.note(section.span(), format!("`{key}` is for servers of this machine"), Some(advice.into()));
    }
    found
}

/// Returns why a server cannot be on a host that is reached over FTP, and what to do about it.
fn not_over_ftp(kind: &ServerKind, ftp: &FtpHost) -> Option<(&'static str, &'static str)> {
    let ServerKind::Files { copies, run } = kind else {
        return Some(("which runs no commands", "use a host of kind \"ssh\""));
    };
    let is_owned = |copy: &FileCopy| copy.owner.is_some() || copy.group.is_some();
    if !run.is_empty() {
        Some(("which runs no commands", "leave `run` out, or use a host of kind \"ssh\""))
    } else if copies.iter().any(is_owned) {
        Some(("which gives files to nobody else", "leave `owner` and `group` out, or use a host of kind \"ssh\""))
    } else if ftp.tls == FtpTls::None && copies.iter().any(|copy| copy.part.is_secret()) {
        Some(("without TLS: the key would travel in clear", "set `tls` of the host"))
    } else {
        None
    }
}

/// Returns the addresses that looks connect to: one, or one for each machine.
fn check_addresses(section: &Section<'_>) -> Vec<CheckAddress> {
    if section.get("check-address").is_none_or(|value| value.get_ref().as_array().is_none()) {
        return check_address(section).into_iter().collect();
    }
    let mut found = Vec::new();
    for text in section.one_or_more("check-address") {
        match text.value.parse() {
            Ok(address) => found.push(address),
            Err(_) => section.note(text.span, format!("`{}` is no address", text.value), None),
        }
    }
    found
}

/// Notes what means nothing on another machine.
fn check_paths(section: &Section<'_>, kind: &ServerKind) {
    let paths: Vec<&PathBuf> = match kind {
        ServerKind::Configured(server) => std::iter::once(&server.config).chain(&server.certificates).collect(),
        ServerKind::Files { copies, .. } => copies.iter().map(|copy| &copy.to).collect(),
        ServerKind::Keystore(keystore) => vec![&keystore.to],
        ServerKind::Parcel(_) | ServerKind::WebApi(_) | ServerKind::Program { .. } => Vec::new(),
    };
    for path in paths.into_iter().filter(|path| path.is_relative()) {
        let what = format!("`{}` has to be absolute: it is a path on another machine", path.display());
        section.note(section.span(), what, None);
    }
}

fn parse_copy<'a>(table: &'a DeTable<'a>, span: Range<usize>, notes: &'a Notes<'a>) -> Option<FileCopy> {
    let section = Section::open(table, span, "this `copy`", COPY, notes);
    for (key, example) in [("part", "part = \"bundle\""), ("to", "to = \"/etc/app/tls.pem\"")] {
        if section.get(key).is_none() {
            section.missing(key, example);
        }
    }
    let part = section.parsed(
        "part",
        "one of \"bundle\", \"certificate\", \"intermediates\", \"key\", \"combined\", \"manifest\"",
        |text| Part::ALL.into_iter().find(|p| p.word() == text),
    );
    let to = section.path("to");
    let part = part?;
    let mode = parse_mode(&section, part)?;
    check_secret(&section, part, mode);
    let word = |key| section.text(key).map(|t: Text<'_>| t.value.to_owned());
    Some(FileCopy { part, to: to?, owner: word("owner"), group: word("group"), mode })
}
