//! What a survey of a server's configuration brings, whatever the server.

use crate::site::{Place, Site};
use std::path::{Path, PathBuf};

/// What a configuration serves.
#[derive(Clone, Debug, Default)]
pub struct Survey {
    /// The sites, in the order in which the server reads them.
    pub sites: Vec<Site>,
    /// The files that were read, the main file first; values name them by their number.
    pub files: Vec<SurveyFile>,
    /// What was left out, and why.
    pub remarks: Vec<Remark>,
}

/// A file that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SurveyFile {
    /// Its path.
    pub path: PathBuf,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// Something in a configuration that was left out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remark {
    /// Where it stands.
    pub place: Place,
    /// What it is, and why.
    pub text: String,
}

/// Returns a path as the server takes it: a relative one from a folder.
pub(crate) fn absolute(folder: &Path, path: &str) -> String {
    folder.join(path).display().to_string()
}

/// What the tests of the readers share.
#[cfg(test)]
pub(crate) mod testing {
    use super::Survey;
    use crate::site::{Listener, Site};
    use std::io;
    use std::path::{Path, PathBuf};

    /// Reads from texts; a `*` in a pattern stands for anything in one folder.
    pub(crate) fn reader<'a>(
        files: &'a [(&str, &str)],
    ) -> impl FnMut(&Path) -> io::Result<Vec<(PathBuf, Vec<u8>)>> + 'a {
        move |pattern| {
            let text = pattern.to_str().unwrap();
            let hit = |path: &str| match text.split_once('*') {
                Some((head, tail)) => {
                    path.starts_with(head) && path.ends_with(tail) && !path[head.len()..].contains('/')
                }
                None => path == text,
            };
            let hits = files.iter().filter(|(path, _)| hit(path));
            let found: Vec<_> = hits.map(|(path, bytes)| (PathBuf::from(path), bytes.as_bytes().to_vec())).collect();
            match found.is_empty() && !text.contains('*') {
                true => Err(io::ErrorKind::NotFound.into()),
                false => Ok(found),
            }
        }
    }

    /// Returns each site in one line: place, names, listeners, certificates, redirect.
    pub(crate) fn lines(survey: &Survey) -> Vec<String> {
        let line = |site: &Site| {
            let names: Vec<&str> = site.names.iter().map(|name| &*name.written).collect();
            let security = |l: &Listener| {
                if l.tls {
                    "+tls"
                } else if l.starttls {
                    "+starttls"
                } else {
                    ""
                }
            };
            let sockets: Vec<String> = site.listeners.iter().map(|l| format!("{}{}", l.socket, security(l))).collect();
            let files = site.certificates.iter().map(|c| {
                let more = [&c.key, &c.chain].into_iter().flatten().map(|value| format!(",{}", value.text));
                format!(" {}{}", c.certificate.text, more.collect::<String>())
            });
            let redirect = site.redirect.as_ref().map(|to| format!(" -> {to}")).unwrap_or_default();
            let (names, sockets) = (names.join(","), sockets.join(","));
            format!("{} {names} {sockets}{}{redirect}", site.place, files.collect::<String>())
        };
        survey.sites.iter().map(line).collect()
    }
}
