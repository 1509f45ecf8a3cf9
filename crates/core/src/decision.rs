//! What `keep` does about one certificate: facts in, a decision out.
//!
//! Obtaining and installing are decided apart: a generation that lies here is put in place even while its renewal is held up.

use crate::budget::Room;
use crate::deployment::Deployment;
use crate::inventory::{Authority, CertificateEntry};
use crate::journey::Milestone;
use crate::names::Identifier;
use crate::renewal::{Renewal, Timing, Validity, moment_between};
use crate::words;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What a journey is to bring: written down when it starts, so that a changed inventory is noticed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Specification {
    /// The names, in the inventory's order.
    pub names: Vec<Identifier>,
    /// The authority's name in the inventory.
    pub authority: String,
    /// The kind of authority and its address; `None` in ledgers of before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reached: Option<String>,
    /// The word for the kind of key.
    pub key: String,
    /// What is asked for beside names and key, in one line of text; `None` in ledgers of before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
}

impl Specification {
    /// Makes it from what the inventory says.
    pub fn new(entry: &CertificateEntry, authority: &Authority) -> Self {
        let profile = entry.profile.as_ref().map(|profile| format!("; profile {profile}"));
        Specification {
            names: entry.names.clone(),
            authority: entry.authority.clone(),
            reached: Some(authority.reached()),
            key: entry.key.word().to_owned(),
            request: Some(entry.csr.words() + &profile.unwrap_or_default()),
        }
    }

    /// Returns why a generation that was made for this is not what the inventory wants now; `None` when it is.
    pub fn differs(&self, now: &Specification) -> Option<Reason> {
        let other = |before: &Option<String>, after: &Option<String>| matches!((before, after), (Some(before), Some(after)) if before != after);
        if self.authority != now.authority || other(&self.reached, &now.reached) {
            Some(Reason::AuthorityChanged)
        } else if !same_names(&self.names, &now.names) {
            Some(Reason::NamesChanged)
        } else if self.key != now.key {
            Some(Reason::KeyChanged)
        } else if other(&self.request, &now.request) {
            Some(Reason::RequestChanged)
        } else {
            None
        }
    }
}

/// What is known about one certificate when `keep` starts.
#[derive(Clone, Debug)]
pub struct Facts {
    /// What the inventory wants.
    pub specification: Specification,
    /// The newest stored generation.
    pub newest: Option<Stored>,
    /// An open journey, if one was left.
    pub open: Option<OpenJourney>,
    /// Failures since the last success.
    pub failures: Option<Failures>,
    /// Until when the authority is left alone, whichever certificate it refused.
    pub authority_hold: Option<AuthorityHold>,
    /// The budget of its authority that has no room for an order, and until when.
    pub no_room: Option<(Room, Timestamp)>,
    /// What the servers lack of the newest generation; `None` when it is not what the inventory wants.
    pub deployment: Option<Deployment>,
    /// The number of the next generation: above every one that was ever given.
    pub next_generation: u32,
    /// What the inventory says of when it is renewed.
    pub timing: Timing,
    /// What it would be at each of the other authorities of the inventory: a generation from one of them is kept, too.
    pub elsewhere: Vec<Specification>,
    /// Whether somebody asked for a new generation, whatever is stored.
    pub wanted: bool,
    /// Whether names of the newest generation may be lost.
    pub may_lose_names: bool,
    /// When its authority wants the newest generation renewed, where it has said so (RFC 9773).
    pub asked_renewal: Option<Timestamp>,
}

impl Facts {
    /// Returns why a generation is not what the inventory wants, at none of its authorities.
    pub fn differs(&self, stored: &Stored) -> Option<Reason> {
        let reason = stored.specification.differs(&self.specification)?;
        let fits = |wanted: &Specification| stored.specification.differs(wanted).is_none();
        (!self.elsewhere.iter().any(fits)).then_some(reason)
    }
}

/// A stored generation.
#[derive(Clone, Debug)]
pub struct Stored {
    /// Its number.
    pub generation: u32,
    /// What it was made for.
    pub specification: Specification,
    /// Its validity.
    pub validity: Validity,
    /// Whether its authority has revoked it.
    pub revoked: bool,
}

impl Stored {
    /// Returns the names that it has and a certificate for `specification` would not cover.
    fn names_lost(&self, specification: &Specification) -> Vec<Identifier> {
        names_lost(&self.specification.names, &specification.names)
    }
}

/// Returns the names of one certificate that another with these names would not cover.
pub fn names_lost(before: &[Identifier], now: &[Identifier]) -> Vec<Identifier> {
    let covered = |name: &&Identifier| {
        let covers = |new: &Identifier| new == *name || (!name.is_wildcard() && new.covers(&name.to_string()));
        now.iter().any(covers)
    };
    before.iter().filter(|name| !covered(name)).cloned().collect()
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
#[derive(Clone, Debug, Default)]
pub struct Failures {
    /// How many in a row.
    pub count: u32,
    /// When the last one was.
    pub last: Timestamp,
    /// Until when `keep` leaves the authority alone; `None` when the failure did not concern the authority.
    pub hold_until: Option<Timestamp>,
    /// The authority that was asked, the last time.
    pub authority: Option<String>,
    /// Since when an authority has failed, or the way to it.
    pub authority_since: Option<Timestamp>,
    /// Whose fault the last one was.
    pub fault: Option<Fault>,
}

/// An authority that is left alone, with all its certificates.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AuthorityHold {
    /// Until when.
    pub until: Timestamp,
    /// What it said.
    pub reason: String,
}

/// Returns until when an authority is left alone after its `count`th refusal in a row at `last`: as long as it said itself
/// (`authority_says`), and at least 15 minutes, doubling up to a day.
pub fn hold_after(count: u32, last: Timestamp, authority_says: Option<Timestamp>) -> Timestamp {
    let ours = last + pause_after(count);
    authority_says.map_or(ours, |theirs| theirs.max(ours))
}

/// Returns until when an authority is not asked for one certificate again after its `count`th refusal in a row: as [`hold_after`], but for a
/// quarter of the time that the certificate is still good (until `end`) at the most, and up to a tenth longer, another share for each `seed`.
/// Where the authority said how long, that counts.
pub fn hold_of_certificate(
    count: u32,
    last: Timestamp,
    authority_says: Option<Timestamp>,
    end: Option<Timestamp>,
    seed: &str,
) -> Timestamp {
    let left = end.map(|end| end.duration_since(last) / 4).filter(|left| left.is_positive());
    let pause = left.map_or(pause_after(count), |left| pause_after(count).min(left.max(pause_after(1))));
    let ours = moment_between(last + pause, last + pause + pause / 10, &format!("{seed} {count}"));
    authority_says.map_or(ours, |theirs| theirs.max(ours))
}

fn pause_after(count: u32) -> SignedDuration {
    let minutes = 15_i64 << count.saturating_sub(1).min(7);
    SignedDuration::from_mins(minutes.min(24 * 60))
}

/// Why a new generation is wanted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// There is none yet.
    First,
    /// Renewal is due.
    Due,
    /// Its authority wants it renewed by now (RFC 9773).
    AuthorityAsks,
    /// It has run out.
    Expired,
    /// The inventory asks for other names.
    NamesChanged,
    /// The inventory asks for another kind of key.
    KeyChanged,
    /// The inventory names another authority, or another address of it.
    AuthorityChanged,
    /// The inventory asks for something else beside names and key.
    RequestChanged,
    /// Its authority has revoked it.
    Revoked,
    /// Somebody asked for it.
    Wanted,
}

impl Reason {
    /// Returns the reason in words.
    pub fn words(&self) -> &'static str {
        match self {
            Reason::First => "none exists yet",
            Reason::Due => "renewal is due",
            Reason::AuthorityAsks => "its authority asks for the renewal",
            Reason::Expired => "it has expired",
            Reason::NamesChanged => "the names in the inventory changed",
            Reason::KeyChanged => "the kind of key in the inventory changed",
            Reason::AuthorityChanged => "the authority in the inventory changed",
            Reason::RequestChanged => "what the inventory asks for beside names and key changed",
            Reason::Revoked => "it was revoked",
            Reason::Wanted => "somebody asked for it",
        }
    }
}

/// What is to be done to have a good generation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Obtaining {
    /// Nothing before `until`.
    Rest {
        /// When renewal falls due.
        until: Timestamp,
        /// Whether its authority wants it then (RFC 9773).
        #[serde(skip_serializing_if = "is_false")]
        asked_for: bool,
    },
    /// Start a journey to a new generation.
    Start {
        /// The number of the new generation.
        generation: u32,
        /// Why.
        why: Reason,
        /// Whether a journey is open and is given up.
        gives_up_open: bool,
    },
    /// Nothing before somebody agrees, or renewal falls due: visitors of some names would be left without a certificate.
    LosesNames {
        /// The names.
        names: Vec<Identifier>,
        /// When renewal falls due.
        until: Timestamp,
    },
    /// Go on with the open journey.
    GoOn {
        /// The generation it is to bring.
        generation: u32,
        /// The last stage it passed.
        passed: Option<Milestone>,
    },
    /// Its authority did not answer in this run, and is not asked again.
    OutOfReach {
        /// What came back.
        reason: String,
    },
    /// Wait until a budget of its authority has room for it.
    NoRoom {
        /// Until when.
        until: Timestamp,
        /// The budget.
        budget: Room,
    },
    /// Leave it alone for a while after failures.
    Hold {
        /// Until when.
        until: Timestamp,
        /// How many failures of this certificate in a row; 0 when only its authority is left alone.
        failures: u32,
        /// What the authority said, when it is left alone with all its certificates.
        #[serde(skip_serializing_if = "Option::is_none")]
        authority: Option<String>,
    },
}

/// What is to be done about one certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Decision {
    /// First: the newest stored generation is put where it is lacking, while it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<Deployment>,
    /// Then: a generation is obtained, and put on all servers when it comes.
    pub obtain: Obtaining,
}

impl Decision {
    /// Returns whether anything would be done now.
    pub fn acts(&self) -> bool {
        self.place.is_some() || matches!(self.obtain, Obtaining::Start { .. } | Obtaining::GoOn { .. })
    }

    /// Returns the generation that servers would have in the end, when anything is done.
    pub fn generation(&self) -> Option<u32> {
        match self.obtain {
            Obtaining::Start { generation, .. } | Obtaining::GoOn { generation, .. } => Some(generation),
            Obtaining::Rest { .. }
            | Obtaining::LosesNames { .. }
            | Obtaining::OutOfReach { .. }
            | Obtaining::NoRoom { .. }
            | Obtaining::Hold { .. } => self.place.as_ref().map(|place| place.generation),
        }
    }

    /// Returns the decision in words, as `keep --plan` prints it.
    pub fn words(&self) -> String {
        match (&self.place, &self.obtain) {
            (None, obtain) => obtain.words(),
            (Some(place), Obtaining::Rest { .. }) => place.words(),
            (Some(place), obtain) => format!("{}; {}", place.words(), obtain.words()),
        }
    }
}

impl Obtaining {
    /// Returns it in words.
    pub fn words(&self) -> String {
        match self {
            Obtaining::Rest { until, asked_for } => {
                let why = if *asked_for { ", when its authority asks for it" } else { "" };
                format!("nothing to do; renewal on {}{why}", words::day(*until))
            }
            Obtaining::Start { generation, why, gives_up_open } => {
                let verb = if *why == Reason::First { "get the first certificate" } else { "get a new certificate" };
                let given_up = if *gives_up_open { "; the open journey is given up" } else { "" };
                format!("{verb} (generation {generation}): {}{given_up}", why.words())
            }
            Obtaining::LosesNames { names, until } => {
                let day = words::day(*until);
                format!("not renewed before {day}: {} would have no certificate any more", words::list(names))
            }
            Obtaining::GoOn { generation, passed } => {
                let from = passed.map_or("its start".to_owned(), |m| format!("`{m}`"));
                format!("go on with generation {generation} from {from}")
            }
            Obtaining::NoRoom { until, budget } => {
                let (counted, limit) = (budget.words(), budget.limit_words());
                format!("not before {}: the budget for {counted} ({limit}) is used up", words::instant(*until))
            }
            Obtaining::OutOfReach { .. } => "its authority cannot be reached in this run".to_owned(),
            Obtaining::Hold { until, authority: Some(_), .. } => {
                format!("its authority is not asked again until {}", words::instant(*until))
            }
            Obtaining::Hold { until, failures, authority: None } => format!(
                "not tried again until {} after {}",
                words::instant(*until),
                words::count(u64::from(*failures), "failure")
            ),
        }
    }
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands over references")]
fn is_false(flag: &bool) -> bool {
    !flag
}

/// Decides what to do about one certificate at `now`.
///
/// Renewal comes before going on: a journey whose generation is stored, and is due or not wanted any more, is superseded by
/// the next one.
///
/// `insist` is set when somebody asked for this very certificate: a hold after failures does not apply then.
pub fn decide(facts: &Facts, now: Timestamp, insist: bool) -> Decision {
    let newest = facts.newest.as_ref();
    let renewal = |stored: &Stored| Renewal::of(&stored.validity, &facts.timing, facts.asked_renewal);
    let differs = newest.and_then(|stored| facts.differs(stored));
    let why = match newest {
        None => Some(Reason::First),
        Some(stored) if stored.revoked => Some(Reason::Revoked),
        Some(stored) => differs.clone().or(match now {
            now if now >= stored.validity.not_after => Some(Reason::Expired),
            now => match renewal(stored) {
                Renewal { at, .. } if now < at => facts.wanted.then_some(Reason::Wanted),
                Renewal { asked_for: true, .. } => Some(Reason::AuthorityAsks),
                Renewal { .. } => Some(Reason::Due),
            },
        }),
    };
    let open = facts.open.as_ref();
    // A journey that has brought its generation is judged by that.
    let stored = |open: &OpenJourney| newest.is_some_and(|stored| stored.generation >= open.generation);
    let goes_on = open.filter(|open| open.fits && !(stored(open) && why.is_some()));

    let is_good = |stored: &Stored| {
        differs.is_none() && !stored.revoked && now >= stored.validity.not_before && now < stored.validity.not_after
    };
    // A certificate that is due, or of no use any more, is renewed all the same: better some names with one than none.
    let lost = newest.filter(|stored| !facts.may_lose_names && !stored.revoked && now < renewal(stored).at);
    let lost = lost.map(|stored| (stored.names_lost(&facts.specification), renewal(stored).at));
    let lost = lost.filter(|(names, _)| differs.is_some() && !names.is_empty());
    let obtain = match (goes_on, why) {
        (None, Some(_)) if lost.is_some() => {
            let (names, until) = lost.unwrap_or_default();
            Obtaining::LosesNames { names, until }
        }
        (Some(open), _) => Obtaining::GoOn { generation: open.generation, passed: open.passed },
        (None, Some(why)) => Obtaining::Start { generation: facts.next_generation, why, gives_up_open: open.is_some() },
        (None, None) => {
            let Renewal { at: until, asked_for } = newest.map_or(Renewal { at: now, asked_for: false }, renewal);
            Obtaining::Rest { until, asked_for }
        }
    };
    // Only what asks the authority is held.
    let asks = !matches!(obtain, Obtaining::Rest { .. } | Obtaining::LosesNames { .. });
    let held_back = if asks && !insist { held_back(facts, now) } else { None };
    let obtain = match (held_back.unwrap_or(obtain), &facts.no_room) {
        (Obtaining::Start { .. }, Some((budget, until))) => Obtaining::NoRoom { until: *until, budget: budget.clone() },
        (obtain, _) => obtain,
    };
    // A journey that was about to end with this very generation puts it in place itself.
    let brings =
        |stored: &Stored| matches!(obtain, Obtaining::GoOn { generation, .. } if generation <= stored.generation);
    let lacking = facts.deployment.clone().filter(|deployment| !deployment.is_done());
    let place = lacking.filter(|_| newest.is_some_and(|stored| is_good(stored) && !brings(stored)));
    Decision { place, obtain }
}

fn held_back(facts: &Facts, now: Timestamp) -> Option<Obtaining> {
    // What one authority refused, another may not.
    let concerned = |f: &&Failures| f.authority.as_ref().is_none_or(|name| *name == facts.specification.authority);
    let own = facts.failures.as_ref().filter(concerned).and_then(|f| Some((f.hold_until?, f.count)));
    let own = own.filter(|(until, _)| *until > now);
    let authority = facts.authority_hold.as_ref().filter(|hold| hold.until > now);
    match (own, authority) {
        (Some((until, failures)), None) => Some(Obtaining::Hold { until, failures, authority: None }),
        (own, Some(hold)) => {
            let (until, failures) = own.map_or((hold.until, 0), |(until, failures)| (until.max(hold.until), failures));
            Some(Obtaining::Hold { until, failures, authority: Some(hold.reason.clone()) })
        }
        (None, None) => None,
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

/// Returns what tells which of several certificates goes first, the least first: when visitors are left without one.
pub fn urgency(newest: Option<&Stored>, now: Timestamp) -> Timestamp {
    newest.map_or(now, |stored| stored.validity.not_after)
}

/// Whose fault it is that something failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, strum::EnumString, strum::IntoStaticStr)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Fault {
    /// This machine: its files, the inventory, Eskort itself.
    Here,
    /// The authority refused, or did not come to an end.
    Authority,
    /// The way to somebody: nothing came back.
    Network,
    /// The site, its zone or one of its servers.
    Site,
}

impl Fault {
    /// Returns where to look, in words.
    pub fn words(self) -> &'static str {
        match self {
            Fault::Here => "this machine or its inventory",
            Fault::Authority => "the authority",
            Fault::Network => "the network",
            Fault::Site => "the site or its servers",
        }
    }
}

/// Returns which of several `authorities` a renewal goes to at `now`, as an index: the first, unless it has failed for a third of the time from
/// `due` to `end`; then the second, too, and after another third the one after that. Where less than a third is left, or no generation is of use
/// any more, it has failed long enough after an hour. Of those that may be asked then each gets its turn, one after the other, but for those that
/// are `held`.
pub fn authority_of_the_day(
    authorities: &[&str],
    failures: Option<&Failures>,
    held: impl Fn(&str) -> bool,
    (due, end): (Timestamp, Timestamp),
    now: Timestamp,
) -> usize {
    let Some(since) = failures.and_then(|failures| failures.authority_since) else { return 0 };
    let third = (end.duration_since(due) / 3).max(ENOUGH);
    let step = if now.duration_since(end) > -third { ENOUGH } else { third };
    let passed = now.duration_since(since).as_secs() / step.as_secs();
    let may_be_asked = usize::try_from(passed).unwrap_or_default().min(authorities.len().saturating_sub(1)) + 1;
    let last = failures.and_then(|failures| failures.authority.as_deref());
    let last = last.and_then(|last| authorities.iter().position(|name| *name == last));
    let next = if may_be_asked == 1 { 0 } else { last.map_or(0, |last| last + 1) };
    let turns = (0..may_be_asked).map(|n| (next + n) % may_be_asked);
    turns.clone().find(|n| !held(authorities[*n])).or(turns.clone().next()).unwrap_or(0)
}

/// An authority that fails for less than this may just be restarting.
const ENOUGH: SignedDuration = SignedDuration::from_hours(1);

/// Whom a failure concerns, and so what is left alone for a while.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Concerns {
    /// The authority refuses whoever asks. `mistake` is set when what the inventory says of it is probably wrong.
    Authority {
        /// Whether a change of its section ends it.
        mistake: bool,
    },
    /// The authority is out of reach just now.
    Reach,
    /// The authority refused this certificate.
    Certificate,
    /// Nothing that the authority did.
    Nobody,
}

#[cfg(test)]
mod tests;
