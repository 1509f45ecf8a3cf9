//! A network that is not as one would wish, in a network of the test's own: names with several addresses, name servers that are
//! silent, a proxy, a listener that is short of descriptors.

use crate::bind::{Bind, archive};
use crate::world::*;
use eskort_practice::{Resource, Site};
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::process::{Command, Stdio};
use std::time::Duration;

/// Leaves addresses to the names themselves.
fn without_check_address(text: &str) -> String {
    text.lines().filter(|line| !line.starts_with("check-address = ")).map(|line| format!("{line}\n")).collect()
}

#[test]
fn one_of_three_web_nodes_that_lacks_the_file_is_found_before_the_authority_is_asked() {
    let test = "network::one_of_three_web_nodes_that_lacks_the_file_is_found_before_the_authority_is_asked";
    let hosts = "127.0.77.1 lampholm.example\n127.0.77.2 lampholm.example\n::1 lampholm.example\n";
    if in_a_network_of_its_own(test, "", "nameserver 127.0.77.9\n", hosts) {
        return;
    }
    let world = World::new();
    let runtime = runtime();
    let node = |address: &str, folder: &str| {
        let plain = SocketAddr::new(address.parse().unwrap(), 80);
        let (bundle, key) = (world.place.path("tls/site.pem"), world.place.path("tls/site.key"));
        let folder = world.place.path(folder);
        runtime.block_on(Site::start(&folder, &bundle, &key, plain, SocketAddr::new(plain.ip(), 443))).unwrap()
    };
    world.write_inventory(|text| without_check_address(&text).replace(", \"www.lampholm.example\"", ""));
    let asked = || world.authority.asked().iter().filter(|resource| **resource == Resource::Challenge).count();
    let (_first, _last) = (node("127.0.77.1", "www"), node("::1", "www"));
    world.keep().check(1, &["no connection to lampholm.example at 127.0.77.2:80", "Connection refused"]);
    let wrong = node("127.0.77.2", "elsewhere");
    world.keep().check(1, &["(at 127.0.77.2:80)", "status 404"]);
    runtime.block_on(wrong.stop());
    assert_eq!(asked(), 0, "the authority was not told to look");
    let _second = node("127.0.77.2", "www");
    world.keep().check(0, &["go on with generation 1 from `ordered`", "confirmed"]);
    assert_eq!(asked(), 1);
}

#[test]
fn a_silent_resolver_and_a_silent_address_of_the_primary_are_passed_by() {
    let test = "network::a_silent_resolver_and_a_silent_address_of_the_primary_are_passed_by";
    let resolvers = "nameserver 127.0.77.3\nnameserver 127.0.77.4\noptions timeout:1 attempts:1\n";
    let hosts = "127.0.77.5 ns1.lampholm.example\n127.0.77.4 ns1.lampholm.example\n";
    if in_a_network_of_its_own(test, "ip addr add 127.0.77.4/8 dev lo &&", resolvers, hosts) {
        return;
    }
    let _silent = [UdpSocket::bind("127.0.77.3:53").unwrap(), UdpSocket::bind("127.0.77.5:53").unwrap()];
    let bind = Bind::start_at("127.0.77.4:53".parse().unwrap());
    let pebble = archive(bind.address);
    let text = pebble.place.read("eskort.toml");
    pebble.place.write("eskort.toml", &text.replace(&format!("server = \"{}\"\n", bind.address), ""));
    pebble.place.run(&["keep"]).check(0, &["control of *.archive.lampholm.example", "confirmed"]);
    assert_eq!(bind.texts(), Vec::<String>::new(), "the records are gone");
}

#[test]
fn a_machine_with_one_family_and_a_dead_secondary_renews_and_a_circle_of_records_ends() {
    let test = "network::a_machine_with_one_family_and_a_dead_secondary_renews_and_a_circle_of_records_ends";
    let hosts = "127.0.77.4 ns1.lampholm.example\n2001:db8::53 ns1.lampholm.example\n127.0.77.5 ns2.lampholm.example\n";
    let only_one = "ip addr add 127.0.77.4/8 dev lo && echo 1 > /proc/sys/net/ipv6/conf/all/disable_ipv6 &&";
    if in_a_network_of_its_own(test, only_one, "nameserver 127.0.77.4\n", hosts) {
        return;
    }
    let bind = Bind::start_at("127.0.77.4:53".parse().unwrap());
    let pebble = archive(bind.address);
    let text = pebble.place.read("eskort.toml");
    let without = |line: &&str| !line.starts_with("server =") && !line.starts_with("name-servers =");
    let text: String = text.lines().filter(without).map(|line| format!("{line}\n")).collect();
    pebble.place.write("eskort.toml", &text);
    let said = pebble.place.run(&["keep"]);
    said.check(0, &["name server ns2.lampholm.example was left out", "confirmed"]);
    assert!(!said.err.contains("ns1.lampholm.example was left out"), "one address that answers is enough: {said}");
    // a leads to x, and x and y to each other.
    let circle =
        text.replace("\"*.archive.lampholm.example\", \"archive.lampholm.example\"", "\"circle.lampholm.example\"");
    pebble.place.write("eskort.toml", &circle);
    pebble
        .place
        .run(&["keep", "--drop-names"])
        .check(1, &["Server Failure when asked for the zone of _acme-challenge.circle"]);
}

#[test]
fn a_listener_without_an_address_serves_both_families_and_outlives_a_lack_of_descriptors() {
    let test = "network::a_listener_without_an_address_serves_both_families_and_outlives_a_lack_of_descriptors";
    let hosts = "127.0.77.1 lampholm.example\n::1 lampholm.example\n";
    if in_a_network_of_its_own(test, "", "nameserver 127.0.77.9\n", hosts) {
        return;
    }
    let world = World::with(|options| {
        options.site_port = 80;
        options.thinking = Duration::from_secs(4);
    });
    let proof = "kind = \"http-listener\"\n";
    world.write_inventory(|text| {
        let text = text.replace("kind = \"http-folder\"\nfolder = \"www\"\n", proof);
        without_check_address(&text)
            .replace(", \"www.lampholm.example\"", "")
            .replace("timeout = \"6s\"", "timeout = \"20s\"")
            .replace("[server.front]\n", &format!("[server.front]\ncheck-address = \"{}\"\n", world.site.tls_address()))
    });
    // So few descriptors that a visitor's connections alone take them all.
    let mut command = Command::new("sh");
    command.args(["-c", "ulimit -n 60 && exec \"$0\" keep", env!("CARGO_BIN_EXE_eskort")]);
    command.env("ESKORT_CONFIG", world.place.path("eskort.toml")).env("HOME", world.place.dir.path());
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let child = command.current_dir(world.place.dir.path()).spawn().unwrap();
    await_port(80, "the listener");
    let told = |world: &World| world.authority.asked().contains(&Resource::Challenge);
    until("the authority is told", || told(&world));
    let crowd: Vec<TcpStream> = (0..100).filter_map(|_| TcpStream::connect("127.0.0.1:80").ok()).collect();
    assert!(crowd.len() > 60, "only {} came", crowd.len());
    let descriptors = || std::fs::read_dir(format!("/proc/{}/fd", child.id())).unwrap().count();
    // It may have inherited one above the limit.
    until("it has no descriptor left", || descriptors() >= 60);
    drop(crowd);
    Said::from(child.wait_with_output().unwrap()).check(0, &["installed and checked live"]);
}
