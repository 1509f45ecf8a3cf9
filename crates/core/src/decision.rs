//! What `keep` does about one certificate: facts in, a decision out.

use crate::journey::Milestone;
use crate::names::Identifier;
use crate::pki::KeyKind;
use crate::renewal::Validity;
use crate::words;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What a journey is to bring: written down when it starts, so that a changed inventory is noticed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wanted {
    /// The names, in the inventory's order.
    pub names: Vec<Identifier>,
    /// The authority's name in the inventory.
    pub authority: String,
    /// The word for the kind of key.
    pub key: String,
}

impl Wanted {
    /// Makes it from its parts.
    pub fn new(names: Vec<Identifier>, authority: &str, key: KeyKind) -> Self {
        Wanted { names, authority: authority.to_owned(), key: key.word().to_owned() }
    }
}

/// What is known about one certificate when `keep` starts.
#[derive(Clone, Debug)]
pub struct Facts {
    /// What the inventory wants.
    pub wanted: Wanted,
    /// The newest stored generation.
    pub newest: Option<Held>,
    /// An open journey, if one was left.
    pub open: Option<OpenJourney>,
    /// Failures since the last success.
    pub failures: Option<Failures>,
    /// What the servers lack of the newest generation, in words; empty when all is in place.
    pub not_in_place: Vec<String>,
    /// How long before its end a renewal has to begin at the latest.
    pub lead: SignedDuration,
}

/// A stored generation.
#[derive(Clone, Debug)]
pub struct Held {
    /// Its number.
    pub generation: u32,
    /// What it was made for.
    pub made_for: Wanted,
    /// Its validity.
    pub validity: Validity,
}

/// A journey that has not come to its end.
#[derive(Clone, Debug)]
pub struct OpenJourney {
    /// The generation it is to bring.
    pub generation: u32,
    /// Whether it can go on: it is for what the inventory wants now, and proves it in the inventory's way.
    pub fits: bool,
    /// The last of the six stages it passed.
    pub passed: Option<Milestone>,
}

/// What went wrong lately.
#[derive(Clone, Debug)]
pub struct Failures {
    /// How many in a row.
    pub count: u32,
    /// When the last one was.
    pub last: Timestamp,
    /// Until when `keep` leaves the authority alone; `None` when the failure did not concern the authority.
    pub hold_until: Option<Timestamp>,
}

/// Returns until when an authority is left alone after its `count`th refusal in a row at `last`: as long as it said itself
/// (`authority_says`), and at least 15 minutes, doubling up to a day.
pub fn hold_after(count: u32, last: Timestamp, authority_says: Option<Timestamp>) -> Timestamp {
    let minutes = 15_i64 << count.saturating_sub(1).min(7);
    let ours = last + SignedDuration::from_mins(minutes.min(24 * 60));
    authority_says.map_or(ours, |theirs| theirs.max(ours))
}

/// Why a new generation is wanted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// There is none yet.
    First,
    /// Renewal is due.
    Due,
    /// It has run out.
    Expired,
    /// The inventory asks for other names.
    NamesChanged,
    /// The inventory asks for another kind of key.
    KeyChanged,
    /// The inventory names another authority.
    AuthorityChanged,
}

impl Reason {
    /// Returns the reason in words.
    pub fn words(&self) -> &'static str {
        match self {
            Reason::First => "there is none yet",
            Reason::Due => "renewal is due",
            Reason::Expired => "it has expired",
            Reason::NamesChanged => "the names in the inventory changed",
            Reason::KeyChanged => "the kind of key in the inventory changed",
            Reason::AuthorityChanged => "the authority in the inventory changed",
        }
    }
}

/// What is to be done about one certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Decision {
    /// Nothing before `until`.
    Rest {
        /// When renewal falls due.
        until: Timestamp,
    },
    /// Start a journey to a new generation.
    Obtain {
        /// The number of the new generation.
        generation: u32,
        /// Why.
        why: Reason,
        /// Whether a journey for something else is open and is given up.
        gives_up_open: bool,
    },
    /// Go on with the open journey.
    GoOn {
        /// The generation it is to bring.
        generation: u32,
        /// The last stage it passed.
        passed: Option<Milestone>,
    },
    /// Put the newest generation in place again.
    PutInPlace {
        /// Its number.
        generation: u32,
        /// What is not in place.
        lacks: Vec<String>,
    },
    /// Leave it alone for a while after failures.
    Hold {
        /// Until when.
        until: Timestamp,
        /// How many failures in a row.
        failures: u32,
    },
}

impl Decision {
    /// Returns whether anything would be done now.
    pub fn acts(&self) -> bool {
        !matches!(self, Decision::Rest { .. } | Decision::Hold { .. })
    }

    /// Returns the decision in words, as `keep --plan` prints it.
    pub fn words(&self) -> String {
        match self {
            Decision::Rest { until } => format!("nothing to do; renewal on {}", words::day(*until)),
            Decision::Obtain { generation, why, gives_up_open } => {
                let verb = if *generation == 1 { "get the first certificate" } else { "get a new certificate" };
                let given_up = if *gives_up_open { "; the open journey is given up" } else { "" };
                format!("{verb} (generation {generation}): {}{given_up}", why.words())
            }
            Decision::GoOn { generation, passed } => {
                let from = passed.map_or("its start".to_owned(), |m| format!("`{m}`"));
                format!("go on with generation {generation} from {from}")
            }
            Decision::PutInPlace { generation, lacks } => {
                format!("put generation {generation} in place: {}", words::list(lacks))
            }
            Decision::Hold { until, failures } => format!(
                "left alone until {} after {}",
                words::instant(*until),
                words::count(u64::from(*failures), "failure")
            ),
        }
    }
}

/// Decides what to do about one certificate at `now`.
///
/// `insist` is set when somebody asked for this very certificate: a hold after failures does not apply then.
pub fn decide(facts: &Facts, now: Timestamp, insist: bool) -> Decision {
    let held_back = facts.failures.as_ref().filter(|_| !insist);
    let held_back = held_back.and_then(|f| Some((f.count, f.hold_until.filter(|until| *until > now)?)));
    let hold = |(failures, until): (u32, Timestamp)| Decision::Hold { until, failures };

    let open = facts.open.as_ref();
    if let Some(open) = open.filter(|o| o.fits) {
        return held_back.map_or(Decision::GoOn { generation: open.generation, passed: open.passed }, hold);
    }
    let gives_up_open = open.is_some();
    let Some(held) = &facts.newest else {
        return held_back.map_or(Decision::Obtain { generation: 1, why: Reason::First, gives_up_open }, hold);
    };
    let why = if held.made_for.authority != facts.wanted.authority {
        Some(Reason::AuthorityChanged)
    } else if !same_names(&held.made_for.names, &facts.wanted.names) {
        Some(Reason::NamesChanged)
    } else if held.made_for.key != facts.wanted.key {
        Some(Reason::KeyChanged)
    } else if now >= held.validity.not_after {
        Some(Reason::Expired)
    } else if now >= held.validity.renew_at_with(facts.lead) {
        Some(Reason::Due)
    } else {
        None
    };
    match why {
        Some(why) => held_back.map_or(Decision::Obtain { generation: held.generation + 1, why, gives_up_open }, hold),
        None if facts.not_in_place.is_empty() => Decision::Rest { until: held.validity.renew_at_with(facts.lead) },
        None => held_back
            .map_or(Decision::PutInPlace { generation: held.generation, lacks: facts.not_in_place.clone() }, hold),
    }
}

/// The order of names does not matter to a certificate.
fn same_names(a: &[Identifier], b: &[Identifier]) -> bool {
    let sorted = |names: &[Identifier]| {
        let mut names = names.to_vec();
        names.sort();
        names
    };
    sorted(a) == sorted(b)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(names: &[&str], key: KeyKind) -> Wanted {
        Wanted::new(names.iter().map(|n| Identifier::parse(n).unwrap()).collect(), "public", key)
    }

    fn facts() -> Facts {
        let made_for = wanted(&["lampholm.example", "www.lampholm.example"], KeyKind::P256);
        let not_before = "2026-01-01T00:00:00Z".parse().unwrap();
        let validity = Validity { not_before, not_after: "2026-04-01T00:00:00Z".parse().unwrap() };
        Facts {
            wanted: made_for.clone(),
            newest: Some(Held { generation: 3, made_for, validity }),
            open: None,
            failures: None,
            not_in_place: Vec::new(),
            lead: SignedDuration::ZERO,
        }
    }

    fn on(date: &str) -> Timestamp {
        format!("{date}T00:00:00Z").parse().unwrap()
    }

    #[test]
    fn each_fact_leads_to_its_decision() {
        let rest = |f: &mut Facts| drop(f.not_in_place.pop());
        let none = |f: &mut Facts| f.newest = None;
        let names = |f: &mut Facts| f.wanted = wanted(&["lampholm.example"], KeyKind::P256);
        let turned = |f: &mut Facts| f.wanted = wanted(&["www.lampholm.example", "lampholm.example"], KeyKind::P256);
        let key = |f: &mut Facts| f.wanted.key = KeyKind::P384.word().into();
        let authority = |f: &mut Facts| f.wanted.authority = "other".into();
        let server = |f: &mut Facts| f.not_in_place.push("server `front`".into());
        let open = |f: &mut Facts| {
            f.open = Some(OpenJourney { generation: 4, fits: true, passed: Some(Milestone::Ordered) });
        };
        let stale = |f: &mut Facts| {
            f.open = Some(OpenJourney { generation: 4, fits: false, passed: None });
        };
        type Change<'a> = &'a dyn Fn(&mut Facts);
        let table: [(&str, Change<'_>, &str); 12] = [
            ("2026-02-01", &rest, "nothing to do; renewal on 2026-03-02"),
            ("2026-03-02", &rest, "get a new certificate (generation 4): renewal is due"),
            ("2026-04-02", &rest, "get a new certificate (generation 4): it has expired"),
            ("2026-02-01", &none, "get the first certificate (generation 1): there is none yet"),
            ("2026-02-01", &names, "get a new certificate (generation 4): the names in the inventory changed"),
            ("2026-02-01", &turned, "nothing to do; renewal on 2026-03-02"),
            ("2026-02-01", &key, "get a new certificate (generation 4): the kind of key in the inventory changed"),
            ("2026-02-01", &authority, "get a new certificate (generation 4): the authority in the inventory changed"),
            ("2026-02-01", &server, "put generation 3 in place: server `front`"),
            ("2026-02-01", &open, "go on with generation 4 from `ordered`"),
            ("2026-02-01", &stale, "nothing to do; renewal on 2026-03-02"),
            (
                "2026-03-02",
                &stale,
                "get a new certificate (generation 4): renewal is due; the open journey is given up",
            ),
        ];
        for (date, change, said) in table {
            let mut facts = facts();
            change(&mut facts);
            assert_eq!(decide(&facts, on(date), false).words(), said);
        }
    }

    #[test]
    fn after_failures_it_holds_off_longer_each_time_unless_asked() {
        let mut facts = facts();
        facts.newest = None;
        let last = on("2026-02-01");
        for (count, minutes) in [(1, 15), (2, 30), (5, 240), (30, 24 * 60)] {
            assert_eq!(hold_after(count, last, None), last + SignedDuration::from_mins(minutes));
        }
        let hold_until = Some(hold_after(1, last, Some(on("2026-02-09"))));
        facts.failures = Some(Failures { count: 1, last, hold_until });
        assert_eq!(decide(&facts, on("2026-02-08"), false), Decision::Hold { until: on("2026-02-09"), failures: 1 });
        assert!(decide(&facts, on("2026-02-08"), true).acts());
        assert!(decide(&facts, on("2026-02-09"), false).acts());
    }
}
