//! In the machine's log: an entry for each piece of news.

use crate::NotifyError;
use eskort_core::inventory::LogKind;
use eskort_core::news::{Message, News, NewsKind};
use std::os::unix::net::UnixDatagram;
use std::path::Path;

/// The sockets of a machine's logs.
const JOURNAL: &str = "/run/systemd/journal/socket";
const SYSLOG: &str = "/dev/log";
/// RFC 3164 section 4.1.1: the facility of daemons.
const DAEMON: u8 = 3;

pub(crate) fn deliver(log: LogKind, socket: Option<&Path>, message: &Message) -> Result<(), NotifyError> {
    let usual = Path::new(if log == LogKind::Journal { JOURNAL } else { SYSLOG });
    let socket = socket.unwrap_or(usual);
    let test = News {
        what: NewsKind::Recovered,
        certificate: String::new(),
        names: Vec::new(),
        ends: None,
        text: message.subject(),
        failing: None,
    };
    let news = if message.news.is_empty() { std::slice::from_ref(&test) } else { &message.news[..] };
    let entry = |news| if log == LogKind::Journal { journal(news) } else { syslog(news) };
    let sent = news.iter().try_for_each(|news| send(socket, &entry(news)));
    sent.map_err(|source| NotifyError::Log { socket: socket.to_owned(), source })
}

fn send(socket: &Path, entry: &[u8]) -> std::io::Result<()> {
    let from = UnixDatagram::unbound()?;
    from.connect(socket)?;
    from.send(entry).map(drop)
}

/// Writes an entry with fields of its own into systemd's journal.
///
/// # Errors
/// When there is no journal, or it does not take it.
pub fn write_to_journal(fields: &[(&str, &str)]) -> std::io::Result<()> {
    send(Path::new(JOURNAL), &journal_entry(fields))
}

/// Returns an entry as systemd's journal takes it: each field with its length, since it may have several lines.
fn journal_entry(fields: &[(&str, &str)]) -> Vec<u8> {
    let mut entry = Vec::new();
    for (name, value) in fields {
        entry.extend_from_slice(name.as_bytes());
        entry.push(b'\n');
        entry.extend_from_slice(&(value.len() as u64).to_le_bytes());
        entry.extend_from_slice(value.as_bytes());
        entry.push(b'\n');
    }
    entry
}

/// Returns how urgent it is (RFC 3164 section 4.1.1).
fn priority(what: NewsKind) -> u8 {
    match what {
        NewsKind::Ended | NewsKind::Danger => 2,
        NewsKind::Failed => 3,
        NewsKind::EndsSoon => 4,
        NewsKind::Recovered => 5,
    }
}

fn sentence(news: &News) -> String {
    let why = news.failing.as_ref().map(|failing| format!(": {}", failing.reason)).unwrap_or_default();
    format!("{}{why}", news.text)
}

fn journal(news: &News) -> Vec<u8> {
    let (message, priority) = (sentence(news), priority(news.what).to_string());
    let ends = news.ends.map(|ends| ends.to_string());
    let mut fields = vec![
        ("MESSAGE", message.as_str()),
        ("PRIORITY", &priority),
        ("SYSLOG_IDENTIFIER", "eskort"),
        ("ESKORT_NEWS", news.what.into()),
        ("ESKORT_CERTIFICATE", &news.certificate),
    ];
    fields.extend(ends.as_deref().map(|ends| ("ESKORT_ENDS", ends)));
    journal_entry(&fields)
}

fn syslog(news: &News) -> Vec<u8> {
    let priority = DAEMON * 8 + priority(news.what);
    let text = sentence(news).replace('\n', " ");
    format!("<{priority}>eskort[{}]: {text}", std::process::id()).into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_in_each_log() {
        let news = News {
            what: NewsKind::Failed,
            certificate: "website".into(),
            names: Vec::new(),
            ends: None,
            text: "it has failed".into(),
            failing: Some(eskort_core::news::Failing::new(1, "no answer\nfrom there".into(), None)),
        };
        let said = String::from_utf8(syslog(&news)).unwrap();
        assert!(said.starts_with("<27>eskort[") && said.ends_with("]: it has failed: no answer from there"), "{said}");
        let said = journal(&news);
        let message = b"MESSAGE\n\x23\0\0\0\0\0\0\0it has failed: no answer\nfrom there\nPRIORITY\n";
        assert!(said.starts_with(message), "{}", String::from_utf8_lossy(&said));
    }
}
