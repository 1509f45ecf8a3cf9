//! Directives and blocks with their places, and the files that includes bring in.

use super::lex::{Kind, Token, lex, value};
use crate::splice::line_number;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// Most files that one configuration may bring in.
const MOST_FILES: usize = 10_000;
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
    /// What stands between the braces.
    pub(super) block: Option<Vec<Directive>>,
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
    pub(super) directives: Vec<Directive>,
}

impl ConfigFile {
    pub(super) fn line(&self, at: usize) -> usize {
        line_number(&self.bytes, at)
    }
}

/// A whole configuration, its main file first.
#[derive(Clone, Debug)]
pub struct Config {
    /// The files, each once.
    pub files: Vec<ConfigFile>,
    /// Which files each include brings in: (file, start of the directive) and the indices of the files.
    pub(super) includes: Vec<((usize, usize), Vec<usize>)>,
}

impl Config {
    pub(super) fn included(&self, file: usize, directive: &Directive) -> &[usize] {
        let key = (file, directive.range.start);
        self.includes.iter().find(|(k, _)| *k == key).map_or(&[], |(_, files)| files)
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
    let mut config = Config { files: Vec::new(), includes: Vec::new() };
    let folder = main.parent().unwrap_or(Path::new("/"));
    load_pattern(&mut config, main, folder, read)?;
    let mut next = 0;
    while next < config.files.len() {
        let mut found = Vec::new();
        collect_includes(&config.files[next].directives, &mut found);
        for (start, pattern) in found {
            let files = load_pattern(&mut config, &folder.join(pattern), folder, read)?;
            config.includes.push(((next, start), files));
        }
        next += 1;
    }
    Ok(config)
}

fn load_pattern(
    config: &mut Config,
    pattern: &Path,
    main_folder: &Path,
    read: &mut ReadFiles<'_>,
) -> Result<Vec<usize>, LoadError> {
    let files = read(pattern).map_err(|source| LoadError::Read { path: pattern.to_owned(), source })?;
    let mut indices = Vec::new();
    for (path, bytes) in files {
        let known = config.files.iter().position(|f| f.path == path);
        let index = match known {
            Some(index) => index,
            None => {
                let directives = parse(&path, &bytes)?;
                config.files.push(ConfigFile { path, bytes, directives });
                config.files.len() - 1
            }
        };
        if config.files.len() > MOST_FILES {
            return Err(LoadError::TooManyFiles { path: main_folder.to_owned() });
        }
        indices.push(index);
    }
    Ok(indices)
}

fn collect_includes(directives: &[Directive], found: &mut Vec<(usize, String)>) {
    for directive in directives {
        if directive.name == "include" {
            found.push((directive.range.start, directive.arg(0).to_owned()));
        }
        collect_includes(directive.block.as_deref().unwrap_or_default(), found);
    }
}

fn parse(path: &Path, bytes: &[u8]) -> Result<Vec<Directive>, LoadError> {
    let tokens: Vec<Token> =
        lex(bytes).into_iter().filter(|t| !matches!(t.kind, Kind::Blank | Kind::Comment)).collect();
    let mut parser = Parser { path, bytes, tokens: &tokens, at: 0 };
    parser.directives(0)
}

struct Parser<'a> {
    path: &'a Path,
    bytes: &'a [u8],
    tokens: &'a [Token],
    at: usize,
}

impl Parser<'_> {
    fn error(&self, at: usize, what: &'static str) -> LoadError {
        LoadError::Syntax { path: self.path.to_owned(), line: line_number(self.bytes, at), what }
    }

    /// Reads directives up to the `}` of the block, or the end of the file at depth 0.
    fn directives(&mut self, depth: usize) -> Result<Vec<Directive>, LoadError> {
        let mut found = Vec::new();
        while let Some(token) = self.tokens.get(self.at) {
            match token.kind {
                Kind::Close if depth > 0 => return Ok(found),
                Kind::Word if depth < DEEPEST => found.push(self.directive(depth)?),
                Kind::Word => return Err(self.error(token.range.start, "blocks are nested too deep")),
                Kind::Close => return Err(self.error(token.range.start, "this `}` closes nothing")),
                _ => return Err(self.error(token.range.start, "a directive should begin here")),
            }
        }
        if depth > 0 {
            return Err(self.error(self.bytes.len(), "the file ends and a `}` is missing"));
        }
        Ok(found)
    }

    fn directive(&mut self, depth: usize) -> Result<Directive, LoadError> {
        let first = &self.tokens[self.at].range;
        let name = value(&self.bytes[first.clone()]);
        let mut args = Vec::new();
        self.at += 1;
        loop {
            let Some(token) = self.tokens.get(self.at) else {
                return Err(self.error(first.start, "this directive has no `;`"));
            };
            self.at += 1;
            match token.kind {
                Kind::Word => {
                    args.push(Word { value: value(&self.bytes[token.range.clone()]), range: token.range.clone() });
                }
                Kind::End => {
                    return Ok(Directive { name, args, range: first.start..token.range.end, block: None });
                }
                Kind::Open => {
                    // Another language stands in these blocks; only its braces are counted.
                    let block = if name.ends_with("_by_lua_block") {
                        self.skip_block(first.start)?;
                        Vec::new()
                    } else {
                        self.directives(depth + 1)?
                    };
                    let close = self.tokens[self.at].range.end;
                    self.at += 1;
                    return Ok(Directive { name, args, range: first.start..close, block: Some(block) });
                }
                _ => return Err(self.error(token.range.start, "this directive has no `;`")),
            }
        }
    }

    fn skip_block(&mut self, start: usize) -> Result<(), LoadError> {
        let mut depth = 0;
        while let Some(token) = self.tokens.get(self.at) {
            match token.kind {
                Kind::Open => depth += 1,
                Kind::Close if depth == 0 => return Ok(()),
                Kind::Close => depth -= 1,
                _ => {}
            }
            self.at += 1;
        }
        Err(self.error(start, "the file ends and a `}` is missing"))
    }
}
