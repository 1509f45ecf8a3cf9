//! Rules as `nft -j list ruleset` prints them (libnftables-json(5)).

use super::{Chains, Deed, Holds, Rule, Visitor};
use crate::words::printable;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// A table, by its family and name.
type Table = (String, String);

fn table_of(object: &Value) -> Option<Table> {
    Some((object["family"].as_str()?.to_owned(), object["table"].as_str()?.to_owned()))
}

/// Reads the chains through which what comes in goes. Tables that `iptables` has made are left to what that prints, where it does.
pub(super) fn read(ruleset: &str, visitor: Visitor, has_iptables: bool) -> Vec<Chains> {
    let ruleset: Value = serde_json::from_str(ruleset).unwrap_or_default();
    let Some(objects) = ruleset["nftables"].as_array() else { return Vec::new() };
    let mut sets: BTreeMap<Table, BTreeMap<&str, &Value>> = BTreeMap::new();
    for set in objects.iter().flat_map(|object| [&object["set"], &object["map"]]) {
        if let (Some(of), Some(name)) = (table_of(set), set["name"].as_str()) {
            sets.entry(of).or_default().insert(name, &set["elem"]);
        }
    }
    let mut tables: BTreeMap<Table, BTreeMap<String, Vec<Rule>>> = BTreeMap::new();
    let mut of_iptables: BTreeSet<Table> = BTreeSet::new();
    for rule in objects.iter().map(|object| &object["rule"]) {
        let (Some(of), Some(chain), Some(parts)) = (table_of(rule), rule["chain"].as_str(), rule["expr"].as_array())
        else {
            continue;
        };
        if parts.iter().any(|part| part.get("xt").is_some()) {
            of_iptables.insert(of.clone());
        }
        let reader = Reader { visitor, sets: sets.get(&of) };
        let place = format!("in chain {chain} of table {} {}", of.0, of.1);
        let read = reader.rule(parts).into_iter().map(|(holds, deed, word)| {
            let comment = rule["comment"].as_str().map(|comment| format!(" ({comment})")).unwrap_or_default();
            Rule { holds, deed, text: printable(&format!("`{word}` {place}{comment}"), 160) }
        });
        tables.entry(of).or_default().entry(chain.to_owned()).or_default().extend(read);
    }
    let mut found = Vec::new();
    for chain in objects.iter().map(|object| &object["chain"]) {
        let (Some(of), Some(name)) = (table_of(chain), chain["name"].as_str()) else { continue };
        let family = of.0 == "inet" || of.0 == if visitor.v6 { "ip6" } else { "ip" };
        let filters = chain["type"] == "filter" && (chain["hook"] == "input" || chain["hook"] == "prerouting");
        if family && filters && !(has_iptables && of_iptables.contains(&of)) {
            let rules = tables.get(&of).cloned().unwrap_or_default();
            found.push(Chains { first: name.to_owned(), policy: chain["policy"] != "drop", rules });
        }
    }
    found
}

/// What is known of a visitor under some key.
enum Fact {
    Number(u64),
    Word(&'static str),
    /// An address that may be any.
    Source,
    /// An interface that is not loopback.
    Interface,
    Unknown,
}

struct Reader<'a> {
    visitor: Visitor,
    sets: Option<&'a BTreeMap<&'a str, &'a Value>>,
}

impl<'a> Reader<'a> {
    /// Returns what a rule does, when, and the word for it: several things where it looks the verdict up.
    fn rule(&self, parts: &'a [Value]) -> Vec<(Holds, Deed, String)> {
        let mut holds = Holds::Yes;
        let mut done = Vec::new();
        for (kind, value) in parts.iter().filter_map(|part| part.as_object()?.iter().next()) {
            match &**kind {
                "match" => {
                    let (fact, op) = (self.fact(&value["left"]), value["op"].as_str().unwrap_or_default());
                    holds = holds.and(self.compare(&fact, op, &value["right"]));
                }
                "counter" | "log" | "limit" | "mangle" | "notrack" => {}
                "vmap" => {
                    let fact = self.fact(&value["key"]);
                    for entry in self.elements(&value["data"]) {
                        let verdict = entry[1].as_object().and_then(|verdict| verdict.iter().next());
                        let Some((word, to)) = verdict else { continue };
                        done.push((holds.and(self.compare(&fact, "==", &entry[0])), deed(word, to), word.clone()));
                    }
                }
                word => done.push((holds, deed(word, value), word.to_owned())),
            }
        }
        done
    }

    fn fact(&self, left: &Value) -> Fact {
        let (payload, meta) = (&left["payload"], left["meta"]["key"].as_str().unwrap_or_default());
        let key = (payload["protocol"].as_str().unwrap_or(meta), payload["field"].as_str().unwrap_or_default());
        match key {
            ("tcp" | "th", "dport") => Fact::Number(self.visitor.port.into()),
            ("ip", "protocol") | ("ip6", "nexthdr") | ("l4proto", _) => Fact::Word("tcp"),
            ("udp" | "icmp" | "icmpv6" | "sctp", _) => Fact::Word("nothing of that protocol"),
            ("nfproto", _) => Fact::Word(if self.visitor.v6 { "ipv6" } else { "ipv4" }),
            ("protocol", _) => Fact::Word(if self.visitor.v6 { "ip6" } else { "ip" }),
            ("ip" | "ip6", "saddr") => Fact::Source,
            ("iifname" | "iif", _) => Fact::Interface,
            _ if left["ct"]["key"] == "state" => Fact::Word("new"),
            _ => Fact::Unknown,
        }
    }

    fn compare(&self, fact: &Fact, op: &str, right: &'a Value) -> Holds {
        match (op, fact) {
            ("==" | "in", _) => self.is_among(fact, right),
            ("!=", _) => self.is_among(fact, right).not(),
            (_, Fact::Number(left)) => match (op, right.as_u64()) {
                ("<", Some(right)) => Holds::of(*left < right),
                (">", Some(right)) => Holds::of(*left > right),
                ("<=", Some(right)) => Holds::of(*left <= right),
                (">=", Some(right)) => Holds::of(*left >= right),
                _ => Holds::Unknown,
            },
            _ => Holds::Unknown,
        }
    }

    /// Returns the elements of a set: one that stands there, or one with a name.
    fn elements(&self, set: &'a Value) -> impl Iterator<Item = &'a Value> {
        let named = set.as_str().and_then(|name| self.sets?.get(name.strip_prefix('@')?).copied());
        let list = named.or_else(|| set.get("set")).unwrap_or(set);
        list.as_array().into_iter().flatten()
    }

    fn is_among(&self, fact: &Fact, right: &'a Value) -> Holds {
        let is_set =
            right.is_array() || right.get("set").is_some() || right.as_str().is_some_and(|s| s.starts_with('@'));
        if is_set {
            let each = self.elements(right).map(|element| self.is_among(fact, element));
            return each.fold(Holds::No, |known, holds| known.not().and(holds.not()).not());
        }
        if let Some(element) = right.get("elem") {
            return self.is_among(fact, &element["val"]);
        }
        let range = || {
            let ends = right["range"].as_array()?;
            Some(ends.first()?.as_u64()?..=ends.get(1)?.as_u64()?)
        };
        match fact {
            Fact::Number(number) => match (right.as_u64(), range()) {
                (Some(right), _) => Holds::of(right == *number),
                (None, Some(range)) => Holds::of(range.contains(number)),
                (None, None) => Holds::Unknown,
            },
            Fact::Word(word) => match (right.as_str(), right.as_u64()) {
                (Some(right), _) => Holds::of(right == *word),
                (None, Some(6)) => Holds::of(*word == "tcp"),
                _ => Holds::No,
            },
            // What is for some sources only is not for all visitors.
            Fact::Source => Holds::of(right["prefix"]["len"] == 0),
            Fact::Interface if right == "lo" => Holds::No,
            Fact::Interface | Fact::Unknown => Holds::Unknown,
        }
    }
}

fn deed(word: &str, value: &Value) -> Deed {
    let target = || value["target"].as_str().unwrap_or_default().to_owned();
    match word {
        "accept" => Deed::Accept,
        "drop" | "reject" => Deed::Drop,
        "return" => Deed::Return,
        "jump" => Deed::Jump(target()),
        "goto" => Deed::Goto(target()),
        "continue" => Deed::Nothing,
        _ => Deed::Unknown,
    }
}
