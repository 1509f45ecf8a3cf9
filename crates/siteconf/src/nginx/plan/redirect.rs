//! Redirecting http to https inside a server block. The block stays as it is: its listeners, its other names and the path of
//! challenges, however that is served.

use crate::nginx::sites::ServerBlock;
use crate::nginx::tree::{Config, Directive, DirectiveRef};
use eskort_core::names::Identifier;
use std::ops::Range;

/// The variable by which our own lines are known again.
const VARIABLE: &str = "$eskort_asked";

/// A redirect of some names of a block.
pub(super) struct Redirect {
    hosts: String,
    port: u16,
}

impl Redirect {
    pub(super) fn new(block: &ServerBlock, names: &[&Identifier], port: u16) -> Self {
        Redirect { hosts: block.site.host_pattern(names), port }
    }

    /// What is redirected: all paths but that of challenges (RFC 8555 section 8.3), of these hosts only. The path is the one that
    /// was asked for, which stays when nginx looks for a page of its own.
    pub(super) fn pattern(&self) -> String {
        format!("\"^http://({})/(?!\\.well-known/acme-challenge/)\"", self.hosts)
    }

    pub(super) fn lines(&self, step: &str) -> [String; 5] {
        let port = if self.port == 443 { String::new() } else { format!(":{}", self.port) };
        [
            "# From http to https; certificate authorities ask for their challenges over http.".to_owned(),
            format!("set {VARIABLE} \"$scheme://$host$request_uri\";"),
            format!("if ({VARIABLE} ~ {}) {{", self.pattern()),
            format!("{step}return 301 https://$host{port}$request_uri;"),
            "}".to_owned(),
        ]
    }
}

/// A redirect to https that a block has already.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Found {
    /// None.
    None,
    /// Somebody else's.
    Theirs,
    /// Ours, with the place of what it redirects.
    Ours { file: usize, condition: Range<usize> },
}

/// Finds the redirect of a block: one of the whole block or of `location /`. One of another location is none, and one that leads to
/// somebody else under a condition is none either.
pub(super) fn find(config: &Config, block: &ServerBlock) -> Found {
    for &placed in &block.directives {
        let directive = config.get(placed);
        if directive.name == "if" && directive.arg(0).trim_start_matches('(') == VARIABLE {
            let word = directive.args.get(2).map(|word| word.range.clone());
            return word.map_or(Found::Theirs, |condition| Found::Ours { file: placed.file, condition });
        }
    }
    let sends = block.directives.iter().any(|placed| {
        let directive = config.get(*placed);
        sends_to_https(directive)
            || directive.name == "if" && sends_inside(config, *placed, block, true)
            || is_of_all(directive)
                && (sends_inside(config, *placed, block, false) || {
                    let inside = config.inside(Some(*placed));
                    inside.iter().any(|p| config.get(*p).name == "if" && sends_inside(config, *p, block, true))
                })
    });
    if sends { Found::Theirs } else { Found::None }
}

/// Returns the line of a block that sends all its visitors to https on one of its own names, whatever they came by: with a TLS listener they
/// would go in circles.
pub(super) fn sends_everybody(config: &Config, block: &ServerBlock) -> Option<DirectiveRef> {
    let sends = |placed: &DirectiveRef| {
        let directive = config.get(*placed);
        sends_to_https(directive) && target(directive).is_some_and(|to| is_own(block, to))
    };
    block.directives.iter().copied().find_map(|placed| match is_of_all(config.get(placed)) {
        true => config.inside(Some(placed)).into_iter().find(sends),
        false => Some(placed).filter(sends),
    })
}

/// Returns the line of a block, somebody else's, that sends also those to https who ask for a challenge (RFC 8555 section 8.3).
pub(super) fn sends_challenges(config: &Config, block: &ServerBlock) -> Option<DirectiveRef> {
    let exempt = block.directives.iter().any(|placed| {
        let directive = config.get(*placed);
        directive.name == "location" && directive.args.iter().any(|word| word.value.contains("acme-challenge"))
    });
    let sends = |placed: &DirectiveRef| sends_to_https(config.get(*placed));
    block.directives.iter().copied().find_map(|placed| match is_of_all(config.get(placed)) {
        true => config.inside(Some(placed)).into_iter().find(sends).filter(|_| !exempt),
        false => Some(placed).filter(sends),
    })
}

/// Whether a directive is about all paths that no other one is about.
fn is_of_all(directive: &Directive) -> bool {
    directive.name == "location" && matches!((directive.arg(0), directive.arg(1)), ("/", _) | ("^~", "/"))
}

fn sends_inside(config: &Config, placed: DirectiveRef, block: &ServerBlock, to_itself: bool) -> bool {
    let sends = |d: &Directive| sends_to_https(d) && (!to_itself || target(d).is_some_and(|to| is_own(block, to)));
    config.inside(Some(placed)).iter().any(|p| sends(config.get(*p)))
}

/// Returns where a directive sends visitors.
pub(super) fn target(directive: &Directive) -> Option<&str> {
    match &*directive.name {
        "return" if directive.arg(0).starts_with("https://") => Some(directive.arg(0)),
        "return" if directive.arg(0).starts_with('3') => Some(directive.arg(1)),
        "rewrite" => Some(directive.arg(1)),
        _ => None,
    }
}

fn sends_to_https(directive: &Directive) -> bool {
    // A pattern with letters in it is of some paths only.
    let of_all = directive.name != "rewrite" || !directive.arg(0).bytes().any(|b| b.is_ascii_alphanumeric());
    of_all && target(directive).is_some_and(|to| to.starts_with("https://"))
}

fn is_own(block: &ServerBlock, target: &str) -> bool {
    let host = target.strip_prefix("https://").unwrap_or_default();
    host.starts_with('$') || block.site.names.iter().any(|name| host.starts_with(&name.written))
}
