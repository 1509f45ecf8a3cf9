//! What the packet filter of a machine does with visitors: its rules read, never changed.
//!
//! A rule that holds for some visitors only (by source, by interface) does not open a port for all, and does not close it; what cannot be
//! judged is said to be unclear.

mod iptables;
mod nft;

use serde::Serialize;
use std::collections::BTreeMap;

/// A visitor who makes a new TCP connection from another machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Visitor {
    /// Over IPv6.
    pub v6: bool,
    /// The port of this machine.
    pub port: u16,
}

/// What a packet filter does with a visitor.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "verdict")]
pub enum Verdict {
    /// It lets them in.
    Open,
    /// It does not.
    Closed {
        /// The rule or policy that keeps them out.
        by: String,
    },
    /// That depends on what is not known here.
    Unclear {
        /// The rule that cannot be judged.
        by: String,
    },
}

/// What the programs of a machine print about its packet filters; empty where there is no such program.
#[derive(Clone, Copy, Debug, Default)]
pub struct Listing<'a> {
    /// `nft -j list ruleset`.
    pub nft: &'a str,
    /// `iptables-save`.
    pub iptables: &'a str,
    /// `ip6tables-save`.
    pub ip6tables: &'a str,
}

/// Returns what the packet filters of a machine do with a visitor; `None` where there are none.
pub fn judge(listing: &Listing<'_>, visitor: Visitor) -> Option<Verdict> {
    let saved = if visitor.v6 { listing.ip6tables } else { listing.iptables };
    let mut hooks = nft::read(listing.nft, visitor, !saved.is_empty());
    hooks.extend(iptables::read(saved, visitor));
    // A packet has to get through all of them.
    let mut worst = None;
    for chains in hooks {
        match chains.verdict() {
            closed @ Verdict::Closed { .. } => return Some(closed),
            unclear @ Verdict::Unclear { .. } => worst = Some(unclear),
            Verdict::Open => worst = worst.or(Some(Verdict::Open)),
        }
    }
    worst
}

/// Whether a condition holds for a visitor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Holds {
    Yes,
    No,
    Unknown,
}

impl Holds {
    fn of(yes: bool) -> Self {
        if yes { Holds::Yes } else { Holds::No }
    }

    fn not(self) -> Self {
        match self {
            Holds::Yes => Holds::No,
            Holds::No => Holds::Yes,
            Holds::Unknown => Holds::Unknown,
        }
    }

    fn and(self, other: Self) -> Self {
        match (self, other) {
            (Holds::No, _) | (_, Holds::No) => Holds::No,
            (Holds::Yes, Holds::Yes) => Holds::Yes,
            _ => Holds::Unknown,
        }
    }
}

/// What a rule does when it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Deed {
    Accept,
    Drop,
    Return,
    Jump(String),
    Goto(String),
    /// Counts, logs, marks.
    Nothing,
    /// What is not understood.
    Unknown,
}

#[derive(Clone, Debug)]
struct Rule {
    holds: Holds,
    deed: Deed,
    text: String,
}

/// The chains of one table, of which one begins.
#[derive(Clone, Debug, Default)]
struct Chains {
    first: String,
    /// What happens at the end of the first.
    policy: bool,
    rules: BTreeMap<String, Vec<Rule>>,
}

/// How walking through a chain has ended.
enum Walked {
    Accept,
    Drop(String),
    /// At its end.
    Through,
}

/// What a walk through chains brings along.
#[derive(Default)]
struct Walk {
    /// What rules that may hold would do.
    maybe: Vec<(String, Deed)>,
    steps: usize,
}

/// So many chains call one another.
const DEEPEST: usize = 32;
/// So many rules are looked at.
const MOST_STEPS: usize = 100_000;

impl Chains {
    fn verdict(&self) -> Verdict {
        let mut walk = Walk::default();
        let walked = self.walk(&self.first, 0, &mut walk);
        let policy = || match self.policy {
            true => Walked::Accept,
            false => Walked::Drop(format!("the policy of chain {}", self.first)),
        };
        let ended = match walked {
            Walked::Through => policy(),
            ended => ended,
        };
        let opens = matches!(ended, Walked::Accept);
        // A rule that may hold matters only where it would have changed the end.
        if let Some((text, _)) = walk.maybe.into_iter().find(|(_, deed)| match deed {
            Deed::Accept => !opens,
            Deed::Drop => opens,
            _ => true,
        }) {
            return Verdict::Unclear { by: text };
        }
        match ended {
            Walked::Drop(by) => Verdict::Closed { by },
            Walked::Accept | Walked::Through => Verdict::Open,
        }
    }

    fn walk(&self, chain: &str, depth: usize, walk: &mut Walk) -> Walked {
        if depth > DEEPEST || walk.steps > MOST_STEPS {
            walk.maybe.push((format!("chains that call one another at {chain}"), Deed::Unknown));
            return Walked::Through;
        }
        for rule in self.rules.get(chain).into_iter().flatten() {
            walk.steps += 1;
            match (rule.holds, &rule.deed) {
                (Holds::No, _) | (_, Deed::Nothing) => {}
                (Holds::Yes, Deed::Accept) => return Walked::Accept,
                (Holds::Yes, Deed::Drop) => return Walked::Drop(rule.text.clone()),
                (Holds::Yes, Deed::Return) => return Walked::Through,
                (Holds::Yes, Deed::Jump(to)) => match self.walk(to, depth + 1, walk) {
                    Walked::Through => {}
                    ended => return ended,
                },
                (Holds::Yes, Deed::Goto(to)) => return self.walk(to, depth + 1, walk),
                (Holds::Unknown, Deed::Jump(to) | Deed::Goto(to)) => match self.walk(to, depth + 1, walk) {
                    Walked::Accept => walk.maybe.push((rule.text.clone(), Deed::Accept)),
                    Walked::Drop(_) => walk.maybe.push((rule.text.clone(), Deed::Drop)),
                    Walked::Through => {}
                },
                (Holds::Unknown | Holds::Yes, deed) => walk.maybe.push((rule.text.clone(), deed.clone())),
            }
        }
        Walked::Through
    }
}

#[cfg(test)]
mod tests;
