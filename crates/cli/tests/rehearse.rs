//! `rehearse`: what would fail is found without an order, and nothing of it stays.

use crate::bind::Bind;
use crate::pebble::Pebble;
use crate::world::*;
use eskort_practice::{Fault, Resource};
use serde_json::Value;
use std::process::{Command, Stdio};

/// Weight, what was tried, with which name, and what was seen.
type Trial = (String, String, String, String);

fn rehearsed(place: &Place, code: i32, words: &[&str]) -> Vec<Trial> {
    let said = place.run(&[&["rehearse", "--output", "json"], words].concat());
    assert_eq!(said.code, Some(code), "{said}");
    let report: Value = serde_json::from_str(&said.out).unwrap();
    let trials = report["certificates"][0]["trials"].as_array().unwrap();
    let text = |trial: &Value, field: &str| trial[field].as_str().unwrap().to_owned();
    trials.iter().map(|t| (text(t, "weight"), text(t, "what"), text(t, "of"), text(t, "text"))).collect()
}

#[test]
fn what_would_work_is_said_nothing_is_ordered_and_nothing_stays() {
    let world = World::new();
    let said = world.place.run(&["rehearse"]);
    said.check(
        0,
        &[
            "website",
            "authority  public: it answers",
            "proof      www.lampholm.example: what `pages` publishes can be seen",
            "Nothing was ordered",
        ],
    );
    let found = rehearsed(&world.place, 0, &["website"]);
    let weights: Vec<&str> =
        found.iter().map(|(weight, what, ..)| if what == "address" { "" } else { weight }).collect();
    assert_eq!(weights, ["good", "", "", "good", "good", "good"], "{found:?}");
    assert_eq!(world.authority.counts(), (0, 0));
    assert!(world.authority.asked().iter().all(|asked| *asked == Resource::Directory), "{:?}", world.authority.asked());
    world.place.check_nothing_published();
    // A first certificate gets through as ever, and a rehearsal beside it takes nothing of it away.
    world.keep().check(0, &["installed and checked live"]);
    let before = world.place.read("tls/site.pem");
    world.place.run(&["rehearse", "website"]).check(0, &["0 files would change"]);
    assert_eq!(world.place.read("tls/site.pem"), before);
    // What a rehearsal that was killed has left is removed by the next run.
    let killed = world.place.run_with("ESKORT_CRASH_AT", "file-written", &["rehearse"]);
    assert_eq!(killed.code, None, "{killed}");
    assert!(world.place.path("www/.well-known").exists());
    world.place.run(&["keep"]).check(0, &[]);
    world.place.check_nothing_published();
    world.place.run(&["rehearse", "webiste"]).check(2, &["has no certificate `webiste`"]);
}

#[test]
fn every_fault_is_told_with_what_to_do_and_the_rest_goes_on() {
    let world = World::new();
    let place = &world.place;
    let fatal = |change: &dyn Fn(String) -> String, what: &str, says: &str| {
        world.write_inventory(change);
        let found = rehearsed(place, 1, &["website"]);
        let hit = found.iter().any(|(weight, of, _, text)| weight == "fatal" && of == what && text.contains(says));
        assert!(hit, "{what}: {says}: {found:?}");
        place.check_nothing_published();
        found
    };
    std::fs::create_dir(place.path("other")).unwrap();
    // The others are tried all the same.
    let found = fatal(&|text| text.replace("folder = \"www\"", "folder = \"other\""), "proof", "status 404");
    assert!(found.iter().any(|(weight, what, ..)| weight == "good" && what == "authority"));
    fatal(&|text| text.replace("folder = \"www\"", "folder = \"none\""), "proof", "none does not exist");
    fatal(
        &|text| text.replace("accept-terms = true", "accept-terms = false"),
        "authority",
        "you have not agreed to its terms",
    );
    fatal(&|text| text.replace("api-roots = \"api-root.pem\"\n", ""), "authority", "cannot reach https://127.0.0.1");
    place.write(
        "nginx.conf",
        "events {}\nhttp { server { listen 80; server_name lampholm.example www.lampholm.example; nonsense; } }\n",
    );
    let nginx = |text: String| {
        text.replace("kind = \"files\"\ncopy = [{ part = \"bundle\", to = \"tls/site.pem\" }, { part = \"key\", to = \"tls/site.key\" }]\n", "kind = \"nginx\"\nconfig = \"nginx.conf\"\n")
    };
    fatal(&nginx, "install", "it does not accept its configuration as it is");
    place.write("nginx.conf", "events {}\nhttp {\n");
    fatal(&nginx, "install", "a `}` is missing");
    world.authority.misbehave(Resource::Directory, Fault::Status(500), 99);
    fatal(&|text| text, "authority", "HTTP 500");
    // A person's part cannot be tried.
    world.authority.behave();
    let by_hand = format!("kind = \"by-hand\"\nserver = \"{0}\"\nname-servers = [\"{0}\"]\n", world.names.address());
    world.write_inventory(|text| {
        text.replace("kind = \"http-folder\"\nfolder = \"www\"\n", &by_hand)
            .replace(&format!("check-address = \"{}\"\n\n[server", world.site.plain_address()), "\n[server")
    });
    place.run(&["rehearse"]).check(0, &["risky", "a person shows control (`pages`)", "`keep` says what to place"]);
}

#[test]
fn an_external_account_is_asked_for_and_each_certificate_is_told_of_it() {
    let world = World::with(|options| options.external_account = Some(("lamp".into(), b"0123456789abcdef".to_vec())));
    world.write_inventory(|text| text + "\n[certificate.second]\nnames = [\"www.lampholm.example\"]\n");
    let said = world.place.run(&["rehearse"]);
    said.check(1, &["public: it requires an external account", "write external-key-id and external-key-file"]);
    assert_eq!(said.out.matches("it requires an external account").count(), 2, "{said}");
    assert_eq!(world.authority.asked(), [Resource::Directory], "one question for both");
}

#[test]
fn records_are_written_seen_and_removed_and_a_domain_may_forbid_the_authority() {
    let test = "rehearse::records_are_written_seen_and_removed_and_a_domain_may_forbid_the_authority";
    let hosts = "127.0.77.4 ns1.lampholm.example\n";
    if in_a_network_of_its_own(test, "ip addr add 127.0.77.4/8 dev lo &&", "nameserver 127.0.77.4\n", hosts) {
        return;
    }
    let bind = Bind::start_at("127.0.77.4:53".parse().unwrap());
    let world = World::new();
    let zone = format!(
        "kind = \"dns-update\"\nserver = \"{0}\"\nkey-file = \"zone.key\"\nname-servers = [\"{0}\"]\n",
        bind.address
    );
    world.place.write("zone.key", crate::bind::KEY);
    let check = format!("check-address = \"{}\"\n\n[server", world.site.plain_address());
    world.write_inventory(|text| {
        text.replace("kind = \"http-folder\"\nfolder = \"www\"\n", &zone)
            .replace(&check, "\n[server")
            .replace("\"lampholm.example\", ", "")
    });
    let update = |what: &str| {
        let script = format!("printf 'server 127.0.77.4\\nupdate %s\\nsend\\n' '{what}' | nsupdate -k zone.key");
        let done = Command::new("sh").args(["-c", &script]).current_dir(world.place.dir.path()).status();
        assert!(done.unwrap().success(), "{what}");
    };
    let proved = rehearsed(&world.place, 0, &[]);
    assert!(proved.iter().any(|(weight, what, ..)| weight == "good" && what == "proof"), "{proved:?}");
    assert_eq!(bind.texts(), Vec::<String>::new(), "the records are gone");
    update("add lampholm.example 60 CAA 0 issue \"other.example\"");
    let found = rehearsed(&world.place, 1, &[]);
    let caa = found.iter().find(|(_, what, ..)| what == "caa").unwrap();
    assert_eq!(
        (&*caa.0, &*caa.3),
        ("fatal", "the CAA records of lampholm.example allow other.example, and not ca.lampholm.example")
    );
    // `keep` looks as well, before it orders.
    let forbidden =
        ["allow other.example, and not ca.lampholm.example", "add to lampholm.example", "nothing was ordered"];
    world.place.run(&["keep"]).check(1, &forbidden);
    assert_eq!(world.authority.counts(), (0, 0));
    // Somebody insists; the order comes to nothing here.
    world.place.run(&["keep", "--only", "website"]).check(1, &["a new account", "ordered    1 name"]);
    assert_eq!(world.authority.counts().0, 1);
    update("add lampholm.example 60 CAA 0 issue \"ca.lampholm.example; validationmethods=dns-01\"");
    let found = rehearsed(&world.place, 0, &[]);
    assert!(
        found.iter().any(|(weight, what, _, text)| weight == "good"
            && what == "caa"
            && text.contains("allow ca.lampholm.example")),
        "{found:?}"
    );
    // Now that there is an account, a record may be for another one.
    update("delete lampholm.example CAA");
    update(
        "add lampholm.example 60 CAA 0 issue \"ca.lampholm.example; accounturi=https://ca.lampholm.example/another\"",
    );
    let found = rehearsed(&world.place, 1, &[]);
    let caa = found.iter().find(|(_, what, ..)| what == "caa").unwrap();
    assert!(caa.0 == "fatal" && caa.3.contains("are for the account https://ca.lampholm.example/another"), "{caa:?}");
}

#[test]
fn a_real_authority_is_asked_for_its_directory_only() {
    let pebble = Pebble::start(&[], false);
    let text = format!(
        "{}[proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"127.0.0.1:9\"\n\n[certificate.website]\nnames = [\"lampholm.example\"]\n",
        pebble.authority_section()
    );
    pebble.place.write("eskort.toml", &text);
    std::fs::create_dir_all(pebble.place.path("www")).unwrap();
    pebble.place.run(&["rehearse"]).check(1, &["it answers", "FATAL", "Connection refused"]);
    let log = pebble.place.read("pebble/log");
    assert_eq!(log.matches("calling handler").count(), log.matches("GET /dir -> calling handler").count(), "{log}");
    assert!(log.contains("GET /dir"), "{log}");
}

/// Starts a name server with a zone of the trust, and what else its configuration says.
pub(crate) fn named(at: &str, zone: &str, more: &str) -> (Place, Process) {
    let place = Place::new();
    let dir = place.dir.path().display().to_string();
    place.write("zone", zone);
    let text = format!(
        "controls {{ }};\noptions {{ directory \"{dir}\"; pid-file none; session-keyfile none; recursion yes; \
         listen-on-v6 {{ none; }}; listen-on {{ {at}; }}; }};\n{more}"
    );
    place.write("named.conf", &text);
    let mut command = Command::new("/usr/sbin/named");
    command.args(["-f", "-c", &format!("{dir}/named.conf")]).stdout(Stdio::null()).stderr(Stdio::null());
    let process = Process(command.spawn().expect("Debian's package bind9 is installed (scripts/test does it)"));
    await_server(format!("{at}:53").parse().unwrap(), "BIND");
    (place, process)
}

const ZONE: &str = "$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\nns1 A 127.0.77.4\nwww A 192.0.2.7\n";
pub(crate) const PRIMARY: &str = "zone \"lampholm.example\" { type primary; file \"zone\"; };\n";

/// A world whose one certificate is proved over HTTP, wherever the DNS says that its names are.
fn wherever(names: &str) -> World {
    let world = World::new();
    let check = format!("check-address = \"{}\"\n\n[server", world.site.plain_address());
    world.write_inventory(|text| {
        text.replace("\"lampholm.example\", \"www.lampholm.example\"", names).replace(&check, "\n[server")
    });
    world
}

fn told(found: &[Trial], weight: &str, of: &str, text: &str) -> bool {
    found.iter().any(|(w, what, name, t)| w == weight && what == "address" && name == of && t.contains(text))
}

#[test]
fn name_servers_that_disagree_and_one_that_does_not_answer_are_told() {
    let test = "rehearse::name_servers_that_disagree_and_one_that_does_not_answer_are_told";
    let addresses = "for n in 4 5 6; do ip addr add 127.0.77.$n/8 dev lo; done &&";
    if in_a_network_of_its_own(test, addresses, "nameserver 127.0.77.4\n", "127.0.0.1 attic.lampholm.example\n") {
        return;
    }
    let zone = format!("{ZONE}@ NS ns2\n@ NS ns3\nns2 A 127.0.77.5\nns3 A 127.0.77.6\nharbour A 192.0.2.7\n");
    let _first = named("127.0.77.4", &zone, PRIMARY);
    let _second = named("127.0.77.5", &zone.replace("www A 192.0.2.7", "www A 192.0.2.8"), PRIMARY);
    let names = "\"www.lampholm.example\", \"harbour.lampholm.example\", \"attic.lampholm.example\"";
    let found = rehearsed(&wherever(names).place, 1, &[]);
    let (www, harbour) = ("www.lampholm.example", "harbour.lampholm.example");
    let disagree = "disagree: 192.0.2.7 by ns1.lampholm.example; 192.0.2.8 by ns2.lampholm.example";
    assert!(told(&found, "risky", www, disagree), "{found:?}");
    assert!(
        told(&found, "risky", harbour, "not all name servers of its zone answer: ns3.lampholm.example"),
        "{found:?}"
    );
    assert!(told(&found, "good", harbour, "it resolves to 192.0.2.7") && !told(&found, "risky", harbour, "disagree"));
    let attic = "only this machine knows its addresses (127.0.0.1): the DNS has none";
    assert!(told(&found, "risky", "attic.lampholm.example", attic), "{found:?}");
}

#[test]
fn a_signed_zone_that_is_broken_is_told() {
    let test = "rehearse::a_signed_zone_that_is_broken_is_told";
    let addresses = "for n in 4 9; do ip addr add 127.0.77.$n/8 dev lo; done &&";
    if in_a_network_of_its_own(test, addresses, "nameserver 127.0.77.9\n", "") {
        return;
    }
    let signing = Place::new();
    signing.write("zone", &format!("{ZONE}mail A 192.0.2.7\n"));
    let sign = "dnssec-keygen -q -a ECDSAP256SHA256 -f KSK lampholm.example && \
                dnssec-signzone -q -z -S -o lampholm.example zone && cat K*.key";
    let signed = Command::new("sh").args(["-c", sign]).current_dir(signing.dir.path()).output().unwrap();
    let key = String::from_utf8(signed.stdout).unwrap();
    let (_, key) = key.split_once("DNSKEY 257 3 13 ").expect("Debian's package bind9 brings what signs");
    // Somebody edited the signed file by hand.
    let zone = signing.read("zone.signed").replacen("192.0.2.7", "192.0.2.8", 1);
    let _primary = named("127.0.77.4", &zone, PRIMARY);
    let resolver = format!(
        "zone \"lampholm.example\" {{ type static-stub; server-addresses {{ 127.0.77.4; }}; }};\n\
         trust-anchors {{ lampholm.example. static-key 257 3 13 \"{}\"; }};\n",
        key.trim()
    );
    let _resolver = named("127.0.77.9", "", &resolver);
    let found = rehearsed(&wherever("\"www.lampholm.example\", \"mail.lampholm.example\"").place, 1, &[]);
    let broken = |of| told(&found, "fatal", of, "its DNSSEC signatures do not fit");
    assert_ne!(broken("www.lampholm.example"), broken("mail.lampholm.example"), "{found:?}");
}
