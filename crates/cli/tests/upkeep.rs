//! What keeps certificates beside their renewals: one that somebody asks for, names that would be lost, another authority.

use crate::world::*;
use eskort_practice::{Authority, AuthorityOptions, Clock, Fault, Resource};
use std::sync::Arc;

#[test]
fn somebody_gets_a_new_one_and_no_names_are_lost_unasked() {
    let world = World::new();
    world.on_day(0, &["keep"]).check(0, &["generation 1 installed and checked live"]);
    world.on_day(1, &["keep"]).check(0, &["nothing to do; renewal on"]);
    world.on_day(1, &["renew", "website", "--plan"]).check(0, &["generation 2): somebody asked for it"]);
    world.on_day(1, &["renew", "website"]).check(0, &["generation 2 installed and checked live"]);
    world.on_day(1, &["renew", "mail"]).check(2, &["has no certificate `mail`"]);
    assert_eq!(world.authority.counts().1, 2);
    // The budget counts for it, too.
    world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"6s\"\nlimit-same-names = \"2 in 7d\""));
    world.on_day(2, &["renew", "website"]).check(4, &["the budget for", "is used up"]);
    assert_eq!(world.authority.counts().1, 2);

    // A name that the inventory dropped is somebody's site.
    let one = |text: String| {
        text.replace("names = [\"lampholm.example\", \"www.lampholm.example\"]", "names = [\"lampholm.example\"]")
    };
    world.write_inventory(one);
    let lost = "www.lampholm.example would have no certificate any more";
    for words in [&["keep"][..], &["keep", "--plan"], &["renew", "website"]] {
        let code = if words.contains(&"--plan") { 0 } else { 3 };
        world.on_day(3, words).check(code, &["not renewed before", lost]);
    }
    assert_eq!(world.authority.counts().1, 2);
    world.on_day(3, &["keep", "--drop-names"]).check(0, &["generation 3 installed and checked live"]);
    // Renewals that are due wait for nobody.
    world.write_inventory(|text| one(text).replace("[\"lampholm.example\"]", "[\"www.lampholm.example\"]"));
    world.on_day(4, &["keep"]).check(3, &["lampholm.example would have no certificate any more"]);
    world.on_day(64, &["keep"]).check(0, &["generation 4 installed and checked live"]);
}

#[test]
fn another_authority_is_asked_when_the_first_fails_for_a_third_of_the_time() {
    let world = World::new();
    let clock = Clock::default();
    let options = AuthorityOptions { site_port: world.site.plain_address().port(), ..AuthorityOptions::default() };
    let runtime = runtime();
    let other = runtime.block_on(Authority::start(options, clock.clone(), Arc::clone(&world.names))).unwrap();
    world.place.write("other-api-root.pem", other.api_root_pem());
    world.place.write("other-visitor-root.pem", &other.visitor_root_pem());
    let both = |text: String| {
        let section = format!(
            "[authority.other]\nkind = \"acme\"\ndirectory = \"{}\"\naccept-terms = true\n\
             api-roots = \"other-api-root.pem\"\nvisitor-roots = \"other-visitor-root.pem\"\n\n",
            other.directory()
        );
        let text = text.replace("[proof.pages]", &format!("{section}[proof.pages]"));
        text.replace("[certificate.website]", "[certificate.website]\nauthority = [\"public\", \"other\"]")
    };
    world.write_inventory(both);
    let on_day = |day: i64, words: &[&str]| {
        clock.set_offset(jiff::SignedDuration::from_hours(24 * day));
        world.on_day(day, words)
    };
    on_day(0, &["keep"]).check(0, &["generation 1 installed and checked live"]);
    world.authority.misbehave(Resource::NewOrder, Fault::Status(503), 999);
    on_day(62, &["keep"]).check(1, &["503"]);
    on_day(66, &["keep"]).check(1, &["503"]);
    assert_eq!(other.counts().1, 0);
    // Ten days of thirty.
    on_day(74, &["keep", "--plan"]).check(0, &["`public` has failed for 12 days: `other` is asked instead"]);
    on_day(74, &["keep"]).check(0, &["is asked instead", "generation 2 installed and checked live"]);
    assert_eq!((world.authority.counts().1, other.counts().1), (1, 1));
    // What came from there stays, and is looked at with its own roots; the next renewal is for the first again.
    on_day(76, &["keep"]).check(0, &["nothing to do; renewal on"]);
    on_day(76, &["check"]).check(0, &["website"]);
    on_day(76, &["show", "website"]).check(0, &["public"]);
    world.authority.behave();
    on_day(140, &["keep"]).check(0, &["generation 3 installed and checked live"]);
    assert_eq!((world.authority.counts().1, other.counts().1), (2, 1));

    world.write_inventory(|text| both(text).replace("[\"public\", \"other\"]", "[\"public\", \"public\"]"));
    on_day(140, &["list"]).check(2, &["`public` is listed twice"]);
    world.write_inventory(|text| both(text).replace("[\"public\", \"other\"]", "[]"));
    on_day(140, &["list"]).check(2, &["has no `authority`"]);
}

#[test]
fn a_renewal_is_rehearsed_to_its_end_and_nothing_is_touched() {
    let world = World::new();
    world.place.run(&["keep"]).check(0, &["generation 1 installed and checked live"]);
    let served = world.place.read("tls/site.pem");
    let run = |words: &[&str]| world.place.run(words);
    // Without an authority for rehearsals a practice authority stands in.
    let said = run(&["rehearse", "--renewal"]);
    said.check(0, &["good renewal a practice authority: proved, ordered and received", "nothing was installed"]);
    let said = run(&["rehearse", "--renewal", "website", "--output", "json"]);
    said.check(0, &["\"what\": \"renewal\""]);
    assert_eq!(world.authority.counts().1, 1);
    // With one, that is asked; what it refuses is told.
    let options = AuthorityOptions { site_port: world.site.plain_address().port(), ..AuthorityOptions::default() };
    let runtime = runtime();
    let test = runtime.block_on(Authority::start(options, Clock::default(), Arc::clone(&world.names))).unwrap();
    // Both are reached by the roots of the section.
    world.place.write("api-root.pem", &(world.place.read("api-root.pem") + test.api_root_pem()));
    let line = format!("\"\nrehearsal = \"{}\"\naccept-terms", test.directory());
    world.write_inventory(|text| text.replacen("\"\naccept-terms", &line, 1));
    run(&["rehearse", "--renewal"]).check(0, &[&format!("renewal {}: proved", test.directory())]);
    assert_eq!((test.counts().1, world.authority.counts().1), (1, 1));
    test.misbehave(Resource::Finalize, Fault::Problem("badCSR"), 1);
    run(&["rehearse", "--renewal"]).check(1, &["FATAL renewal", "badCSR"]);
    run(&["rehearse", "--renewal"]).check(0, &["good renewal"]);
    world.place.check_nothing_published();
    assert_eq!(world.place.read("tls/site.pem"), served);
    let keys = world.place.path("state/rehearsal/certificates/website");
    assert!(!keys.join("0001").exists() && world.place.mode("state/rehearsal") == 0o700);
    run(&["keep"]).check(0, &["nothing to do"]);
    run(&["show", "website"]).check(0, &["generation 1"]);
    // What is wrong with the proof is found before.
    world.write_inventory(|text| text.replace("folder = \"www\"", "folder = \"nowhere\""));
    run(&["rehearse", "--renewal"]).check(1, &["FATAL proof", "not tried, since something would fail before"]);
}

#[test]
fn what_ends_first_has_the_budget() {
    let world = World::new();
    let annex = "\n[certificate.annex]\nnames = [\"www.lampholm.example\"]\n";
    world.on_day(0, &["keep"]).check(0, &["generation 1"]);
    world.write_inventory(|text| text + annex);
    world.on_day(3, &["keep"]).check(0, &["annex"]);
    let limited = |text: String| text.replace("timeout = \"6s\"", "timeout = \"6s\"\nlimit-per-domain = \"1 in 3d\"");
    world.write_inventory(|text| limited(text) + annex);
    // Both are due; the names come in another order.
    world.on_day(66, &["keep", "--plan"]).check(0, &["website: get a new certificate", "annex: not before"]);
    world.on_day(66, &["keep"]).check(4, &["generation 2 installed", "annex", "is used up"]);
    world.on_day(70, &["keep"]).check(0, &["annex", "generation 2 stored"]);
}

#[test]
fn a_clock_that_is_wrong_is_told_by_the_authority() {
    let world = World::new();
    world.on_day(0, &["keep"]).check(0, &["generation 1"]);
    let note = "this machine's clock is 3 days ahead of that of `public`";
    let offset = (3 * 86_400).to_string();
    let said = world.place.run_with("ESKORT_CLOCK_OFFSET", &offset, &["renew", "website"]);
    said.check(0, &[note]);
    assert_eq!(said.err.matches("clock is").count(), 1, "{said}");
    world.place.run(&["schedule", "show"]).check(4, &["clock was 3 days ahead of that of authority `public`"]);
    let said = world.on_day(4, &["renew", "website"]);
    assert!(said.code == Some(0) && !said.err.contains("clock"), "{said}");
    let said = world.on_day(4, &["schedule", "show"]);
    assert!(!said.out.contains("clock"), "{said}");
}

#[test]
fn a_timer_tells_facts_a_line_each() {
    let world = World::new();
    let lines = |said: &Said| -> Vec<serde_json::Value> {
        said.err.lines().map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {line}"))).collect()
    };
    let said = world.place.run(&["keep", "--by-timer", "--log-format", "json"]);
    said.check(0, &[]);
    assert_eq!(said.out, "", "{said}");
    let facts = lines(&said);
    let kinds: Vec<&str> = facts.iter().map(|fact| fact["fact"].as_str().unwrap()).collect();
    assert_eq!((kinds[0], kinds.last()), ("begins", Some(&"run")), "{said}");
    assert_eq!(kinds.iter().filter(|kind| **kind == "passed").count(), 6, "{said}");
    let result = facts.iter().find(|fact| fact["fact"] == "result").unwrap();
    assert_eq!((&result["certificate"], &result["priority"]), (&"website".into(), &5.into()), "{said}");
    // Nothing to do is one line.
    let said = world.place.run(&["keep", "--by-timer", "--log-format", "json"]);
    assert_eq!(lines(&said)[0]["text"], "1 certificate looked after, 1 of them at rest", "{said}");
    world.authority.misbehave(Resource::NewOrder, Fault::Problem("caa"), 1);
    let said = world.place.run(&["keep", "--drop-names", "--by-timer", "--log-format", "json"]);
    said.check(0, &[]);
    world.place.run(&["renew", "website"]).check(1, &["caa"]);
    world.write_inventory(|text| text.replace("[certificate.website]", "[certificate.website]\nkey = \"p384\""));
    let said = world.place.run(&["keep", "--by-timer", "--log-format", "json"]);
    let facts = lines(&said);
    let result = facts.iter().find(|fact| fact["fact"] == "result").unwrap();
    assert_eq!(said.code, Some(4), "{said}");
    assert!(result["text"].as_str().unwrap().contains("not tried again until"), "{said}");
    // Without a journal the facts stand in lines of text.
    let said = world.place.run(&["keep", "--only", "website", "--by-timer", "--log-format", "journal"]);
    said.check(0, &[]);
    let there = std::path::Path::new("/run/systemd/journal/socket").exists();
    assert!(said.out.is_empty() && (there || said.err.contains("website: issued: by `Lampholm")), "{said}");
}
