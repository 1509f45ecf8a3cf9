//! What a site wants of TLS beside its certificate: versions and ciphers, HTTP/2, stapling, and for how long browsers remember https.

use super::Planner;
use crate::change::{PlanError, nothing_to_staple};
use crate::nginx::lex::quote_word;
use crate::nginx::sites::{ServerBlock, listen};
use crate::nginx::tree::DirectiveRef;
use crate::site::{Protocol, Socket};
use crate::splice::{Edit, behind, indent, line_end};
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::https::{Hsts, TlsLevel};
use std::ops::Range;

/// From this version on HTTP/2 is a directive of its own; before, a word of `listen`.
const HTTP2_DIRECTIVE: [u32; 3] = [1, 25, 1];
/// The variable with what browsers are told, which is empty without TLS (RFC 6797 section 7.2).
const VARIABLE: &str = "$eskort_hsts";
const HEADER: &str = "Strict-Transport-Security";

/// What tells browsers to come back over https.
enum FoundHsts {
    None,
    /// Our own: the word with the time.
    Ours(DirectiveRef, Range<usize>),
    /// Somebody else's, with its time in seconds where it can be read.
    Theirs(DirectiveRef, Option<(u64, Range<usize>)>),
}

impl Planner<'_> {
    /// Makes a block with TLS as its site wants it.
    pub(super) fn grant(&mut self, block: &ServerBlock) -> Result<(), PlanError> {
        let wishes = self.target.wishes;
        if let Some(level) = wishes.tls {
            self.tls_level(block, level)?;
        }
        if wishes.http2 {
            self.http2(block)?;
        }
        if wishes.stapling {
            self.stapling(block)?;
        }
        match wishes.hsts {
            Some(hsts) => self.hsts(block, hsts),
            None => Ok(()),
        }
    }

    /// Gives a directive its words, in the place where it stands or in a new line.
    fn setting(&mut self, block: &ServerBlock, name: &str, wanted: &[&str]) -> Result<(), PlanError> {
        let words = wanted.iter().map(|word| quote_word(word)).collect::<Vec<_>>().join(" ");
        let Some(last) = block.all(self.config, name).last() else {
            self.add_lines(block, &[format!("{name} {words};")]);
            return Ok(());
        };
        let args = &self.config.get(last).args;
        if args.iter().map(|word| &*word.value).eq(wanted.iter().copied()) {
            return Ok(());
        }
        let (Some(first), Some(end)) = (args.first(), args.last()) else { return Ok(()) };
        let edit = Edit::replace(first.range.start..end.range.end, words);
        self.check_own(last, block)?;
        self.edit(last.file, edit);
        Ok(())
    }

    /// A line of an included file may be changed only when all blocks that include it are for our names alone.
    fn check_own(&self, line: DirectiveRef, block: &ServerBlock) -> Result<(), PlanError> {
        let others = self.sites.blocks.iter().filter(|other| other.id != block.id);
        let mut strangers = others.filter(|other| !other.site.foreign_names(self.target.names).is_empty());
        match line.file != block.id.0.file && strangers.any(|other| other.directives.contains(&line)) {
            true => Err(PlanError::SharedLines { place: self.config.place_of(line) }),
            false => Ok(()),
        }
    }

    fn tls_level(&mut self, block: &ServerBlock, level: TlsLevel) -> Result<(), PlanError> {
        self.setting(block, "ssl_protocols", level.protocols())?;
        if let Some(ciphers) = level.ciphers() {
            self.setting(block, "ssl_ciphers", &[ciphers])?;
            // With ciphers that are all good the visitor knows best which one is quick for it.
            self.setting(block, "ssl_prefer_server_ciphers", &["off"])?;
        }
        let sockets = block.site.listeners.iter().filter(|l| l.tls).map(|l| &l.socket);
        let first = sockets.filter_map(|socket| Some((socket, self.sites.default_at(socket)?)));
        let other = first.map(|(socket, index)| (socket, &self.sites.blocks[index])).find(|(_, b)| b.id != block.id);
        if let Some((socket, other)) = other {
            let text = format!("at {socket} the versions of TLS may be those of {}", other.site.place);
            let advice =
                "nginx takes them from the first site there, or from the default one, before it knows the name";
            self.findings.push(Finding::new(Severity::Notice, Topic::Protocol, text).with_advice(advice));
        }
        Ok(())
    }

    /// Whether this nginx has a directive for HTTP/2.
    pub(super) fn has_http2_directive(&self) -> bool {
        let is_used = || self.config.files.iter().flat_map(|file| &file.parsed).any(|d| d.name == "http2");
        self.target.version.map_or_else(is_used, |version| version >= HTTP2_DIRECTIVE)
    }

    fn http2(&mut self, block: &ServerBlock) -> Result<(), PlanError> {
        let lines: Vec<DirectiveRef> = block.all(self.config, "listen").collect();
        let says = |line: &DirectiveRef| self.config.get(*line).args.iter().any(|word| word.value == "http2");
        if self.has_http2_directive() {
            return if lines.iter().any(says) { Ok(()) } else { self.setting(block, "http2", &["on"]) };
        }
        let over_tls = |line: &DirectiveRef| {
            let found = listen(self.config.get(*line), false);
            let tls = block.site.listeners.iter().any(|l| l.tls && l.socket == found.socket);
            tls && found.protocol == Protocol::Http && !says(line)
        };
        for line in lines.iter().copied().filter(over_tls).collect::<Vec<_>>() {
            let Some(end) = self.config.get(line).args.last().map(|word| word.range.end) else { continue };
            self.check_own(line, block)?;
            self.edit(line.file, Edit::insert(end, " http2"));
        }
        Ok(())
    }

    fn stapling(&mut self, block: &ServerBlock) -> Result<(), PlanError> {
        if self.target.has_responder == Some(false) {
            let finding = nothing_to_staple();
            if !self.findings.contains(&finding) {
                self.findings.push(finding);
            }
            return Ok(());
        }
        self.setting(block, "ssl_stapling", &["on"])?;
        self.setting(block, "ssl_stapling_verify", &["on"])
    }

    /// Tells browsers for how long to come back over https alone. A ramp never takes back what browsers were told already.
    fn hsts(&mut self, block: &ServerBlock, hsts: Hsts) -> Result<(), PlanError> {
        let age = self.target.hsts_age;
        match self.find_hsts(block) {
            FoundHsts::Ours(line, word) => {
                let wanted = format!("\"max-age={age}\"");
                if self.bytes(line.file)[word.clone()] != *wanted.as_bytes() {
                    self.edit(line.file, Edit::replace(word, wanted));
                }
            }
            FoundHsts::Theirs(line, Some((theirs, digits))) => {
                let is_right = match hsts {
                    Hsts::Ramp => theirs >= u64::from(age),
                    Hsts::Off | Hsts::Fixed(_) => theirs == u64::from(age),
                };
                if !is_right {
                    self.check_own(line, block)?;
                    self.edit(line.file, Edit::replace(digits, age.to_string()));
                }
                return Ok(());
            }
            FoundHsts::Theirs(line, None) => {
                let text = format!("{}: this {HEADER} is left as it is", self.config.place_of(line));
                self.findings.push(Finding::new(Severity::Notice, Topic::Protocol, text));
                return Ok(());
            }
            FoundHsts::None => {
                let (_, step) = self.indents(block);
                let mut lines = vec![
                    "# Browsers come back over https alone, for so many seconds.".to_owned(),
                    format!("set {VARIABLE} \"\";"),
                    "if ($https) {".to_owned(),
                    format!("{step}set {VARIABLE} \"max-age={age}\";"),
                    "}".to_owned(),
                    header(),
                ];
                lines.extend(self.headers_around(block));
                self.add_lines(block, &lines);
            }
        }
        self.headers_inside(block, block.id.0);
        Ok(())
    }

    fn find_hsts(&self, block: &ServerBlock) -> FoundHsts {
        for line in block.all(self.config, "if") {
            for inside in self.config.inside(Some(line)) {
                let directive = self.config.get(inside);
                if directive.name == "set" && directive.arg(0) == VARIABLE && directive.args.len() == 2 {
                    return FoundHsts::Ours(inside, directive.args[1].range.clone());
                }
            }
        }
        let mut theirs = block.all(self.config, "add_header").filter(|line| self.is_hsts(*line));
        theirs.next().map_or(FoundHsts::None, |line| {
            let Some(word) = self.config.get(line).args.get(1) else { return FoundHsts::Theirs(line, None) };
            let written = String::from_utf8_lossy(&self.bytes(line.file)[word.range.clone()]).to_ascii_lowercase();
            let age = written.find("max-age=").and_then(|at| {
                let start = at + "max-age=".len();
                let digits = written[start..].bytes().take_while(u8::is_ascii_digit).count();
                let age = written[start..start + digits].parse().ok()?;
                let start = word.range.start + start;
                Some((age, start..start + digits))
            });
            FoundHsts::Theirs(line, age)
        })
    }

    fn is_hsts(&self, line: DirectiveRef) -> bool {
        let directive = self.config.get(line);
        directive.name == "add_header" && directive.arg(0).eq_ignore_ascii_case(HEADER)
    }

    /// Returns the headers that a block takes from what surrounds it: with the first one of its own it would lose them.
    fn headers_around(&self, block: &ServerBlock) -> Vec<String> {
        if block.all(self.config, "add_header").next().is_some() {
            return Vec::new();
        }
        let mut blocks = self.config.inside(None).into_iter().filter(|p| self.config.get(*p).name == "http");
        let Some(inside) = blocks.find_map(|http| {
            let inside = self.config.inside(Some(http));
            inside.contains(&block.id.0).then_some(inside)
        }) else {
            return Vec::new();
        };
        let headers = inside.into_iter().filter(|p| self.config.get(*p).name == "add_header" && !self.is_hsts(*p));
        let text = |p: DirectiveRef| {
            String::from_utf8_lossy(&self.bytes(p.file)[self.config.get(p).range.clone()]).into_owned()
        };
        headers.map(text).collect()
    }

    /// Adds the header wherever a block inside has headers of its own, and so takes none from around it.
    fn headers_inside(&mut self, block: &ServerBlock, around: DirectiveRef) {
        for placed in self.config.inside(Some(around)) {
            let Some(open) = self.config.get(placed).open else { continue };
            self.headers_inside(block, placed);
            let inside = self.config.inside(Some(placed));
            let has_headers = inside.iter().any(|p| self.config.get(*p).name == "add_header");
            if !has_headers || inside.iter().any(|p| self.is_hsts(*p)) {
                continue;
            }
            if placed.file != block.id.0.file {
                let text = format!(
                    "{}: this block has headers of its own, and goes without {HEADER}",
                    self.config.place_of(placed)
                );
                let advice = format!("add `{}` there", header());
                self.findings.push(Finding::new(Severity::Notice, Topic::Protocol, text).with_advice(advice));
                continue;
            }
            let bytes = self.bytes(placed.file);
            let first = self.config.own(placed).next().map_or(open, |p| self.config.get(p).range.start);
            let line = match bytes[open..first].contains(&b'\n') {
                true => format!("{}{}{}", line_end(bytes), String::from_utf8_lossy(indent(bytes, first)), header()),
                false => format!(" {}", header()),
            };
            self.edit(placed.file, Edit::insert(behind(bytes, open + 1), line));
        }
    }
}

fn header() -> String {
    format!("add_header {HEADER} {VARIABLE} always;")
}

/// Returns the port of a socket.
pub(super) fn port_of(socket: &Socket) -> Option<u16> {
    match socket {
        Socket::Ip(_, port) | Socket::Host(_, port) => Some(*port),
        Socket::Unix(_) => None,
    }
}
