//! Accounts that are lost, forgotten, ended or changed; requests that are sent again; what an authority says and how it is told.

use crate::world::*;
use eskort_practice::{Fault, Resource};

fn renew(world: &World, key: &str) -> Said {
    let key = format!("[certificate.website]\nkey = \"{key}\"");
    world.write_inventory(|text| text.replace("[certificate.website]", &key));
    world.keep()
}

#[test]
fn a_lost_account_key_makes_a_new_account_and_the_old_address_is_forgotten() {
    let world = World::new();
    world.keep().check(0, &["a new account; the authority's terms are agreed to"]);
    std::fs::remove_file(world.place.path("state/accounts/public.key.pem")).unwrap();
    renew(&world, "p384").check(0, &["a new account", "generation 2 installed and checked live"]);
    // One that was put there from elsewhere, without a word.
    let key = world.place.openssl(&["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256"]);
    world.place.write("state/accounts/public.key.pem", &key.out);
    renew(&world, "p256").check(0, &["a new account", "generation 3 installed and checked live"]);
    // The account of a key that has one already is not called new.
    let ledger = |name: &str| world.place.path(&format!("state/ledger.sqlite{name}"));
    ["", "-wal", "-shm"].iter().for_each(|name| drop(std::fs::remove_file(ledger(name))));
    let said = renew(&world, "p384");
    said.check(0, &["installed and checked live"]);
    assert!(!said.err.contains("a new account"), "{said}");
}

#[test]
fn an_account_that_the_authority_forgot_or_ended_ends_the_journey_and_a_new_one_is_made() {
    for (what, said) in [("forgot", "accountDoesNotExist"), ("ended", "the authority has ended the account")] {
        let lose = |world: &World| {
            if what == "forgot" { world.authority.forget_accounts() } else { world.authority.end_accounts() }
        };
        // Before an order: in the same run.
        let world = World::new();
        world.keep().check(0, &["generation 1"]);
        lose(&world);
        renew(&world, "p384").check(0, &["a new account", "generation 2 installed and checked live"]);
        // In the middle of one: the order is lost, and the next run has a new account.
        let world = World::new();
        world.authority.misbehave(Resource::Finalize, Fault::StuckProcessing, 1);
        world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"1s\""));
        // At the real pace: the next run must not find itself before the moment that the first was told to ask again.
        let keep = || world.place.run(&["keep"]);
        keep().check(1, &["still waiting"]);
        lose(&world);
        keep().check(1, &[said, "the next run begins with a new order"]);
        world.keep().check(0, &["a new account", "installed and checked live"]);
    }
}

#[test]
fn a_changed_contact_is_brought_to_the_authority_once() {
    let world = World::new();
    world.keep().check(0, &["generation 1"]);
    let renew = |key: &str| {
        let change = format!("[certificate.website]\nkey = \"{key}\"");
        world.write_inventory(|text| text.replace("keeper@", "warden@").replace("[certificate.website]", &change));
        world.keep().check(0, &["installed and checked live"]);
    };
    renew("p384");
    renew("p256");
    assert_eq!(world.authority.contacts(), ["mailto:keeper@lampholm.example", "mailto:warden@lampholm.example"]);
}

#[test]
fn what_a_person_has_to_do_at_the_authority_is_said_with_its_addresses() {
    let world = World::new();
    world.authority.misbehave(Resource::NewOrder, Fault::UserAction, 1);
    world.keep().check(
        1,
        &[
            "userActionRequired",
            "https://ca.lampholm.example/agree",
            "https://ca.lampholm.example/terms-2",
            "asked to accept the order",
        ],
    );
}

#[test]
fn hints_follow_what_was_asked_and_every_name_that_failed_is_told() {
    let world = World::new();
    world.authority.misbehave(Resource::NewOrder, Fault::Problem("unauthorized"), 1);
    let said = world.keep();
    said.check(1, &["the authority does not accept the account as it is", "asked to accept the order"]);
    assert!(!said.err.contains("did not see what this machine saw"), "{said}");
    let world = World::new();
    world.authority.misbehave(Resource::Challenge, Fault::RefuseProof, 2);
    world.keep().check(
        1,
        &["lampholm.example: unauthorized", "www.lampholm.example: unauthorized", "did not see what this machine saw"],
    );
    // Must-staple that was asked for and not granted.
    let world = World::new();
    world.write_inventory(|text| text.replace("[certificate.website]", "[certificate.website]\nmust-staple = true"));
    world.keep().check(0, &["does not say that servers have to staple"]);
}

#[test]
fn refused_nonces_are_no_failure_and_the_trouble_behind_them_is_told() {
    for percent in [50, 80] {
        let world = World::with(|o| o.refused_nonces = percent);
        for order in 1..=6 {
            let patient = format!("timeout = \"60s\"\n# {order}");
            let key = format!("[certificate.website]\nkey = \"{}\"", ["p256", "p384"][order % 2]);
            world.write_inventory(|text| {
                text.replace("timeout = \"6s\"", &patient).replace("[certificate.website]", &key)
            });
            world.keep().check(0, &["installed and checked live"]);
            assert_eq!(world.authority.counts(), (order, order), "{percent}");
        }
    }
    let world = World::with(|o| o.refused_nonces = 30);
    world.authority.misbehave(Resource::Authorization, Fault::Status(500), 99);
    let said = world.keep();
    said.check(1, &["HTTP 500"]);
    let asked = world.authority.asked().iter().filter(|r| **r == Resource::Authorization).count();
    assert!(asked <= 6 && !said.err.contains("badNonce"), "{asked} requests: {said}");
}

#[test]
fn what_must_not_be_sent_twice_is_not_and_what_came_half_is_asked_for_again() {
    // An authority that makes a new order each time, with a relative address.
    let world = World::with(|o| o.repeats_orders = false);
    world.authority.misbehave(Resource::NewOrder, Fault::StatusAfter(504), 1);
    world.keep().check(1, &["HTTP 504"]);
    assert_eq!(world.authority.counts().0, 1, "one order for one run");
    world.keep().check(0, &["installed and checked live"]);
    for (resource, fault) in [
        (Resource::Finalize, Fault::StatusAfter(500)),
        (Resource::Finalize, Fault::Status(500)),
        (Resource::Challenge, Fault::StatusAfter(500)),
        (Resource::Challenge, Fault::CutAfter),
        (Resource::Certificate, Fault::Empty),
        (Resource::Certificate, Fault::Turned),
        (Resource::Order, Fault::RateLimited("1".into())),
    ] {
        let world = World::new();
        world.authority.misbehave(resource, fault.clone(), 1);
        let said = world.keep();
        said.check(0, &["installed and checked live"]);
        assert_eq!(world.authority.counts(), (1, 1), "{resource:?} {fault:?}: {said}");
    }
    // The first thing that went wrong is told, not what followed from it.
    let world = World::new();
    world.authority.misbehave(Resource::Finalize, Fault::Status(500), 1);
    world.authority.misbehave(Resource::Finalize, Fault::Problem("orderNotReady"), 1);
    let said = world.keep();
    said.check(1, &["HTTP 500"]);
    // A challenge that is refused on a run's first step was not told already.
    let world = World::new();
    let killed = world.place.run_with("ESKORT_CRASH_AT", "saved-self-check", &["keep"]);
    assert_eq!(killed.code, None);
    world.authority.misbehave(Resource::Challenge, Fault::RateLimited("7200".into()), 1);
    world.keep().check(1, &["rateLimited"]);
    world.keep().check(0, &["installed and checked live"]);
}

#[test]
fn a_stop_while_the_authority_looks_ends_the_order_and_the_next_run_is_not_held() {
    let world = World::with(|o| o.thinking = std::time::Duration::from_secs(4));
    world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"30s\""));
    let child = world.place.eskort().arg("keep").stderr(std::process::Stdio::piped()).spawn().unwrap();
    until("the order is waited for", || world.authority.asked().contains(&Resource::Order));
    std::process::Command::new("kill").arg(child.id().to_string()).status().unwrap();
    let said = Said::from(child.wait_with_output().unwrap());
    said.check(1, &["stopped by a signal", "the next run begins with a new order"]);
    until("the authority has looked for both proofs", || world.authority.looks() == 2);
    world.place.run(&["keep"]).check(0, &["get the first certificate", "installed and checked live"]);
}

#[test]
fn another_certificates_proof_stays_while_its_authority_may_be_looking() {
    let world = World::new();
    world.write_inventory(|text| text + "\n[certificate.zone]\nnames = [\"www.lampholm.example\"]\n");
    world.place.run_with("ESKORT_CRASH_AT", "saved-respond", &["keep", "--only", "website"]);
    let folder = world.place.path("www/.well-known/acme-challenge");
    let before = std::fs::read_dir(&folder).unwrap().count();
    world.place.run(&["keep", "--only", "zone"]).check(0, &["generation 1 stored"]);
    assert_eq!(std::fs::read_dir(&folder).unwrap().count(), before);
    world.keep().check(0, &["installed and checked live"]);
    world.place.check_nothing_published();
}

#[test]
fn a_key_that_exists_already_is_used_and_only_read() {
    let world = World::new();
    let place = &world.place;
    let made = place.openssl(&["genrsa", "-traditional", "-aes128", "-passout", "pass:wick", "2048"]);
    place.write("old-way.key", &made.out);
    let made = place.openssl(&[
        "genpkey",
        "-algorithm",
        "EC",
        "-pkeyopt",
        "ec_paramgen_curve:P-384",
        "-aes128",
        "-pass",
        "pass:oil and wick",
    ]);
    let key = place.write("site.key", &made.out);
    std::fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o400)).unwrap();
    place.write("site.password", "oil and wick\n");
    place.write("other.password", "water\n");
    let with = |lines: &str| {
        world.write_inventory(|text| text.replace("[certificate.website]", &format!("[certificate.website]\n{lines}")));
        world.keep()
    };
    for (lines, said) in [
        ("key-file = \"gone.key\"", "No such file"),
        ("key-file = \"site.key\"", "protected with a password"),
        ("key-file = \"site.key\"\nkey-password-file = \"other.password\"", "password does not open"),
        ("key-file = \"site.key\"\nkey-password-file = \"site.password\"", "it is p384; say `key = \"p384\"`"),
        ("key-file = \"old-way.key\"", "openssl pkcs8 -topk8"),
    ] {
        with(lines).check(1, &[said, "`key-file` takes"]);
    }
    with("key = \"p384\"\nkey-file = \"site.key\"\nkey-password-file = \"site.password\"")
        .check(0, &["generation 1", "installed and checked live"]);
    let public = |words: &[&str]| place.openssl(words).out;
    let ours = public(&["x509", "-in", "tls/site.pem", "-noout", "-pubkey"]);
    assert_eq!(ours, public(&["pkey", "-in", "site.key", "-passin", "pass:oil and wick", "-pubout"]));
    assert_eq!((place.mode("site.key"), place.mode("state/certificates/website/0001/key.pem")), (0o400, 0o600));
    world.on_day(70, &["keep", "--only", "website"]).check(0, &["generation 2 installed"]);
    assert_eq!(ours, public(&["x509", "-in", "tls/site.pem", "-noout", "-pubkey"]), "the same key");
}
