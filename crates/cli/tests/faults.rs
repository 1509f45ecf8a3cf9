//! An authority that misbehaves, a site that does not show the proof, a disk that is full: a clear error each time, nothing
//! half-written, nothing left published, and the next run goes on.

use crate::world::*;
use eskort_practice::{Fault, Resource};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::process::Command;

/// Checks that a failed run left everything as it was.
#[track_caller]
fn check_untouched(world: &World) {
    world.place.check_nothing_published();
    assert!(!world.place.path("tls").exists(), "a file was installed");
    assert!(!world.place.path("state/certificates/website/current").exists());
}

#[test]
fn every_fault_of_the_authority_is_said_and_the_next_run_goes_on() {
    use Fault::*;
    use Resource::*;
    // What misbehaves, how, what is said, and how many orders the authority has in the end.
    let table: Vec<(Resource, Fault, &[&str], usize)> = vec![
        (Directory, Status(500), &["HTTP 500", "the authority has a problem of its own"], 1),
        (Directory, NotAcme, &["is not an ACME directory", "<!doctype html>", "check the address of `directory`"], 1),
        (Directory, Hang, &["no answer from https://127.0.0.1", "within 6 seconds"], 1),
        (NewNonce, Status(404), &["not a fresh nonce"], 1),
        (NewAccount, Problem("unsupportedContact"), &["unsupportedContact: on demand", "check `contact`"], 1),
        (NewOrder, Status(503), &["HTTP 503", "the authority has a problem of its own"], 1),
        (NewOrder, RateLimited("7200".into()), &["rateLimited: too many requests", "Retry-After 7200"], 1),
        (NewOrder, Problem("rejectedIdentifier"), &["rejectedIdentifier", "check the names"], 1),
        (NewOrder, CutBefore, &["cannot reach https://127.0.0.1"], 1),
        (NewOrder, BadNonce, &["badNonce"], 1),
        (Authorization, Status(500), &["HTTP 500"], 1),
        (Challenge, RefuseProof, &["lampholm.example: unauthorized", "the next run begins with a new order"], 2),
        (Challenge, Status(500), &["HTTP 500"], 1),
        (Order, Status(502), &["HTTP 502"], 1),
        (Order, Status(404), &["HTTP 404", "the next run begins with a new order"], 2),
        (Order, Hang, &["no answer from"], 1),
        (Finalize, StuckProcessing, &["still waiting for the authority to issue", "without a second order"], 1),
        (Finalize, WrongKey, &["not for the key of this order", "nothing was installed"], 2),
        (Finalize, Problem("badCSR"), &["badCSR", "new order"], 2),
        (Certificate, Status(500), &["HTTP 500"], 1),
        (Certificate, NotAcme, &["there is no certificate in it"], 2),
    ];
    for (resource, fault, said, orders) in table {
        let world = World::new();
        // With a nonce in every answer, a nonce is asked for only when the directory's answer brings none.
        if resource == NewNonce {
            world.authority.misbehave(Directory, NoNonce, 1);
        }
        world.authority.misbehave(resource, fault.clone(), 99);
        let first = world.keep();
        first.check(1, said);
        assert!(first.err.contains("hint: "), "{resource:?} {fault:?}: {first}");
        check_untouched(&world);
        world.authority.behave();
        world.keep().check(0, &["installed and checked live"]);
        assert_eq!(world.authority.counts().0, orders, "{resource:?} {fault:?}");
        world.place.check_nothing_published();
    }
}

#[test]
fn a_single_fault_is_ridden_out_without_a_second_order() {
    use Fault::*;
    use Resource::*;
    let all = [Directory, NewAccount, NewOrder, Authorization, Challenge, Order, Finalize, Certificate];
    for resource in all {
        for fault in [Status(500), BadNonce, CutBefore, CutAfter] {
            if resource == Directory && fault == BadNonce {
                continue;
            }
            let world = World::new();
            world.authority.misbehave(resource, fault.clone(), 1);
            let first = world.keep();
            // Whether an order whose answer was lost exists is not to be known: that one is left to the next run.
            if first.code != Some(0) {
                let lost = resource == NewOrder && matches!(fault, CutBefore | CutAfter | Status(500));
                assert!(lost, "{resource:?} {fault:?}: {first}");
                world.keep().check(0, &["installed and checked live"]);
            }
            assert_eq!(world.authority.counts(), (1, 1), "{resource:?} {fault:?}");
            world.place.check_nothing_published();
        }
    }
}

#[test]
fn after_a_refusal_the_authority_is_left_alone_until_somebody_insists() {
    let world = World::new();
    world.authority.misbehave(Resource::NewOrder, Fault::RateLimited("7200".into()), 1);
    world.keep().check(1, &["rateLimited"]);
    let asked = world.authority.asked().len();
    world
        .place
        .run(&["keep"])
        .check(4, &["its authority is not asked again until", "`eskort keep --only website` tries at once"]);
    world.place.run(&["list"]).check(4, &["1 failure"]);
    world.place.run(&["show", "website"]).check(0, &["rateLimited", "failed:"]);
    assert_eq!(world.authority.asked().len(), asked, "the authority was not asked again");
    world.keep().check(0, &["installed and checked live"]);
    world.place.run(&["list"]).check(0, &["good"]);
}

/// A listener that answers everything with the same bytes.
fn answer_always(answer: &'static str) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            let _ = stream.read(&mut [0; 4096]);
            let _ = stream.write_all(answer.replace("PORT", &port.to_string()).as_bytes());
        }
    });
    port
}

#[test]
fn what_is_not_visible_stops_before_the_authority_is_told_to_look() {
    let refused = free_port();
    let table: Vec<(u16, &[&str])> = vec![
        (
            answer_always("HTTP/1.1 404 Not Found\r\nContent-Length: 5\r\n\r\nno\u{1b}[m"),
            &["status 404", "`folder` is probably not the one"],
        ),
        (
            answer_always("HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n"),
            &["status 403", "hidden folders included"],
        ),
        (
            answer_always("HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nWelcome!\n"),
            &["a different text came back: `Welcome!`"],
        ),
        (
            answer_always("HTTP/1.1 302 Found\r\nLocation: ftp://lampholm.example/\r\nContent-Length: 0\r\n\r\n"),
            &["a redirect to `ftp://lampholm.example/`: neither http nor https"],
        ),
        (
            answer_always(
                "HTTP/1.1 301 Moved\r\nLocation: http://lampholm.example:PORT/round\r\nContent-Length: 0\r\n\r\n",
            ),
            &["more than ten redirects"],
        ),
        (answer_always("220 mail.lampholm.example ESMTP\r\n"), &["sent no HTTP response"]),
        (refused, &["no connection to lampholm.example", "as the inventory says", "Connection refused"]),
    ];
    let world = World::new();
    let inventory = world.place.read("eskort.toml");
    let site = format!("check-address = \"{}\"", world.site.plain_address());
    for (port, said) in table {
        world
            .place
            .write("eskort.toml", &inventory.replacen(&site, &format!("check-address = \"127.0.0.1:{port}\""), 1));
        world.keep().check(1, said).check(1, &["cannot be seen", "/.well-known/acme-challenge/"]);
        check_untouched(&world);
    }
    // Without `check-address` the name counts, and reserved names lead nowhere.
    world.place.write("eskort.toml", &inventory.replacen(&site, "", 1));
    world.keep().check(1, &["lampholm.example resolves to no address", "add an address record"]);
    assert!(!world.authority.asked().contains(&Resource::Challenge), "the authority was never told to look");
    world.place.write("eskort.toml", &inventory);
    world.keep().check(0, &["go on with generation 1 from `ordered`", "installed and checked live"]);
    assert_eq!(world.authority.counts(), (1, 1), "all with one order");
}

#[test]
fn an_authority_that_wants_to_be_asked_a_day_later_keeps_nobody_waiting() {
    let world = World::with(|options| options.thinking = std::time::Duration::from_secs(2));
    world.authority.misbehave(Resource::Order, Fault::AskLater("86400".into()), 1);
    world.write_inventory(|text| {
        let text = text.replace("kind = \"acme\"", "kind = \"acme\"\nat-once = 1");
        text + "\n[certificate.zone]\nnames = [\"www.lampholm.example\"]\n"
    });
    let begun = std::time::Instant::now();
    let said = world.place.run(&["keep"]);
    said.check(3, &["next check at", "zone", "generation 1 stored"]);
    assert!(begun.elapsed() < std::time::Duration::from_secs(30), "{said}");
    assert!(world.place.path("www/.well-known").exists(), "what proves control stays: the authority may be looking");
    world.place.run(&["keep"]).check(3, &["next check at"]);
    world.on_day(2, &["keep"]).check(0, &["go on with generation 1", "installed and checked live"]);
    world.place.check_nothing_published();
    assert_eq!(world.authority.counts().0, 2, "two orders in all");
}

#[test]
fn the_answer_to_a_challenge_says_when_the_order_is_asked_for_but_not_for_long() {
    let world = World::new();
    world.authority.misbehave(Resource::Challenge, Fault::AskLater("86400".into()), 1);
    world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"20s\""));
    let begun = std::time::Instant::now();
    let said = world.place.run(&["keep"]);
    said.check(0, &["installed and checked live"]);
    assert!(begun.elapsed() >= std::time::Duration::from_secs(9), "{said}");
    let asked = world.authority.asked();
    let looks = asked.iter().take_while(|what| **what != Resource::Finalize).filter(|what| **what == Resource::Order);
    assert_eq!(looks.count(), 1, "{asked:?}");
}

#[test]
fn a_listener_whose_port_is_taken_says_so() {
    let world = World::new();
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let proof = format!("kind = \"http-listener\"\nlisten = \"{}\"", taken.local_addr().unwrap());
    world.write_inventory(|text| text.replace("kind = \"http-folder\"\nfolder = \"www\"", &proof));
    world.keep().check(1, &["cannot listen on 127.0.0.1", "another program uses the port"]);
}

/// Runs the program in a world of mounts of its own, after a mount.
fn keep_after_mount(world: &World, mount: &str) -> Said {
    let root = Command::new("id").arg("-u").output().unwrap().stdout == b"0\n";
    let script = format!("mount -t tmpfs {mount} && exec \"$0\" keep --only website");
    let mut command = Command::new("unshare");
    command.args([if root { "-m" } else { "-Urm" }, "sh", "-c", &script, env!("CARGO_BIN_EXE_eskort")]);
    command.env("HOME", world.place.dir.path()).current_dir(world.place.dir.path());
    command.env("ESKORT_CONFIG", world.place.path("eskort.toml"));
    let output = command.output().expect("unshare is part of Debian's util-linux");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Said { code: output.status.code(), out: text(&output.stdout), err: text(&output.stderr) }
}

#[test]
fn a_full_disk_or_a_folder_that_cannot_be_written_harms_nothing() {
    let table: [(&str, &[&str]); 4] = [
        // The bundle fits, the key does not any more.
        ("-o size=4k tmpfs tls", &["cannot write", "site.key: No space left on device", "everything was put back"]),
        ("-o ro tmpfs www", &["cannot write", "Read-only file system", "must be writable for the user"]),
        ("-o size=16k tmpfs state", &["cannot use the state folder", "check that the disk is not full"]),
        ("-o ro tmpfs state", &["cannot use the state folder", "Read-only file system"]),
    ];
    for (mount, said) in table {
        let world = World::new();
        for folder in ["tls", "state"] {
            std::fs::create_dir_all(world.place.path(folder)).unwrap();
        }
        keep_after_mount(&world, mount).check(1, said);
        world.place.check_nothing_published();
        assert!(!world.place.path("state/certificates/website/current").exists(), "{mount}");
        world.keep().check(0, &["installed and checked live"]);
        assert_eq!(world.authority.counts().1, 1, "{mount}");
    }
}
