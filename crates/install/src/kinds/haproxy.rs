//! HAProxy while it runs: certificates are put into it over its runtime socket, and no reload is needed.

use crate::plan::Change;
use eskort_core::words;
use eskort_host::{Machine, MachineError};
use std::path::{Component, Path, PathBuf};
use std::time::Duration;

/// So long one order may take. Its work may stand still for a moment while it starts or takes a large file in.
const LONGEST: Duration = Duration::from_secs(10);

/// What came of putting certificates into a running HAProxy.
pub(crate) enum RuntimePut {
    Done,
    /// Nothing was changed: it cannot be done this way now.
    NotNow {
        why: String,
    },
    /// It refuses a certificate, and has the one that it had.
    Refused {
        file: PathBuf,
        said: String,
    },
}

/// Puts changed files into use that HAProxy has read: each is set and committed by itself, since it has one transaction at a time.
pub(crate) async fn put(machine: &Machine<'_>, socket: &Path, files: &[Change]) -> RuntimePut {
    let ask = async |order: &str, payload: &[u8]| -> Result<String, MachineError> {
        let message = [order.as_bytes(), if payload.is_empty() { b"" } else { b" <<\n" }, payload, b"\n"].concat();
        let answer = machine.ask_socket(socket, &message, LONGEST).await?;
        Ok(words::printable(String::from_utf8_lossy(&answer).trim(), 4_000_000))
    };
    let not_now = |error: MachineError| RuntimePut::NotNow { why: error.to_string() };
    let listed = match machine.ask_socket(socket, b"show ssl cert\n", LONGEST).await {
        Ok(listed) => String::from_utf8_lossy(&listed).into_owned(),
        Err(error) => return not_now(error),
    };
    let mut named = Vec::new();
    for change in files {
        match name_of(&listed, &change.path) {
            Ok(name) => named.push((name, change)),
            Err(why) => return RuntimePut::NotNow { why },
        }
    }
    for (n, (name, change)) in named.into_iter().enumerate() {
        // An empty line ends what is set.
        let text = String::from_utf8_lossy(&change.new);
        let pem: String = text.lines().filter(|line| !line.trim().is_empty()).map(|line| format!("{line}\n")).collect();
        let set = match ask(&format!("set ssl cert {name}"), pem.as_bytes()).await {
            Ok(said) => said,
            Err(error) if n == 0 => return not_now(error),
            Err(error) => error.to_string(),
        };
        let committed = match set.starts_with("Transaction ") {
            true => ask(&format!("commit ssl cert {name}"), b"").await.unwrap_or_else(|error| error.to_string()),
            false => set,
        };
        if !committed.ends_with("Success!") {
            let _ = ask(&format!("abort ssl cert {name}"), b"").await;
            return RuntimePut::Refused { file: change.path.clone(), said: committed };
        }
    }
    RuntimePut::Done
}

/// Returns what HAProxy calls a file, in its list of them.
///
/// # Errors
/// Why it cannot be set, in words.
fn name_of<'a>(listed: &'a str, path: &Path) -> Result<&'a str, String> {
    let mut names = listed.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let is_it = |name: &&str| plain(Path::new(name.trim_start_matches('*'))) == plain(path);
    match names.find(is_it) {
        // A transaction of a run that was killed, or of somebody else.
        Some(name) if name.starts_with('*') => Err(format!("a transaction on {} is open", &name[1..])),
        Some(name) if name.contains([' ', ';', '\\']) => Err(format!("the name `{name}` cannot be said over it")),
        Some(name) => Ok(name),
        None => Err(format!("it has not read {}", path.display())),
    }
}

/// Returns a path without what leads nowhere: `//` and `.`.
fn plain(path: &Path) -> PathBuf {
    path.components().filter(|part| *part != Component::CurDir).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_found_by_its_name() {
        let listed = "# transaction\n*/etc/tls/open.pem\n\n# filename\n/etc/tls/site.pem\n/etc/tls//more/a.pem\n/etc/tls/b b.pem\n";
        let cases = [
            ("/etc/tls/site.pem", Ok("/etc/tls/site.pem")),
            ("/etc/tls/more/./a.pem", Ok("/etc/tls//more/a.pem")),
            ("/etc/tls/open.pem", Err("a transaction on /etc/tls/open.pem is open")),
            ("/etc/tls/b b.pem", Err("the name `/etc/tls/b b.pem` cannot be said over it")),
            ("/etc/tls/other.pem", Err("it has not read /etc/tls/other.pem")),
        ];
        for (path, expected) in cases {
            assert_eq!(name_of(listed, Path::new(path)), expected.map_err(str::to_owned), "{path}");
        }
    }
}
