//! Rules as `iptables-save` prints them.

use super::{Chains, Deed, Holds, Rule, Visitor};
use crate::words::printable;
use std::collections::BTreeMap;

/// Reads the tables that filter what comes in.
pub(super) fn read(saved: &str, visitor: Visitor) -> Vec<Chains> {
    let mut tables: BTreeMap<&str, Chains> = BTreeMap::new();
    let mut table = "";
    for line in saved.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('*') {
            table = name;
        } else if let Some(chain) = line.strip_prefix(':') {
            let mut words = chain.split_whitespace();
            let (Some(name), policy) = (words.next(), words.next()) else { continue };
            if name == first_of(table) {
                let chains = tables.entry(table).or_default();
                (chains.first, chains.policy) = (name.to_owned(), policy != Some("DROP"));
            }
        } else if let Some(rule) = line.strip_prefix("-A ") {
            let Some((chain, rule)) = rule.split_once(' ') else { continue };
            let rules = &mut tables.entry(table).or_default().rules;
            rules.entry(chain.to_owned()).or_default().push(rule_of(line, rule, visitor));
        }
    }
    tables.retain(|table, chains| !first_of(table).is_empty() && !chains.first.is_empty());
    tables.into_values().collect()
}

/// Returns the chain through which what comes in goes; none for tables that do not filter.
fn first_of(table: &str) -> &'static str {
    match table {
        "filter" => "INPUT",
        "raw" | "mangle" => "PREROUTING",
        _ => "",
    }
}

/// Returns the words of a rule; those in quotes are one.
fn words(rule: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (n, part) in rule.split('"').enumerate() {
        match n % 2 {
            0 => words.extend(part.split_whitespace().map(str::to_owned)),
            _ => words.push(part.to_owned()),
        }
    }
    words
}

fn rule_of(line: &str, rule: &str, visitor: Visitor) -> Rule {
    let words = words(rule);
    let mut words = words.iter().map(String::as_str).peekable();
    let (mut holds, mut deed, mut not) = (Holds::Yes, Deed::Nothing, false);
    while let Some(word) = words.next() {
        let mut value = || words.next().unwrap_or_default();
        let condition = match word {
            "!" => {
                not = true;
                continue;
            }
            "-j" => {
                deed = match value() {
                    "ACCEPT" => Deed::Accept,
                    "DROP" | "REJECT" => Deed::Drop,
                    "RETURN" => Deed::Return,
                    "LOG" | "NFLOG" | "MARK" | "CONNMARK" | "TCPMSS" | "DSCP" | "TOS" | "CT" | "NOTRACK" | "TRACE" => {
                        Deed::Nothing
                    }
                    target if target.bytes().all(|b| b.is_ascii_uppercase()) => Deed::Unknown,
                    chain => Deed::Jump(chain.to_owned()),
                };
                // What follows belongs to the target.
                break;
            }
            "-g" => {
                deed = Deed::Goto(value().to_owned());
                break;
            }
            "-p" => Holds::of(matches!(value(), "tcp" | "6" | "all")),
            "-m" => {
                match value() {
                    "tcp" | "multiport" | "conntrack" | "state" | "comment" | "limit" | "hashlimit" => {}
                    "udp" | "icmp" | "icmp6" => holds = Holds::No,
                    _ => holds = holds.and(Holds::Unknown),
                }
                continue;
            }
            "--dport" | "--dports" => Holds::of(has_port(value(), visitor.port)),
            "--ctstate" | "--state" => Holds::of(value().split(',').any(|state| state == "NEW")),
            // What is for some sources only is not for all visitors.
            "-s" | "--sports" | "--sport" => Holds::of(matches!(value(), "0.0.0.0/0" | "::/0")),
            "-i" => match value() {
                "lo" => Holds::No,
                _ => Holds::Unknown,
            },
            "-d" => match value() {
                "127.0.0.0/8" | "127.0.0.1/32" | "::1/128" => Holds::No,
                _ => Holds::Unknown,
            },
            "--comment" => {
                value();
                continue;
            }
            "--limit" | "--limit-burst" | "--hashlimit-upto" | "--hashlimit-burst" | "--hashlimit-mode"
            | "--hashlimit-name" => {
                value();
                continue;
            }
            // A visitor begins with SYN alone.
            "--tcp-flags" => {
                let (_, set) = (value(), value());
                Holds::of(set == "SYN")
            }
            "--syn" => Holds::Yes,
            _ => Holds::Unknown,
        };
        holds = holds.and(if std::mem::take(&mut not) { condition.not() } else { condition });
    }
    Rule { holds, deed, text: printable(line, 160) }
}

/// Returns whether a list such as `80,443,8000:8099` has a port.
fn has_port(list: &str, port: u16) -> bool {
    list.split(',').any(|part| match part.split_once(':') {
        Some((from, to)) => from.parse().unwrap_or(0) <= port && to.parse().unwrap_or(u16::MAX) >= port,
        None => part.parse() == Ok(port),
    })
}
