//! Certificates that are revoked, accounts that get another key, move or end, old generations that go: at the practice authority, and at a real
//! ACME server.

use crate::pebble::Pebble;
use crate::world::*;
use eskort_practice::{Fault, Resource};

#[test]
fn what_is_served_is_revoked_only_after_another_is_in_its_place() {
    let world = World::new();
    let run = |words: &[&str]| world.place.run(words);
    run(&["revoke", "website", "--yes"]).check(1, &["nothing was revoked", "no certificate is stored yet"]);
    run(&["keep"]).check(0, &["generation 1 installed and checked live"]);
    run(&["revoke", "website"]).check(2, &["has to be confirmed", "--yes"]);
    run(&["revoke", "website", "--yes"]).check(1, &["generation 1 is still in use on server `front`", "`--insist`"]);
    run(&["revoke", "website", "--generation", "4", "--yes"]).check(1, &["generation 4 of `website` is not known"]);
    assert!(world.authority.revoked().is_empty());
    // Somebody else may have the key: another one first, with another key.
    let said = run(&["revoke", "website", "--reason", "key-compromise", "--yes"]);
    said.check(0, &["generation 2 installed and checked live", "Generation 1 of `website` is revoked"]);
    assert_eq!(world.authority.revoked(), [(0, 1)]);
    let keys = ["1", "2"].map(|n| world.place.read(&format!("state/certificates/website/000{n}/key.pem")));
    assert_ne!(keys[0], keys[1]);
    run(&["revoke", "website", "--generation", "1", "--yes"]).check(1, &["generation 1 was revoked on"]);
    run(&["show", "website"]).check(0, &["revoked", "somebody else may have its key"]);
    // When no other comes, nothing is revoked.
    world.authority.misbehave(Resource::NewOrder, Fault::Status(503), 99);
    run(&["revoke", "website", "--reason", "key-compromise", "--yes"])
        .check(1, &["503", "generation 2 was not revoked"]);
    assert_eq!(world.authority.revoked().len(), 1);
    world.authority.behave();
    // Insisted on: the next run gets another one at once.
    let said = run(&["revoke", "website", "--insist", "--with-key", "--yes", "--output", "json"]);
    said.check(0, &["\"generation\": 2"]);
    assert_eq!(world.authority.revoked(), [(0, 1), (1, 0)]);
    run(&["keep", "--plan"]).check(0, &["go on with generation 3 from `prepared`"]);
    run(&["keep"]).check(0, &["generation 3 installed and checked live"]);
    run(&["list"]).check(0, &["good"]);
    // A key that stays the same helps nobody.
    world.write_inventory(|text| text.replace("[certificate.website]", "[certificate.website]\nkeep-key = true"));
    run(&["revoke", "website", "--reason", "key-compromise", "--yes"]).check(1, &["would have the same key"]);
    assert!(world.place.read("state/certificates/website/0003/key.pem").contains("PRIVATE"));
}

#[test]
fn a_certificate_that_its_authority_has_revoked_is_replaced_at_once() {
    replaced_once_revoked(|options| options.lists = true);
}

#[test]
fn where_an_authority_has_no_list_it_is_asked_about_each_certificate() {
    replaced_once_revoked(|options| options.responds = true);
}

fn replaced_once_revoked(says: impl FnOnce(&mut eskort_practice::AuthorityOptions)) {
    let world = World::with(says);
    world.on_day(0, &["keep"]).check(0, &["generation 1 installed and checked live"]);
    world.on_day(0, &["keep"]).check(0, &["nothing to do"]);
    // By somebody else: the ledger knows nothing of it.
    let other = Place::new();
    std::os::unix::fs::symlink(world.place.path("api-root.pem"), other.path("api-root.pem")).unwrap();
    std::os::unix::fs::symlink(world.place.path("visitor-root.pem"), other.path("visitor-root.pem")).unwrap();
    let (from, to) = (world.place.path("state"), other.path("state"));
    assert!(std::process::Command::new("cp").arg("-a").args([from, to]).status().unwrap().success());
    other.write("eskort.toml", &world.place.read("eskort.toml"));
    let words = ["revoke", "website", "--reason", "superseded", "--insist", "--yes"];
    other.run(&words).check(0, &["Generation 1 of `website` is revoked"]);
    // Asked for once a day.
    world.on_day(0, &["keep"]).check(0, &["nothing to do"]);
    let said = world.on_day(1, &["keep"]);
    said.check(
        0,
        &["its authority has revoked generation 1 on", "generation 2): it was revoked", "generation 2 installed"],
    );
    world
        .on_day(1, &["show", "website"])
        .check(0, &["generation 1 is revoked, its authority says: another one has taken"]);
    world.on_day(3, &["keep"]).check(0, &["nothing to do"]);
}

#[test]
fn an_account_gets_another_key_moves_to_another_machine_and_ends() {
    let world = World::new();
    let run = |words: &[&str]| world.place.run(words);
    run(&["account", "show"]).check(0, &["public", "none yet", "keeper@lampholm.example"]);
    run(&["account", "open"]).check(0, &["a new account", "valid", "/account/0"]);
    run(&["keep"]).check(0, &["generation 1"]);
    run(&["renew", "website"]).check(0, &["generation 2"]);
    run(&["renew", "website"]).check(0, &["generation 3"]);
    // Two on a page.
    run(&["account", "show", "public"]).check(0, &["3 orders", "/order/0", "/order/2"]);
    run(&["account", "show", "other"]).check(2, &["has no authority `other`", "those of kind acme are public"]);
    let key = || world.place.read("state/accounts/public.key.pem");
    let before = key();
    run(&["account", "new-key"]).check(0, &["the account has another key now", "/account/0"]);
    assert_ne!(key(), before);
    assert_eq!(world.place.mode("state/accounts/public.key.pem"), 0o600);
    run(&["renew", "website"]).check(0, &["generation 4"]);
    // The answer is lost: the next run finds out that the authority knows the new key.
    world.authority.misbehave(Resource::KeyChange, Fault::CutAfter, 1);
    let (now, said) = (key(), run(&["account", "new-key"]));
    said.check(1, &["cannot reach"]);
    assert_eq!(key(), now);
    run(&["renew", "website"]).check(0, &["the account has another key now", "generation 5"]);
    assert_ne!(key(), now);
    // It did not arrive: the old key goes on.
    world.authority.misbehave(Resource::KeyChange, Fault::CutBefore, 1);
    run(&["account", "new-key"]).check(1, &["cannot reach"]);
    run(&["renew", "website"]).check(0, &["generation 6"]);
    run(&["account", "new-key"]).check(0, &["the account has another key now"]);
    assert_eq!(world.authority.contacts().len(), 1, "no second account was made");

    // Another machine takes the account in by its key.
    let other = Place::new();
    std::os::unix::fs::symlink(world.place.path("api-root.pem"), other.path("api-root.pem")).unwrap();
    other.write("eskort.toml", &world.place.read("eskort.toml"));
    other.write("moved.pem", &key());
    let said = other.run(&["account", "take", "moved.pem"]);
    said.check(0, &["/account/0", "valid"]);
    other.write(
        "strange.pem",
        &other.openssl(&["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256"]).out,
    );
    other.run(&["account", "take", "strange.pem"]).check(1, &["accountDoesNotExist"]);
    run(&["account", "end", "public"]).check(2, &["has to be confirmed"]);
    run(&["account", "end", "public", "--yes"]).check(0, &["The account at `public` is ended", "key is kept in"]);
    run(&["account", "show"]).check(0, &["none yet"]);
    run(&["renew", "website"]).check(0, &["a new account", "generation 7"]);
}

#[test]
fn old_generations_go_and_none_that_is_in_use() {
    let world = World::new();
    world.write_inventory(|text| format!("keep-generations = 2\nkeep-days = 5\n{text}"));
    world.on_day(0, &["keep"]).check(0, &["generation 1"]);
    for (day, generation) in [(1, 2), (2, 3)] {
        let said = world.on_day(day, &["renew", "website"]);
        said.check(0, &[&format!("generation {generation} installed and checked live")]);
    }
    let has = |n: u32| world.place.path(&format!("state/certificates/website/000{n}/key.pem")).exists();
    world.on_day(4, &["keep"]).check(0, &["nothing to do"]);
    assert!(has(1) && has(2) && has(3));
    // Somebody goes back, twice; what is in use stays.
    world.on_day(4, &["install", "website", "--undo"]).check(0, &["generation 2"]);
    world.on_day(4, &["install", "website", "--undo"]).check(0, &["generation 1"]);
    world.on_day(9, &["keep"]).check(0, &["nothing to do"]);
    assert!(has(1));
    world.on_day(9, &["install", "website"]).check(0, &["generation 3"]);
    world.on_day(9, &["keep"]).check(0, &["the keys and chains of 1 old generation were removed"]);
    assert!(!has(1) && has(2) && has(3) && !world.place.path("state/certificates/website/0001").exists());
    world.on_day(9, &["show", "website"]).check(0, &["removed", "generation 1 is old: its key and chain were removed"]);
    world.on_day(9, &["install", "website", "--undo"]).check(0, &["generation 2"]);
    world.on_day(9, &["install", "website", "--undo"]).check(1, &["is not stored any more", "`keep-generations`"]);
    world.on_day(10, &["renew", "website"]).check(0, &["generation 4"]);
}

#[test]
fn a_real_server_takes_revocations_and_other_keys() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("");
    let run = |words: &[&str]| pebble.place.run(words);
    run(&["keep"]).check(0, &["generation 1 stored"]);
    run(&["renew", "website"]).check(0, &["generation 2 stored"]);
    run(&["revoke", "website", "--generation", "1", "--reason", "superseded", "--yes"]).check(0, &["is revoked"]);
    run(&["account", "new-key"]).check(0, &["the account has another key now", "valid"]);
    run(&["revoke", "website", "--with-key", "--insist", "--yes"]).check(0, &["Generation 2 of `website` is revoked"]);
    run(&["keep"]).check(0, &["it was revoked", "generation 3 stored"]);
    run(&["account", "show"]).check(0, &["keeper@lampholm.example"]);
    run(&["account", "end", "public", "--yes"]).check(0, &["is ended"]);
    run(&["renew", "website"]).check(0, &["a new account", "generation 4 stored"]);
}
