mod decade;

use super::*;
use crate::deployment::{Lack, Target};
use crate::pki::KeyKind;

fn wanted(names: &[&str], key: KeyKind) -> Specification {
    Specification {
        names: names.iter().map(|n| Identifier::parse(n).unwrap()).collect(),
        authority: "public".into(),
        reached: Some("acme https://ca.example/directory".into()),
        key: key.word().into(),
        request: Some(String::new()),
    }
}

fn facts() -> Facts {
    let specification = wanted(&["lampholm.example", "www.lampholm.example"], KeyKind::P256);
    let not_before = "2026-01-01T00:00:00Z".parse().unwrap();
    let validity = Validity { not_before, not_after: "2026-04-01T00:00:00Z".parse().unwrap() };
    Facts {
        specification: specification.clone(),
        newest: Some(Stored { generation: 3, specification, validity, revoked: false }),
        open: None,
        failures: None,
        authority_hold: None,
        no_room: None,
        deployment: Some(deployment(3, false)),
        next_generation: 4,
        asked_renewal: None,
        timing: Timing::default(),
        elsewhere: Vec::new(),
        wanted: false,
        may_lose_names: false,
    }
}

/// What server `front` lacks of a generation.
fn deployment(generation: u32, lacks: bool) -> Deployment {
    let target = Target { server: "front".into(), host: None, lacks: vec![Lack::Current] };
    let targets = if lacks { vec![target] } else { Vec::new() };
    Deployment { generation, switch_current: lacks, targets, servers: 1 }
}

fn on(date: &str) -> Timestamp {
    format!("{date}T00:00:00Z").parse().unwrap()
}

fn open(facts: &mut Facts, generation: u32, fits: bool, passed: Option<Milestone>) {
    facts.open = Some(OpenJourney { generation, fits, passed });
    facts.next_generation = facts.next_generation.max(generation + 1);
}

const GOOD: &str = "2026-02-01";
const DUE: &str = "2026-03-02";
const OVER: &str = "2026-04-02";

type Change<'a> = &'a dyn Fn(&mut Facts);

#[test]
fn each_fact_leads_to_its_decision() {
    let rest = |_: &mut Facts| {};
    let none = |f: &mut Facts| (f.newest, f.next_generation) = (None, 1);
    let names = |f: &mut Facts| f.specification = wanted(&["*.lampholm.example", "lampholm.example"], KeyKind::P256);
    let fewer = |f: &mut Facts| f.specification = wanted(&["www.lampholm.example"], KeyKind::P384);
    let turned = |f: &mut Facts| f.specification = wanted(&["www.lampholm.example", "lampholm.example"], KeyKind::P256);
    let key = |f: &mut Facts| f.specification.key = KeyKind::P384.word().into();
    let authority = |f: &mut Facts| f.specification.authority = "other".into();
    let address = |f: &mut Facts| f.specification.reached = Some("acme https://test.ca.example/directory".into());
    let staple = |f: &mut Facts| f.specification.request = Some("must-staple".into());
    let older = |f: &mut Facts| {
        let specification = &mut f.newest.as_mut().unwrap().specification;
        (specification.request, specification.reached) = (None, None);
    };
    let given = |f: &mut Facts| f.next_generation = 9;
    let server = |f: &mut Facts| f.deployment = Some(deployment(3, true));
    let both = |f: &mut Facts| {
        server(f);
        f.specification.key = KeyKind::P384.word().into();
    };
    let elsewhere = |f: &mut Facts| {
        f.elsewhere.push(f.specification.clone());
        f.specification.authority = "other".into();
    };
    let table: [(&str, Change<'_>, &str); 24] = [
        (GOOD, &rest, "nothing to do; renewal on 2026-03-02"),
        (DUE, &rest, "get a new certificate (generation 4): renewal is due"),
        (OVER, &rest, "get a new certificate (generation 4): it has expired"),
        (GOOD, &none, "get the first certificate (generation 1): none exists yet"),
        (GOOD, &names, "get a new certificate (generation 4): the names in the inventory changed"),
        (GOOD, &fewer, "not renewed before 2026-03-02: lampholm.example would have no certificate any more"),
        (DUE, &fewer, "get a new certificate (generation 4): the names in the inventory changed"),
        (
            GOOD,
            &|f| {
                fewer(f);
                f.may_lose_names = true;
            },
            "get a new certificate (generation 4): the names in the inventory changed",
        ),
        (GOOD, &|f| f.wanted = true, "get a new certificate (generation 4): somebody asked for it"),
        (
            GOOD,
            &|f| {
                server(f);
                f.newest.as_mut().unwrap().revoked = true;
            },
            "get a new certificate (generation 4): it was revoked",
        ),
        // What another authority of the inventory issued is kept, and renewed at the one that is to be asked.
        (GOOD, &elsewhere, "nothing to do; renewal on 2026-03-02"),
        (DUE, &elsewhere, "get a new certificate (generation 4): renewal is due"),
        (GOOD, &turned, "nothing to do; renewal on 2026-03-02"),
        (GOOD, &key, "get a new certificate (generation 4): the kind of key in the inventory changed"),
        (GOOD, &authority, "get a new certificate (generation 4): the authority in the inventory changed"),
        (GOOD, &address, "get a new certificate (generation 4): the authority in the inventory changed"),
        (
            GOOD,
            &staple,
            "get a new certificate (generation 4): what the inventory asks for beside names and key changed",
        ),
        (GOOD, &older, "nothing to do; renewal on 2026-03-02"),
        (DUE, &given, "get a new certificate (generation 9): renewal is due"),
        (GOOD, &server, "put generation 3 in place: server `front` uses an older one"),
        // What was made for something else is not put anywhere any more, nor what has expired.
        (GOOD, &both, "get a new certificate (generation 4): the kind of key in the inventory changed"),
        (OVER, &server, "get a new certificate (generation 4): it has expired"),
        (
            DUE,
            &server,
            "put generation 3 in place: server `front` uses an older one; get a new certificate (generation 4): renewal is due",
        ),
        (
            DUE,
            &|f| {
                server(f);
                f.authority_hold = Some(AuthorityHold { until: on("2026-03-09"), reason: "down".into() });
            },
            "put generation 3 in place: server `front` uses an older one; its authority is not asked again until 2026-03-09 00:00 UTC",
        ),
    ];
    for (date, change, said) in table {
        let mut facts = facts();
        change(&mut facts);
        assert_eq!(decide(&facts, on(date), false).words(), said);
    }
}

/// An open journey at each stage, while its generation is good, due or over, the inventory as it was or changed, and the
/// servers with or without what they need.
#[test]
fn no_open_journey_stands_in_the_way_of_a_renewal() {
    use Milestone as M;
    let stages = [None, Some(M::Prepared), Some(M::Ordered), Some(M::Proved)];
    for passed in stages {
        for date in [GOOD, DUE, OVER] {
            for fits in [true, false] {
                // A program that died while it stored the chain left a journey whose generation is stored.
                for (lacks, stored) in [(true, false), (false, false), (true, true), (false, true)] {
                    let mut facts = facts();
                    open(&mut facts, if stored { 3 } else { 4 }, fits, passed);
                    facts.deployment = Some(deployment(3, lacks));
                    let decision = decide(&facts, on(date), false);
                    let case = format!("{passed:?} {date} fits {fits} lacks {lacks}: {decision:?}");
                    let next = facts.next_generation;
                    match decision.obtain {
                        Obtaining::GoOn { generation, .. } if stored => {
                            assert!(fits && date == GOOD && generation == 3, "{case}");
                        }
                        Obtaining::GoOn { generation, .. } => assert!(fits && generation == 4, "{case}"),
                        Obtaining::Start { generation, gives_up_open, .. } => {
                            assert!(date != GOOD && generation == next && gives_up_open, "{case}");
                            assert!(stored || !fits, "{case}");
                        }
                        Obtaining::Rest { .. } => assert!(date == GOOD && !fits, "{case}"),
                        Obtaining::LosesNames { .. }
                        | Obtaining::OutOfReach { .. }
                        | Obtaining::NoRoom { .. }
                        | Obtaining::Hold { .. } => {
                            panic!("{case}")
                        }
                    }
                    let by_journey = stored && fits && date == GOOD;
                    assert_eq!(decision.place.is_some(), lacks && date != OVER && !by_journey, "{case}");
                }
            }
        }
    }
}

/// What never works in a world.
#[derive(Clone, Copy, Debug)]
struct Broken {
    installs: bool,
    looks: bool,
}

#[test]
fn in_ten_years_with_a_server_that_fails_or_cannot_be_looked_at_every_renewal_comes() {
    let cases = [(false, true), (true, false), (false, false), (true, true)];
    for (installs, looks) in cases {
        for authority_sleeps in [false, true] {
            let broken = Broken { installs, looks };
            let mut facts = Facts { newest: None, next_generation: 1, ..facts() };
            let mut now = on("2026-01-01");
            let mut in_place = None;
            let mut obtained = 0_u32;
            while now < on("2036-01-01") {
                let decision = decide(&facts, now, false);
                if let Some(place) = &decision.place
                    && !broken.installs
                {
                    in_place = Some(place.generation);
                }
                match decision.obtain {
                    // The authority is down for five days in every month.
                    Obtaining::Start { .. } if authority_sleeps && now.as_second() / 86_400 % 30 < 5 => {
                        let hold_until = Some(now + SignedDuration::from_hours(24));
                        facts.open = None;
                        facts.failures = Some(Failures { count: 1, last: now, hold_until, ..Failures::default() });
                    }
                    Obtaining::Start { generation, .. } => {
                        assert!(generation > facts.newest.as_ref().map_or(0, |stored| stored.generation));
                        let not_after = now + SignedDuration::from_hours(90 * 24);
                        let validity = Validity { not_before: now, not_after };
                        facts.newest = Some(Stored {
                            generation,
                            specification: facts.specification.clone(),
                            validity,
                            revoked: false,
                        });
                        (facts.next_generation, facts.failures) = (generation + 1, None);
                        obtained += 1;
                        in_place = if broken.installs { in_place } else { Some(generation) };
                    }
                    Obtaining::GoOn { .. } => panic!("no journey is left open"),
                    Obtaining::Rest { .. }
                    | Obtaining::LosesNames { .. }
                    | Obtaining::OutOfReach { .. }
                    | Obtaining::NoRoom { .. }
                    | Obtaining::Hold { .. } => {}
                }
                let newest = facts.newest.as_ref().map(|stored| stored.generation);
                let check = Target { server: "front".into(), host: None, lacks: vec![Lack::Check] };
                facts.deployment = newest.map(|newest| match in_place {
                    Some(at) if at == newest && broken.looks => {
                        Deployment { targets: vec![check], ..deployment(newest, false) }
                    }
                    at => deployment(newest, at != Some(newest)),
                });
                let good = facts.newest.as_ref().is_none_or(|stored| now < stored.validity.not_after);
                assert!(good, "{broken:?}: expired at {now}");
                now += SignedDuration::from_hours(12);
            }
            assert!((50..=62).contains(&obtained), "{broken:?}: {obtained} generations in ten years");
        }
    }
}

#[test]
fn after_failures_it_holds_off_longer_each_time_unless_asked() {
    let mut facts = facts();
    facts.newest = None;
    let last = on(GOOD);
    for (count, minutes) in [(1, 15), (2, 30), (5, 240), (30, 24 * 60)] {
        assert_eq!(hold_after(count, last, None), last + SignedDuration::from_mins(minutes));
    }
    // A certificate that ends soon is tried again sooner, and not at the same moment as all others.
    let day = SignedDuration::from_hours(24);
    for (count, end, least) in [
        (1, Some(last + day * 90), SignedDuration::from_mins(15)),
        (9, Some(last + day * 90), day),
        (9, Some(last + day), day / 4),
        (9, Some(last + day / 100), SignedDuration::from_mins(15)),
        (9, Some(last - day), day),
        (9, None, day),
    ] {
        let of = |n: i64| hold_of_certificate(count, last, None, end, &format!("room{n}")).duration_since(last);
        let pauses: Vec<SignedDuration> = (0..20).map(of).collect();
        assert!(pauses.iter().all(|pause| (least..=least + least / 10).contains(pause)), "{count} {end:?}: {pauses:?}");
        assert!(pauses.iter().any(|pause| *pause != pauses[0]));
        let says = last + day * 3;
        assert_eq!(hold_of_certificate(count, last, Some(says), end, "room"), says);
    }
    let hold_until = Some(hold_after(1, last, Some(on("2026-02-09"))));
    facts.failures = Some(Failures { count: 1, last, hold_until, ..Failures::default() });
    let held = Obtaining::Hold { until: on("2026-02-09"), failures: 1, authority: None };
    assert_eq!(decide(&facts, on("2026-02-08"), false).obtain, held);
    assert!(decide(&facts, on("2026-02-08"), true).acts());
    assert!(decide(&facts, on("2026-02-09"), false).acts());
    // What is stored is installed whatever the authority says.
    facts = Facts { failures: facts.failures, deployment: Some(deployment(3, true)), ..self::facts() };
    open(&mut facts, 4, true, Some(Milestone::Ordered));
    let decision = decide(&facts, on("2026-02-08"), false);
    assert!(decision.place.is_some() && matches!(decision.obtain, Obtaining::Hold { .. }), "{decision:?}");
}

#[test]
fn only_a_new_order_waits_for_room_in_a_budget() {
    let until = on("2026-03-09");
    let budget = Room {
        counted: crate::budget::Counted::Domain,
        subject: "lampholm.example".into(),
        most: 40,
        within: 7 * 24 * 3600,
        spent: 40,
        again: Some(until),
    };
    let full = |facts: Facts| Facts { no_room: Some((budget.clone(), until)), ..facts };
    let decided = |facts: Facts, day| decide(&full(facts), on(day), true).obtain;
    let no_room = Obtaining::NoRoom { until, budget: budget.clone() };
    assert_eq!(decided(facts(), DUE), no_room, "somebody who asks for it does not make room");
    assert_eq!(
        no_room.words(),
        "not before 2026-03-09 00:00 UTC: the budget for certificates for lampholm.example (40 in 7 days) is used up"
    );
    assert!(matches!(decided(facts(), GOOD), Obtaining::Rest { .. }));
    let mut under_way = facts();
    open(&mut under_way, 4, true, Some(Milestone::Ordered));
    assert!(matches!(decided(under_way, DUE), Obtaining::GoOn { .. }));
}

#[test]
fn what_its_authority_asks_for_comes_first_while_it_leaves_time() {
    let asked = |at: Option<Timestamp>| decide(&Facts { asked_renewal: at, ..facts() }, on(GOOD), false).obtain;
    let usual = asked(None);
    assert!(matches!(usual, Obtaining::Rest { asked_for: false, .. }), "{usual:?}");
    let newest = facts().newest.unwrap().validity;
    let soon = on(GOOD) + SignedDuration::from_hours(1);
    assert_eq!(asked(Some(soon)), Obtaining::Rest { until: soon, asked_for: true });
    assert!(asked(Some(soon)).words().ends_with("when its authority asks for it"));
    let now = asked(Some(on(GOOD)));
    assert!(matches!(now, Obtaining::Start { why: Reason::AuthorityAsks, .. }), "{now:?}");
    assert_eq!(asked(Some(newest.not_after)), usual, "too late to be trusted");
}

#[test]
fn another_authority_is_asked_when_the_first_has_failed_for_long() {
    // Due for thirty days.
    let (due, end) = (on("2026-03-02"), on("2026-04-01"));
    let hours = |n: i64| SignedDuration::from_hours(n);
    let table = [
        (3, None, on("2026-03-20"), 0),
        (3, Some((on("2026-03-02"), "a")), on("2026-03-11"), 0),
        (3, Some((on("2026-03-02"), "a")), on("2026-03-12"), 1),
        // Those that may be asked take turns.
        (3, Some((on("2026-03-02"), "b")), on("2026-03-13"), 0),
        (3, Some((on("2026-03-02"), "b")), on("2026-03-22"), 2),
        (3, Some((on("2026-03-02"), "c")), on("2026-03-22"), 0),
        (2, Some((on("2026-03-02"), "a")), on("2026-03-22"), 1),
        (1, Some((on("2026-03-02"), "a")), on("2026-03-30"), 0),
        // Little is left, or nothing.
        (2, Some((on("2026-03-30"), "a")), on("2026-03-30") + hours(2), 1),
        (2, Some((on("2026-04-09"), "a")), on("2026-04-09"), 0),
        (2, Some((on("2026-04-09"), "a")), on("2026-04-09") + hours(1), 1),
        // A clock that went back.
        (2, Some((on("2026-03-30"), "a")), on("2026-03-03"), 0),
    ];
    for (authorities, failing, now, chosen) in table {
        let names = &["a", "b", "c"][..authorities];
        let failures = failing.map(|(since, last): (_, &str)| Failures {
            authority_since: Some(since),
            authority: Some(last.to_owned()),
            ..Failures::default()
        });
        let of = |held: &[&str]| {
            authority_of_the_day(names, failures.as_ref(), |name| held.contains(&name), (due, end), now)
        };
        assert_eq!(of(&[]), chosen, "{failing:?} {now}");
        // One that is left alone lets another have its turn, if there is one that may be asked.
        assert_eq!(of(names), chosen);
        assert!(chosen == 0 || of(&[names[chosen]]) != chosen);
    }
}

#[test]
fn what_one_authority_refused_does_not_hold_another() {
    let mut facts = facts();
    let hold_until = Some(on("2026-03-09"));
    let fault = Some(Fault::Authority);
    let authority = Some("public".to_owned());
    facts.failures =
        Some(Failures { count: 2, last: on(DUE), hold_until, authority, authority_since: Some(on(DUE)), fault });
    assert!(matches!(decide(&facts, on(DUE), false).obtain, Obtaining::Hold { failures: 2, .. }));
    facts.elsewhere.push(facts.specification.clone());
    facts.specification.authority = "other".into();
    assert!(matches!(decide(&facts, on(DUE), false).obtain, Obtaining::Start { .. }));
}
