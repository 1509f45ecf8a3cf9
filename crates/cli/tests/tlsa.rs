//! Records that name the key of a service: in a zone that a real BIND signs, checked by OpenSSL as a visitor who trusts nothing else.

use crate::bind::{Bind, KEY};
use crate::world::*;
use eskort_core::record::RecordType;
use std::process::{Command, Stdio};

/// A world whose certificate has its key named by records of a zone.
fn world_with(bind: &Bind) -> World {
    let world = World::new();
    world.place.write("zone.key", KEY);
    let address = bind.address;
    let zone = format!(
        "[proof.zone]\nkind = \"dns-update\"\nserver = \"{address}\"\nkey-file = \"zone.key\"\nname-servers = [\"{address}\"]\n\
         ttl = 2\n\n[proof.pages]"
    );
    world.write_inventory(|text| {
        text.replace("[proof.pages]", &zone)
            .replace("[certificate.website]", "[certificate.website]\nproof = \"pages\"")
            .replace("{ server = \"front\" }", "{ server = \"front\", tlsa = true }")
    });
    world
}

fn records(bind: &Bind, world: &World, name: &str) -> Vec<String> {
    let name = format!("_{}._tcp.{name}", world.site.tls_address().port());
    runtime().block_on(eskort_dns::ask_records(bind.address, &name, RecordType::Tlsa)).unwrap().texts
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
    let world = world_with(&bind);
    // The first key is served before it is named.
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 1 are at", "generation 1 installed"]);
    let first = records(&bind, &world, NAMES[0]);
    assert_eq!((first.len(), records(&bind, &world, NAMES[1])), (1, first.clone()));
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
    let said = world.place.run(&["renew", "website"]);
    said.check(0, &["TLSA records of generation 2 are at", "it is installed from"]);
    let both = records(&bind, &world, NAMES[0]);
    assert!(both.len() == 2 && both.contains(&first[0]), "{both:?}");
    world.place.run(&["keep"]).check(0, &["it is installed from"]);
    world.place.run(&["list"]).check(0, &["not installed yet"]);
    assert_eq!(world.place.read("tls/site.pem"), served);
    assert!(is_named(&world, &both));
    pause();
    world.place.run(&["keep"]).check(0, &["generation 2 installed and checked live"]);
    world.place.run(&["check", "website"]).check(0, &["the TLSA record at", "names the key"]);
    let second = records(&bind, &world, NAMES[0]);
    assert!(second.len() == 1 && second != first && is_named(&world, &second), "{second:?}");
    assert!(!is_named(&world, &first));
    world.place.run(&["keep"]).check(0, &["nothing to do"]);

    // Going back waits, too.
    world.place.run(&["install", "website", "--undo"]).check(1, &["are published", "run it again then"]);
    assert!(is_named(&world, &second));
    pause();
    world.place.run(&["install", "website", "--undo"]).check(0, &["generation 1"]);
    assert_eq!(records(&bind, &world, NAMES[0]), first);
    assert!(is_named(&world, &first));
}

#[test]
fn what_leaves_open_who_places_the_records_is_a_mistake_and_a_zone_that_refuses_is_a_failure() {
    let bind = Bind::start();
    let world = world_with(&bind);
    let text = world.place.read("eskort.toml");
    world.place.write("zone.key", &KEY.replace("bGln", "AAAA"));
    // The certificate is installed; that its key is not named is told, and tried again.
    world.place.run(&["keep"]).check(1, &["another secret there (BADSIG)"]);
    assert!(world.place.path("tls/site.pem").exists());
    world.place.run(&["check", "website"]).check(1, &["no TLSA record at", "who goes by them turns away"]);
    world.place.write("zone.key", KEY);
    world.place.run(&["keep"]).check(0, &["TLSA records of generation 1 are at"]);
    assert!(is_named(&world, &records(&bind, &world, NAMES[0])));
    // The same key: nothing to wait for.
    world.place.write("eskort.toml", &text.replace("proof = \"pages\"", "proof = \"pages\"\nkeep-key = true"));
    world.place.run(&["renew", "website"]).check(0, &["generation 2 installed and checked live"]);
    assert!(is_named(&world, &records(&bind, &world, NAMES[0])));
    let second = "[proof.second]\nkind = \"by-hand\"\n\n[proof.pages]";
    world.place.write("eskort.toml", &text.replace("[proof.pages]", second));
    world.place.run(&["list"]).check(2, &["leaves open which proof places the records: second, zone"]);
    world.place.write("eskort.toml", &text.replace("tlsa = true", "tlsa = \"pages\""));
    world.place.run(&["list"]).check(2, &["the inventory has no [proof.pages]"]);
}
