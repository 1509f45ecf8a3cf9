//! nginx's directives and blocks, and where each stands.

use super::lex::{Kind, Token, end_of_lua, token, value};
use crate::change::FileChange;
use crate::files::{ConfigFile, DEEPEST, Files, Include, LoadError, ReadFiles};
use crate::site::Place;
use crate::splice::line_number;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// A word of a directive behind its name.
#[derive(Clone, Debug)]
pub(super) struct Word {
    pub(super) value: String,
    pub(super) range: Range<usize>,
}

/// A directive: `name args ;` or `name args { … }`.
#[derive(Clone, Debug)]
pub struct Directive {
    pub(super) name: String,
    pub(super) args: Vec<Word>,
    /// From its name to behind its `;` or `}`.
    pub(super) range: Range<usize>,
    /// The place of its `{`.
    pub(super) open: Option<usize>,
    /// The index behind the last directive of its block; its own plus one when it has none.
    end: usize,
}

impl Directive {
    pub(super) fn arg(&self, n: usize) -> &str {
        self.args.get(n).map_or("", |a| &a.value)
    }
}

/// The place of a directive in a configuration: the file, and its number there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct DirectiveRef {
    pub(super) file: usize,
    index: usize,
}

/// A whole configuration, its main file first; of each file its directives, in the order they begin in.
pub type Config = Files<Vec<Directive>>;

impl Config {
    pub(super) fn get(&self, placed: DirectiveRef) -> &Directive {
        &self.files[placed.file].parsed[placed.index]
    }

    /// Returns what stands directly in a block, or in the main file, with what includes bring in put where the include stands.
    pub(super) fn inside(&self, block: Option<DirectiveRef>) -> Vec<DirectiveRef> {
        let mut found = Vec::new();
        match block {
            Some(DirectiveRef { file, index }) => {
                self.flatten(file, index + 1..self.get(DirectiveRef { file, index }).end, &mut found)
            }
            None if self.files.is_empty() => {}
            None => self.flatten(0, 0..self.files[0].parsed.len(), &mut found),
        }
        found
    }

    /// Returns what stands directly in a block, without includes.
    pub(super) fn own(&self, block: DirectiveRef) -> impl Iterator<Item = DirectiveRef> {
        let mut index = block.index + 1;
        let end = self.get(block).end;
        std::iter::from_fn(move || {
            let placed = (index < end).then_some(DirectiveRef { file: block.file, index })?;
            index = self.get(placed).end;
            Some(placed)
        })
    }

    fn flatten(&self, file: usize, range: Range<usize>, out: &mut Vec<DirectiveRef>) {
        let mut index = range.start;
        while index < range.end {
            let placed = DirectiveRef { file, index };
            index = self.get(placed).end;
            out.push(placed);
            // Loading has made sure that this ends.
            for &included in self.included(placed.file, placed.index) {
                self.flatten(included, 0..self.files[included].parsed.len(), out);
            }
        }
    }

    /// Returns where a directive begins.
    pub(super) fn place_of(&self, placed: DirectiveRef) -> Place {
        self.place(placed.file, self.get(placed).range.start)
    }
}

/// Reads a configuration from its main file.
///
/// `read` gets an absolute path, perhaps with `*`, `?` and `[…]` in it, and returns the files it stands for with their
/// bytes, in nginx's order (sorted). Relative includes are taken from the main file's folder, as nginx does.
///
/// # Errors
/// A [`LoadError`] with file and line.
pub fn load(main: &Path, read: &mut ReadFiles<'_>) -> Result<Config, LoadError> {
    Files::load(main, read, parse, |directives| includes(main, directives), Vec::len)
}

/// Returns a configuration with what changes in its files. A plan changes no includes.
///
/// # Errors
/// A [`LoadError`] when a changed file cannot be read.
pub fn with_changes(config: &Config, changes: &[FileChange]) -> Result<Config, LoadError> {
    let Some(main) = config.files.first().map(|file| file.path.clone()) else { return Ok(config.clone()) };
    let changed = changes.iter().map(|change| (&*change.path, &*change.new));
    config.with(changed, parse, |directives| includes(&main, directives))
}

/// Returns the file into which nginx writes the number of its main process; `None` where that depends on how it was built.
pub fn pid_file(config: &Config) -> Option<PathBuf> {
    let found = config.inside(None).into_iter().map(|placed| config.get(placed)).find(|d| d.name == "pid")?;
    Some(PathBuf::from(found.arg(0))).filter(|path| path.is_absolute())
}

/// Returns the includes of a file. Relative ones are taken from the main file's folder.
fn includes(main: &Path, directives: &[Directive]) -> Vec<Include> {
    let folder = main.parent().unwrap_or(Path::new("/"));
    let found = directives.iter().enumerate().filter(|(_, d)| d.name == "include");
    let include =
        |(statement, d): (usize, &Directive)| Include { statement, at: d.range.start, pattern: folder.join(d.arg(0)) };
    found.map(include).collect()
}

/// Returns every include of a configuration with the path or pattern that it names.
pub(super) fn all_includes(config: &Config) -> impl Iterator<Item = (DirectiveRef, PathBuf)> {
    let main = config.files.first().map(|file| file.path.clone()).unwrap_or_default();
    let files = config.files.iter().enumerate();
    let of = move |(file, known): (usize, &ConfigFile<Vec<Directive>>)| {
        let found = includes(&main, &known.parsed).into_iter();
        found.map(move |include| (DirectiveRef { file, index: include.statement }, include.pattern)).collect::<Vec<_>>()
    };
    files.flat_map(of)
}

fn parse(path: &Path, bytes: &[u8]) -> Result<Vec<Directive>, LoadError> {
    let mut parser = Parser { path, bytes, at: 0, found: Vec::new() };
    parser.directives(0)?;
    Ok(parser.found)
}

struct Parser<'a> {
    path: &'a Path,
    bytes: &'a [u8],
    at: usize,
    found: Vec<Directive>,
}

impl Parser<'_> {
    fn error(&self, at: usize, what: &'static str) -> LoadError {
        LoadError::Syntax { path: self.path.to_owned(), line: line_number(self.bytes, at), what }
    }

    /// Returns the next token that means something.
    fn next(&mut self) -> Option<Token> {
        loop {
            let token = token(self.bytes, self.at)?;
            self.at = token.range.end;
            if !matches!(token.kind, Kind::Blank | Kind::Comment) {
                return Some(token);
            }
        }
    }

    /// Reads directives up to and with the `}` of the block, or to the end of the file at depth 0.
    fn directives(&mut self, depth: usize) -> Result<(), LoadError> {
        while let Some(token) = self.next() {
            match token.kind {
                Kind::Close if depth > 0 => return Ok(()),
                Kind::Word if depth < DEEPEST => self.directive(token.range, depth)?,
                Kind::Word => return Err(self.error(token.range.start, "blocks are nested too deep")),
                Kind::Close => return Err(self.error(token.range.start, "this `}` is not expected here")),
                _ => return Err(self.error(token.range.start, "a directive is expected here")),
            }
        }
        if depth > 0 {
            return Err(self.error(self.bytes.len(), "the file ends and a `}` is missing"));
        }
        Ok(())
    }

    fn directive(&mut self, first: Range<usize>, depth: usize) -> Result<(), LoadError> {
        let bytes = self.bytes;
        let index = self.found.len();
        let name = value(&bytes[first.clone()]);
        self.found.push(Directive { name, args: Vec::new(), range: first.clone(), open: None, end: index + 1 });
        let mut args: Vec<Word> = Vec::new();
        loop {
            let before = args.last().map_or(first.end, |word| word.range.end);
            let Some(token) = self.next() else {
                return Err(self.error(first.start, "this directive has no `;`"));
            };
            match token.kind {
                // As nginx has it: only a bracket may follow a quote at once.
                Kind::Word if token.range.start == before && bytes[before] != b')' => {
                    return Err(self.error(before, "a blank is missing behind this quote"));
                }
                Kind::Word => args.push(Word { value: value(&bytes[token.range.clone()]), range: token.range }),
                Kind::End => break,
                Kind::Open => {
                    // Another language stands in these blocks.
                    if self.found[index].name.ends_with("_by_lua_block") {
                        let close = end_of_lua(bytes, self.at);
                        self.at =
                            close.ok_or_else(|| self.error(first.start, "the file ends and a `}` is missing"))? + 1;
                    } else {
                        self.directives(depth + 1)?;
                    }
                    self.found[index].open = Some(token.range.start);
                    break;
                }
                _ => return Err(self.error(token.range.start, "this directive has no `;`")),
            }
        }
        let end = self.found.len();
        let directive = &mut self.found[index];
        (directive.args, directive.range.end, directive.end) = (args, self.at, end);
        Ok(())
    }
}
