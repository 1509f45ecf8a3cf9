//! Many certificates at once: interrupted, killed, beside another run, with proofs and servers in common.

use crate::bind::{Bind, KEY};
use crate::pebble::Pebble;
use crate::world::*;
use eskort_practice::{AuthorityOptions, Resource};
use std::net::Ipv4Addr;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A practice world with so many certificates beside each other, none of them for a server.
fn rooms(count: usize, at_once: usize, adjust: impl FnOnce(&mut AuthorityOptions)) -> World {
    let world = World::with(adjust);
    world.write_inventory(|text| {
        let text = text.split("[certificate.website]").next().unwrap().replace("timeout = \"6s\"", "timeout = \"2m\"");
        let text = text.replace("kind = \"acme\"", &format!("kind = \"acme\"\nat-once = {at_once}"));
        text + &(1..=count).map(section).collect::<String>()
    });
    for n in 1..=count {
        world.names.set(&name(n), Ipv4Addr::LOCALHOST);
    }
    world
}

fn name(n: usize) -> String {
    format!("room{n}.lampholm.example")
}

fn section(n: usize) -> String {
    format!("[certificate.room{n}]\nnames = [\"{}\"]\nproof = \"pages\"\n", name(n))
}

/// Begins a run, whose talk goes to a file: what it has said is there when it does not get on.
fn start(world: &World) -> Child {
    let talk = std::fs::File::options().create(true).append(true).open(world.place.path("talk")).unwrap();
    world.place.eskort().arg("keep").stdout(Stdio::piped()).stderr(talk).spawn().unwrap()
}

fn ended(world: &World, child: Child) -> Said {
    let said = Said::from(child.wait_with_output().unwrap());
    Said { err: world.place.read("talk"), ..said }
}

fn asked(world: &World, what: Resource) -> usize {
    world.authority.asked().iter().filter(|asked| **asked == what).count()
}

#[test]
fn fifty_that_are_interrupted_leave_nothing_published() {
    let world = rooms(50, 64, |options| options.thinking = Duration::from_secs(60));
    let child = start(&world);
    until("50 are under way at once", || asked(&world, Resource::Challenge) == 50);
    assert!(world.place.path("www/.well-known/acme-challenge").exists());
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    let begun = Instant::now();
    let said = ended(&world, child);
    said.check(1, &["room1 failed", "room50 failed"]);
    assert!(begun.elapsed() < Duration::from_secs(30), "{said}");
    world.place.check_nothing_published();
    world.place.run(&["show", "room7"]).check(0, &["given up: stopped while", "stopped by a signal"]);
}

#[test]
fn how_long_the_authority_usually_needs_is_learned() {
    let world = rooms(8, 1, |options| options.thinking = Duration::from_millis(600));
    world.place.run(&["keep"]).check(0, &["room8"]);
    let asked = world.authority.asked();
    let orders = asked.split(|what| *what == Resource::Certificate);
    let questions: Vec<usize> =
        orders.map(|asked| asked.iter().filter(|what| **what == Resource::Order).count()).collect();
    // Each order waits twice. As long as nothing is known it asks six times in all.
    assert!(questions[5..8].iter().sum::<usize>() <= 14, "{questions:?}");
}

#[test]
fn fifty_that_are_killed_in_the_middle_come_to_one_certificate_each() {
    let world = rooms(50, 16, |options| options.thinking = Duration::from_millis(300));
    let mut child = start(&world);
    until("some have come and some have not", || world.authority.counts().1 >= 10);
    child.kill().unwrap();
    let killed = ended(&world, child);
    let before = world.authority.counts();
    assert!(killed.code.is_none() && before.1 < 50, "{killed}");
    world.place.run(&["keep"]).check(0, &["room50", "generation 1 stored"]);
    let (orders, certificates) = world.authority.counts();
    assert_eq!(certificates, 50);
    assert!(orders <= 50 + 16, "an order may be lost for each that was under way: {orders}");
    world.place.check_nothing_published();
    world.place.run(&["keep"]).check(0, &["50 certificates: nothing to do"]);
    let left = std::fs::read_dir(world.place.path("state/workers")).unwrap().count();
    assert_eq!(left, 0, "what a killed run left there is removed");
}

#[test]
fn two_runs_on_one_state_folder_share_the_work() {
    let world = rooms(30, 4, |options| options.thinking = Duration::from_millis(200));
    let first = start(&world);
    until("the first run decided", || asked(&world, Resource::NewOrder) > 0);
    let second = start(&world);
    let (first, second) = (ended(&world, first), ended(&world, second));
    assert!(second.out.contains("another run is at work on it"), "{second}");
    for said in [&first, &second] {
        assert!([Some(0), Some(5)].contains(&said.code), "{said}");
        said.check(said.code.unwrap(), &["generation 1 stored"]);
    }
    assert_eq!(world.authority.counts(), (30, 30), "{first}\n{second}");
    world.place.check_nothing_published();
    world.place.run(&["keep"]).check(0, &["30 certificates: nothing to do"]);
}

#[test]
fn as_many_requests_for_an_order_however_many_are_under_way() {
    for at_once in [1, 8, 32] {
        let world = rooms(40, at_once, |options| options.refused_nonces = 20);
        world.place.run(&["keep"]).check(0, &["room1 ", "room40"]);
        // What is refused for its nonce is asked again, and not counted here.
        assert_eq!(world.authority.counts(), (40, 40), "{at_once} at once");
        for what in [Resource::Authorization, Resource::Challenge, Resource::Finalize, Resource::Certificate] {
            assert!(asked(&world, what) >= 40, "{at_once} at once: {what:?}");
        }
        let once = (asked(&world, Resource::Directory), asked(&world, Resource::NewAccount));
        assert!(once.0 == 1 && once.1 < 6, "{at_once} at once: {once:?} questions for directory and account");
        world.place.check_nothing_published();
    }
}

#[test]
fn one_listener_answers_for_all_that_are_under_way() {
    let port = free_port();
    let world = rooms(12, 12, |options| {
        options.site_port = port;
        options.thinking = Duration::from_millis(100);
    });
    let text = world.place.read("eskort.toml");
    let proof = text.split("[proof.pages]").nth(1).unwrap().split("[server.front]").next().unwrap();
    let listener =
        format!("\nkind = \"http-listener\"\nlisten = \"127.0.0.1:{port}\"\ncheck-address = \"127.0.0.1:{port}\"\n\n");
    world.place.write("eskort.toml", &text.replace(proof, &listener));
    world.place.run(&["keep"]).check(0, &["room1 ", "room12", "generation 1 stored"]);
    assert_eq!(world.authority.counts(), (12, 12));
}

#[test]
fn one_zone_takes_the_records_of_all_and_all_go_again() {
    let bind = Bind::start();
    let pebble = Pebble::asking(bind.address, &[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.place.write("zone.key", KEY);
    let mut text = format!(
        "{}[proof.zone]\nkind = \"dns-update\"\nserver = \"{1}\"\nkey-file = \"zone.key\"\nname-servers = [\"{1}\"]\n\
         propagation-timeout = \"5s\"\n\n",
        pebble.authority_section(),
        bind.address
    );
    // Two of them have a name in common: each has a record of its own there.
    for (n, names) in ["\"archive.lampholm.example\"", "\"archive.lampholm.example\", \"*.archive.lampholm.example\""]
        .into_iter()
        .map(str::to_owned)
        .chain((3..=10).map(|n| format!("\"{}\"", name(n))))
        .enumerate()
    {
        text += &format!("[certificate.c{n}]\nproof = \"zone\"\nnames = [{names}]\n");
    }
    pebble.place.write("eskort.toml", &text);
    let said = pebble.place.run(&["keep"]);
    said.check(0, &["generation 1 stored"]);
    assert_eq!(said.out.matches("generation 1 stored").count(), 10, "{said}");
    assert_eq!(bind.texts(), Vec::<String>::new());
}
