//! Budgets: what an authority lets people order within a time, and how much of that is left.
//!
//! Public authorities count orders, certificates for a registered domain, certificates for the very same names, and validations that
//! failed. The ledger counts the same, so that nothing is asked for that would be refused, and so that a mistake does not use up what
//! is needed for a renewal later.

use crate::inventory::{Limit, Limits};
use crate::names::Identifier;
use crate::{registered_domain, words};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeSet;

/// What is counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Counted {
    /// Orders.
    Orders,
    /// Certificates with names of one registered domain.
    Domain,
    /// Certificates for the very same names.
    SameNames,
    /// Validations of one name that failed.
    Failures,
}

impl Counted {
    /// Everything that is counted.
    pub const ALL: [Counted; 4] = [Counted::Orders, Counted::Domain, Counted::SameNames, Counted::Failures];

    /// Returns its word in the ledger.
    pub fn word(self) -> &'static str {
        match self {
            Counted::Orders => "orders",
            Counted::Domain => "domain",
            Counted::SameNames => "same-names",
            Counted::Failures => "failures",
        }
    }

    /// Reads its word.
    pub fn of_word(word: &str) -> Option<Self> {
        Counted::ALL.into_iter().find(|counted| counted.word() == word)
    }

    /// Returns the limit that the inventory sets.
    pub fn limit(self, limits: &Limits) -> Option<Limit> {
        match self {
            Counted::Orders => limits.orders,
            Counted::Domain => limits.per_domain,
            Counted::SameNames => limits.same_names,
            Counted::Failures => limits.failures,
        }
    }
}

/// One thing that was counted.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Spent {
    /// What.
    pub counted: Counted,
    /// Of what: the registered domain, the names, the name; empty for orders.
    pub subject: String,
    /// When.
    pub at: Timestamp,
}

/// How one budget stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Room {
    /// What it counts.
    pub counted: Counted,
    /// Of what.
    pub subject: String,
    /// How many there may be.
    pub most: u32,
    /// Within how many seconds.
    pub within: i64,
    /// How many there were in the time before now.
    pub spent: u32,
    /// When there is room again, where there is none now.
    pub again: Option<Timestamp>,
}

impl Room {
    /// Returns how many are left.
    pub fn left(&self) -> u32 {
        self.most.saturating_sub(self.spent)
    }

    /// Returns what is counted, in words: "orders", "certificates for lampholm.example".
    pub fn words(&self) -> String {
        match self.counted {
            Counted::Orders => "orders".to_owned(),
            Counted::Domain => format!("certificates for {}", self.subject),
            Counted::SameNames => "certificates for the same names".to_owned(),
            Counted::Failures => format!("failed validations of {}", self.subject),
        }
    }

    /// Returns the limit with what it is for, in words: "40 certificates for lampholm.example in 7 days".
    pub fn whole_words(&self) -> String {
        let within = words::duration(jiff::SignedDuration::from_secs(self.within));
        format!("{} {} in {within}", self.most, self.words())
    }

    /// Returns the limit in words: "40 in 7 days".
    pub fn limit_words(&self) -> String {
        format!("{} in {}", self.most, words::duration(jiff::SignedDuration::from_secs(self.within)))
    }
}

/// Returns what an order for names counts as, apart from validations that fail.
pub fn cost(names: &[Identifier]) -> BTreeSet<(Counted, String)> {
    let domains = names.iter().filter_map(|name| match name {
        Identifier::Dns(name) => registered_domain(name.base().as_str()).map(|domain| (Counted::Domain, domain)),
        Identifier::Ip(_) => None,
    });
    let whole = [(Counted::Orders, String::new()), (Counted::SameNames, names_key(names))];
    domains.chain(whole).collect()
}

/// Returns what stands for a set of names, in any order.
pub fn names_key(names: &[Identifier]) -> String {
    let names: BTreeSet<String> = names.iter().map(ToString::to_string).collect();
    names.into_iter().collect::<Vec<_>>().join(" ")
}

/// Returns how the budgets stand that an order for names needs, at `now`. `spent` is what was counted at its authority.
pub fn rooms(limits: &Limits, spent: &[Spent], names: &[Identifier], now: Timestamp) -> Vec<Room> {
    let budgets = needed(limits, names, now).into_iter();
    budgets.map(|budget| budget.room(&budget.tally(spent), now)).collect()
}

/// Returns the budgets that an order for names needs, at `now`.
pub fn needed(limits: &Limits, names: &[Identifier], now: Timestamp) -> Vec<Needed> {
    let failures = names.iter().map(|name| (Counted::Failures, name.to_string()));
    cost(names).into_iter().chain(failures).filter_map(|key| Needed::new(limits, key, now)).collect()
}

/// A budget that an order needs.
#[derive(Clone, Debug)]
pub struct Needed {
    /// What it counts.
    pub counted: Counted,
    /// Of what.
    pub subject: String,
    /// What was counted after this instant counts.
    pub since: Timestamp,
    /// How much there may be.
    pub limit: Limit,
}

/// How much of a budget is spent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// How many there were.
    pub count: u32,
    /// Of as many of the last ones as there may be, the oldest; `None` when there were not so many.
    pub oldest: Option<Timestamp>,
}

impl Needed {
    fn new(limits: &Limits, (counted, subject): (Counted, String), now: Timestamp) -> Option<Self> {
        let limit = counted.limit(limits)?;
        Some(Needed { counted, subject, since: now - limit.within, limit })
    }

    fn tally(&self, spent: &[Spent]) -> Tally {
        let counts = |one: &&Spent| one.counted == self.counted && one.subject == self.subject && one.at > self.since;
        let mut at: Vec<Timestamp> = spent.iter().filter(counts).map(|one| one.at).collect();
        at.sort_unstable();
        let oldest = at.len().checked_sub(self.limit.most as usize).and_then(|n| at.get(n).copied());
        Tally { count: u32::try_from(at.len()).unwrap_or(u32::MAX), oldest }
    }

    /// Returns how it stands at `now`, with what is spent of it.
    pub fn room(&self, tally: &Tally, now: Timestamp) -> Room {
        let (most, within) = (self.limit.most, self.limit.within);
        // With as many as there may be, there is room when the one that makes them so many is old enough.
        let again = (tally.count >= most).then(|| tally.oldest.unwrap_or(now) + within);
        Room {
            counted: self.counted,
            subject: self.subject.clone(),
            most,
            within: within.as_secs(),
            spent: tally.count,
            again,
        }
    }
}

/// Returns the budget that lets an order wait the longest, and until when; `None` when there is room for it.
pub fn waits_for(rooms: Vec<Room>) -> Option<(Room, Timestamp)> {
    rooms.into_iter().filter_map(|room| room.again.map(|again| (room, again))).max_by_key(|(_, again)| *again)
}

/// How one budget stands, and what a run would spend of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Budget {
    /// How it stands now.
    #[serde(flatten)]
    pub room: Room,
    /// How many the run would add.
    pub planned: u32,
}

/// What the orders of one run would spend at an authority.
#[derive(Clone, Debug)]
pub struct Outlook {
    limits: Limits,
    now: Timestamp,
    /// What is spent already, and what the orders so far would spend.
    spent: Vec<Spent>,
    /// How much of that is spent already.
    before: usize,
    touched: BTreeSet<(Counted, String)>,
}

impl Outlook {
    /// Begins with what was counted at an authority.
    pub fn new(limits: Limits, spent: Vec<Spent>, now: Timestamp) -> Self {
        Outlook { limits, now, before: spent.len(), spent, touched: BTreeSet::new() }
    }

    /// Takes in an order for names. When there is no room for it beside those before, returns the budget that it waits for, and
    /// until when; it is not taken in then, unless `beyond` is set.
    pub fn plan(&mut self, names: &[Identifier], beyond: bool) -> Option<(Room, Timestamp)> {
        let rooms = rooms(&self.limits, &self.spent, names, self.now);
        self.touched.extend(rooms.iter().map(|room| (room.counted, room.subject.clone())));
        let waits = waits_for(rooms).filter(|_| !beyond);
        if waits.is_none() {
            let now = self.now;
            self.spent.extend(cost(names).into_iter().map(|(counted, subject)| Spent { counted, subject, at: now }));
        }
        waits
    }

    /// Returns the budgets that the orders need; those of the very same names and of failures only where something is spent.
    pub fn into_budgets(self) -> Vec<Budget> {
        let (before, planned) = self.spent.split_at(self.before);
        let budget = |key: (Counted, String)| {
            let planned = planned.iter().filter(|one| (one.counted, &one.subject) == (key.0, &key.1)).count();
            let needed = Needed::new(&self.limits, key, self.now)?;
            let room = needed.room(&needed.tally(before), self.now);
            Some(Budget { room, planned: u32::try_from(planned).unwrap_or(u32::MAX) })
        };
        let of_interest = |budget: &Budget| match budget.room.counted {
            Counted::Orders | Counted::Domain => true,
            Counted::SameNames | Counted::Failures => budget.room.spent > 0,
        };
        self.touched.into_iter().filter_map(budget).filter(of_interest).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::SignedDuration;

    fn names(texts: &[&str]) -> Vec<Identifier> {
        texts.iter().map(|text| text.parse().unwrap()).collect()
    }

    fn at(hour: i64) -> Timestamp {
        Timestamp::UNIX_EPOCH + SignedDuration::from_hours(hour)
    }

    fn spent(counted: Counted, subject: &str, hours: &[i64]) -> Vec<Spent> {
        hours.iter().map(|hour| Spent { counted, subject: subject.into(), at: at(*hour) }).collect()
    }

    fn limits(most: u32, hours: i64) -> Limits {
        let limit = Some(Limit { most, within: SignedDuration::from_hours(hours) });
        Limits { orders: limit, per_domain: limit, same_names: limit, failures: limit }
    }

    #[test]
    fn an_order_counts_once_for_each_registered_domain() {
        let cost = cost(&names(&["www.lampholm.example", "*.lampholm.example", "shop.co.uk", "192.0.2.7", "co.uk"]));
        let domains: Vec<&str> = cost.iter().filter(|(c, _)| *c == Counted::Domain).map(|(_, s)| s.as_str()).collect();
        assert_eq!(domains, ["lampholm.example", "shop.co.uk"]);
        assert_eq!(cost.len(), 4);
        assert_eq!(names_key(&names(&["b.example", "a.example"])), names_key(&names(&["a.example", "b.example"])));
    }

    #[test]
    fn there_is_room_again_when_the_oldest_that_counts_is_old_enough() {
        let one = names(&["lampholm.example"]);
        for (hours, most, now, left, again) in [
            (&[][..], 2, 10, 2, None),
            (&[9], 2, 10, 1, None),
            (&[8, 9], 2, 10, 0, Some(13)),
            // What is as old as the time is long does not count any more.
            (&[5, 9], 2, 10, 1, None),
            (&[9, 8], 1, 10, 0, Some(14)),
            (&[7, 8, 9], 2, 10, 0, Some(13)),
            (&[], 0, 10, 0, Some(15)),
        ] {
            let rooms = rooms(&limits(most, 5), &spent(Counted::Orders, "", hours), &one, at(now));
            let orders = rooms.iter().find(|room| room.counted == Counted::Orders).unwrap();
            assert_eq!((orders.left(), orders.again), (left, again.map(at)), "{hours:?} of {most} at {now}");
            assert_eq!(waits_for(rooms).is_some(), left == 0, "{hours:?} of {most} at {now}");
        }
        assert!(rooms(&Limits::default(), &spent(Counted::Orders, "", &[9; 500]), &one, at(10)).is_empty());
    }

    #[test]
    fn only_what_concerns_the_names_counts() {
        let limits = limits(1, 5);
        let mut all = spent(Counted::Domain, "other.example", &[9]);
        all.extend(spent(Counted::Failures, "www.lampholm.example", &[9]));
        let wait = |names: &[Identifier]| waits_for(rooms(&limits, &all, names, at(10))).map(|(room, _)| room.words());
        assert_eq!(wait(&names(&["lampholm.example"])), None);
        assert_eq!(wait(&names(&["a.other.example"])).unwrap(), "certificates for other.example");
        assert_eq!(wait(&names(&["www.lampholm.example"])).unwrap(), "failed validations of www.lampholm.example");
    }

    #[test]
    fn planned_orders_share_what_is_left() {
        let limits = Limits { per_domain: limits(2, 5).per_domain, ..Limits::default() };
        let mut outlook = Outlook::new(limits, spent(Counted::Domain, "lampholm.example", &[8]), at(10));
        let mut plan = |name: &str| outlook.plan(&names(&[name]), false).map(|(room, until)| (room.words(), until));
        let lampholm = "certificates for lampholm.example".to_owned();
        assert_eq!(plan("a.lampholm.example"), None);
        assert_eq!(plan("b.lampholm.example"), Some((lampholm, at(13))));
        assert_eq!(plan("other.example"), None);
        assert_eq!(outlook.plan(&names(&["c.lampholm.example"]), true), None, "insisted on");
        let budgets = outlook.into_budgets();
        let told: Vec<(&str, u32, u32)> =
            budgets.iter().map(|b| (b.room.subject.as_str(), b.room.spent, b.planned)).collect();
        assert_eq!(told, [("lampholm.example", 1, 2), ("other.example", 0, 1)]);
    }
}
