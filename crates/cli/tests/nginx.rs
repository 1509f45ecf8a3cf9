//! With a real nginx and a real ACME server: the whole journey, and everything put back when it fails.

use crate::hosts::Sshd;
use crate::pebble::Pebble;
use crate::world::*;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};

/// A running nginx in the folder `nginx` of a place, with one site on a plain port.
pub(crate) struct Nginx {
    pub(crate) plain_port: u16,
    pub(crate) tls_port: u16,
    _process: Process,
}

pub(crate) const SITE: &str = "nginx/sites/lampholm.conf";

impl Nginx {
    pub(crate) fn start(place: &Place, plain_port: u16) -> Self {
        Nginx::start_with(place, plain_port, None)
    }

    /// Starts one with a main file of its own.
    fn start_with(place: &Place, plain_port: u16, own: Option<&str>) -> Self {
        let tls_port = free_port();
        let dir = place.path("nginx");
        let user = if place.openssl(&["version"]).code == Some(0) && is_root() { "user root;\n" } else { "" };
        let main = format!(
            "{user}daemon off;\npid {0}/pid;\nerror_log {0}/error.log;\nevents {{}}\nhttp {{\n    access_log off;\n    \
             client_body_temp_path {0}/body;\n    proxy_temp_path {0}/proxy;\n    fastcgi_temp_path {0}/fastcgi;\n    \
             uwsgi_temp_path {0}/uwsgi;\n    scgi_temp_path {0}/scgi;\n    include sites/*.conf;\n}}\n",
            dir.display()
        );
        place.write("nginx/nginx.conf", own.unwrap_or(&main));
        place.write("www/index.html", "The lighthouse is open.\n");
        let site = format!(
            "# The trust's site.\nserver {{\n    listen 127.0.0.1:{plain_port};\n    server_name {} {};\n    root {};\n}}\n",
            NAMES[0],
            NAMES[1],
            place.path("www").display()
        );
        place.write(SITE, &site);
        let child = Command::new("/usr/sbin/nginx")
            .args(["-c", dir.join("nginx.conf").to_str().unwrap()])
            .stderr(Stdio::null())
            .spawn()
            .expect("Debian's package nginx is installed (scripts/test does it)");
        let process = Process(child);
        await_port(plain_port, "nginx");
        Nginx { plain_port, tls_port, _process: process }
    }

    pub(crate) fn reload(place: &Place) {
        let main = place.path("nginx/nginx.conf");
        assert!(Command::new("/usr/sbin/nginx").args(["-s", "reload", "-c"]).arg(main).status().unwrap().success());
    }
}

fn is_root() -> bool {
    Command::new("id").arg("-u").output().unwrap().stdout == b"0\n"
}

pub(crate) fn inventory(pebble: &Pebble, nginx: &Nginx, server: &str, install: &str) -> String {
    format!(
        "{}[proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"127.0.0.1:{}\"\n\n\
         [server.front]\nkind = \"nginx\"\nconfig = \"nginx/nginx.conf\"\ntls-port = {}\ncheck-address = \"127.0.0.1\"\n\
         reload-timeout = \"5s\"\n{server}\n\n[certificate.website]\nnames = [\"lampholm.example\", \"www.lampholm.example\"]\n\
         install = [{{ server = \"front\"{install} }}]\n",
        pebble.authority_section(),
        nginx.plain_port,
        nginx.tls_port
    )
}

/// Returns the site's configuration with a server block for each of its names.
fn a_block_for_each_name(place: &Place) -> String {
    let both = format!("{} {}", NAMES[0], NAMES[1]);
    NAMES.map(|name| place.read(SITE).replace(&both, name)).concat()
}

pub(crate) fn fetch(place: &Place, words: &[&str]) -> String {
    let output =
        Command::new("curl").args(["-sS", "--max-time", "10"]).args(words).current_dir(place.dir.path()).output();
    let output = output.unwrap();
    String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned()
}

#[test]
fn takes_a_plain_site_all_the_way_and_does_nothing_more_the_second_time() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ", redirect = true"));

    let planned = place.run(&["keep", "--plan"]);
    planned.check(
        0,
        &[
            "get the first certificate (generation 1)",
            "+ ssl_certificate ",
            "return 301",
            "sends SIGHUP to the process whose number is in",
            "nothing was done",
        ],
    );
    place.run(&["keep", "--plan", "--output", "json"]).check(0, &["\"signal\":", "/nginx/pid\""]);
    assert!(!place.path("state").exists(), "a plan changes nothing");

    let said = place.run(&["keep"]);
    said.check(0, &["prepared", "ordered", "proved", "issued", "installed", "confirmed", "generation 1 installed"]);
    handshake(place, nginx.tls_port, NAMES[1], &place.path("visitor-root.pem"))
        .check(0, &["Verify return code: 0 (ok)"]);
    place.check_nothing_published();
    assert_eq!(place.mode("state/certificates/website/0001/key.pem"), 0o600);

    // http leads to https, but the challenge path stays reachable for the next time.
    let plain = format!("http://127.0.0.1:{}", nginx.plain_port);
    let moved = fetch(place, &["-i", "-H", "Host: www.lampholm.example", &format!("{plain}/visit?day=1")]);
    let target = format!("https://www.lampholm.example:{}/visit?day=1", nginx.tls_port);
    assert!(moved.contains(" 301 ") && moved.contains(&target), "no process of before takes visitors: {moved}");
    place.write("www/.well-known/acme-challenge/probe", "still here");
    let probe = fetch(place, &["-H", "Host: lampholm.example", &format!("{plain}/.well-known/acme-challenge/probe")]);
    assert_eq!(probe, "still here");
    std::fs::remove_dir_all(place.path("www/.well-known")).unwrap();

    let before = place.read(SITE);
    place.run(&["keep"]).check(0, &["nothing to do; renewal on"]);
    assert_eq!(place.read(SITE), before);
    assert_eq!(place.read("pebble/log").matches("Added order").count(), 1, "one order in all");
    place.run(&["check"]).check(0, &["good", "generation 1, as installed", "leads to a trusted root"]);
    place.run(&["show", "website"]).check(0, &["in use", "http-folder", "confirmed (generation 1)"]);

    // Somebody turns the file back: the next run puts the certificate in place again, without the authority.
    let undone = before.replace("/state/certificates/website/current/bundle.pem", "/elsewhere.pem");
    place.write(SITE, &undone);
    place.run(&["keep"]).check(0, &["put generation 1 in place", "sites/lampholm.conf"]);
    assert_eq!(place.read(SITE), before);
    assert_eq!(place.read("pebble/log").matches("Added order").count(), 1);
}

#[test]
fn what_is_obtained_side_by_side_for_one_server_costs_it_one_test_and_one_reload() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    place.write(SITE, &a_block_for_each_name(place));
    let main = place.path("nginx/nginx.conf").display().to_string();
    let counted =
        |what: &str, command: &str| format!("[\"sh\", \"-c\", \"echo {what} >> done; nginx {command} -c {main}\"]");
    let commands = format!("test = {}\nreload = {}", counted("tested", "-t"), counted("reloaded", "-s reload"));
    let text = inventory(&pebble, &nginx, &commands, "");
    let certificate =
        |n: usize| format!("[certificate.c{n}]\nnames = [\"{}\"]\ninstall = [{{ server = \"front\" }}]\n", NAMES[n]);
    let website = text.split("[certificate.website]").next().unwrap();
    place.write("eskort.toml", &(website.to_owned() + &certificate(0) + &certificate(1)));
    let said = place.run(&["keep"]);
    said.check(0, &["c0 and c1 are in use", "generation 1 installed and checked live"]);
    assert_eq!(place.read("done"), "tested\nreloaded\n", "{said}");
    place.run(&["keep"]).check(0, &["2 certificates: nothing to do"]);
}

#[test]
fn certificates_on_one_server_are_installed_together_and_alone_when_one_of_them_cannot_be() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let before = a_block_for_each_name(place);
    place.write(SITE, &before);
    let main = place.path("nginx/nginx.conf").display().to_string();
    let write = |reload: &str| {
        let text = inventory(&pebble, &nginx, &format!("reload = [\"sh\", \"-c\", \"{reload}\"]"), "");
        let website = text.split("[certificate.website]").next().unwrap();
        let certificate = |name: &str, of: &str| {
            format!("[certificate.{name}]\nnames = [\"{of}\"]\ninstall = [{{ server = \"front\" }}]\n")
        };
        place.write(
            "eskort.toml",
            &(website.to_owned() + &certificate("one", NAMES[0]) + &certificate("two", NAMES[1])),
        );
    };
    write("exit 3");
    place.run(&["keep"]).check(1, &["could not be reloaded"]);
    assert_eq!(place.read(SITE), before);
    let reload = format!("echo reloaded >> reloads; nginx -s reload -c {main}");
    write(&reload);
    let said = place.run(&["keep"]);
    let done = "generation 1 installed and checked live";
    said.check(
        0,
        &["one: put generation 1 in place", "two: put generation 1 in place", "one and two are in use", done],
    );
    assert_eq!((place.read("reloads").as_str(), said.out.matches(done).count()), ("reloaded\n", 2), "{said}");
    let installed = place.read(SITE);
    assert_eq!(installed.matches("ssl_certificate_key").count(), 2, "{installed}");
    for name in [NAMES[0], NAMES[1]] {
        handshake(place, nginx.tls_port, name, &place.path("visitor-root.pem"))
            .check(0, &["Verify return code: 0 (ok)"]);
    }

    // Killed between writing and reloading: the next run puts back what both had changed, and installs them again.
    place.write(SITE, &before);
    let killed = place.run_with("ESKORT_CRASH_AT", "written", &["keep"]);
    assert!(killed.code.is_none() && place.read(SITE) == installed, "{killed}");
    place.run(&["keep"]).check(0, &["one and two are in use", done]);
    assert_eq!(place.read(SITE), installed);
    // Killed once all is settled, nothing is put back of either.
    place.write(SITE, &before);
    let killed = place.run_with("ESKORT_CRASH_AT", "settled", &["keep"]);
    assert!(killed.code.is_none(), "{killed}");
    place.run(&["keep"]).check(0, &["2 certificates: nothing to do"]);
    assert_eq!(place.read(SITE), installed);

    // One of them cannot be installed: the other is.
    let (plain, other) = (before.split("# The").nth(1).unwrap(), installed.split("# The").nth(2).unwrap());
    let names = format!("server_name {}", NAMES[1]);
    let more = other.replace("/two/", "/one/").replace(&names, &format!("{names} shop.lampholm.example"));
    place.write(SITE, &format!("# The{plain}# The{more}"));
    place.run(&["keep"]).check(
        1,
        &[
            "2 certificates could not be installed together; each is tried alone",
            "the site would lose TLS for shop.lampholm.example",
            done,
        ],
    );
    assert!(place.read(SITE).contains("/one/current/bundle.pem"));
    assert_eq!(place.read("pebble/log").matches("Added order").count(), 2, "one order for each");
}

#[test]
fn everything_is_put_back_when_nginx_refuses_or_does_not_take_the_change() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let before = place.read(SITE);
    let conf = place.path("nginx/nginx.conf");
    let failures = [
        (
            "test = [\"sh\", \"-c\", \"grep -q current nginx/sites/*.conf && echo lamp is out >&2 && exit 3; exit 0\"]"
                .to_owned(),
            "refuses the changed configuration",
            "lamp is out",
        ),
        ("reload = [\"false\"]".to_owned(), "could not be reloaded", "everything was put back"),
        ("reload = [\"no-such-program\"]".to_owned(), "cannot run `no-such-program`", "everything was put back"),
        // A reload that does nothing: the old configuration goes on being served.
        (
            "reload = [\"true\"]\nreload-timeout = \"1s\"".to_owned(),
            "does not serve the new certificate after 1 second",
            "put back",
        ),
    ];
    for (server, cause, hint) in &failures {
        let text = inventory(&pebble, &nginx, server, "");
        let text = if server.contains("reload-timeout") { text.replace("reload-timeout = \"5s\"\n", "") } else { text };
        place.write("eskort.toml", &text);
        place.run(&["keep", "--only", "website"]).check(1, &[cause, hint]);
        assert_eq!(place.read(SITE), before, "{server}");
        assert!(!place.path("state/certificates/website/current").exists(), "{server}");
        place.check_nothing_published();
    }
    // A configuration that is broken to begin with.
    let main = place.read("nginx/nginx.conf");
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ""));
    place.write("nginx/nginx.conf", &main.replace("events {}", "events {} lamp on;"));
    place
        .run(&["keep", "--only", "website"])
        .check(1, &["refuses its configuration as it was before any change", "unknown directive"]);
    assert_eq!(place.read(SITE), before);
    std::fs::write(&conf, &main).unwrap();

    // Mended, it goes on from where it stands: there was one order all the time.
    place.run(&["keep", "--only", "website"]).check(0, &["put generation 1 in place", "generation 1 installed"]);
    assert_eq!(place.read("pebble/log").matches("Added order").count(), 1);
    handshake(place, nginx.tls_port, NAMES[0], &place.path("visitor-root.pem"))
        .check(0, &["Verify return code: 0 (ok)"]);
}

#[test]
fn killed_in_the_middle_of_an_installation_a_later_failure_still_goes_back_to_the_state_before() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let before = place.read(SITE);
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ", redirect = true"));
    for point in ["backed-up", "switched", "written", "reloaded"] {
        let killed = place.run_with("ESKORT_CRASH_AT", point, &["keep", "--only", "website"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
    }
    assert_ne!(place.read(SITE), before, "half of the change is there");
    place.write("eskort.toml", &inventory(&pebble, &nginx, "reload = [\"false\"]", ", redirect = true"));
    place.run(&["keep", "--only", "website"]).check(1, &["could not be reloaded"]);
    assert_eq!(place.read(SITE), before);
    assert!(!place.path("state/certificates/website/current").exists());
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ""));
    place.run(&["keep", "--only", "website"]).check(0, &["generation 1 installed"]);
}

#[test]
fn a_machine_that_does_not_reach_itself_by_name_says_so_and_renews_all_the_same() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let text = inventory(&pebble, &nginx, "", "");
    // As at home behind a router: the names lead nowhere from here.
    place.write("eskort.toml", &text.replace("check-address = \"127.0.0.1\"\n", ""));
    let said = place.run(&["keep"]);
    said.check(4, &["installed, but not confirmed from here", "resolves to no address", "`check-address`"]);
    handshake(place, nginx.tls_port, NAMES[1], &place.path("visitor-root.pem")).check(0, &["Verify return code: 0"]);
    place.run(&["keep"]).check(0, &["nothing to do"]);
    place.run(&["list"]).check(0, &["good, not confirmed from here"]);
    place.run(&["show", "website"]).check(0, &["front", "installed", "resolves to no address"]);
    // It is no journey that stays open: when its time comes, it is renewed.
    let later = (4 * 365 * 86_400).to_string();
    place.run_with("ESKORT_CLOCK_OFFSET", &later, &["keep", "--plan"]).check(0, &["renewal is due", "generation 2"]);
}

#[test]
fn of_two_certificates_on_one_nginx_the_failure_of_one_leaves_the_lines_of_the_other() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let block = |name: &str| {
        format!(
            "server {{\n    listen 127.0.0.1:{};\n    server_name {name};\n    root {};\n}}\n",
            nginx.plain_port,
            place.path("www").display()
        )
    };
    place.write(SITE, &NAMES.map(block).concat());
    let reload = |command: &str| {
        let text = inventory(&pebble, &nginx, command, "")
            .replace("names = [\"lampholm.example\", \"www.lampholm.example\"]", "names = [\"lampholm.example\"]");
        let second = "\n[certificate.zone]\nnames = [\"www.lampholm.example\"]\ninstall = [{ server = \"front\" }]\n";
        place.write("eskort.toml", &(text + second));
    };
    reload("");
    // nginx itself is told, and reads its files anew.
    std::process::Command::new("/usr/sbin/nginx")
        .args(["-s", "reload", "-c", place.path("nginx/nginx.conf").to_str().unwrap()])
        .stderr(Stdio::null())
        .status()
        .unwrap();
    let killed = place.run_with("ESKORT_CRASH_AT", "reloaded", &["keep", "--only", "website"]);
    assert_eq!(killed.code, None, "{killed}");
    place.run(&["keep", "--only", "zone"]).check(0, &["generation 1 installed and checked live"]);
    let of_zone = place.read(SITE);
    assert_eq!(of_zone.matches("ssl_certificate ").count(), 1, "what was killed half-way is undone first: {of_zone}");
    reload("reload = [\"false\"]");
    place.run(&["keep", "--only", "website"]).check(1, &["could not be reloaded", "everything was put back"]);
    assert_eq!(place.read(SITE), of_zone, "the lines of the other certificate are still there");
    // What a person wrote after a kill is theirs.
    reload("");
    place.run_with("ESKORT_CRASH_AT", "written", &["keep", "--only", "website"]);
    place.write(SITE, &format!("# mended by hand\n{of_zone}"));
    reload("reload = [\"false\"]");
    place
        .run(&["keep", "--only", "website"])
        .check(1, &["was changed by somebody else, and stays as it is", "+# mended by hand"]);
    assert!(place.read(SITE).starts_with("# mended by hand\n"));
    reload("");
    place.run(&["keep"]).check(0, &["generation 1 installed and checked live"]);
    handshake(place, nginx.tls_port, NAMES[1], &place.path("visitor-root.pem")).check(0, &["Verify return code: 0"]);
}

/// Passes connections on to Unix sockets, by turns.
fn relay_to(sockets: Vec<std::path::PathBuf>) -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for (mut client, socket) in listener.incoming().filter_map(Result::ok).zip(sockets.iter().cycle()) {
            let Ok(mut behind) = std::os::unix::net::UnixStream::connect(socket) else { continue };
            let (mut back_from, mut back_to) = (behind.try_clone().unwrap(), client.try_clone().unwrap());
            std::thread::spawn(move || {
                let _ = std::io::copy(&mut back_from, &mut back_to);
                let _ = back_to.shutdown(std::net::Shutdown::Both);
            });
            std::thread::spawn(move || {
                let _ = std::io::copy(&mut client, &mut behind);
                let _ = behind.shutdown(std::net::Shutdown::Both);
            });
        }
    });
    port
}

#[test]
fn a_site_on_a_unix_socket_is_looked_at_where_the_inventory_says() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let (socket, lagging) = (place.path("nginx/socket"), place.path("nginx/lagging"));
    let site = place.read(SITE).replace("server_name", "server_name _;\n    server_name");
    // The certificate of before is anybody's.
    let old = place.openssl(&[
        "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "old.key", "-out", "old.pem", "-subj", "/CN=old",
    ]);
    assert_eq!(old.code, Some(0), "{old}");
    let dir = place.dir.path().display();
    let listen = |socket: &Path, name: &str| {
        format!(
            "listen unix:{} ssl;\n    ssl_certificate {dir}/old.pem;\n    ssl_certificate_key {dir}/old.key;\n    server_name {name};",
            socket.display()
        )
    };
    let other = format!("server {{\n    {}\n}}\n", listen(&lagging, "other.lampholm.example"));
    place.write(SITE, &(site.replace("server_name _;", &listen(&socket, "_")) + &other));
    let reloaded = Command::new("/usr/sbin/nginx")
        .args(["-s", "reload", "-c"])
        .arg(place.path("nginx/nginx.conf"))
        .stderr(Stdio::null())
        .status();
    assert!(reloaded.unwrap().success());
    let text = inventory(&pebble, &nginx, "", "");
    place.write("eskort.toml", &text.replace("check-address = \"127.0.0.1\"\n", ""));
    place
        .run(&["keep", "--plan"])
        .check(0, &["current/bundle.pem", "visitors come through a Unix socket", "`check-address` of server `front`"]);
    let through = |sockets: Vec<_>| {
        let relay = format!("check-address = \"127.0.0.1:{}\"\n", relay_to(sockets));
        place.write("eskort.toml", &text.replace("check-address = \"127.0.0.1\"\n", &relay));
    };
    // After a reload the processes of before take connections for a while, beside the new ones.
    through(vec![socket.clone(), lagging, socket.clone()]);
    place.run(&["keep"]).check(0, &["generation 1 installed and checked live"]);
    through(vec![socket]);
    assert!(!place.read(SITE).contains("listen 443"), "no other listener was added");
    place.run(&["check"]).check(0, &["generation 1, as installed"]);
}

#[test]
fn a_site_on_another_machine_gets_certificate_and_key_over_ssh_and_everything_back_when_it_fails() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let sshd = Sshd::start(place, place.dir.path(), "");
    let dir = place.dir.path().display().to_string();
    // As Debian lays it out: the site is behind a link.
    let available = place.path("nginx/available.conf");
    std::fs::rename(place.path(SITE), &available).unwrap();
    std::os::unix::fs::symlink(&available, place.path(SITE)).unwrap();
    let before = place.read(SITE);
    let write = |more: &str, host: &str| {
        let server = format!("host = \"node\"\ncertificates-folder = \"{dir}/far\"\n{more}");
        let text = inventory(&pebble, &nginx, &server, "").replace("\"nginx/", &format!("\"{dir}/nginx/"));
        place.write("eskort.toml", &(text + "\n" + host));
    };
    let key = "far/website/key.pem";

    // Its reload fails: the files are as they were, and nothing of ours is left.
    write("reload = [\"sh\", \"-c\", \"echo the lamp is out >&2; exit 3\"]", &sshd.section("node"));
    place.run(&["keep"]).check(
        1,
        &[
            "server `front` could not be reloaded",
            "host `node`",
            "the lamp is out",
            "everything was put back as it was",
        ],
    );
    assert_eq!(place.read(SITE), before);
    assert!(!place.path(key).exists() && !place.path("far/website/bundle.pem").exists());

    write("", &sshd.section("node"));
    place.run(&["keep"]).check(
        0,
        &["put generation 1 in place", "far/website/key.pem on host `node` (key)", "generation 1 installed and"],
    );
    handshake(place, nginx.tls_port, NAMES[1], &place.path("visitor-root.pem"))
        .check(0, &["Verify return code: 0 (ok)"]);
    assert_eq!((place.mode(key), place.mode("far/website/bundle.pem")), (0o600, 0o644));
    assert!(
        place.read(SITE).contains(&format!("ssl_certificate_key {dir}/far/website/key.pem;")),
        "{}",
        place.read(SITE)
    );
    assert_eq!(std::fs::read_link(place.path(SITE)).unwrap(), available, "the link stays");
    let files = || std::fs::read_dir(place.path("far/website")).unwrap().count();
    assert_eq!(files(), 2, "nothing lies beside them");
    place.run(&["keep"]).check(0, &["nothing to do; renewal on"]);
    place.run(&["check"]).check(0, &["generation 1, as installed"]);
    place.run(&["show", "website"]).check(0, &["front on node"]);
    assert_eq!(place.read("pebble/log").matches("Added order").count(), 1, "one order in all");

    // Killed after the files of the next generation were written: the next run puts them back, and goes on.
    let issued = place.read("far/website/bundle.pem");
    let text = place.read("eskort.toml").replace("[certificate.website]", "[certificate.website]\nkey = \"p384\"");
    place.write("eskort.toml", &text);
    let killed = place.run_with("ESKORT_CRASH_AT", "written", &["keep"]);
    assert!(killed.code.is_none() && place.read("far/website/bundle.pem") != issued, "{killed}");
    let written = "far/website/key.pem on host `node` (key)";
    place.run(&["keep"]).check(0, &["put generation 2 in place", written, "generation 2 installed and checked live"]);
    assert_eq!((place.mode(key), files()), (0o600, 2));

    // Somebody lets others read the key: it is put right. A machine that is gone is named, and nothing is lost.
    std::fs::set_permissions(place.path(key), std::fs::Permissions::from_mode(0o644)).unwrap();
    place.run(&["keep"]).check(0, &["put generation 2 in place", "generation 2 installed"]);
    assert_eq!(place.mode(key), 0o600);
    let node = sshd.section("node");
    place.write("eskort.toml", &text.replace(&node, &node.replace("port = ", "port = 9 # ")));
    place
        .run(&["keep"])
        .check(1, &["server `front`: cannot reach host `node`", "check `address` and `port` of the host"]);
}

#[test]
fn server_blocks_of_stream_and_mail_are_led_to_the_certificate_for_their_names() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    let (stream, imap, other) = (free_port(), free_port(), free_port());
    let dir = place.path("nginx").display().to_string();
    for (file, name) in [("old", NAMES[1]), ("other", "shop.lampholm.example")] {
        let names = format!("subjectAltName=DNS:{name}");
        let words =
            ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN=old"];
        let files = ["-keyout", &format!("nginx/{file}.key"), "-out", &format!("nginx/{file}.pem"), "-addext", &names];
        place.openssl(&[&words[..], &files].concat()).check(0, &[]);
    }
    let pair = |file: &str| format!("ssl_certificate {dir}/{file}.pem; ssl_certificate_key {dir}/{file}.key;");
    let modules = "load_module /usr/lib/nginx/modules/ngx_stream_module.so;\nload_module /usr/lib/nginx/modules/ngx_mail_module.so;\n";
    let more = format!(
        "stream {{\n    server {{ listen 127.0.0.1:{stream} ssl; {0} return 'lamps'; }}\n    \
         server {{ listen 127.0.0.1:{other} ssl; {1} return 'shop'; }}\n}}\n\
         mail {{\n    server_name {2};\n    auth_http 127.0.0.1:9;\n    {0}\n    \
         server {{ listen 127.0.0.1:{imap}; protocol imap; starttls on; }}\n}}\n",
        pair("old"),
        pair("other"),
        NAMES[1]
    );
    let main = format!("{modules}{}{more}", place.read("nginx/nginx.conf"));
    place.write("nginx/nginx.conf", &main);
    // Modules are loaded by a new process only.
    drop(nginx);
    let nginx = Nginx::start_with(place, pebble.http_port, Some(&main));
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ""));
    place.run(&["keep"]).check(0, &["installed and checked live"]);
    let root = place.path("visitor-root.pem");
    handshake(place, stream, NAMES[1], &root).check(0, &["Verify return code: 0 (ok)"]);
    handshake(place, nginx.tls_port, NAMES[0], &root).check(0, &["Verify return code: 0 (ok)"]);
    let connect = format!("127.0.0.1:{imap}");
    let verify = ["-verify_return_error", "-CAfile", "visitor-root.pem", "-verify_hostname", NAMES[1]];
    let words = ["s_client", "-starttls", "imap", "-connect", &connect, "-servername", NAMES[1]];
    place.openssl(&[&words[..], &verify].concat()).check(0, &["Verify return code: 0 (ok)"]);
    let changed = place.read("nginx/nginx.conf");
    assert!(changed.contains(&pair("other")) && !changed.contains(&pair("old")), "{changed}");
    place.run(&["keep"]).check(0, &["nothing to do"]);
}
