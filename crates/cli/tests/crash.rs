//! The program killed at each point it names, and run again: the authority saw one order, one certificate came of it,
//! nothing stays published, and no backup is left open.

use crate::world::*;
use eskort_practice::{Fault, Resource};

/// Every point of a run, in its order. A point that no run passes fails the test.
const POINTS: &[&str] = &[
    "acted-prepare",
    "saved-prepare",
    "acted-place-order",
    "saved-place-order",
    "acted-choose-challenges",
    "saved-choose-challenges",
    "owed",
    "file-written",
    "acted-publish",
    "saved-publish",
    "acted-self-check",
    "saved-self-check",
    "acted-respond",
    "saved-respond",
    "acted-await-proof",
    "saved-await-proof",
    "taken-away",
    "acted-finalize",
    "saved-finalize",
    "acted-await-certificate",
    "saved-await-certificate",
    "acted-fetch",
    "saved-fetch",
    "backed-up",
    "switched",
    "written",
    "reloaded",
    "settled",
    "installed",
    "confirmed",
];

/// Points of what is beside a journey; each has its test.
const BESIDE: &[&str] =
    &["links-written", "rows-changed", "key-changed", "revoked", "swept", "told", "tlsa-published", "tlsa-removed"];

/// A world with two certificates that share their authority and a site.
fn two_certificates() -> World {
    let world = World::with(|o| o.thinking = std::time::Duration::from_millis(60));
    world.write_inventory(|text| {
        let text = text.replace("reload-timeout = \"3s\"", "reload-timeout = \"3s\"\nrun = [\"true\"]");
        text + "\n[certificate.annex]\nnames = [\"www.lampholm.example\"]\n"
    });
    world
}

#[test]
fn two_side_by_side_killed_twice_come_to_one_certificate_each() {
    for (n, point) in POINTS.iter().enumerate() {
        let world = two_certificates();
        let later = POINTS[(n * 7 + 3) % POINTS.len()];
        let killed = world.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "the run ends by a signal at {point}: {killed}");
        // The second point may be one that is passed already.
        let again = world.place.run_with("ESKORT_CRASH_AT", later, &["keep"]);
        assert!([None, Some(0)].contains(&again.code), "{point}, {later}: {again}");
        world.place.run(&["keep"]).check(0, &[]);
        world.place.run(&["keep"]).check(0, &["2 certificates: nothing to do"]);
        let (orders, certificates) = world.authority.counts();
        assert!(certificates == 2 && orders <= 2 + 4, "{orders}, {certificates} after {point}, {later}");
        world.place.check_nothing_published();
    }
}

#[test]
fn two_side_by_side_that_are_given_up_after_any_point_leave_nothing_published() {
    for point in POINTS {
        let world = two_certificates();
        let killed = world.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "the run ends by a signal at {point}: {killed}");
        // Other names are wanted of both: whatever was open is given up. Neither has those that the other had: an authority may give
        // an order again whose proofs it is looking at.
        world.names.set("harbour.lampholm.example", std::net::Ipv4Addr::LOCALHOST);
        world.write_inventory(|text| {
            let text = text.replace(", \"www.lampholm.example\"", "");
            text + "\n[certificate.annex]\nnames = [\"harbour.lampholm.example\"]\n"
        });
        world.place.run(&["keep", "--drop-names"]).check(0, &["generation"]);
        world.place.check_nothing_published();
        world.place.run(&["keep"]).check(0, &["2 certificates: nothing to do"]);
    }
}

#[test]
fn killed_at_any_point_the_next_run_brings_the_one_certificate() {
    for point in POINTS {
        // An authority that thinks for a moment, so that waiting is among the steps.
        let world = World::with(|o| o.thinking = std::time::Duration::from_millis(60));
        world.write_inventory(|text| {
            text.replace("reload-timeout = \"3s\"", "reload-timeout = \"3s\"\nrun = [\"true\"]")
        });
        let killed = world.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "the run ends by a signal at {point}: {killed}");
        let rest = if *point == "confirmed" { "nothing to do" } else { "installed and checked live" };
        world.keep().check(0, &[rest]);
        assert_eq!(world.authority.counts(), (1, 1), "orders and certificates after {point}");
        world.place.check_nothing_published();
        world.place.run(&["keep"]).check(0, &["nothing to do"]);
        let left = world.place.run(&["show", "website"]);
        assert!(!left.out.contains("left over") && !left.out.contains("journey"), "{point}: {left}");
        assert_eq!(world.place.mode("state/certificates/website/0001/key.pem"), 0o600);
    }
}

#[test]
fn no_point_of_the_code_is_forgotten() {
    let mut found = std::collections::BTreeSet::new();
    let mut folders = vec![std::path::PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/.."))];
    while let Some(folder) = folders.pop() {
        for path in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if path.is_dir() && !path.ends_with("tests") {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "rs")
                && path.components().any(|part| part.as_os_str() == "src")
            {
                let text = std::fs::read_to_string(&path).unwrap();
                let points = text.split("crash_point(\"").skip(1).filter_map(|rest| rest.split('"').next());
                found.extend(points.map(str::to_owned));
            }
        }
    }
    // What each action passes is named after it; records are tested with their name servers, uploads with their APIs.
    let known: Vec<&str> =
        POINTS.iter().copied().filter(|p| !p.starts_with("acted-") && !p.starts_with("saved-")).collect();
    assert!(found.remove("record-added") && found.remove("uploaded"));
    assert!(BESIDE.iter().all(|point| found.remove(*point)));
    assert_eq!(found, known.into_iter().map(str::to_owned).collect());
}

#[test]
fn nothing_stays_published_when_the_journey_is_given_up_after_a_crash() {
    for point in ["owed", "file-written", "saved-publish", "saved-respond"] {
        let world = World::new();
        world.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert!(point == "owed" || world.place.path("www/.well-known").exists(), "{point}");
        if point != "owed" {
            // Whoever runs Eskort, the web server can read it.
            let folder = "www/.well-known/acme-challenge";
            assert_eq!((world.place.mode("www/.well-known"), world.place.mode(folder)), (0o755, 0o755));
            for file in std::fs::read_dir(world.place.path(folder)).unwrap() {
                let name = file.unwrap().file_name().into_string().unwrap();
                assert_eq!(world.place.mode(&format!("{folder}/{name}")), 0o644, "{name}");
            }
        }
        world.write_inventory(|text| text.replace("\"lampholm.example\", ", ""));
        world.place.run(&["keep"]).check(0, &["the open journey is given up", "installed and checked live"]);
        world.place.check_nothing_published();
    }
}

/// Runs a command that is killed at a point.
fn kill(world: &World, day: i64, point: &str, words: &[&str]) {
    let offset = (day * 86_400).to_string();
    world.clock.set_offset(jiff::SignedDuration::from_hours(day * 24));
    let mut command = world.place.eskort();
    command.env("ESKORT_CRASH_AT", point).env("ESKORT_CLOCK_OFFSET", offset).args(words);
    let killed = Said::from(command.output().unwrap());
    assert_eq!(killed.code, None, "the run ends by a signal at {point}: {killed}");
}

#[test]
fn what_is_beside_a_journey_is_finished_after_a_kill_and_done_once() {
    let world = World::new();
    world.write_inventory(|text| {
        format!("keep-generations = 2\nkeep-days = 1\n{text}\n[notify.told]\nkind = \"program\"\nrun = [\"sh\", \"-c\", \"cat >> told; echo >> told\"]\n")
    });
    world.on_day(0, &["keep"]).check(0, &["generation 1 installed"]);
    // The authority knows the new key, and this machine does not know that.
    kill(&world, 0, "key-changed", &["account", "new-key"]);
    world.on_day(0, &["renew", "website"]).check(0, &["the account has another key now", "generation 2 installed"]);
    assert_eq!(world.authority.contacts().len(), 1, "no second account was made");
    // It is revoked, and not written down.
    kill(&world, 0, "revoked", &["revoke", "website", "--generation", "1", "--yes"]);
    world
        .on_day(0, &["revoke", "website", "--generation", "1", "--yes"])
        .check(0, &["Generation 1 of `website` is revoked"]);
    assert_eq!(world.authority.revoked().len(), 1);
    world.on_day(0, &["renew", "website"]).check(0, &["generation 3 installed"]);
    // The files of the old generation are gone, and that is not written down.
    kill(&world, 3, "swept", &["keep"]);
    assert!(!world.place.path("state/certificates/website/0001").exists());
    world.on_day(3, &["keep"]).check(0, &["the keys and chains of 1 old generation were removed"]);
    world.on_day(3, &["keep"]).check(0, &["nothing to do"]);
    world.on_day(3, &["check", "website"]).check(0, &["generation 3"]);
    // Somebody was told, and that is not written down: it is told again with the same number, so that nobody takes it for two.
    world.authority.misbehave(Resource::NewOrder, Fault::Status(503), 99);
    kill(&world, 62, "told", &["keep"]);
    world.on_day(63, &["keep"]).check(1, &["`told` was told: 1 piece of news"]);
    world.on_day(63, &["notify", "show"]).check(0, &["nothing waits"]);
    let told = world.place.read("told");
    let ids: Vec<String> =
        told.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()["id"].to_string()).collect();
    assert!(ids.len() == 2 && ids[0] == ids[1], "{told}");
}

/// Returns the files below a folder that passed through a name of their own.
fn passing(world: &World, folder: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut ahead = vec![world.place.path(folder)];
    while let Some(at) = ahead.pop() {
        for entry in std::fs::read_dir(at).into_iter().flatten().map(Result::unwrap) {
            let name = entry.file_name().into_string().unwrap();
            if entry.file_type().unwrap().is_dir() {
                ahead.push(entry.path());
            } else if name.ends_with(".new") || name.ends_with(".part") {
                found.push(name);
            }
        }
    }
    found
}

#[test]
fn killed_at_a_rename_nothing_is_left_under_a_passing_name_after_the_next_run() {
    for (file, folder) in
        [("public.key.pem", "state"), ("key.pem", "state"), ("bundle.pem", "state"), ("site.key", "tls")]
    {
        let world = World::new();
        let killed = world.place.run_with("ESKORT_CRASH_AT", &format!("rename-{file}"), &["keep"]);
        assert_eq!(killed.code, None, "{file}: {killed}");
        assert_eq!(passing(&world, folder).len(), 1, "{file}");
        world.keep().check(0, &["installed and checked live"]);
        assert_eq!((passing(&world, "state"), passing(&world, "tls")), (vec![], vec![]), "{file}");
        assert_eq!(world.authority.counts(), (1, 1), "{file}");
    }
    // In the public site: the name is that of the token, which a first run shows.
    let world = World::new();
    world.place.run_with("ESKORT_CRASH_AT", "owed", &["keep"]);
    let owed = world.place.run(&["show", "website", "--output", "json"]).out;
    let token = owed.split("acme-challenge/").nth(1).unwrap().split(['\'', '"', ' ']).next().unwrap().to_owned();
    let killed = world.place.run_with("ESKORT_CRASH_AT", &format!("rename-{token}"), &["keep"]);
    assert_eq!((killed.code, passing(&world, "www").len()), (None, 1), "{killed}");
    world.keep().check(0, &["installed and checked live"]);
    world.place.check_nothing_published();
}
