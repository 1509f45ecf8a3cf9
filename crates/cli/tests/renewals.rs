//! What stood in the way of a renewal once: an installation that failed, a look that was not possible, an inventory that changed,
//! an authority that is down, a ledger that is lost.

use crate::world::*;
use eskort_core::pki::{Certificate, base64url};
use eskort_practice::{Fault, Resource};
use jiff::{SignedDuration, Timestamp};

#[test]
fn an_installation_that_failed_once_does_not_stop_the_next_renewals() {
    let world = World::new();
    let broken = |text: String| text.replace("reload-timeout = \"3s\"", "reload-timeout = \"3s\"\nrun = [\"false\"]");
    world.write_inventory(broken);
    world.on_day(0, &["keep"]).check(1, &["could not be reloaded"]);
    world.on_day(20, &["keep"]).check(1, &["put generation 1 in place"]);
    for (day, generation) in [(62, 2), (95, 2), (125, 3)] {
        let said = world.on_day(day, &["keep"]);
        said.check(1, &[&format!("generation {generation}"), "could not be reloaded"]);
        assert!(!said.err.contains("expired"), "{said}");
        assert_eq!(world.authority.counts().1, generation, "day {day}: {said}");
    }
    world.write_inventory(|text| text);
    world.on_day(126, &["keep"]).check(0, &["put generation 3 in place", "installed and checked live"]);
    world.on_day(190, &["keep"]).check(0, &["generation 4 installed and checked live"]);
}

#[test]
fn a_machine_that_cannot_look_at_itself_says_so_and_renews_all_the_same() {
    let world = World::new();
    // The program's own look is at a port that nobody listens on.
    let refused = free_port();
    let tls = world.site.tls_address().to_string();
    let dark = |text: String| {
        // The installing look has its own address: a server of kind files has none without `check-address`.
        text.replace(&format!("check-address = \"{tls}\"\n"), "")
    };
    world.write_inventory(dark);
    world.on_day(0, &["keep"]).check(0, &["stored and put in place"]);

    let elsewhere = |text: String| text.replace(&tls, &format!("127.0.0.1:{refused}"));
    world.write_inventory(elsewhere);
    // A server that is expected to serve it here and does not is a failure, and is undone; renewals go on.
    world.on_day(62, &["keep"]).check(1, &["does not serve the new certificate"]);
    world.on_day(130, &["keep"]).check(1, &["generation 3"]);
    assert_eq!(world.authority.counts().1, 3);
}

#[test]
fn a_reinstalled_server_gets_what_lies_here_while_the_authority_is_down() {
    let world = World::new();
    world.on_day(0, &["keep"]).check(0, &["generation 1 installed"]);
    world.authority.misbehave(Resource::NewOrder, Fault::RateLimited("604800".into()), 1);
    world.on_day(62, &["keep"]).check(1, &["rateLimited"]);
    std::fs::remove_dir_all(world.place.path("tls")).unwrap();
    let planned = world.on_day(63, &["keep", "--plan"]);
    planned.check(0, &["put generation 1 in place", "its authority is not asked again", "writes"]);
    let said = world.on_day(63, &["keep"]);
    said.check(
        4,
        &["put generation 1 in place", "generation 1 put in place; its authority is not asked again", "rateLimited"],
    );
    assert!(world.place.path("tls/site.key").exists());
    world.on_day(72, &["keep"]).check(0, &["generation 2 installed and checked live"]);
    world.on_day(72, &["show", "website"]).check(0, &["SERVER", "front", "confirmed"]);
}

#[test]
fn one_hold_for_all_certificates_of_an_authority_and_one_question_while_it_is_out_of_reach() {
    let five = |text: String| {
        let more: String = (0..5)
            .map(|n| format!("\n[certificate.room{n}]\nnames = [\"{}\"]\ninstall = []\n", NAMES[n % 2]))
            .collect();
        text + &more
    };
    let world = World::new();
    world.write_inventory(five);
    world.authority.misbehave(Resource::NewOrder, Fault::RateLimited("7200".into()), 99);
    let said = world.place.run(&["keep"]);
    said.check(1, &["its authority is not asked again until", "rateLimited: too many requests"]);
    let orders = |world: &World| world.authority.asked().iter().filter(|r| **r == Resource::NewOrder).count();
    assert_eq!((orders(&world), said.err.matches("error:").count()), (1, 1), "{said}");
    world.place.run(&["keep"]).check(4, &["not asked again until"]);
    assert_eq!(orders(&world), 1);

    // One that does not answer costs its time once.
    let world = World::new();
    world.write_inventory(five);
    world.authority.misbehave(Resource::Directory, Fault::Hang, 99);
    let said = world.place.run(&["keep"]);
    said.check(1, &["no answer from https://127.0.0.1", "its authority cannot be reached in this run"]);
    assert_eq!(said.err.matches("error:").count(), 1, "{said}");
    assert_eq!(world.authority.asked().len(), 1, "{said}");
    world.authority.behave();
    world.place.run(&["keep"]).check(0, &["generation 1 stored"]);
}

#[test]
fn a_hold_that_came_from_the_inventory_ends_when_that_section_changes() {
    let world = World::with(|o| o.external_account = Some(("lamp".into(), b"0123456789abcdef".to_vec())));
    let with_key = |text: String| {
        text.replace(
            "accept-terms = true",
            "accept-terms = true\nexternal-key-id = \"lamp\"\nexternal-key-file = \"key\"",
        )
    };
    world.write_inventory(with_key);
    world.place.write("key", "AAAA");
    world.place.run(&["keep"]).check(1, &["externalAccountRequired"]);
    world.place.run(&["keep"]).check(4, &["not asked again"]);
    world.place.write("key", "MDEyMzQ1Njc4OWFiY2RlZg");
    world.place.run(&["keep"]).check(0, &["installed and checked live"]);
}

#[test]
fn a_changed_kind_of_authority_or_address_begins_anew_and_the_others_go_on() {
    let world = World::new();
    let csr = "[authority.public]\nkind = \"csr\"\n";
    let one_more = "\n[certificate.zone]\nnames = [\"www.lampholm.example\"]\nauthority = \"other\"\n";
    let section = |text: &str| {
        let (head, rest) = text.split_once("[authority.public]").unwrap();
        let (section, rest) = rest.split_once("[proof.pages]").unwrap();
        (head.to_owned(), format!("[authority.public]{section}"), format!("[proof.pages]{rest}"))
    };
    let text = world.place.read("eskort.toml").replace("install = [", "authority = \"public\"\ninstall = [");
    let (head, acme, rest) = section(&text);
    let other = acme.replace("authority.public", "authority.other");
    let with = |public: &str| world.place.write("eskort.toml", &format!("{head}{public}{other}{rest}{one_more}"));
    with(csr);
    world.place.run(&["keep"]).check(3, &["waits for you", "generation 1 stored"]);
    with(&acme);
    world.place.run(&["keep"]).check(0, &["the open journey is given up", "generation 2 installed and checked live"]);
    // The other way round, in the middle of an order; and to another address under the same name.
    let world = World::new();
    world.authority.misbehave(Resource::Finalize, Fault::StuckProcessing, 1);
    world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"1s\""));
    world.keep().check(1, &["still waiting for the authority to issue"]);
    let text = world.place.read("eskort.toml");
    let (head, acme, rest) = section(&text);
    world.place.write("eskort.toml", &format!("{head}{csr}{rest}"));
    world.keep().check(3, &["the open journey is given up", "waits for you"]);
    world.place.write("eskort.toml", &format!("{head}{acme}{rest}").replace("/directory\"", "/directory?now\""));
    world.keep().check(0, &["the open journey is given up", "installed and checked live"]);
    world.place.write("eskort.toml", &format!("{head}{acme}{rest}"));
    world.place.run(&["keep"]).check(0, &["the authority in the inventory changed", "installed and checked live"]);
}

#[test]
fn after_a_change_of_the_kind_of_key_the_old_key_is_not_used() {
    let world = World::new();
    world.authority.misbehave(Resource::Challenge, Fault::Status(500), 99);
    world.keep().check(1, &["key (p256) stored"]);
    world.authority.behave();
    let key = |kind: &str| {
        let kind = format!("[certificate.website]\nkey = \"{kind}\"");
        world.write_inventory(|text| text.replace("[certificate.website]", &kind));
    };
    key("rsa2048");
    world.keep().check(0, &["key (rsa2048) stored", "installed and checked live"]);
    world.place.openssl(&["x509", "-in", "tls/site.pem", "-noout", "-text"]).check(0, &["Public-Key: (2048 bit)"]);
    // A key that the authority refused is not offered again.
    key("p384");
    world.authority.misbehave(Resource::Finalize, Fault::Problem("badPublicKey"), 1);
    world.keep().check(1, &["badPublicKey", "new order"]);
    let keys = || {
        let folders = std::fs::read_dir(world.place.path("state/certificates/website")).unwrap();
        let key =
            |e: std::io::Result<std::fs::DirEntry>| std::fs::read_to_string(e.unwrap().path().join("key.pem")).ok();
        folders.filter_map(key).collect::<std::collections::BTreeSet<_>>().len()
    };
    let before = keys();
    world.keep().check(0, &["installed and checked live"]);
    assert_eq!(keys(), before + 1);
    // What else the CSR asks for is noticed too.
    world.write_inventory(|text| {
        text.replace("[certificate.website]", "[certificate.website]\nkey = \"p384\"\nmust-staple = true")
    });
    world.place.run(&["keep", "--plan"]).check(0, &["what the inventory asks for beside names and key changed"]);
}

#[test]
fn a_server_that_comes_later_gets_the_generation_and_the_others_are_left_alone() {
    let world = World::new();
    let count = "run = [\"sh\", \"-c\", \"echo told >> front.log\"]";
    let front = |text: String| text.replace("reload-timeout = \"3s\"", &format!("reload-timeout = \"3s\"\n{count}"));
    world.write_inventory(front);
    world.keep().check(0, &["generation 1 installed and checked live"]);
    let back = "[server.back]\nkind = \"files\"\ncopy = [{ part = \"key\", to = \"back/site.key\" }]\n";
    let both = |text: String| {
        let text = front(text).replace("{ server = \"front\" }", "{ server = \"front\" }, { server = \"back\" }");
        format!("{text}\n{back}")
    };
    world.write_inventory(both);
    world.place.run(&["list"]).check(0, &["on 1 of 2 servers"]);
    let lacking = "put generation 1 on 1 of 2 servers:";
    let plan = world.place.run(&["keep", "--plan"]);
    plan.check(0, &[lacking, "back/site.key"]);
    assert!(!plan.out.contains("front.log"), "{plan}");
    world.place.run(&["keep"]).check(0, &[lacking, "generation 1 stored and put in place"]);
    world.place.run(&["list"]).check(0, &["good"]);
    world.place.run(&["show", "website"]).check(0, &["2 of 2 servers have the newest generation"]);
    assert_eq!(world.place.mode("back/site.key"), 0o600);
    assert_eq!(world.place.read("front.log"), "told\n");
}

#[test]
fn generations_on_disk_are_taken_in_again_when_the_ledger_is_lost() {
    let world = World::new();
    world.keep().check(0, &["generation 1 installed"]);
    let key = world.place.read("state/certificates/website/0001/key.pem");
    for name in ["ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"] {
        let _ = std::fs::remove_file(world.place.path(&format!("state/{name}")));
    }
    let unchecked = "check generation 1: server `front` has not been checked live";
    world.place.run(&["keep", "--plan"]).check(0, &[unchecked]);
    world.place.run(&["keep"]).check(0, &["generation 1 was found in the state folder", unchecked, "checked live"]);
    world.place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(world.authority.counts().1, 1);
    // One that is for something else stays where it is, and the next is numbered above it.
    for name in ["ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"] {
        let _ = std::fs::remove_file(world.place.path(&format!("state/{name}")));
    }
    world.write_inventory(|text| text.replace("names = [\"lampholm.example\", ", "names = ["));
    world.place.run(&["keep"]).check(0, &["get the first certificate (generation 2)", "generation 2 installed"]);
    assert_eq!(world.place.read("state/certificates/website/0001/key.pem"), key);
    assert_ne!(world.place.read("state/certificates/website/0002/key.pem"), key);
}

/// The kinds of certificates that it offers.
const PROFILES: &[(&str, SignedDuration)] =
    &[("long", SignedDuration::from_hours(90 * 24)), ("short", SignedDuration::from_hours(6 * 24))];

/// An authority that says when it wants its certificates renewed, and offers two kinds of them.
fn with_renewals() -> World {
    World::with(|options| {
        options.renewals = true;
        options.profiles = PROFILES;
    })
}

/// Returns a day of the practice world.
fn day(n: i64) -> Timestamp {
    Timestamp::now() + SignedDuration::from_hours(n * 24)
}

#[test]
fn a_certificate_is_renewed_when_its_authority_wants_it() {
    let world = with_renewals();
    let asked = || world.authority.asked().iter().filter(|what| **what == Resource::RenewalInfo).count();
    world.on_day(0, &["keep"]).check(0, &["generation 1 installed"]);
    assert_eq!(asked(), 0, "there was nothing to ask about");
    // What it is asked about is the issuer's key and the serial number, as openssl reads them.
    let file = "state/certificates/website/0001/certificate.pem";
    let said = world.place.openssl(&["x509", "-in", file, "-noout", "-serial", "-ext", "authorityKeyIdentifier"]);
    let bytes = |text: &str| -> Vec<u8> {
        let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
        digits.chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap()).collect()
    };
    let serial = bytes(said.out.lines().find_map(|line| line.strip_prefix("serial=")).unwrap());
    let serial = if serial[0] & 0x80 == 0 { serial } else { [&[0], &serial[..]].concat() };
    let key = bytes(said.out.lines().last().unwrap().trim().trim_start_matches("keyid:"));
    let certificate = &Certificate::all_from_pem(&world.place.read(file)).unwrap()[0];
    let id = format!("{}.{}", base64url(&key), base64url(&serial));
    assert_eq!(certificate.renewal_id(), Some(id), "{said}");
    let usual = world.on_day(1, &["keep"]);
    usual.check(
        0,
        &["its authority wants it renewed between", "nothing to do; renewal on", "when its authority asks for it"],
    );
    world.on_day(1, &["keep"]).check(0, &["nothing to do"]);
    assert_eq!(asked(), 1, "it is asked again after the six hours that it says");
    // Now it wants it sooner.
    world.authority.ask_renewal(day(10), day(12));
    let sooner = world.on_day(2, &["keep"]);
    sooner.check(0, &["its authority wants it renewed between", "why, says https://ca.lampholm.example/renewals"]);
    let shown = world.on_day(2, &["show", "website"]);
    shown.check(0, &["its authority wants it renewed between", "why: https://ca.lampholm.example/renewals"]);
    let moment = world.on_day(2, &["show", "website", "--output", "json"]);
    let report: serde_json::Value = serde_json::from_str(&moment.out).unwrap();
    let moment: Timestamp = report["asked_renewal"]["moment"].as_str().unwrap().parse().unwrap();
    assert!(moment > day(9) && moment < day(13) && report["renew_at"] == report["asked_renewal"]["moment"], "{report}");
    let quiet = world.on_day(3, &["keep"]);
    assert!(!quiet.err.contains("wants it renewed"), "said once: {quiet}");
    world.on_day(9, &["keep"]).check(0, &["nothing to do"]);
    world.on_day(9, &["list"]).check(0, &["good"]);
    world.on_day(13, &["list"]).check(4, &["due"]);
    world.on_day(13, &["keep", "--plan"]).check(0, &["its authority asks for the renewal"]);
    world.authority.ask_renewal(day(70), day(71));
    world.on_day(13, &["keep"]).check(0, &["nothing to do; renewal on"]);
    world.authority.ask_renewal(day(10), day(12));
    world.on_day(14, &["keep"]).check(0, &["its authority asks for the renewal", "generation 2 installed"]);
    assert_eq!(world.authority.replaced(), [None, Some(0)], "the order says which certificate it replaces");
}

#[test]
fn an_authority_that_answers_oddly_is_survived_and_the_lifetime_counts() {
    let world = with_renewals();
    world.on_day(0, &["keep"]).check(0, &["generation 1 installed"]);
    for (n, fault, said) in [
        (1, Fault::TurnedWindow, "its window ends before it begins"),
        (2, Fault::Problem("malformed"), "malformed"),
        (3, Fault::NotAcme, "renewal information"),
        (4, Fault::Status(404), "404"),
    ] {
        world.authority.misbehave(Resource::RenewalInfo, fault, 1);
        let told = world.on_day(n, &["keep"]);
        told.check(0, &["does not say when to renew it", said, "as its lifetime says", "nothing to do"]);
    }
    world.on_day(4, &["show", "website"]).check(0, &["does not say when to renew it"]);
    // Too late to be trusted, and what was there before the trouble counts.
    world.authority.ask_renewal(day(88), day(89));
    world.on_day(5, &["keep"]).check(0, &["wants it renewed between", "nothing to do"]);
    world.authority.misbehave(Resource::RenewalInfo, Fault::CutBefore, 9);
    world
        .on_day(61, &["keep"])
        .check(0, &["does not say when to renew it", "as the last answer says", "renewal is due"]);
    world.authority.behave();
    // One that was replaced elsewhere is replaced all the same.
    world.authority.misbehave(Resource::NewOrder, Fault::Problem("alreadyReplaced"), 1);
    world.authority.ask_renewal(day(0), day(1));
    let again = world.on_day(63, &["keep"]);
    again.check(0, &["does not take the order as a replacement (`alreadyReplaced`)", "generation 3 installed"]);
    assert_eq!(world.authority.replaced().last(), Some(&None));
}

#[test]
fn a_profile_is_one_that_the_authority_offers() {
    let world = with_renewals();
    let with = |profile: &str| {
        let line = format!("profile = \"{profile}\"\ninstall = [");
        world.write_inventory(|text| text.replace("install = [", &line));
    };
    with("shrot");
    world.on_day(0, &["keep"]).check(1, &["the authority has no profile `shrot`", "it offers long and short"]);
    assert_eq!(world.authority.counts(), (0, 0));
    with("short");
    world.on_day(0, &["keep", "--only", "website"]).check(0, &["generation 1 installed", "valid for 6 days"]);
    world.on_day(1, &["keep"]).check(0, &["nothing to do"]);
    with("long");
    let replaced = world.on_day(1, &["keep"]);
    replaced.check(0, &["what the inventory asks for beside names and key changed", "valid for 90 days"]);
}
