//! Proofs over DNS with other name servers than BIND: Knot for dynamic updates and as a secondary, PowerDNS over its HTTP API.

use crate::bind::{RECORD, archive};
use crate::world::*;
use eskort_core::record::RecordType;
use eskort_dns::{ask_records, find_addresses, locate};
use std::net::SocketAddr;
use std::process::{Command, Stdio};

const SECRET: &str = "bGlnaHRob3VzZWtlZXBlcnNsaWdodGhvdXNla2VlcGVy";
const ZONE: &str = "$TTL 60\n@ SOA ns1.lampholm.example. keeper.lampholm.example. 1 2 1 60 60\n@ NS ns1.lampholm.example.\n\
                    ns1 A 127.0.0.1\narchive A 127.0.0.1\n* A 127.0.0.1\n";

pub(crate) struct NameDaemon {
    pub(crate) address: SocketAddr,
    place: Place,
    _process: Process,
}

impl NameDaemon {
    fn texts(&self) -> Vec<String> {
        runtime().block_on(ask_records(self.address, RECORD, RecordType::Txt)).unwrap().texts
    }
}

/// Starts Knot; `zone` says where the zone comes from.
fn knot(keys: &[(&str, &str)], zone: &str) -> NameDaemon {
    let place = Place::new();
    let port = free_port();
    let dir = place.dir.path().display().to_string();
    place.write("lampholm.example.zone", ZONE);
    let key = |(name, algorithm): &(&str, &str)| {
        format!("  - id: {name}\n    algorithm: {algorithm}\n    secret: {SECRET}\n")
    };
    let names: Vec<&str> = keys.iter().map(|(name, _)| *name).collect();
    let config = format!(
        "server:\n  listen: 127.0.0.1@{port}\n  rundir: {dir}\nkey:\n{}acl:\n  - id: updates\n    address: 127.0.0.1\n    \
         key: [{}]\n    action: [update]\n  - id: transfers\n    address: 127.0.0.1\n    action: [transfer]\n\
         template:\n  - id: default\n    storage: {dir}\n    file: \"%s.zone\"\ndatabase:\n  storage: {dir}\n{zone}",
        keys.iter().map(key).collect::<String>(),
        names.join(", "),
    );
    let config = place.write("knot.conf", &config);
    let child =
        Command::new("/usr/sbin/knotd").arg("-c").arg(config).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
    let process = Process(child.expect("Debian's package knot is installed (scripts/test does it)"));
    await_port(port, "Knot");
    NameDaemon { address: SocketAddr::from(([127, 0, 0, 1], port)), place, _process: process }
}

#[test]
fn knot_takes_updates_with_every_algorithm_and_its_secondary_is_waited_for() {
    let keys = [("k256", "hmac-sha256"), ("k384", "hmac-sha384"), ("k512", "hmac-sha512")];
    let primary = knot(&keys, "zone:\n  - domain: lampholm.example\n    acl: [updates, transfers]\n");
    let remote = format!("remote:\n  - id: primary\n    address: 127.0.0.1@{}\n", primary.address.port());
    let secondary = knot(&keys[..1], &format!("{remote}zone:\n  - domain: lampholm.example\n    master: primary\n"));
    std::fs::remove_file(secondary.place.path("lampholm.example.zone")).unwrap_or_default();
    let pebble = archive(primary.address);
    let text = pebble.place.read("eskort.toml");
    let mut waited = 0;
    for (n, (name, algorithm)) in keys.into_iter().enumerate() {
        pebble.place.write("secret", &format!("{SECRET}\n"));
        let named = format!("key-name = \"{name}\"\nkey-algorithm = \"{algorithm}\"\nkey-secret-file = \"secret\"");
        let both = format!("name-servers = [\"{}\", \"{}\"]", primary.address, secondary.address);
        let text = text
            .replace("key-file = \"zone.key\"", &named)
            .replace("propagation-timeout = \"2s\"", "propagation-timeout = \"20s\"");
        let text = text.replace(&format!("name-servers = [\"{}\"]", primary.address), &both);
        pebble.place.write("eskort.toml", &format!("{text}key = \"{}\"\n", ["p256", "p384", "p256"][n]));
        let said = pebble.place.run(&["keep"]);
        said.check(0, &[&format!("generation {} stored", n + 1)]);
        waited += usize::from(said.err.contains("on 1 of 2 name servers"));
        assert_eq!(primary.texts(), Vec::<String>::new(), "{name}");
    }
    // It asks the primary every two seconds, and may just have done so.
    assert!(waited > 0, "the secondary is behind most of the time");
    let wrong =
        pebble.place.read("eskort.toml").replace("key-algorithm = \"hmac-sha512\"", "key-algorithm = \"hmac-sha256\"");
    pebble
        .place
        .write("eskort.toml", &format!("{}keep-key = true\n", wrong.replace("key = \"p256\"", "key = \"p384\"")));
    pebble.place.run(&["keep"]).check(1, &["does not know the key, or it has another secret there"]);

    let found = runtime().block_on(locate(primary.address, primary.address, RECORD)).unwrap();
    assert_eq!((found.zone.name.as_str(), found.zone.primary.as_str()), ("lampholm.example", "ns1.lampholm.example"));
    let addresses = runtime().block_on(find_addresses(primary.address, &found.zone.primary));
    assert_eq!(addresses, ["127.0.0.1:53".parse().unwrap()], "where updates go without `server`");
}

/// Starts PowerDNS with its HTTP API, and returns the API's port.
pub(crate) fn power_dns() -> (NameDaemon, u16) {
    let place = Place::new();
    let (port, api_port) = (free_port(), free_port());
    let dir = place.dir.path().display().to_string();
    place.write(
        "pdns.conf",
        &format!(
            "launch=lmdb\nlmdb-filename={dir}/zones.lmdb\nlocal-address=127.0.0.1\nlocal-port={port}\nsocket-dir={dir}\napi=yes\n\
             api-key=oil-and-wick\nwebserver=yes\nwebserver-address=127.0.0.1\nwebserver-port={api_port}\ndaemon=no\nguardian=no\n\
             cache-ttl=0\nquery-cache-ttl=0\nnegquery-cache-ttl=0\nzone-cache-refresh-interval=0\n"
        ),
    );
    let tool = |words: &[&str]| {
        let config = format!("--config-dir={dir}");
        let done = Command::new("pdnsutil").arg(config).args(words).output();
        let done =
            done.expect("Debian's packages pdns-server and pdns-backend-lmdb are installed (scripts/test does it)");
        assert!(done.status.success(), "{words:?}: {}", String::from_utf8_lossy(&done.stderr));
    };
    tool(&["create-zone", "lampholm.example", "ns1.lampholm.example"]);
    for name in ["ns1", "archive", "*"] {
        tool(&["add-record", "lampholm.example", name, "A", "127.0.0.1"]);
    }
    let child = Command::new("/usr/sbin/pdns_server")
        .arg(format!("--config-dir={dir}"))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let process = Process(child.unwrap());
    await_port(api_port, "PowerDNS");
    await_port(port, "PowerDNS");
    (NameDaemon { address: SocketAddr::from(([127, 0, 0, 1], port)), place, _process: process }, api_port)
}

#[test]
fn powerdns_takes_records_over_its_http_api_side_by_side_with_others() {
    let (server, api_port) = power_dns();
    let pebble = archive(server.address);
    let place = &pebble.place;
    place.write("secret", "oil-and-wick");
    let api = format!(
        "kind = \"web-api\"\nrecipe = \"powerdns\"\naddress = \"http://127.0.0.1:{api_port}\"\nsecret-file = \"secret\""
    );
    let text = place.read("eskort.toml");
    let text = text.replace("kind = \"dns-update\"", &api).replace("key-file = \"zone.key\"\n", "");
    place.write("eskort.toml", &text);
    place
        .run(&["keep"])
        .check(0, &["control of *.archive.lampholm.example and archive.lampholm.example proved", "confirmed"]);
    assert_eq!(server.texts(), Vec::<String>::new(), "the name is empty again");

    // Beside a record of somebody else's, which stays.
    let add = [&format!("--config-dir={}", server.place.dir.path().display()), "add-record", "lampholm.example"];
    let added =
        Command::new("pdnsutil").args(add).args(["_acme-challenge.archive", "TXT", "\"somebody else's\""]).status();
    assert!(added.unwrap().success());
    for point in ["owed", "record-added", "saved-respond"] {
        let key = if point == "record-added" { "p256" } else { "p384" };
        place.write("eskort.toml", &format!("{text}key = \"{key}\"\n"));
        let killed = place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
        // Now and then the authority takes one of the two names as proved already, and asks for one record only.
        let shown = place.run(&["show", "archive", "--output", "json"]);
        let shown: serde_json::Value = serde_json::from_str(&shown.check(0, &[]).out).unwrap();
        let owed = shown["debts"].as_array().unwrap().len();
        let (texts, placed) = (server.texts(), if point == "owed" { 0 } else { owed });
        assert!((1..=2).contains(&owed) && texts.len() == placed + 1, "{point}, {owed} owed: {texts:?}");
        place.run(&["keep"]).check(0, &["go on with", "confirmed"]);
        assert_eq!(server.texts(), ["somebody else's"], "{point}");
    }
    place.write("secret", "water");
    place.write("eskort.toml", &text);
    let refused = place.run(&["keep"]);
    refused.check(1, &["was answered with 401: Unauthorized", "does not accept the secret"]);
    assert!(!refused.err.contains("water"), "{refused}");
}
