//! The configuration of a machine of the Trust's, as it has grown over the years: for surveys.

use crate::issuer::Issuer;
use eskort_pki::{KeyKind, PrivateKey};
use jiff::{SignedDuration, Timestamp};
use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

const NGINX: &str = "# The web server of the lighthouse.
events {}
http {
    include sites/*.conf;
    include maintenance.conf;
}
";

const WEBSITE: &str = "server {
    listen 80;
    listen [::]:80;
    server_name lampholm.example www.lampholm.example;
    return 301 https://www.lampholm.example$request_uri;
}
server {
    listen 443 ssl;
    listen [::]:443 ssl;
    server_name lampholm.example www.lampholm.example;
    root /srv/www/lampholm;
    ssl_certificate tls/website.pem;
    ssl_certificate_key tls/website.key;
}
";

const OTHERS: &str = "server {
    listen 443 ssl;
    server_name tickets.lampholm.example shop.lampholm.example;
    root /srv/www/tickets;
    ssl_certificate tls/tickets.pem;
    ssl_certificate_key tls/tickets.key;
}
server {
    listen 80;
    listen 443 ssl;
    server_name archive.lampholm.example;
    root /srv/www/archive;
    ssl_certificate tls/archive.pem;
    ssl_certificate_key tls/website.key;
}
server {
    listen 80;
    server_name stock.lampholm.internal;
    root /srv/www/stock;
}
server {
    # Left over from the move.
    listen 443 ssl;
    server_name www.lampholm.example;
    ssl_certificate tls/old.pem;
    ssl_certificate_key tls/old.key;
}
";

const POSTFIX: &str = "myhostname = mail.lampholm.example
tls = FOLDER/nginx/tls
smtpd_tls_chain_files = ${tls}/mail.key, ${tls}/mail.pem
smtpd_tls_security_level = may
";

const SERVICES: &str = "smtp        inet  n  -  y  -  -  smtpd
submissions inet  n  -  y  -  -  smtpd
  -o smtpd_tls_wrappermode=yes
";

/// Writes the configuration of a web server and a mail server into a folder, with certificates and some faults, and returns the two main
/// files.
///
/// # Errors
/// When the folder cannot be written.
///
/// # Panics
/// When the crypto library fails.
pub fn write_machine(folder: &Path, now: Timestamp) -> io::Result<[PathBuf; 2]> {
    let issuer = Issuer::new(now);
    for part in ["nginx/sites", "postfix", "nginx/tls"] {
        fs::create_dir_all(folder.join(part))?;
    }
    let write = |name: &str, text: &str| fs::write(folder.join(name), text);
    write("nginx/nginx.conf", NGINX)?;
    write("nginx/sites/10-lampholm.conf", WEBSITE)?;
    write("nginx/sites/20-others.conf", OTHERS)?;
    write("postfix/main.cf", &POSTFIX.replace("FOLDER", &folder.display().to_string()))?;
    write("postfix/master.cf", SERVICES)?;
    for (name, names, days) in [
        ("website", &["lampholm.example", "www.lampholm.example"][..], 61),
        ("tickets", &["tickets.lampholm.example"], 9),
        ("archive", &["archive.lampholm.example"], 74),
        ("mail", &["mail.lampholm.example"], 43),
    ] {
        let names: Vec<_> = names.iter().map(|name| name.parse().expect("a name")).collect();
        let key = PrivateKey::generate(KeyKind::P256).expect("a key can be made");
        let (day, life) = (SignedDuration::from_hours(24), SignedDuration::from_hours(90 * 24));
        let from = now + day * days - life + SignedDuration::from_hours(1);
        let leaf = issuer.issue(&names, &key.public_key_der(), from, life);
        // Somebody has copied the first part of an answer only.
        let chain = if name == "archive" { leaf.to_pem() } else { issuer.chain_pem(&leaf, false) };
        write(&format!("nginx/tls/{name}.pem"), &chain)?;
        let path = folder.join(format!("nginx/tls/{name}.key"));
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
        file.write_all(key.to_pem().reveal().as_bytes())?;
        if name == "mail" {
            file.set_permissions(fs::Permissions::from_mode(0o644))?;
        }
    }
    Ok([folder.join("nginx/nginx.conf"), folder.join("postfix/main.cf")])
}
