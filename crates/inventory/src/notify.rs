//! Reads the sections of those who are told what is new.

use crate::fields::{Entry, duration, kind, program_rules, secret};
use crate::table::{Notes, Section, nearest};
use eskort_core::inventory::{LogKind, MailNotify, MailTls, Notify, NotifyKind, Webhook};
use eskort_core::news::NewsKind;
use std::time::Duration;
use strum::VariantNames;

pub(crate) const MAIL: &[&str] =
    &["kind", "to", "from", "server", "tls", "user", "password-file", "password-env", "roots", "news", "timeout"];
pub(crate) const WEBHOOK: &[&str] = &["kind", "address", "secret-file", "secret-env", "roots", "news", "timeout"];
pub(crate) const NOTIFY_PROGRAM: &[&str] = &["kind", "run", "env", "user", "timeout", "news"];
pub(crate) const LOG: &[&str] = &["kind", "to", "socket", "news"];

const USUAL_TIMEOUT: Duration = Duration::from_secs(30);

pub(crate) fn parse_notify<'a>(entry: &'a Entry<'a>, notes: &'a Notes<'a>) -> Option<Notify> {
    let open = |keys| Section::open(entry.table, entry.span.clone(), &entry.title, keys, notes);
    let (section, kind) = match kind(entry, &["mail", "webhook", "program", "log"], notes)? {
        "mail" => {
            let section = open(MAIL);
            let mail = parse_mail(&section);
            (section, mail.map(NotifyKind::Mail))
        }
        "webhook" => {
            let section = open(WEBHOOK);
            let webhook = parse_webhook(&section);
            (section, webhook.map(NotifyKind::Webhook))
        }
        "program" => {
            let section = open(NOTIFY_PROGRAM);
            let command: Vec<String> =
                section.texts("run").unwrap_or_default().iter().map(|text| text.value.to_owned()).collect();
            if command.is_empty() {
                section.missing("run", "run = [\"/usr/local/bin/tell\"], the program and its arguments");
            }
            let rules = program_rules(&section);
            (section, Some(NotifyKind::Program { command, rules }))
        }
        _ => {
            let section = open(LOG);
            let socket = section.path("socket");
            let log = section.parsed("to", "\"journal\" or \"syslog\"", |text| word(&LogKind::WORDS, text));
            (section, Some(NotifyKind::Log { log: log.unwrap_or(LogKind::Syslog), socket }))
        }
    };
    let timeout = duration(&section, "timeout", USUAL_TIMEOUT);
    Some(Notify { kind: kind?, wants: parse_wants(&section), timeout })
}

fn word<T: Copy>(words: &[(&str, T)], text: &str) -> Option<T> {
    words.iter().find(|(word, _)| *word == text).map(|(_, value)| *value)
}

fn parse_wants(section: &Section<'_>) -> Vec<NewsKind> {
    let mut wants = Vec::new();
    for text in section.texts("news").unwrap_or_default() {
        match text.value.parse() {
            Ok(kind) => wants.push(kind),
            Err(_) => {
                let known = || format!("known: {}", NewsKind::VARIANTS.join(", "));
                let advice = nearest(text.value, NewsKind::VARIANTS).unwrap_or_else(known);
                section.note(text.span, format!("`{}` is no kind of news", text.value), Some(advice));
            }
        }
    }
    wants
}

fn parse_mail(section: &Section<'_>) -> Option<MailNotify> {
    let is_address = |text: &str| {
        let (user, domain) = text.split_once('@').unwrap_or_default();
        !user.is_empty() && !domain.is_empty() && !text.contains(char::is_whitespace) && !text.contains(['<', '>', ','])
    };
    let mut to = Vec::new();
    for text in section.texts("to").unwrap_or_default() {
        if is_address(text.value) {
            to.push(text.value.to_owned());
        } else {
            section.note(text.span, format!("`{}` is not a mail address", text.value), None);
        }
    }
    if section.get("to").is_none() {
        section.missing("to", "to = [\"keeper@lampholm.example\"]");
    }
    let from = section.parsed("from", "a mail address", |text| is_address(text).then(|| text.to_owned()));
    if section.get("from").is_none() {
        section.missing("from", "from = \"eskort@lampholm.example\"");
    }
    if section.get("server").is_none() {
        section.missing("server", "server = \"mail.lampholm.example\", which takes the mail");
    }
    let server =
        section.parsed("server", "a name like \"mail.lampholm.example\" or \"mail.lampholm.example:465\"", |text| {
            let (name, port) = match text.rsplit_once(':') {
                Some((name, port)) if !name.contains(':') => (name, Some(port.parse().ok()?)),
                _ => (text, None),
            };
            let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':');
            (!name.is_empty() && name.chars().all(plain)).then(|| (name.to_owned(), port))
        });
    let tls = section.parsed("tls", "\"tls\", \"starttls\" or \"none\"", |text| word(&MailTls::WORDS, text));
    let tls = tls.unwrap_or(MailTls::FromTheStart);
    let login = match (section.text("user").map(|text| text.value.to_owned()), secret(section, "password")) {
        (Some(user), Some(password)) => Some((user, password)),
        (None, None) => None,
        (Some(_), None) => {
            section.missing("password-file", "password-file = \"mail.password\", which goes with `user`");
            None
        }
        (None, Some(_)) => {
            section.missing("user", "user = \"…\", which goes with the password");
            None
        }
    };
    if login.is_some() && tls == MailTls::None {
        let advice = "take \"tls\" or \"starttls\"";
        section.note(section.span(), "a password is not sent over a connection without TLS", Some(advice.into()));
    }
    let (server, port) = server?;
    if tls == MailTls::None && !matches!(server.as_str(), "localhost" | "127.0.0.1") {
        let what = format!("mail goes to {server} without TLS: that is for a server on this machine only");
        section.note(section.span(), what, Some("take \"tls\" or \"starttls\"".into()));
    }
    Some(MailNotify { to, from: from?, server, port, tls, login, roots: section.path("roots") })
}

fn parse_webhook(section: &Section<'_>) -> Option<Webhook> {
    if section.get("address").is_none() {
        section.missing("address", "address = \"https://hooks.lampholm.example/certificates\"");
    }
    let address = section.parsed("address", "a URL that begins with https:// (or http:// on this machine)", |text| {
        let url = url::Url::parse(text).ok()?;
        let here = url.host_str().is_some_and(|host| matches!(host, "localhost" | "127.0.0.1" | "[::1]"));
        let is_safe = url.scheme() == "https" || (url.scheme() == "http" && here);
        (is_safe && url.has_host() && url.password().is_none()).then(|| url.to_string())
    });
    Some(Webhook { address: address?, secret: secret(section, "secret"), roots: section.path("roots") })
}
