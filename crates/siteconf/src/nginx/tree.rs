//! Directives and blocks with their places, and the files that includes bring in.

use super::lex::{Kind, Token, end_of_lua, token, value};
use crate::splice::line_number;
use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// Most files that one configuration may bring in, and most directives once all includes are put in place.
const MOST_FILES: usize = 10_000;
const MOST_DIRECTIVES: usize = 2_000_000;
const DEEPEST: usize = 100;

/// Returns the files that a path or pattern stands for, with their bytes.
pub type ReadFiles<'a> = dyn FnMut(&Path) -> std::io::Result<Vec<(PathBuf, Vec<u8>)>> + 'a;

/// A word of a directive behind its name.
#[derive(Clone, Debug)]
pub(super) struct Word {
    pub(super) value: String,
    pub(super) range: Range<usize>,
}

/// A directive: `name args ;` or `name args { … }`.
#[derive(Clone, Debug)]
pub(super) struct Directive {
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

/// One file of a configuration.
#[derive(Clone, Debug)]
pub struct ConfigFile {
    /// Its path.
    pub path: PathBuf,
    /// Its bytes, as read.
    pub bytes: Vec<u8>,
    /// Its directives in the order they begin in.
    directives: Vec<Directive>,
}

impl ConfigFile {
    pub(super) fn line(&self, at: usize) -> usize {
        line_number(&self.bytes, at)
    }
}

/// The place of a directive in a configuration: the file, and its number there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct DirectiveRef {
    pub(super) file: usize,
    index: usize,
}

/// A whole configuration, its main file first.
#[derive(Clone, Debug)]
pub struct Config {
    /// The files, each once.
    pub files: Vec<ConfigFile>,
    by_path: HashMap<PathBuf, usize>,
    /// Which files each include brings in.
    includes: HashMap<DirectiveRef, Vec<usize>>,
}

impl Config {
    pub(super) fn get(&self, placed: DirectiveRef) -> &Directive {
        &self.files[placed.file].directives[placed.index]
    }

    /// Returns what stands directly in a block, or in the main file, with what includes bring in put where the include stands.
    pub(super) fn inside(&self, block: Option<DirectiveRef>) -> Vec<DirectiveRef> {
        let mut found = Vec::new();
        match block {
            Some(DirectiveRef { file, index }) => {
                self.flatten(file, index + 1..self.get(DirectiveRef { file, index }).end, &mut found)
            }
            None if self.files.is_empty() => {}
            None => self.flatten(0, 0..self.files[0].directives.len(), &mut found),
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
            for &included in self.includes.get(&placed).into_iter().flatten() {
                self.flatten(included, 0..self.files[included].directives.len(), out);
            }
        }
    }

    /// Checks that no file brings itself in, and that all is not too much once includes are put in place.
    fn check_includes(&self, main: &Path) -> Result<(), LoadError> {
        let mut sizes: Vec<Option<usize>> = vec![None; self.files.len()];
        let mut way = Vec::new();
        match self.size(0, &mut sizes, &mut way) {
            Some(size) if size <= MOST_DIRECTIVES => Ok(()),
            _ => Err(LoadError::TooManyFiles { path: main.to_owned() }),
        }
    }

    /// Returns how many directives a file has with all that it brings in; `None` when it brings in itself.
    fn size(&self, file: usize, sizes: &mut [Option<usize>], way: &mut Vec<usize>) -> Option<usize> {
        if let Some(size) = sizes[file] {
            return Some(size);
        }
        if way.contains(&file) || way.len() > DEEPEST {
            return None;
        }
        way.push(file);
        let mut size = self.files[file].directives.len();
        for index in 0..self.files[file].directives.len() {
            for &included in self.includes.get(&DirectiveRef { file, index }).into_iter().flatten() {
                size = size.saturating_add(self.size(included, sizes, way)?);
            }
        }
        way.pop();
        sizes[file] = Some(size);
        Some(size)
    }

    fn take_in(&mut self, main: &Path, pattern: &Path, read: &mut ReadFiles<'_>) -> Result<Vec<usize>, LoadError> {
        let files = read(pattern).map_err(|source| LoadError::Read { path: pattern.to_owned(), source })?;
        let mut indices = Vec::new();
        for (path, bytes) in files {
            let index = match self.by_path.get(&path) {
                Some(index) => *index,
                None => {
                    let directives = parse(&path, &bytes)?;
                    self.by_path.insert(path.clone(), self.files.len());
                    self.files.push(ConfigFile { path, bytes, directives });
                    self.files.len() - 1
                }
            };
            if self.files.len() > MOST_FILES {
                return Err(LoadError::TooManyFiles { path: main.to_owned() });
            }
            indices.push(index);
        }
        Ok(indices)
    }
}

/// Why a configuration cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// A brace too many or too few, or a directive without an end.
    #[error("{}:{line}: {what}", path.display())]
    Syntax {
        /// The file.
        path: PathBuf,
        /// The line.
        line: usize,
        /// What is wrong there.
        what: &'static str,
    },
    /// Includes that never end.
    #[error("the includes of {} never end", path.display())]
    TooManyFiles {
        /// The main file.
        path: PathBuf,
    },
    /// A file that cannot be read.
    #[error("cannot read {}: {source}", path.display())]
    Read {
        /// The file or pattern.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
}

/// Reads a configuration from its main file.
///
/// `read` gets an absolute path, perhaps with `*`, `?` and `[…]` in it, and returns the files it stands for with their
/// bytes, in nginx's order (sorted). Relative includes are taken from the main file's folder, as nginx does.
///
/// # Errors
/// A [`LoadError`] with file and line.
pub fn load(main: &Path, read: &mut ReadFiles<'_>) -> Result<Config, LoadError> {
    let mut config = Config { files: Vec::new(), by_path: HashMap::new(), includes: HashMap::new() };
    let folder = main.parent().unwrap_or(Path::new("/"));
    config.take_in(main, main, read)?;
    let mut file = 0;
    while file < config.files.len() {
        let directives = config.files[file].directives.iter().enumerate();
        let found: Vec<(usize, PathBuf)> =
            directives.filter(|(_, d)| d.name == "include").map(|(index, d)| (index, folder.join(d.arg(0)))).collect();
        for (index, pattern) in found {
            let files = config.take_in(main, &pattern, read)?;
            config.includes.insert(DirectiveRef { file, index }, files);
        }
        file += 1;
    }
    if !config.files.is_empty() {
        config.check_includes(main)?;
    }
    Ok(config)
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
        let mut args = Vec::new();
        loop {
            let Some(token) = self.next() else {
                return Err(self.error(first.start, "this directive has no `;`"));
            };
            match token.kind {
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
