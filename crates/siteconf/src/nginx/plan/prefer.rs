//! Sending visitors of `www.` and the bare name to one of the two.

use super::redirect;
use super::wishes::port_of;
use super::{Chosen, Planner};
use crate::change::{PlanError, not_sent_on};
use crate::nginx::sites::ServerBlock;
use crate::nginx::tree::DirectiveRef;
use crate::site::host_pattern;
use crate::splice::{Edit, line_start};
use eskort_core::https::{Prefer, with_and_without_www};
use eskort_core::names::Identifier;
use std::collections::{BTreeMap, BTreeSet};

/// The variable by which our own lines are known again.
const VARIABLE: &str = "$eskort_name";
const COMMENT: &str = "# One name of two: visitors of the other one are sent on.";

/// What is asked for, and where visitors are sent.
type Rule = (String, String);

impl Planner<'_> {
    /// Sends visitors to the preferred one of two names, over http and over https.
    pub(super) fn prefer(&mut self, prefer: Prefer, chosen: &Chosen<'_>) -> Result<(), PlanError> {
        let of_chosen = chosen.blocks.keys().chain(chosen.plain.keys());
        let mut wanted: BTreeMap<usize, Vec<Rule>> = of_chosen.map(|index| (*index, Vec::new())).collect();
        for bare in with_and_without_www(self.target.names.iter()) {
            let (to, from) = prefer.order(&bare);
            let [Ok(to_name), Ok(from_name)] = [&to, &from].map(|name| Identifier::parse(name)) else { continue };
            let there = self.sites.serving(&to_name);
            if there.is_empty() {
                self.findings.push(not_sent_on(&to, &from));
                continue;
            }
            for block in there.iter().map(|served| &self.sites.blocks[served.block]) {
                if self.sends_to(block, &from) {
                    return Err(PlanError::WouldLoop { place: block.site.place.clone(), from, to });
                }
            }
            let plain_port = there.iter().filter(|served| !served.tls).find_map(|served| port_of(&served.socket));
            let tls_port = self.endpoints.iter().filter(|endpoint| endpoint.name == to).find_map(|e| e.port);
            let ports = (plain_port.unwrap_or(80), tls_port.unwrap_or(self.target.tls_port));
            let blocks: BTreeSet<usize> = self.sites.serving(&from_name).iter().map(|served| served.block).collect();
            for index in blocks {
                let block = &self.sites.blocks[index];
                if !self.sends_to(block, &to) {
                    let speaks_tls = block.site.has_tls() || chosen.blocks.contains_key(&index);
                    wanted.entry(index).or_default().extend(self.rules(block, speaks_tls, (&from, &to), ports));
                }
            }
        }
        for (index, rules) in wanted {
            self.write_rules(&self.sites.blocks[index], rules);
        }
        Ok(())
    }

    /// Returns what a block has to send on. What comes over http and is redirected to https is sent on there: so browsers learn of https for both
    /// names.
    fn rules(
        &self,
        block: &ServerBlock,
        speaks_tls: bool,
        (from, to): (&str, &str),
        (plain_port, tls_port): (u16, u16),
    ) -> Vec<Rule> {
        let rule = |scheme: &str, port: u16, usual: u16| {
            let port = if port == usual { String::new() } else { format!(":{port}") };
            let pattern = format!("^{scheme}://{}/(?!\\.well-known/acme-challenge/)", host_pattern(from));
            (pattern, format!("{scheme}://{to}{port}$request_uri"))
        };
        let is_redirected = self.target.wishes.redirect || redirect::find(self.config, block) != redirect::Found::None;
        let speaks_plain = block.site.listeners.iter().any(|l| !l.tls) && !is_redirected;
        let https = speaks_tls.then(|| rule("https", tls_port, 443));
        https.into_iter().chain(speaks_plain.then(|| rule("http", plain_port, 80))).collect()
    }

    /// Whether a block sends visitors to a host, by lines that are not ours.
    fn sends_to(&self, block: &ServerBlock, host: &str) -> bool {
        let is_there = |to: &str| {
            let to = to.strip_prefix("https://").or(to.strip_prefix("http://"));
            let to = to.and_then(|to| to.split(['/', ':', '$', '?']).next());
            to.is_some_and(|to| to.eq_ignore_ascii_case(host))
        };
        let sends = |placed: &DirectiveRef| redirect::target(self.config.get(*placed)).is_some_and(is_there);
        let is_passed = |placed: &DirectiveRef| {
            let directive = self.config.get(*placed);
            let is_all =
                directive.name == "location" && matches!((directive.arg(0), directive.arg(1)), ("/", _) | ("^~", "/"));
            is_all || directive.name == "if" && !self.is_ours(*placed)
        };
        block.directives.iter().any(|placed| {
            sends(placed)
                || is_passed(placed)
                    && self.config.inside(Some(*placed)).iter().any(|inside| {
                        sends(inside) || is_passed(inside) && self.config.inside(Some(*inside)).iter().any(sends)
                    })
        })
    }

    fn is_ours(&self, placed: DirectiveRef) -> bool {
        let directive = self.config.get(placed);
        matches!(&*directive.name, "set" | "if") && directive.arg(0).trim_start_matches('(') == VARIABLE
    }

    /// Gives a block its rules, in the place of those that it had.
    fn write_rules(&mut self, block: &ServerBlock, wanted: Vec<Rule>) {
        let ours: Vec<DirectiveRef> = block.directives.iter().copied().filter(|p| self.is_ours(*p)).collect();
        let rule = |placed: &DirectiveRef| {
            let directive = self.config.get(*placed);
            let to = self.config.inside(Some(*placed)).iter().find_map(|p| redirect::target(self.config.get(*p)));
            (directive.name == "if").then(|| (directive.arg(2).to_owned(), to.unwrap_or_default().to_owned()))
        };
        if ours.iter().filter_map(rule).eq(wanted.iter().cloned()) {
            return;
        }
        for placed in ours {
            let (bytes, range) = (self.bytes(placed.file), &self.config.get(placed).range);
            let mut start = line_start(bytes, range.start);
            let before = line_start(bytes, start.saturating_sub(1));
            if bytes[before..start].trim_ascii() == COMMENT.as_bytes() {
                start = before;
            }
            let end = bytes[range.end..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| range.end + n + 1);
            // What somebody has put on the same line stays.
            let alone = bytes[start..range.start].trim_ascii() == b"" || start < line_start(bytes, range.start);
            let whole = alone && bytes[range.end..end].trim_ascii() == b"";
            self.edit(placed.file, Edit::replace(if whole { start..end } else { range.clone() }, ""));
        }
        if wanted.is_empty() {
            return;
        }
        let (_, step) = self.indents(block);
        let mut lines = vec![COMMENT.to_owned(), format!("set {VARIABLE} \"$scheme://$host$request_uri\";")];
        for (pattern, to) in wanted {
            lines.push(format!("if ({VARIABLE} ~ \"{pattern}\") {{"));
            lines.push(format!("{step}return 301 {to};"));
            lines.push("}".to_owned());
        }
        self.add_lines(block, &lines);
    }
}
