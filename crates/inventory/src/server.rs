//! Reads the sections of servers.

use crate::fields::{Entry, check_address, duration, kind, program_rules};
use crate::table::{Notes, Section, Text};
use eskort_core::inventory::{FileCopy, Part, Server, ServerKind};
use std::ops::Range;
use std::path::PathBuf;
use std::time::Duration;
use toml::de::DeTable;

pub(crate) const NGINX: &[&str] =
    &["kind", "config", "tls-port", "test", "reload", "check-address", "reload-timeout", "env", "user", "timeout"];
pub(crate) const FILES: &[&str] = &["kind", "copy", "run", "check-address", "reload-timeout", "env", "user", "timeout"];
pub(crate) const COPY: &[&str] = &["part", "to", "owner", "group", "mode"];
const USUAL_RELOAD: Duration = Duration::from_secs(30);

pub(crate) fn parse_server<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Server> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let (section, kind) = match kind(entry, &["nginx", "files"], notes)? {
        "nginx" => {
            let section = open(NGINX);
            let config = section.path("config").unwrap_or_else(|| PathBuf::from("/etc/nginx/nginx.conf"));
            let tls_port = section.number("tls-port", 1..=65_535, 443);
            let tls_port = u16::try_from(tls_port).expect("the range is that of ports");
            let (test, reload) = (section.command("test"), section.command("reload"));
            (section, ServerKind::Nginx { config, tls_port, test, reload })
        }
        _ => {
            let section = open(FILES);
            if section.get("copy").is_none() {
                section.missing("copy", "copy = [{ part = \"bundle\", to = \"/etc/app/tls.pem\" }]");
            }
            let copies = section.tables("copy").into_iter();
            let copies = copies.filter_map(|(table, span)| parse_copy(table, span, notes)).collect();
            (section, ServerKind::Files { copies, run: section.command("run").unwrap_or_default() })
        }
    };
    let reload_timeout = duration(&section, "reload-timeout", USUAL_RELOAD);
    Some(Server { kind, check_address: check_address(&section), reload_timeout, rules: program_rules(&section) })
}

fn parse_copy<'a>(table: &'a DeTable<'a>, span: Range<usize>, notes: &'a Notes<'a>) -> Option<FileCopy> {
    let section = Section::open(table, span, "this `copy`", COPY, notes);
    for (key, example) in [("part", "part = \"bundle\""), ("to", "to = \"/etc/app/tls.pem\"")] {
        if section.get(key).is_none() {
            section.missing(key, example);
        }
    }
    let part = section.parsed("part", "one of \"bundle\", \"certificate\", \"intermediates\", \"key\"", |text| {
        Part::ALL.into_iter().find(|p| p.word() == text)
    });
    let to = section.path("to");
    let mode = match section.get("mode") {
        None => part?.usual_mode(),
        Some(_) => section.parsed("mode", "four octal digits like \"0640\"", |text| {
            u32::from_str_radix(text, 8).ok().filter(|m| *m <= 0o777)
        })?,
    };
    let part = part?;
    if part == Part::Key && mode & 0o007 != 0 {
        let at = section.text("mode").map_or(section.span(), |t| t.span);
        section.note(at, "a private key must not be open to everybody", Some("use mode = \"0600\" or \"0640\"".into()));
    }
    let word = |key| section.text(key).map(|t: Text<'_>| t.value.to_owned());
    Some(FileCopy { part, to: to?, owner: word("owner"), group: word("group"), mode })
}
