//! What certificates there are, and how long they last.

use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::decision::{Fault, names_lost};
use eskort_core::names::Identifier;
use eskort_core::renewal::{Renewal, Timing, Validity};
use eskort_core::words;
use eskort_store::{FailedOverview, Overview, Store, StoreError};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeMap;

/// How a certificate stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, strum::EnumDiscriminants)]
#[strum_discriminants(
    name(StateKind),
    doc = "A kind of state, by its word.",
    derive(PartialOrd, Ord, strum::EnumString, strum::IntoStaticStr, strum::VariantNames),
    strum(serialize_all = "kebab-case")
)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum State {
    /// None exists yet.
    Missing,
    /// All is well.
    Good,
    /// It is installed; that could not be seen from here.
    Unconfirmed {
        /// Why not.
        why: String,
    },
    /// Some servers do not have the newest generation yet.
    PartlyInstalled {
        /// How many have it.
        have: usize,
        /// How many the inventory names.
        servers: usize,
    },
    /// A person took the newest generation off the servers.
    WentBack {
        /// The generation that is on them instead; `None` for none.
        instead: Option<u32>,
    },
    /// A journey is under way.
    UnderWay {
        /// The last of the six stages it passed; empty before the first.
        passed: String,
    },
    /// A journey waits for a person: to place what proves control, or to bring an authority's answer.
    AwaitsPerson {
        /// Since when.
        since: Timestamp,
        /// How long that is, in words; empty for less than a minute.
        age: String,
    },
    /// The inventory has dropped names of it: a person has to agree, or its renewal to be due.
    LosesNames {
        /// The names.
        names: Vec<String>,
    },
    /// Renewal is due.
    Due,
    /// It has run out.
    Expired,
    /// The last try failed.
    Failing {
        /// How many in a row.
        failures: u32,
        /// Why, the last time.
        reason: String,
        /// Whose fault that was.
        #[serde(skip_serializing_if = "Option::is_none")]
        fault: Option<Fault>,
    },
    /// The ledger knows it; the inventory does not any more.
    NotInInventory,
}

impl State {
    /// Returns the state in a few words.
    pub fn words(&self) -> String {
        match self {
            State::Missing => "none yet".into(),
            State::Good => "good".into(),
            State::Unconfirmed { .. } => "good, not confirmed from here".into(),
            State::PartlyInstalled { have: 0, .. } => "not installed yet".into(),
            State::PartlyInstalled { have, servers } => format!("on {have} of {servers} servers"),
            State::WentBack { instead: Some(instead) } => format!("went back to {instead}"),
            State::WentBack { instead: None } => "taken off its servers".into(),
            State::UnderWay { passed } if passed.is_empty() => "under way".into(),
            State::UnderWay { passed } => format!("under way: {passed}"),
            State::AwaitsPerson { age, .. } if age.is_empty() => "waits for you".into(),
            State::AwaitsPerson { age, .. } => format!("waits for you, {age}"),
            State::LosesNames { names } => format!("would lose {}", words::count(names.len() as u64, "name")),
            State::Due => "renewal due".into(),
            State::Expired => "expired".into(),
            State::Failing { failures, .. } => words::count(u64::from(*failures), "failure"),
            State::NotInInventory => "not in inventory".into(),
        }
    }

    /// Returns the kind of state in words, to count: "27 good".
    pub fn kind_words(&self) -> &'static str {
        match self {
            State::Missing => "without one yet",
            State::Good => "good",
            State::Unconfirmed { .. } => "not confirmed from here",
            State::PartlyInstalled { .. } => "not on all servers",
            State::WentBack { .. } => "gone back",
            State::UnderWay { .. } => "under way",
            State::AwaitsPerson { .. } => "waiting for you",
            State::LosesNames { .. } => "asking to lose names",
            State::Due => "due",
            State::Expired => "expired",
            State::Failing { .. } => "failing",
            State::NotInInventory => "not in inventory",
        }
    }

    /// Returns whether somebody should look at it.
    pub fn needs_attention(&self) -> bool {
        matches!(
            self,
            State::Expired | State::Failing { .. } | State::AwaitsPerson { .. } | State::LosesNames { .. } | State::Due
        )
    }
}

/// One certificate in the list.
#[derive(Clone, Debug, Serialize)]
pub struct ListRow {
    /// Its name in the inventory.
    pub certificate: String,
    /// The names on it.
    pub names: Vec<String>,
    /// The number of the newest generation.
    pub generation: Option<u32>,
    /// The dates of the newest generation.
    pub validity: Option<Validity>,
    /// When renewal is due.
    pub renew_at: Option<Timestamp>,
    /// How it stands.
    pub state: State,
}

/// Which certificates to list; nothing stands for all.
#[derive(Clone, Debug, Default)]
pub struct ListFilter {
    /// Those in one of these states.
    pub states: Vec<StateKind>,
    /// Those whose name, or a name on them, one of these fits.
    pub names: Vec<glob::Pattern>,
}

impl ListFilter {
    fn takes(&self, row: &ListRow) -> bool {
        let named = |pattern: &glob::Pattern| {
            std::iter::once(&row.certificate).chain(&row.names).any(|name| pattern.matches(name))
        };
        (self.states.is_empty() || self.states.contains(&StateKind::from(&row.state)))
            && (self.names.is_empty() || self.names.iter().any(named))
    }
}

/// Returns the certificates of the inventory and of the ledger: those that wait for a person first, then what else needs somebody; each
/// by name.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn list(context: &Context, filter: &ListFilter) -> Result<Vec<ListRow>, StoreError> {
    let now = context.now();
    let mut known = match Store::open_existing(&context.state)? {
        Some(store) => store.overview().await?,
        None => BTreeMap::new(),
    };
    let mut rows = Vec::new();
    for (name, entry) in &context.inventory.certificates {
        let names = entry.names.iter().map(ToString::to_string).collect();
        let timing = context.inventory.timing_of(name);
        let servers = entry.install.iter().map(|install| install.server.as_str()).collect();
        let upkeep = Upkeep { names: &entry.names, by_hand: context.inventory.awaits_person(entry), timing, servers };
        rows.push(row(name.clone(), names, known.remove(name), Some(&upkeep), now));
    }
    for (name, overview) in known {
        rows.push(row(name, Vec::new(), Some(overview), None, now));
    }
    // What a person has to do comes first of all.
    let rank = |s: &State| if matches!(s, State::AwaitsPerson { .. }) { 0 } else { 1 + u8::from(!s.needs_attention()) };
    rows.retain(|row| filter.takes(row));
    rows.sort_by(|a, b| {
        rank(&a.state).cmp(&rank(&b.state)).then_with(|| words::natural_order(&a.certificate, &b.certificate))
    });
    Ok(rows)
}

/// Returns how long something has waited, in words; empty for less than a minute.
pub fn age(since: Timestamp, now: Timestamp) -> String {
    let waited = now.duration_since(since);
    if waited.as_mins() == 0 { String::new() } else { words::duration(waited) }
}

/// Returns the names of a generation, a list in JSON, that the inventory has no more; `written` are those of the inventory.
fn lost(stored: &str, now: &[Identifier], written: &[String]) -> Vec<String> {
    // Most are the same, in the same order: no name has a mark that JSON would escape.
    if stored.is_empty() || stored == format!("[\"{}\"]", written.join("\",\"")) {
        return Vec::new();
    }
    let stored: Vec<Identifier> = serde_json::from_str(stored).unwrap_or_default();
    names_lost(&stored, now).iter().map(ToString::to_string).collect()
}

/// What the inventory says of a certificate's renewals.
struct Upkeep<'a> {
    /// The names that are to be on it.
    names: &'a [Identifier],
    /// Whether a person proves control.
    by_hand: bool,
    /// What is said of when it is renewed.
    timing: Timing,
    /// The servers that are to have it.
    servers: Vec<&'a str>,
}

fn row(
    certificate: String,
    names: Vec<String>,
    known: Option<Overview>,
    upkeep: Option<&Upkeep<'_>>,
    now: Timestamp,
) -> ListRow {
    // What visitors get is what counts.
    let newest = known.as_ref().and_then(|o| o.gone_back.flatten().or(o.newest));
    let validity = newest.map(|(_, v)| v);
    let usual = Timing::default();
    let timing = upkeep.map_or(&usual, |upkeep| &upkeep.timing);
    let asked = known.as_ref().filter(|known| known.gone_back.is_none()).and_then(|known| known.asked_renewal);
    let renew_at = validity.map(|validity| Renewal::of(&validity, timing, asked).at);
    let has = |server: &&&str| known.as_ref().is_some_and(|o| o.installed_on.contains(**server));
    let lost = match (&known, upkeep) {
        (Some(known), Some(upkeep)) => lost(&known.names, upkeep.names, &names),
        _ => Vec::new(),
    };
    let servers = upkeep.map_or(0, |u| u.servers.len());
    let have = upkeep.map_or(0, |u| u.servers.iter().filter(has).count());
    let state = match (known, validity) {
        _ if upkeep.is_none() => State::NotInInventory,
        (_, Some(v)) if now >= v.not_after => State::Expired,
        (Some(Overview { failed: Some(FailedOverview { count, reason, fault, .. }), .. }), _) => {
            State::Failing { failures: count, reason, fault }
        }
        (Some(Overview { open: Some(journey), .. }), _)
            if journey.handed_over || (journey.published && upkeep.is_some_and(|w| w.by_hand)) =>
        {
            State::AwaitsPerson { since: journey.since, age: age(journey.since, now) }
        }
        (Some(Overview { open: Some(journey), .. }), _) => State::UnderWay { passed: journey.passed },
        (Some(Overview { gone_back: Some(instead), .. }), Some(_)) => {
            State::WentBack { instead: instead.map(|(number, _)| number) }
        }
        (_, Some(_)) if renew_at.is_some_and(|at| now >= at) => State::Due,
        (_, Some(_)) if !lost.is_empty() => State::LosesNames { names: lost },
        (_, Some(_)) if have < servers => State::PartlyInstalled { have, servers },
        (Some(Overview { unreachable: Some(why), confirmed: false, .. }), Some(_)) => State::Unconfirmed { why },
        (_, Some(_)) => State::Good,
        (_, None) => State::Missing,
    };
    let generation = newest.map(|(number, _)| number);
    ListRow { certificate, names, generation, validity, renew_at, state }
}
