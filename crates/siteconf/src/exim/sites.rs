//! Where a configuration has mail taken in, and with which certificate.

use super::lex::{Kind, joined, tokens};
use crate::files::{LoadError, ReadFiles};
use crate::reading::{Conditions, Reading};
use crate::site::{CertificateFiles, Listener, NamePattern, Protocol, Site, SiteName, Socket, Value};
use crate::survey::{Survey, absolute};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::ops::Range;
use std::path::Path;

/// Macros are put in place so often at most in one line, and a line grows no longer than this.
const MOST_ROUNDS: usize = 20;
const LONGEST: usize = 1 << 16;

struct Reader<'a, 'b> {
    reading: Reading<'a, 'b, ()>,
    macros: BTreeMap<String, String>,
    options: BTreeMap<String, Value>,
    /// Whether the main part is over.
    over: bool,
}

/// Reads where an Exim takes mail in, from the one file that it reads.
///
/// # Errors
/// A [`LoadError`] when the file cannot be read.
pub fn survey(main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    let reading = Reading::begin(main, read, |_, _| Ok(()))?;
    let mut reader = Reader { reading, macros: BTreeMap::new(), options: BTreeMap::new(), over: false };
    reader.file(0, 0)?;
    Ok(reader.finish())
}

/// Returns the bytes behind the `=` of a line, without the blanks around them.
fn value_in(bytes: &[u8], line: Range<usize>) -> Range<usize> {
    let text = &bytes[line.clone()];
    let from = line.start + text.iter().position(|b| *b == b'=').map_or(0, |at| at + 1);
    // The value may begin on the next line.
    let blanks = bytes[from..line.end].iter().take_while(|b| b.is_ascii_whitespace() || **b == b'\\').count();
    let end = from + bytes[from..line.end].trim_ascii_end().len();
    (from + blanks).min(end)..end
}

impl Reader<'_, '_> {
    fn file(&mut self, file: usize, depth: usize) -> Result<(), LoadError> {
        let bytes = self.reading.files.files[file].bytes.clone();
        let mut conditions = Conditions::default();
        for token in tokens(&bytes).into_iter().filter(|token| token.kind == Kind::Line) {
            if self.over {
                return Ok(());
            }
            self.reading.count(depth)?;
            let line = joined(&bytes[token.range.clone()]);
            if self.condition(&line, &mut conditions) || !conditions.count() {
                continue;
            }
            if let Some(rest) = line.strip_prefix(".include") {
                self.include(file, rest, token.range.start, depth)?;
            } else if line.starts_with("begin ") {
                self.over = true;
            } else {
                self.take(file, &line, value_in(&bytes, token.range));
            }
        }
        Ok(())
    }

    /// Takes in a line of a condition; false for other lines.
    fn condition(&self, line: &str, conditions: &mut Conditions) -> bool {
        let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        let defined = self.macros.contains_key(rest.trim());
        match word {
            ".ifdef" => conditions.begin(defined),
            ".ifndef" => conditions.begin(!defined),
            ".elifdef" => conditions.otherwise(defined),
            ".elifndef" => conditions.otherwise(!defined),
            ".else" => conditions.otherwise(true),
            ".endif" => conditions.end(),
            _ => return false,
        }
        true
    }

    fn include(&mut self, file: usize, rest: &str, at: usize, depth: usize) -> Result<(), LoadError> {
        let (optional, path) = match rest.strip_prefix("_if_exists") {
            Some(path) => (true, path),
            None => (false, rest),
        };
        let path = absolute(self.reading.folder(), self.expand(path.trim()).trim_matches('"'));
        let place = self.reading.files.place(file, at);
        let found = self.reading.include(Some((file, at)), place, Path::new(&path), optional)?;
        found.into_iter().try_for_each(|included| self.file(included, depth + 1))
    }

    /// Puts macros in place: names that begin with a capital letter.
    fn expand(&self, text: &str) -> String {
        let mut text = text.to_owned();
        // Longer names first: one may begin as another does.
        let mut names: Vec<&String> = self.macros.keys().collect();
        names.sort_by_key(|name| std::cmp::Reverse(name.len()));
        for _ in 0..MOST_ROUNDS {
            let Some(name) = names.iter().find(|name| text.contains(name.as_str())) else { break };
            text = text.replacen(name.as_str(), &self.macros[*name], 1);
            if text.len() > LONGEST {
                break;
            }
        }
        text
    }

    fn take(&mut self, file: usize, line: &str, range: Range<usize>) {
        let Some((name, value)) = line.split_once('=') else { return };
        let name = name.trim();
        if name.starts_with(|c: char| c.is_ascii_uppercase()) {
            let value = self.expand(value.trim_start_matches('=').trim());
            self.macros.insert(name.to_owned(), value);
            return;
        }
        let name = name.strip_prefix("hide ").unwrap_or(name).trim().to_owned();
        let text = self.expand(value.trim()).trim_matches('"').to_owned();
        self.options.insert(name, Value { text, file: Some(file), range });
    }

    fn finish(self) -> Survey {
        let Reader { mut reading, options, .. } = self;
        let text =
            |name: &str, otherwise: &str| options.get(name).map_or(otherwise.to_owned(), |value| value.text.clone());
        let at = |name: &str| options.get(name).map_or(0, |value| value.range.start);
        let place = |reading: &Reading<'_, '_, ()>, name: &str| {
            reading.files.place(options.get(name).and_then(|value| value.file).unwrap_or(0), at(name))
        };
        let list = |text: &str| -> Vec<String> {
            let (separator, rest) = match text.strip_prefix('<') {
                Some(rest) => (rest.chars().next().unwrap_or(':'), rest.get(1..).unwrap_or_default()),
                None => (':', text),
            };
            rest.split(separator).map(|word| word.trim().to_owned()).filter(|word| !word.is_empty()).collect()
        };
        let port = |word: &String| match &**word {
            "smtp" => Some(25),
            "smtps" | "ssmtp" | "submissions" => Some(465),
            "submission" => Some(587),
            other => other.parse::<u16>().ok(),
        };
        let ports: Vec<u16> = list(&text("daemon_smtp_ports", "25")).iter().filter_map(port).collect();
        let wrapped: Vec<u16> = list(&text("tls_on_connect_ports", "")).iter().filter_map(port).collect();
        let certificate = options.get("tls_certificate");
        let advertises = !text("tls_advertise_hosts", "*").is_empty() && certificate.is_some();
        // Addresses may come with a port of their own: 192.0.2.7.587 or [192.0.2.7]:587.
        let interfaces = list(&text("local_interfaces", "<; 0.0.0.0"));
        let mut listeners = Vec::new();
        for address in &interfaces {
            let bare = address.trim_matches(['[', ']']);
            let (ip, own) = match (bare.parse::<IpAddr>(), address.rsplit_once("]:"), bare.rsplit_once('.')) {
                (Ok(ip), _, _) => (Some(ip), None),
                (_, Some((ip, port)), _) => (ip.trim_start_matches('[').parse().ok(), port.parse().ok()),
                (_, _, Some((ip, port))) => (ip.parse().ok(), port.parse().ok()),
                _ => (None, None),
            };
            let Some(ip) = ip else {
                let text = format!("the address `{address}` is not understood");
                reading.remark(place(&reading, "local_interfaces"), text);
                continue;
            };
            let ip = if ip == IpAddr::from(Ipv4Addr::UNSPECIFIED) { Ipv4Addr::UNSPECIFIED.into() } else { ip };
            for port in own.map_or_else(|| ports.clone(), |port| vec![port]) {
                let tls = wrapped.contains(&port);
                let listener = Listener::new(Socket::Ip(ip, port), Protocol::Smtp, tls);
                listeners.push(Listener { starttls: advertises && !tls, ..listener });
            }
        }
        let mut site = Site::at(place(&reading, "tls_certificate"));
        let host = text("primary_hostname", "");
        let name = || SiteName { written: host.clone(), pattern: NamePattern::Exact(host.to_ascii_lowercase()) };
        site.names.extend((!host.is_empty() && !host.contains('$')).then(name));
        site.listeners = listeners;
        let files_of = |name: &str| options.get(name).map(|value| list(&value.text)).unwrap_or_default();
        let value = |name: &str, text: &String| Value { text: text.clone(), ..options[name].clone() };
        let keys = files_of("tls_privatekey");
        for (n, text) in files_of("tls_certificate").iter().enumerate() {
            let key = keys.get(n).filter(|key| *key != text).map(|key| value("tls_privatekey", key));
            site.certificates.push(CertificateFiles {
                certificate: value("tls_certificate", text),
                key,
                chain: None,
                only_for: None,
            });
        }
        let sites = if site.listeners.is_empty() { Vec::new() } else { vec![site] };
        reading.end(sites)
    }
}
