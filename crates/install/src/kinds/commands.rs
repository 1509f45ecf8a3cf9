//! The commands of server programs: each tests its configuration and reads it again with its own.

use eskort_core::inventory::Configured;
use eskort_core::software::Software;
use std::path::Path;

/// Returns the command with which a server tests its configuration.
pub(super) fn test_command(configured: &Configured) -> Vec<String> {
    let main = configured.config.to_string_lossy();
    let folder = configured.config.parent().unwrap_or(Path::new("/")).to_string_lossy();
    let own: &[&str] = match configured.software {
        Software::Nginx => &["nginx", "-t", "-q", "-c", &main],
        Software::Apache => &[apache(&main), "-t", "-f", &main],
        Software::Haproxy => &["haproxy", "-c", "-q", "-f", &main],
        Software::Lighttpd => &["lighttpd", "-tt", "-f", &main],
        Software::Postfix => &["postfix", "-c", &folder, "check"],
        Software::Dovecot => &["doveconf", "-n", "-c", &main],
        Software::Exim => &[exim(&main), "-C", &main, "-bV"],
    };
    configured.test.clone().unwrap_or_else(|| own.iter().map(|word| (*word).to_owned()).collect())
}

/// Returns the command with which a server reads its configuration again.
pub(super) fn reload_command(configured: &Configured) -> Vec<String> {
    let main = configured.config.to_string_lossy();
    let folder = configured.config.parent().unwrap_or(Path::new("/")).to_string_lossy();
    let own: &[&str] = match configured.software {
        Software::Nginx => &["nginx", "-s", "reload", "-c", &main],
        Software::Apache => &[apache(&main), "-k", "graceful", "-f", &main],
        Software::Haproxy => &["systemctl", "reload", "haproxy"],
        Software::Lighttpd => &["systemctl", "reload", "lighttpd"],
        Software::Postfix => &["postfix", "-c", &folder, "reload"],
        Software::Dovecot => &["doveadm", "-c", &main, "reload"],
        Software::Exim => &["systemctl", "reload", exim(&main)],
    };
    configured.reload.clone().unwrap_or_else(|| own.iter().map(|word| (*word).to_owned()).collect())
}

/// Debian's Apache needs variables that its own command sets.
fn apache(main: &str) -> &'static str {
    if main.starts_with("/etc/apache2/") { "apache2ctl" } else { "httpd" }
}

/// Debian's Exim has a number in its name.
fn exim(main: &str) -> &'static str {
    if main.contains("/exim4/") { "exim4" } else { "exim" }
}
