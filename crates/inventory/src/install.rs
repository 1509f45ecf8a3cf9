//! Reads where a certificate goes, and what its site wants of https there.

use crate::fields::{days, named_section, points_to};
use crate::table::{Notes, Section};
use eskort_core::https::{Hsts, HttpsWishes, Prefer, TlsLevel, with_and_without_www};
use eskort_core::inventory::{Install, Inventory, Proof, RecordWriter, ServerKind};
use eskort_core::names::Identifier;
use std::ops::Range;
use toml::de::DeTable;

pub(crate) const INSTALL: &[&str] =
    &["server", "redirect", "prefer", "hsts", "tls", "http2", "stapling", "tls-port", "tlsa"];

pub(crate) fn parse_install<'a>(
    table: &'a DeTable<'a>,
    span: Range<usize>,
    (known, inventory): (&[&str], &Inventory),
    names: &[&Identifier],
    notes: &'a Notes<'a>,
) -> Vec<Install> {
    let section = Section::open(table, span, "this `install`", INSTALL, notes);
    let Some(server) = points_to(&section, "server", known, "server") else { return Vec::new() };
    // One on several machines has come as several.
    let of_machine = |name: &&String| name.strip_prefix(server).is_some_and(|rest| rest.starts_with('@'));
    let mut servers: Vec<String> = inventory.servers.keys().filter(of_machine).cloned().collect();
    if servers.is_empty() {
        servers.push(server.to_owned());
    }
    let port = section.get("tls-port").map(|_| section.number("tls-port", 1..=65_535, 443));
    let prefers = |text: &str| Prefer::ALL.into_iter().find(|prefer| prefer.word() == text);
    let level = |text: &str| TlsLevel::ALL.into_iter().find(|level| level.word() == text);
    let wishes = HttpsWishes {
        redirect: section.flag("redirect"),
        prefer: section.parsed("prefer", "\"bare\" or \"www\"", prefers),
        hsts: section.parsed("hsts", "\"ramp\", \"off\", or a time like \"7d\"", hsts),
        tls: section.parsed("tls", "\"strict\", \"usual\" or \"lenient\"", level),
        http2: section.flag("http2"),
        stapling: section.flag("stapling"),
        tls_port: port.and_then(|port| u16::try_from(port).ok()),
    };
    let kind = inventory.servers.get(&servers[0]).map(|server| &server.kind);
    let software = match kind {
        Some(ServerKind::Configured(server)) => Some(server.software),
        _ => None,
    };
    // A server with mistakes of its own may be of any kind.
    let is_known = kind.is_some();
    let only_there = |key: &&&str| !matches!(**key, "server" | "tlsa");
    for key in INSTALL.iter().filter(only_there).filter(|key| is_known && section.get(key).is_some()) {
        let is_for = software.is_some_and(|software| software.gets_tls() || (*key == "tls" && software.takes_level()));
        if !is_for {
            let advice = "write it into the server's own configuration";
            let kinds = if *key == "tls" {
                "nginx, apache, haproxy, lighttpd, postfix and dovecot"
            } else {
                "nginx and apache"
            };
            let what = format!("`{key}` is for servers of kind {kinds}");
            section.note(section.span(), what, Some(advice.into()));
        }
    }
    if let Some(prefer) = wishes.prefer
        && with_and_without_www(names.iter().copied()).is_empty()
    {
        let at = section.text("prefer").map_or(section.span(), |text| text.span);
        let what = format!("`prefer = \"{}\"` wants a name both with and without `www.`", prefer.word());
        section.note(at, what, Some("add the other one to the certificate's `names`".into()));
    }
    let tlsa = parse_tlsa(&section, inventory);
    servers.into_iter().map(|server| Install { server, wishes, tlsa: tlsa.clone() }).collect()
}

/// Reads which proof places the records that name the key: one that is named, or with `true` the only one that places records.
fn parse_tlsa(section: &Section<'_>, inventory: &Inventory) -> Option<String> {
    let value = section.get("tlsa")?;
    let places = |proof: &Proof| match proof {
        Proof::Dns(dns) => !matches!(dns.writer, RecordWriter::Standing { .. }),
        _ => false,
    };
    let known: Vec<&str> =
        inventory.proofs.iter().filter(|(_, proof)| places(proof)).map(|(name, _)| name.as_str()).collect();
    if value.get_ref().as_bool().is_some() {
        if !section.flag("tlsa") {
            return None;
        }
        if let [only] = known[..] {
            return Some(only.to_owned());
        }
        let what = match known[..] {
            [] => "`tlsa` wants a proof that places records, and the inventory has none".to_owned(),
            _ => format!("`tlsa = true` leaves open which proof places the records: {}", known.join(", ")),
        };
        let advice = "tlsa = \"zone\", the name of a proof of kind dns-update, web-api, program or by-hand";
        section.note(value.span(), what, Some(advice.into()));
        return None;
    }
    named_section(section, &section.text("tlsa")?, &known, "proof").map(str::to_owned)
}

fn hsts(text: &str) -> Option<Hsts> {
    match text {
        "ramp" => Some(Hsts::Ramp),
        "off" => Some(Hsts::Off),
        time => {
            let time = days(time)?;
            u32::try_from(time.as_secs()).ok().filter(|seconds| *seconds > 0).map(Hsts::Fixed)
        }
    }
}
