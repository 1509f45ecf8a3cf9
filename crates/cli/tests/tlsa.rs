//! Records that name the key of a service: in a zone that a real BIND signs, checked by OpenSSL as a visitor who trusts nothing else.

use crate::bind::{Bind, KEY};
use crate::world::*;
use crate::zones::power_dns;
use eskort_core::record::RecordType;
use std::net::SocketAddr;
use std::process::{Command, Stdio};

/// A world whose certificate has its key named by records that are placed in a way.
fn world_with(address: SocketAddr, way: &str) -> World {
    let world = World::new();
    world.place.write("zone.key", KEY);
    let zone = format!(
        "[proof.zone]\n{way}\nserver = \"{address}\"\nname-servers = [\"{address}\"]\nttl = 2\n\n[proof.pages]"
    );
    world.write_inventory(|text| {
        text.replace("[proof.pages]", &zone)
            .replace("[certificate.website]", "[certificate.website]\nproof = \"pages\"")
            .replace("{ server = \"front\" }", "{ server = \"front\", tlsa = true }")
    });
    world
}

fn records(server: SocketAddr, world: &World, name: &str) -> Vec<String> {
    let name = format!("_{}._tcp.{name}", world.site.tls_address().port());
    runtime().block_on(eskort_dns::ask_records(server, &name, RecordType::Tlsa)).unwrap().texts
}

/// Whether the site shows a key that one of the records names.
fn is_named(world: &World, records: &[String]) -> bool {
    let mut openssl = Command::new("openssl");
    openssl.args(["s_client", "-connect", &world.site.tls_address().to_string(), "-servername", NAMES[0]]);
    openssl.args(["-dane_tlsa_domain", NAMES[0], "-verify_return_error"]);
    for record in records {
        openssl.args(["-dane_tlsa_rrdata", record]);
    }
    let output = openssl.stdin(Stdio::null()).output().unwrap();
    let said = Said::from(output);
    said.code == Some(0) && said.out.contains("DANE TLSA 3 1 1")
}

/// Waits until others have forgotten.
fn pause() {
    std::thread::sleep(std::time::Duration::from_secs(3));
}

#[test]
fn a_new_key_is_named_before_it_is_served_and_the_old_one_no_more_after_it() {
    let bind = Bind::signing();
    let world = world_with(bind.address, "kind = \"dns-update\"\nkey-file = \"zone.key\"");
    // The first key is served before it is named.
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 1 are at", "generation 1 installed"]);
    let first = records(bind.address, &world, NAMES[0]);
    assert_eq!((first.len(), records(bind.address, &world, NAMES[1])), (1, first.clone()));
    assert!(is_named(&world, &first), "{first:?}");
    let dig = Command::new("dig")
        .args([&format!("@{}", bind.address.ip()), "-p", &bind.address.port().to_string(), "+dnssec", "TLSA"])
        .arg(format!("_{}._tcp.{}", world.site.tls_address().port(), NAMES[0]))
        .output();
    let dig = Said::from(dig.expect("Debian's package bind9-dnsutils is installed (scripts/test does it)"));
    assert!(dig.out.lines().any(|line| line.contains("RRSIG") && line.contains("TLSA")), "{dig}");
    world.place.run(&["keep"]).check(0, &["nothing to do"]);

    // The next one is named first; others may remember for two seconds what was there before.
    let served = world.place.read("tls/site.pem");
    let killed = world.place.run_with("ESKORT_CRASH_AT", "tlsa-published", &["renew", "website"]);
    assert_eq!((killed.code, records(bind.address, &world, NAMES[0]).len()), (None, 2), "{killed}");
    let said = world.place.run(&["keep"]);
    said.check(0, &["TLSA records of generation 2 are at", "it is installed from"]);
    let both = records(bind.address, &world, NAMES[0]);
    assert!(both.len() == 2 && both.contains(&first[0]), "{both:?}");
    world.place.run(&["keep"]).check(0, &["it is installed from"]);
    world.place.run(&["list"]).check(0, &["not installed yet"]);
    assert_eq!(world.place.read("tls/site.pem"), served);
    assert!(is_named(&world, &both));
    pause();
    let killed = world.place.run_with("ESKORT_CRASH_AT", "tlsa-removed", &["keep"]);
    assert_eq!(killed.code, None, "{killed}");
    world.place.run(&["keep"]).check(0, &[]);
    world.place.run(&["check", "website"]).check(0, &["the TLSA record at", "names the key"]);
    let second = records(bind.address, &world, NAMES[0]);
    assert!(second.len() == 1 && second != first && is_named(&world, &second), "{second:?}");
    assert!(!is_named(&world, &first));
    world.place.run(&["keep"]).check(0, &["nothing to do"]);

    // Going back waits, too.
    world.place.run(&["install", "website", "--undo"]).check(1, &["are published", "run it again then"]);
    assert!(is_named(&world, &second));
    pause();
    world.place.run(&["install", "website", "--undo"]).check(0, &["generation 1"]);
    assert_eq!(records(bind.address, &world, NAMES[0]), first);
    assert!(is_named(&world, &first));

    // A certificate that is not ours any more leaves no record: whoever replaces it knows nothing of them.
    let text = world.place.read("eskort.toml");
    let without = text.replace(", tlsa = true", "");
    assert_ne!(without, text);
    world.place.write("eskort.toml", &without);
    world.place.write("zone.key", &KEY.replace("bGln", "AAAA"));
    world.place.run(&["keep"]).check(0, &["BADSIG"]);
    assert_eq!(records(bind.address, &world, NAMES[0]), first);
    // What could not be taken away is tried again.
    world.place.write("zone.key", KEY);
    world.place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(records(bind.address, &world, NAMES[0]), Vec::<String>::new());
    world.place.write("eskort.toml", &text);
    world.place.run(&["keep"]).check(0, &[]);
    assert_eq!(records(bind.address, &world, NAMES[0]), first);
    let gone = text.replace("[certificate.website]", "[certificate.other]");
    world.place.write("eskort.toml", &gone);
    world.place.run(&["list"]).check(0, &[]);
    world.place.run(&["keep"]).check(0, &[]);
    let left = records(bind.address, &world, NAMES[0]);
    assert!(!left.contains(&first[0]), "{left:?}");
}

#[test]
fn what_leaves_open_who_places_the_records_is_a_mistake_and_a_zone_that_refuses_is_a_failure() {
    let bind = Bind::start();
    let world = world_with(bind.address, "kind = \"dns-update\"\nkey-file = \"zone.key\"");
    let text = world.place.read("eskort.toml");
    world.place.write("zone.key", &KEY.replace("bGln", "AAAA"));
    // The certificate is installed; that its key is not named is told, and tried again.
    world.place.run(&["keep"]).check(1, &["another secret there (BADSIG)"]);
    assert!(world.place.path("tls/site.pem").exists());
    world.place.run(&["check", "website"]).check(1, &["no TLSA record at", "who goes by them turns away"]);
    world.place.write("zone.key", KEY);
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 1 are at"]);
    assert!(is_named(&world, &records(bind.address, &world, NAMES[0])));
    // The same key: nothing to wait for.
    world.place.write("eskort.toml", &text.replace("proof = \"pages\"", "proof = \"pages\"\nkeep-key = true"));
    world.place.run(&["renew", "website"]).check(0, &["generation 2 installed and checked live"]);
    assert!(is_named(&world, &records(bind.address, &world, NAMES[0])));
    let second = "[proof.second]\nkind = \"by-hand\"\n\n[proof.pages]";
    world.place.write("eskort.toml", &text.replace("[proof.pages]", second));
    world.place.run(&["list"]).check(2, &["leaves open which proof places the records: second, zone"]);
    world.place.write("eskort.toml", &text.replace("tlsa = true", "tlsa = \"pages\""));
    world.place.run(&["list"]).check(2, &["the inventory has no [proof.pages]"]);
}

/// Renews while records are placed in some way, and looks that there is always one for the key that is served.
fn renewed_over(server: SocketAddr, world: &World) {
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 1 are at", "generation 1 installed"]);
    let first = records(server, world, NAMES[0]);
    assert!(first.len() == 1 && is_named(world, &first), "{first:?}");
    world.place.run(&["renew", "website"]).check(0, &["TLSA records of generation 2 are at", "it is installed from"]);
    let both = records(server, world, NAMES[0]);
    assert!(both.len() == 2 && is_named(world, &both), "{both:?}");
    pause();
    world.place.run(&["keep"]).check(0, &["generation 2 installed and checked live"]);
    let second = records(server, world, NAMES[0]);
    assert!(second.len() == 1 && second != first && is_named(world, &second), "{second:?}");
}

#[test]
fn an_api_places_the_records() {
    let (server, api_port) = power_dns();
    let api = "kind = \"web-api\"\nrecipe = \"powerdns\"\nsecret-file = \"secret\"\n";
    let world = world_with(server.address, &format!("{api}address = \"http://127.0.0.1:{api_port}\""));
    world.place.write("secret", "oil-and-wick");
    renewed_over(server.address, &world);
}

#[test]
fn a_program_of_the_administrators_places_the_records() {
    let bind = Bind::start();
    let world = world_with(bind.address, "kind = \"program\"\ncommand = [\"sh\", \"records\"]");
    let script = format!(
        "read line\nvalue() {{ echo \"$line\" | sed \"s/.*\\\"$1\\\":\\\"\\([^\\\"]*\\)\\\".*/\\1/\"; }}\n\
         case $(value what) in add) ttl=2; do=add;; remove) ttl=; do=delete;; esac\n\
         printf 'server 127.0.0.1 {}\\nzone lampholm.example\\n%s\\nsend\\n' \
         \"$do $(value name). $ttl $(value type) $(value text)\" | nsupdate -k zone.key\n",
        bind.address.port()
    );
    world.place.write("records", &script);
    renewed_over(bind.address, &world);
}

#[test]
fn a_person_is_told_which_records_to_place_and_nothing_is_installed_before() {
    let bind = Bind::start();
    let world = world_with(bind.address, "kind = \"by-hand\"");
    world.place.run(&["keep"]).check(0, &["a person has to place TLSA records", "generation 1 installed"]);
    // What is said is placed, as it stands there.
    let place = |said: &Said| {
        let mut script = format!("server 127.0.0.1 {}\nzone lampholm.example\n", bind.address.port());
        let words: Vec<&str> = said.out.split_whitespace().collect();
        for (at, _) in words.iter().enumerate().filter(|(at, word)| **word == "TLSA" && words[at + 1] == "3") {
            let name = words[at - 3..at].iter().rev().find(|word| word.ends_with('.')).unwrap();
            script += &format!("add {name} 2 TLSA 3 1 1 {}\n", words[at + 4].trim_end_matches('"'));
        }
        world.place.write("script", &(script + "send\n"));
        let mut nsupdate = Command::new("nsupdate");
        let done = nsupdate.args(["-k", "zone.key", "script"]).current_dir(world.place.dir.path()).status();
        assert!(done.expect("Debian's package bind9-dnsutils is installed (scripts/test does it)").success());
    };
    place(&world.place.run(&["check", "website", "--output", "json"]));
    let first = records(bind.address, &world, NAMES[0]);
    assert!(first.len() == 1 && is_named(&world, &first), "{first:?}");
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 1 are at"]);
    let said = world.place.run(&["renew", "website"]);
    said.check(3, &["Place 2 TLSA records where visitors will look"]);
    assert!(is_named(&world, &first), "nothing is installed before");
    place(&said);
    let both = records(bind.address, &world, NAMES[0]);
    assert!(both.len() == 2 && is_named(&world, &both), "{both:?}");
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 2 are at", "it is installed from"]);
    pause();
    world.place.run(&["keep"]).check(0, &["generation 2 installed and checked live"]);
}
