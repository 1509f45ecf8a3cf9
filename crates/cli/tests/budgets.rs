//! What authorities count is counted here, and nothing is asked for that a budget has no room for.

use crate::world::*;
use eskort_practice::{Fault, Resource};
use std::net::Ipv4Addr;

/// A practice world with three certificates of one domain beside each other, and what its authority's section says more.
fn three(limits: &str) -> World {
    let world = World::with(|_| {});
    let name = |n| format!("room{n}.lampholm.example");
    world.write_inventory(|text| {
        let text = text.split("[certificate.website]").next().unwrap();
        let text = text.replace("kind = \"acme\"", &format!("kind = \"acme\"\n{limits}"));
        let section = |n| format!("[certificate.room{n}]\nnames = [\"{}\"]\nproof = \"pages\"\n", name(n));
        text + &(1..=3).map(section).collect::<String>()
    });
    for n in 1..=3 {
        world.names.set(&name(n), Ipv4Addr::LOCALHOST);
    }
    world
}

#[test]
fn what_a_budget_has_no_room_for_waits_unless_somebody_insists() {
    let world = three("at-once = 1\nlimit-per-domain = \"2 in 7d\"");
    let place = &world.place;
    let spent = "    0         2      0  2 certificates for lampholm.example in 7 days";
    let waits = "the budget for certificates for lampholm.example (2 in 7 days) is used up";
    place.run(&["keep", "--plan"]).check(0, &["room2: get the first", "room3: not before", waits, spent]);
    let plan = place.run(&["keep", "--plan", "--output", "json"]).check(0, &[]).out.clone();
    let plan: serde_json::Value = serde_json::from_str(&plan).unwrap();
    let budget = &plan["budgets"][0];
    assert_eq!(
        (&budget["authority"], &budget["counted"], &budget["most"], &budget["planned"], &budget["within"]),
        (&"public".into(), &"domain".into(), &2.into(), &2.into(), &(7 * 24 * 3600).into())
    );
    assert_eq!(plan["certificates"][2]["decision"]["obtain"]["do"], "no-room");

    let kept = place.run(&["keep"]);
    kept.check(4, &["room3", waits, "`eskort keep --beyond-budget --only room3` orders all the same"]);
    assert_eq!(world.authority.counts(), (2, 2), "nothing was asked for in vain");
    // Who asks for it by name insists on a try after failures, and not on this.
    place.run(&["keep", "--only", "room3"]).check(4, &[waits]);
    place
        .run(&["rehearse", "room3"])
        .check(1, &["budget", "spent: 2 of 2 certificates for lampholm.example in 7 days"]);
    assert_eq!(world.authority.counts(), (2, 2));
    place.run(&["keep", "--only", "room3", "--beyond-budget"]).check(0, &["generation 1 stored"]);
    assert_eq!(world.authority.counts(), (3, 3));
    place.run(&["keep"]).check(0, &["3 certificates: nothing to do"]);
}

#[test]
fn validations_that_failed_are_counted_for_each_name() {
    let world = three("limit-failures = \"1 in 1h\"");
    let place = &world.place;
    world.authority.misbehave(Resource::Challenge, Fault::RefuseProof, 1);
    place.run(&["keep", "--only", "room1"]).check(1, &["room1"]);
    place
        .run(&["keep", "--only", "room1"])
        .check(4, &["failed validations of room1.lampholm.example (1 in 60 minutes)"]);
    place.run(&["keep", "--only", "room2"]).check(0, &["generation 1 stored"]);
}
