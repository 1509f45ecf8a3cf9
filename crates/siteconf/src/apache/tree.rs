//! Apache's directives and sections, and where each stands.

use super::lex::{Kind, Token, tokens, value};
use crate::files::{DEEPEST, LoadError};
use crate::splice::line_number;
use std::ops::Range;
use std::path::Path;

/// The directives that say something here: the words of others are not looked at.
const MEANT: [&str; 27] = [
    "include",
    "includeoptional",
    "use",
    "define",
    "undefine",
    "loadmodule",
    "serverroot",
    "listen",
    "servername",
    "serveralias",
    "documentroot",
    "sslengine",
    "sslcertificatefile",
    "sslcertificatekeyfile",
    "sslcertificatechainfile",
    "redirect",
    "redirectpermanent",
    "redirecttemp",
    "redirectmatch",
    "rewriterule",
    "header",
    "sslprotocol",
    "sslciphersuite",
    "sslhonorcipherorder",
    "protocols",
    "sslusestapling",
    "sslstaplingcache",
];

/// A word of a directive behind its name.
#[derive(Clone, Debug)]
pub(super) struct Word {
    pub(super) value: String,
    pub(super) range: Range<usize>,
}

/// A directive, or a section with what stands in it.
#[derive(Clone, Debug)]
pub(super) struct Directive {
    /// Its name in small letters.
    pub(super) name: String,
    /// Its words; none for directives that mean nothing here.
    pub(super) args: Vec<Word>,
    /// The line, or that which begins the section.
    pub(super) range: Range<usize>,
    pub(super) is_section: bool,
    /// The bytes between the lines that begin and end the section.
    pub(super) inside: Range<usize>,
    /// The index behind the last directive of its section; its own plus one when it is none.
    pub(super) end: usize,
}

impl Directive {
    pub(super) fn arg(&self, n: usize) -> &str {
        self.args.get(n).map_or("", |word| &word.value)
    }
}

/// Reads the directives of a file, in the order they begin in.
pub(super) fn parse(path: &Path, bytes: &[u8]) -> Result<Vec<Directive>, LoadError> {
    let error = |at: usize, what| LoadError::Syntax { path: path.to_owned(), line: line_number(bytes, at), what };
    let mut found: Vec<Directive> = Vec::new();
    let mut open: Vec<usize> = Vec::new();
    let all = tokens(bytes);
    let mut meant: Vec<&Token> = Vec::new();
    for line in all.split(|token| token.kind == Kind::End) {
        meant.clear();
        meant.extend(line.iter().filter(|token| !matches!(token.kind, Kind::Blank | Kind::Comment)));
        let (Some(first), Some(last)) = (meant.first(), meant.last()) else { continue };
        let range = first.range.start..last.range.end;
        let is_section = first.kind == Kind::Open;
        let word = |range: &Range<usize>| Word { value: value(&bytes[range.clone()]), range: range.clone() };
        let mut words = meant.iter().filter(|token| token.kind == Kind::Word).map(|token| word(&token.range));
        let Some(mut name) = words.next().map(|word| word.value) else {
            return Err(error(range.start, "a name is missing in this line"));
        };
        name.make_ascii_lowercase();
        if let Some(closed) = name.strip_prefix('/').filter(|_| is_section) {
            let Some(section) = open.pop().filter(|index| found[*index].name == closed) else {
                return Err(error(range.start, "this ends a section that does not begin here"));
            };
            let end = found.len();
            (found[section].end, found[section].inside.end) = (end, range.start);
            continue;
        }
        let args = if is_section || MEANT.contains(&&*name) { words.collect() } else { Vec::new() };
        let index = found.len();
        let inside = range.end..range.end;
        found.push(Directive { name, args, range, is_section, inside, end: index + 1 });
        if is_section {
            if open.len() >= DEEPEST {
                return Err(error(found[index].range.start, "sections are nested too deep"));
            }
            open.push(index);
        }
    }
    match open.pop() {
        Some(index) => Err(error(found[index].range.start, "this section has no end")),
        None => Ok(found),
    }
}
