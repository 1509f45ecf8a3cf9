//! What a site wants of https beside its certificate, with a real nginx and a real ACME server.

use crate::nginx::{Nginx, SITE, fetch, inventory};
use crate::pebble::Pebble;
use crate::world::*;

/// Asks a name over https and returns head and page; `more` are words of curl.
fn https(place: &Place, nginx: &Nginx, name: &str, path: &str, more: &[&str]) -> String {
    let (to, url) =
        (format!("{name}:{0}:127.0.0.1", nginx.tls_port), format!("https://{name}:{}{path}", nginx.tls_port));
    let mut words = vec!["-i", "--cacert", "visitor-root.pem", "--resolve", &to];
    words.extend(more);
    words.push(&url);
    fetch(place, &words)
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
    until("browsers are told", || https(place, &nginx, bare, "/", &[]).contains("max-age=300"));
    let home = https(place, &nginx, bare, "/", &[]);
    assert!(home.starts_with("HTTP/2 200") && home.contains("The lighthouse is open."), "{home}");
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
    until("it is cut short", || https(place, &nginx, bare, "/", &[]).contains("max-age=3\r"));
    let later = |seconds: u64, words: &[&str]| place.run_with("ESKORT_CLOCK_OFFSET", &seconds.to_string(), words);
    later(400, &["keep"])
        .check(0, &["stays at 5 minutes", "sends max-age=3 instead of 300", "put generation 1 in place"]);
    assert_eq!(place.read(SITE), before);
    until("it is as before", || https(place, &nginx, bare, "/", &[]).contains("max-age=300"));
    later(600, &["keep"]).check(0, &["nothing to do"]);
    assert_eq!(place.read(SITE), before, "five minutes since the last bad look have not passed");

    later(800, &["keep", "--plan"]).check(0, &["nothing"]);
    later(800, &["keep"]).check(0, &["put generation 1 in place"]);
    assert_eq!(place.read(SITE), before.replace("max-age=300", "max-age=604800"));
    until("a week", || https(place, &nginx, bare, "/", &[]).contains("max-age=604800"));
    later(800 + 604_900, &["keep"]).check(0, &["put generation 1 in place"]);
    assert_eq!(place.read(SITE), before.replace("max-age=300", "max-age=31536000"));
    place.run(&["show", "website"]).check(0, &["browsers come back over https alone for 7 days from now on"]);

    // Going back.
    place.write("eskort.toml", &inventory(&pebble, &nginx, "", ", hsts = \"off\""));
    place.run(&["keep"]).check(0, &["put generation 1 in place"]);
    until("browsers are told to forget", || https(place, &nginx, bare, "/", &[]).contains("max-age=0"));
}
