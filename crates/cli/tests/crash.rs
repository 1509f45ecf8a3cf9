//! The program killed at each point it names, and run again: the authority saw one order, one certificate came of it,
//! nothing stays published, and no backup is left open.

use crate::world::*;

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
    "acted-look-first",
    "saved-look-first",
    "acted-answer",
    "saved-answer",
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
    "acted-install",
    "saved-install",
    "acted-confirm",
    "saved-confirm",
];

#[test]
fn killed_at_any_point_the_next_run_brings_the_one_certificate() {
    for point in POINTS {
        // An authority that thinks for a moment, so that waiting is among the steps.
        let world = World::with(|o| o.thinking = std::time::Duration::from_millis(60));
        world.write_inventory(|text| text.replace("settle = \"3s\"", "settle = \"3s\"\nrun = [\"true\"]"));
        let killed = world.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "the run ends by a signal at {point}: {killed}");
        let rest = if *point == "saved-confirm" { "nothing to do" } else { "installed and seen live" };
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
fn nothing_stays_published_when_the_journey_is_given_up_after_a_crash() {
    for point in ["owed", "file-written", "saved-publish", "saved-answer"] {
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
        world.place.run(&["keep"]).check(0, &["the open journey is given up", "installed and seen live"]);
        world.place.check_nothing_published();
    }
}
