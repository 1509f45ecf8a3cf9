//! Reads the sections of other machines.

use crate::fields::{Entry, duration, kind, secret};
use crate::table::{Notes, Section, Text};
use eskort_core::inventory::{FtpHost, FtpTls, Host, HostKind, SshHost};
use std::time::Duration;

pub(crate) const SSH: &[&str] =
    &["kind", "address", "port", "user", "key-file", "known-hosts", "ssh-config", "jump", "timeout"];
pub(crate) const FTP: &[&str] =
    &["kind", "address", "port", "user", "password-file", "password-env", "tls", "roots", "timeout"];

const USUAL_TIMEOUT: Duration = Duration::from_secs(30);

pub(crate) fn parse_host<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Host> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let word = |section: &Section<'_>, key| section.text(key).map(|t| t.value.to_owned());
    let (section, kind) = match kind(entry, &["ssh", "ftp"], notes)? {
        "ssh" => {
            let section = open(SSH);
            let kind = HostKind::Ssh(SshHost {
                address: address(&section)?,
                port: port(&section),
                user: user(&section),
                key_file: section.path("key-file"),
                known_hosts: section.path("known-hosts"),
                ssh_config: section.path("ssh-config"),
                jump: section.one_or_more("jump").iter().filter_map(|t| argument(&section, "jump", t)).collect(),
            });
            (section, kind)
        }
        _ => {
            let section = open(FTP);
            let tls = section.parsed("tls", "one of \"explicit\", \"implicit\", \"none\"", |text| match text {
                "explicit" => Some(FtpTls::Explicit),
                "implicit" => Some(FtpTls::Implicit),
                "none" => Some(FtpTls::None),
                _ => None,
            });
            let tls = tls.unwrap_or(FtpTls::Explicit);
            let usual_port = if tls == FtpTls::Implicit { 990 } else { 21 };
            if section.get("user").is_none() {
                section.missing("user", "user = \"keeper\"");
            }
            let password = secret(&section, "password");
            if password.is_none() {
                section.missing("password-file", "password-file = \"ftp.password\", a file that only you can read");
            }
            let kind = HostKind::Ftp(FtpHost {
                address: address(&section)?,
                port: port(&section).unwrap_or(usual_port),
                user: word(&section, "user")?,
                password: password?,
                tls,
                roots: section.path("roots"),
            });
            (section, kind)
        }
    };
    Some(Host { kind, timeout: duration(&section, "timeout", USUAL_TIMEOUT) })
}

fn address(section: &Section<'_>) -> Option<String> {
    if section.get("address").is_none() {
        section.missing("address", "address = \"www.lampholm.example\"");
    }
    argument(section, "address", &section.text("address")?)
}

fn user(section: &Section<'_>) -> Option<String> {
    argument(section, "user", &section.text("user")?)
}

/// Returns a text that becomes an argument of `ssh`: one that begins with `-` would be taken for an option.
fn argument(section: &Section<'_>, key: &str, text: &Text<'_>) -> Option<String> {
    let odd = text.value.is_empty()
        || text.value.starts_with('-')
        || text.value.contains(|c: char| c.is_whitespace() || c.is_control() || c == ',');
    if odd {
        section.note(text.span.clone(), format!("`{key}` cannot be `{}`", text.value), None);
        return None;
    }
    Some(text.value.to_owned())
}

fn port(section: &Section<'_>) -> Option<u16> {
    section.get("port")?;
    u16::try_from(section.number("port", 1..=65_535, 22)).ok()
}
