//! Endpoints looked at as closely as can be: what they agree to, what their pages load, how good that is, and what would mend it.

use crate::looks::certificates;
use crate::nginx::{Nginx, SITE, inventory};
use crate::pebble::Pebble;
use crate::world::*;
use serde_json::Value;
use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::process::{Command, Stdio};

/// Returns a report about one endpoint, and the words of what was found that is not as it should be.
pub(crate) fn look(place: &Place, words: &[&str]) -> (Value, BTreeSet<String>) {
    let said = place.run(&[&["check"], words, &["--output", "json"]].concat());
    let report: Value = serde_json::from_str(&said.out).unwrap_or_else(|_| panic!("{said}"));
    let endpoint = report["endpoints"][0].clone();
    let findings = endpoint["findings"].as_array().unwrap().iter().filter(|finding| finding["severity"] != "good");
    let codes = findings.map(|finding| finding["code"].as_str().unwrap().to_owned()).collect();
    (endpoint, codes)
}

/// OpenSSL's server with some words of its own.
fn serve(place: &Place, words: &str) -> (u16, Process) {
    let port = free_port();
    (port, openssl_server(place, SocketAddr::from(([0, 0, 0, 0], port)), &format!("-www {words}")))
}

const SOUND: &str = "-cert leaf.pem -key leaf.key -cert_chain middle.pem";

#[test]
fn every_fault_of_an_endpoint_costs_points_and_what_is_sound_costs_none() {
    let place = Place::new();
    certificates(&place);
    let usual = ["no-hsts", "no-post-quantum"];
    for (more, wanted) in [
        ("", &["older-ciphers"][..]),
        ("-cipher ECDHE+CHACHA20:ECDHE+AESGCM", &[]),
        ("-no_tls1_3 -cipher ECDHE+AESGCM", &["no-tls13"]),
        ("-no_tls1_2", &[]),
        ("-cipher ECDHE+AESGCM", &[]),
        ("-cipher ECDHE+AES:@SECLEVEL=0", &["tls10", "tls11", "older-ciphers"]),
        ("-cipher ECDHE+AES:@SECLEVEL=0 -no_tls1", &["tls11", "older-ciphers"]),
        ("-cipher ECDHE+AES:@SECLEVEL=0 -no_tls1 -no_tls1_1", &["older-ciphers"]),
        ("-cipher ECDHE+AESGCM:aNULL:@SECLEVEL=0 -no_tls1 -no_tls1_1 -serverpref", &["broken-ciphers", "small-prime"]),
        ("-cipher ECDHE+AESGCM:eNULL:@SECLEVEL=0 -no_tls1 -no_tls1_1 -serverpref", &["broken-ciphers"]),
        ("-cipher ECDHE+AESGCM:eNULL:@SECLEVEL=0 -no_tls1 -no_tls1_1", &["broken-ciphers", "visitor-chooses"]),
        (
            "-legacy_renegotiation -curves secp192r1:P-256 -cipher ECDHE+AESGCM:@SECLEVEL=0 -no_tls1 -no_tls1_1",
            &["weak-curves"],
        ),
        ("-curves P-256:X25519 -cipher ECDHE+AESGCM", &[]),
        ("-cert_chain root.pem -no_tls1_2", &["no-intermediate", "root-sent"]),
    ] {
        let (port, _server) = serve(&place, &format!("{SOUND} {more}"));
        let at = format!("127.0.0.1:{port}");
        let (endpoint, codes) = look(&place, &["lampholm.example", "--address", &at, "--roots", "root.pem"]);
        let wanted: BTreeSet<String> = wanted.iter().chain(&usual).map(|code| (*code).to_owned()).collect();
        assert_eq!(codes, wanted, "{more}: {:#}", endpoint["inspection"]);
        assert_eq!(endpoint["inspection"]["unanswered"], 0, "{more}");
    }
    // With keys of both kinds, and another certificate for who asks for no name.
    let rsa =
        "-newkey rsa:2048 -nodes -subj /CN=other.lampholm.example -addext subjectAltName=DNS:other.lampholm.example";
    let line = format!("req -x509 {rsa} -keyout other.key -out other.pem -days 9");
    place.openssl(&line.split(' ').collect::<Vec<_>>()).check(0, &[]);
    let two = "-cert other.pem -key other.key -servername lampholm.example -cert2 leaf.pem -key2 leaf.key";
    let (port, _server) = serve(&place, two);
    let at = format!("127.0.0.1:{port}");
    let (endpoint, _) = look(&place, &["lampholm.example", "--address", &at, "--roots", "root.pem"]);
    for other in ["without_name", "unknown_name"] {
        assert_eq!(endpoint["inspection"][other]["title"], "other.lampholm.example", "{other}");
    }
    let (port, _server) = serve(&place, &format!("{SOUND} -dcert other.pem -dkey other.key -cipher ECDHE+AESGCM"));
    let at = format!("127.0.0.1:{port}");
    let (endpoint, _) = look(&place, &["lampholm.example", "--address", &at, "--roots", "root.pem"]);
    assert_eq!(endpoint["inspection"]["keys"].as_array().unwrap().len(), 2, "{:#}", endpoint["inspection"]);
    let words = ["check", "lampholm.example", "--address", &at, "--roots", "root.pem", "--fail-under"];
    place.run(&[&words[..], &["99"]].concat()).check(1, &["90 of 100, strong", "no-post-quantum  -2"]);
    place.run(&[&words[..], &["90"]].concat()).check(0, &["90 of 100, strong"]);
}

#[test]
fn protocols_and_ciphers_are_those_that_openssl_agrees_on() {
    let place = Place::new();
    certificates(&place);
    let rsa = "req -x509 -newkey rsa:2048 -nodes -subj /CN=lampholm.example -keyout rsa.key -out rsa.pem -days 9";
    place.openssl(&rsa.split(' ').collect::<Vec<_>>()).check(0, &[]);
    let listed = place.openssl(&["ciphers", "-stdname", "-V", "ALL:COMPLEMENTOFALL:@SECLEVEL=0"]);
    let mut settings: Vec<(String, String, &str)> = Vec::new();
    for line in listed.out.lines() {
        let words: Vec<&str> = line.split_whitespace().collect();
        let [_, _, standard, _, short, since, ..] = words[..] else { continue };
        let is_odd = ["PSK", "SRP", "DSS"].iter().any(|odd| standard.contains(odd));
        if is_odd || since == "TLSv1.3" {
            continue;
        }
        settings.push((short.to_owned(), standard.to_owned(), "-tls1_2"));
        // What is older is spoken in older versions, too.
        if since != "TLSv1.2" {
            settings.push((short.to_owned(), standard.to_owned(), "-tls1"));
        }
    }
    assert!(settings.len() >= 100, "{}", settings.len());
    for (short, standard, version) in settings {
        let (port, _server) = serve(
            &place,
            &format!("-cert rsa.pem -key rsa.key -dcert leaf.pem -dkey leaf.key {version} -cipher {short}:@SECLEVEL=0"),
        );
        let at = format!("127.0.0.1:{port}");
        let openssl = Command::new("openssl")
            .args(["s_client", "-connect", &at, "-cipher", "ALL:COMPLEMENTOFALL:@SECLEVEL=0"])
            .stdin(Stdio::null())
            .output();
        let agreed = String::from_utf8_lossy(&openssl.unwrap().stdout).into_owned();
        let agreed =
            agreed.lines().find_map(|line| line.strip_prefix("New, ")?.split(" is ").nth(1).map(str::to_owned));
        let (endpoint, _) = look(&place, &["lampholm.example", "--address", &at, "--roots", "root.pem"]);
        let versions = endpoint["inspection"]["versions"].as_array().cloned().unwrap_or_default();
        if agreed.as_deref() == Some("(NONE)") || agreed.is_none() {
            assert!(versions.is_empty(), "{short} {version}: openssl agrees on nothing\n{endpoint:#}");
            continue;
        }
        assert_eq!(agreed.as_deref(), Some(short.as_str()));
        let wanted = if version == "-tls1" { "TLS 1.0" } else { "TLS 1.2" };
        let found: Vec<(&str, &Value)> =
            versions.iter().map(|one| (one["version"].as_str().unwrap(), &one["suites"])).collect();
        assert_eq!(found, [(wanted, &serde_json::json!([standard]))], "{short} {version}");
    }
}

#[test]
fn a_site_goes_from_a_poor_rating_to_a_good_one() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let place = &pebble.place;
    let nginx = Nginx::start(place, pebble.http_port);
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ""));
    place.run(&["keep"]).check(0, &["confirmed"]);
    // As it may have grown: old versions and ciphers, a cookie, a page with pictures and scripts over http.
    let page = "<script src=http://lampholm.example/lamp.js></script><img src=http://lampholm.example/lamp.png>\n\
                <form action=http://lampholm.example/order></form><a href=/tar.html>tar</a>";
    place.write("www/index.html", page);
    place
        .write("www/tar.html", "<iframe src=http://tides.example/></iframe><a href=https://lampholm.example/>home</a>");
    let tls = place.read(SITE);
    let old = "server_name lampholm.example www.lampholm.example;\n    ssl_protocols TLSv1 TLSv1.1 TLSv1.2;\n    \
               ssl_ciphers ALL:!aNULL:@SECLEVEL=0;\n    add_header Set-Cookie \"visit=1; Path=/\";";
    place.write(SITE, &tls.replace("server_name lampholm.example www.lampholm.example;", old));
    Nginx::reload(place);
    let plain = format!("127.0.0.1:{}", nginx.plain_port);
    let words = ["website", "--plain-address", &plain];
    until_it_stays("old versions are spoken", || look(place, &words).1.contains("tls10"));
    let (endpoint, codes) = look(place, &words);
    let wanted = [
        "blocked-content",
        "form-over-http",
        "insecure-cookie",
        "no-hsts",
        "no-post-quantum",
        "no-redirect",
        "no-tls13",
        "older-ciphers",
        "tls10",
        "tls11",
        "upgradable-content",
    ];
    assert_eq!(codes.iter().map(String::as_str).collect::<Vec<_>>(), wanted, "{endpoint:#}");
    assert_eq!(endpoint["rating"]["word"], "unsafe", "{:#}", endpoint["rating"]);
    assert_eq!(endpoint["visit"]["mixed"].as_array().unwrap().len(), 3);
    let more = look(place, &[&words[..], &["--pages", "9"]].concat()).0;
    assert_eq!(
        (more["visit"]["pages"].as_u64(), more["visit"]["mixed"].as_array().unwrap().len()),
        (Some(2), 4),
        "{more:#}"
    );

    // What would mend it is shown, and does so once it is in the inventory.
    let advised = place.run(&[&["check"], &words[..], &["--advise"]].concat());
    let keys = "{ server = \"front\", redirect = true, hsts = \"ramp\", tls = \"usual\" }";
    advised.check(
        1,
        &[keys, "-    ssl_protocols TLSv1 TLSv1.1 TLSv1.2;", "+    ssl_protocols TLSv1.2 TLSv1.3;", "max-age=300"],
    );
    assert_eq!(place.read(SITE).matches("ssl_protocols").count(), 1, "nothing was done");
    let json = place.run(&[&["check"], &words[..], &["--advise", "--output", "json"]].concat());
    let json: Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(json["advised"][0]["keys"][0], "redirect = true", "{json:#}");
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ", redirect = true, hsts = \"ramp\", tls = \"usual\""));
    place.run(&["install", "website"]).check(0, &["in use"]);
    place.write(SITE, &place.read(SITE).replace("Path=/\"", "Path=/; Secure\""));
    Nginx::reload(place);
    place.write("www/index.html", &page.replace("http://", "https://"));
    until_it_stays("nothing old is spoken", || {
        !look(place, &words).1.contains("tls10") && !look(place, &words).1.contains("insecure-cookie")
    });
    let (endpoint, codes) = look(place, &words);
    assert_eq!(codes.iter().map(String::as_str).collect::<Vec<_>>(), ["no-post-quantum", "short-hsts"], "{endpoint:#}");
    assert_eq!(
        (endpoint["rating"]["word"].as_str(), endpoint["rating"]["points"].as_u64()),
        (Some("strong"), Some(94))
    );
    assert_eq!(endpoint["visit"]["plain"]["keeps_path"], true);
    // The page that shows it needs nothing from outside, and is there whole.
    place
        .run(&["report"])
        .check(0, &["1 certificate, and all is well.", "94 strong", "What could be better:", "(HSTS)"]);
    place.run(&["report", "--page", "www/state"]).check(0, &[]);
    let page = place.read("www/state/index.html");
    assert_eq!(
        (place.mode("www/state/index.html"), std::fs::read_dir(place.path("www/state")).unwrap().count()),
        (0o644, 1)
    );
    for wanted in ["<svg", "94 strong", "website", "no post-quantum group", "class=\"renewal\""] {
        assert!(page.contains(wanted), "{wanted}\n{page}");
    }
    assert!(!page.contains("<script") && !page.contains("href="), "{page}");
    let without = place.run(&["report", "--without-looks", "--page", "-"]);
    assert!(without.out.contains("</html>") && !without.out.contains("94 strong"), "{without}");
    place.run(&["report", "--page", "/proc/no"]).check(1, &["the page was not written", "may write to"]);
    place.run(&["check", "website", "--advise"]).check(0, &["No change that Eskort makes"]);
}

#[test]
fn many_endpoints_have_a_line_each_the_worst_first() {
    let place = Place::new();
    certificates(&place);
    let mut list = String::from("# the harbour's\n");
    let servers: Vec<(u16, Process)> =
        (0..9).map(|n| serve(&place, &format!("{SOUND} {}", if n == 5 { "-no_tls1_3" } else { "" }))).collect();
    for (n, (port, _)) in servers.iter().enumerate() {
        list += &format!("127.0.0.{}:{port}\n", n + 1);
    }
    list += "127.0.0.1:9\n";
    place.write("list", &list);
    place.write("eskort.toml", "");
    let said = place.run(&["check", "--from", "list", "--roots", "root.pem"]);
    said.check(1, &["no connection", "10 endpoints: 10 bad", "`--details`"]);
    let first = said.out.lines().nth(1).unwrap_or_default();
    assert!(said.out.lines().next().unwrap().starts_with("ENDPOINT") && !first.is_empty(), "{said}");
    place.write("list", &list.replace("127.0.0.1:9\n", ""));
    place.run(&["check", "--from", "list", "--roots", "root.pem", "--details"]).check(1, &["other-name       -100"]);
    place.run(&["check", "--from", "none"]).check(2, &["cannot read none", "on each line"]);
}

#[test]
fn what_an_authority_has_revoked_is_unsafe_whether_it_has_a_list_or_answers() {
    type Says = fn(&mut eskort_practice::AuthorityOptions);
    for says in [(|options| options.lists = true) as Says, |options| options.responds = true] {
        let world = World::with(says);
        world.place.run(&["keep"]).check(0, &["installed and checked live"]);
        let good = world.place.run(&["check", "website", "--online"]);
        good.check(0, &["its authority says that it is not revoked", "92 of 100, strong"]);
        world.place.run(&["revoke", "website", "--insist", "--yes"]).check(0, &["is revoked"]);
        let bad = world.place.run(&["check", "website", "--online"]);
        bad.check(1, &["its authority has revoked it on", "0 of 100, unsafe"]);
        // Of a stranger's certificate nobody on this machine is asked.
        let at = world.site.tls_address().to_string();
        let stranger = world.place.run(&["check", "shop.lampholm.example", "--address", &at, "--online"]);
        stranger.check(1, &["could not be found out", "is not public"]);
    }
}

#[test]
fn all_addresses_of_a_name_are_looked_at_and_have_to_show_the_same() {
    let place = Place::new();
    certificates(&place);
    place.write("eskort.toml", "state = \"state\"\n");
    let other = "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj /CN=old -addext subjectAltName=DNS:twin.lampholm.example -keyout old.key -out old.pem";
    place.openssl(&other.split(' ').collect::<Vec<_>>()).check(0, &[]);
    let port = free_port();
    let serve_at = |ip: &str, words: &str| {
        openssl_server(&place, format!("{ip}:{port}").parse().unwrap(), &format!("-www {words}"))
    };
    let _first = serve_at("127.0.0.2", SOUND);
    let _second = serve_at("127.0.0.3", SOUND);
    // Where names lead is said by a file of the test's own.
    let check = |hosts: &str| {
        place.write("hosts", hosts);
        let script = format!(
            "mount --bind hosts /etc/hosts && exec {} check twin.lampholm.example:{port} --roots root.pem",
            env!("CARGO_BIN_EXE_eskort")
        );
        let mut unshare = Command::new("unshare");
        unshare.args(["-rm", "sh", "-c", &script]).current_dir(place.dir.path());
        Said::from(unshare.output().expect("Debian's package util-linux is installed"))
    };
    let two = "127.0.0.2 twin.lampholm.example\n127.0.0.3 twin.lampholm.example\n";
    check(two).check(1, &["2 addresses of the name show the same"]);
    let _old = serve_at("127.0.0.4", "-cert old.pem -key old.key");
    let said = check(&format!("{two}127.0.0.4 twin.lampholm.example\n127.0.0.5 twin.lampholm.example\n"));
    said.check(
        1,
        &[
            "127.0.0.4 shows another certificate: `old`",
            "another address of the name does not answer",
            "addresses-differ",
        ],
    );
}

#[test]
fn a_look_waits_until_the_newest_generation_is_everywhere() {
    let world = World::new();
    world.place.run(&["keep"]).check(0, &["generation 1 installed"]);
    let old = ["pem", "key"].map(|kind| world.place.read(&format!("tls/site.{kind}")));
    world.place.run(&["renew", "website"]).check(0, &["generation 2 installed"]);
    let new = ["pem", "key"].map(|kind| world.place.read(&format!("tls/site.{kind}")));
    let show = |texts: &[String; 2]| {
        for (kind, text) in ["pem", "key"].iter().zip(texts) {
            std::fs::write(world.place.path(&format!("tls/site.{kind}")), text).unwrap();
        }
    };
    show(&old);
    until_it_stays("it shows the old one", || {
        world.place.run(&["check", "website", "--short"]).out.contains("still generation 1, not 2")
    });
    std::thread::scope(|scope| {
        let waiting = scope.spawn(|| world.place.run(&["check", "website", "--wait", "1"]));
        std::thread::sleep(std::time::Duration::from_millis(1500));
        assert!(!waiting.is_finished());
        show(&new);
        waiting.join().unwrap().check(0, &["generation 2, as installed"]);
    });
}

/// A page that wants everything over http that a page can want.
const GREEDY: &str = r#"<!doctype html><title>x</title>
<script src="http://a.tides.example/1.js"></script><link rel=stylesheet href="http://a.tides.example/2.css">
<link rel="shortcut icon" href="http://a.tides.example/3.ico"><link rel=canonical href="http://a.tides.example/never">
<img src="http://a.tides.example/4.png"><img src="x.png" srcset="http://a.tides.example/5.png 1x">
<picture><source srcset="http://a.tides.example/6.png"><img src="y.png"></picture>
<iframe src="http://a.tides.example/7.html"></iframe><object data="http://a.tides.example/8.pdf"></object><embed src="http://a.tides.example/9.pdf">
<video src="http://a.tides.example/10.mp4" poster="http://a.tides.example/11.png" preload=auto></video>
<audio src="http://a.tides.example/12.mp3" preload=auto></audio><p style="background: url(http://a.tides.example/13.png)">x</p>
<style>@import url(http://a.tides.example/14.css); h1 { background: url('http://a.tides.example/15.png') }</style><h1>x</h1>
<form action="http://a.tides.example/16"><input type=image src="http://a.tides.example/17.png"></form>
<link rel=preload as=script href="http://a.tides.example/18.js"><video><source src="http://a.tides.example/19.mp4"></video>
<table background="http://a.tides.example/20.png"><tr><td>x</table><svg><image href="http://a.tides.example/21.png"/></svg>
<a href="http://a.tides.example/never">x</a><!-- <img src="http://a.tides.example/never"> --><script>"<img src=http://a.tides.example/never>"</script>
"#;

#[test]
fn what_a_page_wants_over_http_is_what_a_browser_says() {
    let world = World::new();
    world.place.write("www/index.html", GREEDY);
    world.place.run(&["keep"]).check(0, &["installed and checked live"]);
    let (endpoint, _) = look(&world.place, &["website"]);
    let ours: BTreeSet<(String, String)> = endpoint["visit"]["mixed"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["kind"].as_str().unwrap().to_owned(), one["url"].as_str().unwrap().to_owned()))
        .collect();
    let url = format!("https://{}:{}/", NAMES[0], world.site.tls_address().port());
    let profile = format!("--user-data-dir={}", world.place.path("profile").display());
    let resolve = format!("--host-resolver-rules=MAP {} 127.0.0.1,MAP a.tides.example 127.0.0.9", NAMES[0]);
    let visit = || {
        let browser = Command::new("chromium")
            .args(["--headless", "--no-sandbox", "--disable-gpu", "--ignore-certificate-errors"])
            .args(["--enable-logging=stderr", "--virtual-time-budget=5000", "--dump-dom", &profile, &resolve, &url])
            .output()
            .expect("Debian's package chromium is installed (scripts/test does it)");
        String::from_utf8_lossy(&browser.stderr).into_owned()
    };
    let report = |line: &str| {
        let kind = match line {
            line if !line.contains("Mixed Content") => return None,
            line if line.contains("has been blocked") => "blocked",
            line if line.contains("automatically upgraded") => "upgraded",
            line if line.contains("contains a form") => "warned",
            _ => return None,
        };
        let at = line.find("'http://")? + 1;
        Some((kind.to_owned(), line[at..].split('\'').next()?.to_owned()))
    };
    // It may end before it has asked for the icon.
    let (mut said, mut theirs) = (String::new(), BTreeSet::new());
    for _ in 0..5 {
        said = visit();
        theirs.extend(said.lines().filter_map(report));
        if theirs.len() >= ours.len() {
            break;
        }
    }
    assert_eq!(theirs.len(), 21, "{said}");
    assert_eq!(ours, theirs);
}
