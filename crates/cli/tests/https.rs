//! What a site wants of https beside its certificate, with a real nginx and a real ACME server.

use crate::nginx::{Nginx, SITE, fetch, inventory};
use crate::pebble::Pebble;
use crate::world::*;
use std::process::{Command, Stdio};

/// Asks a name over https and returns head and page; `more` are words of curl.
fn https(place: &Place, nginx: &Nginx, name: &str, path: &str, more: &[&str]) -> String {
    let (to, url) =
        (format!("{name}:{0}:127.0.0.1", nginx.tls_port), format!("https://{name}:{}{path}", nginx.tls_port));
    let mut words = vec!["-i", "--cacert", "visitor-root.pem", "--resolve", &to];
    words.extend(more);
    words.push(&url);
    fetch(place, &words)
}

/// An Apache with one plain site, as it may have grown.
fn apache(place: &Place, port: u16, modules: &[&str]) -> Process {
    let load = |name: &&str| format!("LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n");
    let modules: String = ["mpm_event", "authz_core", "dir"].iter().chain(modules).map(load).collect();
    let dir = place.path("apache").display().to_string();
    let main = format!(
        "ServerRoot {dir}\nPidFile {dir}/pid\nErrorLog {dir}/error.log\nUser daemon\nGroup daemon\n{modules}Listen 127.0.0.1:{port}\n\
         ServerName unnamed.lampholm.example\nIncludeOptional sites/*.conf\n"
    );
    place.write("apache/apache2.conf", &main);
    let site = format!(
        "<VirtualHost *:{port}>\n    ServerName {}\n    ServerAlias {}\n    DocumentRoot {}\n    <Directory />\n        Require all granted\n    \
         </Directory>\n</VirtualHost>\n",
        NAMES[0],
        NAMES[1],
        place.path("www").display()
    );
    place.write("apache/sites/site.conf", &site);
    place.write("www/index.html", "The lighthouse is open.\n");
    let config = format!("{dir}/apache2.conf");
    let child = Command::new("apache2").args(["-f", &config, "-DFOREGROUND"]).stderr(Stdio::null()).spawn();
    let process = Process(child.expect("Debian's package apache2 is installed (scripts/test does it)"));
    await_port(port, "apache2");
    process
}

#[test]
fn a_plain_virtual_host_of_apache_gets_one_with_tls_beside_it() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(place.path(""), open).unwrap();
    let running = apache(place, pebble.http_port, &["alias"]);
    let tls_port = free_port();
    let inventory = |wishes: &str| {
        let config = place.path("apache/apache2.conf").display().to_string();
        format!(
            "{}[proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"127.0.0.1:{}\"\n\n[server.front]\nkind = \"apache\"\n\
             config = \"{config}\"\ntls-port = {tls_port}\ntest = [\"apache2\", \"-t\", \"-f\", \"{config}\"]\nreload = [\"apache2\", \"-k\", \"graceful\", \"-f\", \"{config}\"]\n\
             check-address = \"127.0.0.1\"\nreload-timeout = \"9s\"\n\n[certificate.website]\nnames = [\"{}\", \"{}\"]\ninstall = [{{ server = \"front\"{wishes} }}]\n",
            pebble.authority_section(),
            pebble.http_port,
            NAMES[0],
            NAMES[1],
        )
    };
    place.write("eskort.toml", &inventory(""));
    let before = place.read("apache/sites/site.conf");
    place.run(&["keep"]).check(1, &["the module `ssl` is not loaded", "LoadModule ssl_module"]);
    assert_eq!(place.read("apache/sites/site.conf"), before);
    drop(running);

    let _running = apache(place, pebble.http_port, &["alias", "headers", "http2", "ssl", "socache_shmcb"]);
    let wishes =
        ", redirect = true, hsts = \"ramp\", tls = \"strict\", http2 = true, stapling = true, prefer = \"bare\"";
    place.write("eskort.toml", &inventory(wishes));
    place.run(&["keep", "--plan"]).check(0, &["+<VirtualHost *:", "Redirect permanent", "-all +TLSv1.3"]);
    place.run(&["keep"]).check(0, &["confirmed", "makes", "site_tls.conf"]);
    let own = "apache/sites/site_tls.conf";
    assert!(place.read(own).starts_with("Listen ") && place.mode(own) == 0o644, "{}", place.read(own));
    assert!(!place.read("apache/sites/site.conf").contains("SSLEngine"));
    let fetch_at = |url: &str, more: &[&str]| {
        let [to, bare] = [1, 0].map(|name| format!("{}:{tls_port}:127.0.0.1", NAMES[name]));
        let plain = format!("{}:{}:127.0.0.1", NAMES[1], pebble.http_port);
        let words = ["-i", "--cacert", "visitor-root.pem", "--resolve", &to, "--resolve", &bare, "--resolve", &plain];
        fetch(place, &[&words[..], more, &[url]].concat())
    };
    let home = fetch_at(&format!("https://{}:{tls_port}/", NAMES[0]), &[]);
    assert!(home.starts_with("HTTP/2 200") && home.contains("open") && home.contains("max-age=300"), "{home}");
    let sent = fetch_at(&format!("https://{}:{tls_port}/visit?day=1", NAMES[1]), &[]);
    let to = format!("location: https://{}:{tls_port}/visit?day=1\r\n", NAMES[0]);
    assert!(sent.starts_with("HTTP/2 301") && sent.contains(&to) && sent.contains("max-age=300"), "{sent}");
    let old = fetch_at(&format!("https://{}:{tls_port}/", NAMES[0]), &["--tls-max", "1.2"]);
    assert!(old.contains("curl:"), "{old}");
    let moved = fetch_at(&format!("http://{}:{}/visit?day=1", NAMES[1], pebble.http_port), &[]);
    assert!(moved.contains(&format!("Location: https://{}:{tls_port}/visit?day=1\r\n", NAMES[1])), "{moved}");
    place.write("www/.well-known/acme-challenge/probe", "still here");
    let path = "/.well-known/acme-challenge/probe";
    let probe = fetch_at(&format!("http://{}:{}{path}", NAMES[1], pebble.http_port), &[]);
    assert!(probe.ends_with("still here"), "{probe}");
    place.run(&["keep"]).check(0, &["nothing to do"]);
    place.run_with("ESKORT_CLOCK_OFFSET", "400", &["keep"]).check(0, &["put generation 1 in place"]);
    until_it_stays("a week", || fetch_at(&format!("https://{}:{tls_port}/", NAMES[0]), &[]).contains("max-age=604800"));
    place.run(&["install", "website", "--undo"]).check(0, &[]);
    assert!(!place.path(own).exists());
    assert_eq!(place.read("apache/sites/site.conf"), before);
}

#[test]
fn a_site_gets_all_that_it_wants_of_https_and_the_ramp_goes_up_while_it_is_good() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let wishes =
        ", redirect = true, prefer = \"bare\", hsts = \"ramp\", tls = \"strict\", http2 = true, stapling = true";
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", wishes));
    place.run(&["keep"]).check(0, &["confirmed", "the certificate names no OCSP responder"]);

    let [bare, www] = NAMES;
    // No process of before the reload takes visitors any more.
    let home = https(place, &nginx, bare, "/", &[]);
    assert!(
        home.contains("max-age=300") && home.starts_with("HTTP/2 200") && home.contains("The lighthouse is open."),
        "{home}"
    );
    let moved = https(place, &nginx, www, "/visit?day=1", &[]);
    let to = format!("location: https://{bare}:{}/visit?day=1\r\n", nginx.tls_port);
    assert!(moved.starts_with("HTTP/2 301") && moved.contains(&to) && moved.contains("max-age=300"), "{moved}");
    let plain = format!("http://127.0.0.1:{}/", nginx.plain_port);
    let over_http = fetch(place, &["-i", "-H", &format!("Host: {www}"), &plain]);
    let to = format!("https://{www}:{}/\r\n", nginx.tls_port);
    assert!(over_http.contains(&to) && !over_http.contains("Strict-Transport"), "to https first: {over_http}");
    let old = https(place, &nginx, bare, "/", &["--tls-max", "1.2"]);
    assert!(old.contains("curl:"), "TLS 1.2 is shut out: {old}");
    let before = place.read(SITE);
    place.run(&["keep"]).check(0, &["nothing to do; renewal on"]);
    assert_eq!(place.read(SITE), before);

    // A look that finds something wrong begins the time anew.
    place.write(SITE, &before.replace("max-age=300", "max-age=3"));
    Nginx::reload(place);
    until_it_stays("it is cut short", || https(place, &nginx, bare, "/", &[]).contains("max-age=3\r"));
    let later = |seconds: u64, words: &[&str]| place.run_with("ESKORT_CLOCK_OFFSET", &seconds.to_string(), words);
    later(400, &["keep"])
        .check(0, &["stays at 5 minutes", "sends max-age=3 instead of 300", "put generation 1 in place"]);
    assert_eq!(place.read(SITE), before);
    assert!(https(place, &nginx, bare, "/", &[]).contains("max-age=300"), "it is as before");
    later(600, &["keep"]).check(0, &["nothing to do"]);
    assert_eq!(place.read(SITE), before, "five minutes since the last bad look have not passed");

    later(800, &["keep", "--plan"]).check(0, &["nothing"]);
    later(800, &["keep"]).check(0, &["put generation 1 in place"]);
    assert_eq!(place.read(SITE), before.replace("max-age=300", "max-age=604800"));
    assert!(https(place, &nginx, bare, "/", &[]).contains("max-age=604800"), "a week");
    later(800 + 604_900, &["keep"]).check(0, &["put generation 1 in place"]);
    assert_eq!(place.read(SITE), before.replace("max-age=300", "max-age=31536000"));
    place.run(&["show", "website"]).check(0, &["browsers come back over https alone for 7 days from now on"]);

    // Going back.
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ", hsts = \"off\""));
    place.run(&["keep"]).check(0, &["put generation 1 in place"]);
    assert!(https(place, &nginx, bare, "/", &[]).contains("max-age=0"), "browsers are told to forget");
}
