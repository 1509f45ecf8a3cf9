//! Ten years of a hundred certificates: authorities that are out of order or refuse, windows that change, a machine that is off for weeks, a
//! clock that jumps.

use super::super::*;
use crate::budget::{Spent, cost, rooms, waits_for};
use crate::inventory::{Limit, Limits};
use crate::renewal::{Timing, Window};

/// The same numbers each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }
}

fn hours(n: i64) -> SignedDuration {
    SignedDuration::from_hours(n)
}

/// An authority, on the right time.
#[derive(Default)]
struct Authority {
    /// Until when it does not answer, and until when it refuses.
    down_until: Timestamp,
    refuses_until: Timestamp,
    /// When it took orders, and for which certificate.
    orders: Vec<(Timestamp, usize)>,
}

/// What the ledger knows of a certificate.
struct Known {
    names: Vec<Identifier>,
    lifetime: SignedDuration,
    newest: Option<Stored>,
    open: Option<(u32, usize)>,
    failures: Option<Failures>,
    asked: Option<Window>,
    /// Runs in which nothing stood in the way of a renewal that was due.
    chances: u32,
    ended: bool,
    /// Until when there is nothing to do, unless something comes to it.
    rests_until: Option<Timestamp>,
}

struct Machine {
    known: Vec<Known>,
    holds: [Option<(Timestamp, AuthorityHold, u32)>; 2],
    spent: [Vec<Spent>; 2],
    limits: Limits,
}

const AUTHORITIES: [&str; 2] = ["public", "other"];

fn specification(names: &[Identifier], authority: usize) -> Specification {
    let authority = AUTHORITIES[authority].to_owned();
    Specification { names: names.to_vec(), authority, key: "p256".into(), ..Specification::default() }
}

impl Machine {
    fn new() -> Self {
        let week = |most| Some(Limit::new(most, hours(7 * 24)));
        let limits = Limits { orders: None, per_domain: week(40), same_names: week(4), failures: None };
        let one = |n: usize| Known {
            names: vec![Identifier::parse(&format!("room{n}.house{}.example", n % 4)).unwrap()],
            // Some are of the short kind.
            lifetime: hours(if n % 10 == 3 { 6 * 24 } else { 90 * 24 }),
            newest: None,
            open: None,
            failures: None,
            asked: None,
            chances: 0,
            ended: false,
            rests_until: None,
        };
        Machine { known: (0..100).map(one).collect(), holds: [None, None], spent: [Vec::new(), Vec::new()], limits }
    }

    /// What is written in the future was written by a clock that went wrong (`Store::mend_clock`).
    fn mend_clock(&mut self, now: Timestamp) {
        self.spent.iter_mut().flatten().for_each(|one| one.at = one.at.min(now));
        self.holds.iter_mut().for_each(|hold| drop(hold.take_if(|(last, ..)| *last > now)));
        self.known.iter_mut().for_each(|known| drop(known.failures.take_if(|failures| failures.last > now)));
    }

    fn facts(&self, n: usize, now: Timestamp) -> (Facts, usize) {
        let known = &self.known[n];
        let timing = Timing { seed: Some(format!("room{n}")), ..Timing::default() };
        let validity = known.newest.as_ref().map(|newest| newest.validity);
        let time = validity.map_or((now, now), |v| (timing.renew_at(&v), v.not_after));
        let held = |name: &str| {
            let hold = self.holds[AUTHORITIES.iter().position(|known| *known == name).unwrap()].as_ref();
            hold.is_some_and(|(_, hold, _)| hold.until > now)
        };
        let at = authority_of_the_day(&AUTHORITIES, known.failures.as_ref(), held, time, now);
        let specification_at = |at| specification(&known.names, at);
        let open = known.open.map(|(generation, of)| OpenJourney { generation, fits: of == at, passed: None });
        let next_generation = known.newest.as_ref().map_or(0, |s| s.generation).max(known.open.map_or(0, |o| o.0)) + 1;
        let facts = Facts {
            specification: specification_at(at),
            elsewhere: vec![specification_at(1 - at)],
            newest: known.newest.clone(),
            open,
            failures: known.failures.clone(),
            authority_hold: self.holds[at].as_ref().map(|(_, hold, _)| hold.clone()),
            no_room: waits_for(rooms(&self.limits, &self.spent[at], &known.names, now)),
            deployment: None,
            next_generation,
            timing,
            wanted: false,
            may_lose_names: false,
            asked_renewal: known.asked.as_ref().map(|window| window.moment(&format!("room{n}"))),
        };
        (facts, at)
    }
}

/// Lets an authority do what was decided for a certificate. `true_now` is its time, `now` the machine's.
fn act(
    machine: &mut Machine,
    authorities: &mut [Authority; 2],
    dice: &mut Dice,
    n: usize,
    (true_now, now): (Timestamp, Timestamp),
    (decision, at): (Decision, usize),
) {
    let (authority, known) = (&mut authorities[at], &mut machine.known[n]);
    let is_new = matches!(decision.obtain, Obtaining::Start { .. });
    let (Obtaining::Start { generation, .. } | Obtaining::GoOn { generation, .. }) = decision.obtain else { return };
    let fail = |failures: &Option<Failures>, hold_until| {
        let before = failures.clone().unwrap_or_default();
        let authority_since = before.authority_since.or(Some(now));
        let authority = Some(AUTHORITIES[at].to_owned());
        let fault = Some(Fault::Authority);
        Some(Failures { count: before.count + 1, last: now, hold_until, authority, authority_since, fault })
    };
    if true_now < authority.down_until {
        known.failures = fail(&known.failures, None);
        return;
    }
    if true_now < authority.refuses_until {
        let count = machine.holds[at].as_ref().map_or(1, |(.., count)| count + 1);
        let until = hold_after(count, now, None);
        machine.holds[at] = Some((now, AuthorityHold { until, reason: "too many".into() }, count));
        known.failures = fail(&known.failures, None);
        return;
    }
    if is_new {
        assert!(known.open.is_none_or(|(_, of)| of != at), "a second order at {now}");
        authority.orders.push((true_now, n));
        for (counted, subject) in cost(&known.names) {
            machine.spent[at].push(Spent { counted, subject, at: now });
        }
    }
    // Some take until the next run.
    if is_new && dice.below(5) == 0 {
        known.open = Some((generation, at));
        return;
    }
    let validity = Validity { not_before: true_now, not_after: true_now + known.lifetime };
    let specification = specification(&known.names, at);
    known.newest = Some(Stored { generation, specification, validity, revoked: false });
    (known.open, known.failures, known.asked, known.chances, known.ended) = (None, None, None, 0, false);
    machine.holds[at] = None;
}

/// What may happen to the clock.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Clock {
    IsRight,
    Jumps,
}

/// Checks that no authority took more orders in a week than its budget has.
fn check_budgets(authorities: &[Authority], jumps: &[Timestamp]) {
    // A clock that is ahead counts what was ordered as long ago; each jump may cost a week's budget.
    let most = |from: Timestamp| {
        let week = from - hours(7 * 24)..from + hours(7 * 24);
        40 * (1 + jumps.iter().filter(|at| week.contains(at)).count())
    };
    for authority in authorities {
        let of_house = |house: usize| authority.orders.iter().filter(move |(_, n)| n % 4 == house).map(|(at, _)| *at);
        for house in 0..4 {
            let at: Vec<Timestamp> = of_house(house).collect();
            for (n, first) in at.iter().enumerate() {
                let in_the_week = at[n..].iter().take_while(|at| at.duration_since(*first) < hours(7 * 24)).count();
                assert!(in_the_week <= most(*first), "{in_the_week} orders in a week from {first}");
            }
        }
    }
}

fn ten_years(seed: u64, clock: Clock) -> (usize, usize) {
    let mut dice = Dice(seed);
    let (mut machine, mut authorities) = (Machine::new(), <[Authority; 2]>::default());
    let begin: Timestamp = "2026-01-01T00:00:00Z".parse().unwrap();
    let (mut true_now, mut skew, mut skewed_until) = (begin, SignedDuration::ZERO, begin);
    let (mut ended, mut runs, mut jumps) = (0, 0, Vec::new());
    while true_now < begin + hours(24 * 3652) {
        // Twice a day; now and then it is off for weeks.
        true_now += hours(if dice.below(400) == 0 { 24 * (7 + dice.below(30).cast_signed()) } else { 12 });
        for authority in &mut authorities {
            let days = |dice: &mut Dice, most| hours(24 * (1 + dice.below(most).cast_signed()));
            if dice.below(60) == 0 {
                authority.down_until = true_now + days(&mut dice, 12);
            }
            if dice.below(120) == 0 {
                authority.refuses_until = true_now + days(&mut dice, 4);
            }
        }
        if clock == Clock::Jumps && dice.below(200) == 0 {
            skew = hours(24 * (dice.below(800).cast_signed() - 400));
            skewed_until = true_now + hours(24);
            jumps.push(true_now);
        }
        if true_now >= skewed_until {
            skew = SignedDuration::ZERO;
        }
        let now = true_now + skew;
        machine.mend_clock(now);
        // An authority changes its mind about some.
        let n = dice.below(100) as usize;
        let start = true_now + hours(24 * (dice.below(80).cast_signed() - 20));
        machine.known[n].asked = Some(Window { start, end: start + hours(48), explanation: None });
        machine.known[n].rests_until = None;
        let mut order: Vec<usize> = (0..100).collect();
        order.sort_by_key(|n| urgency(machine.known[*n].newest.as_ref(), now));
        for n in order {
            let up = |at: usize| true_now >= authorities[at].down_until.max(authorities[at].refuses_until);
            if machine.known[n].rests_until.is_some_and(|until| now < until) {
                continue;
            }
            let (facts, at) = machine.facts(n, now);
            let decision = decide(&facts, now, false);
            machine.known[n].rests_until = match decision.obtain {
                Obtaining::Rest { until, .. } => Some(until),
                _ => None,
            };
            let due = facts.newest.is_some() && !matches!(decision.obtain, Obtaining::Rest { .. });
            let room = waits_for(rooms(&machine.limits, &machine.spent[0], &machine.known[n].names, now)).is_none();
            if due && up(0) && skew.is_zero() && room {
                machine.known[n].chances += 1;
            }
            act(&mut machine, &mut authorities, &mut dice, n, (true_now, now), (decision, at));
            let known = &mut machine.known[n];
            let over = known.newest.as_ref().is_some_and(|s| true_now >= s.validity.not_after);
            if over && !known.ended {
                known.ended = true;
                ended += 1;
                // A hold of a day after a refusal, a turn of the other authority, and a run in which a journey only began.
                assert!(known.chances <= 5, "room{n} ended at {true_now} after {} chances", known.chances);
            }
        }
        runs += 1;
        for spent in &mut machine.spent {
            spent.retain(|one| one.at > now - hours(24 * 8));
        }
    }
    check_budgets(&authorities, &jumps);
    assert!(runs > 5000);
    (authorities.iter().map(|authority| authority.orders.len()).sum(), ended)
}

#[test]
fn no_certificate_ends_that_could_be_renewed_and_no_budget_is_passed() {
    for seed in 1..=2 {
        for clock in [Clock::IsRight, Clock::Jumps] {
            let (orders, ended) = ten_years(seed, clock);
            // Forty of each long one and a thousand of each short one, or so.
            assert!((9_000..60_000).contains(&orders), "{orders} orders");
            // The machine was off for weeks, again and again: short ones ended then.
            assert!(ended > 0, "nothing ended: the world is too kind");
        }
    }
}
