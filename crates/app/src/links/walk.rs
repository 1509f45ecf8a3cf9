//! Goes through files and folders.

use super::LinksError;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

/// What a file is, by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// A page, a template, a style sheet, a program.
    Text,
    /// JSON, which may have values with lengths in it.
    Json,
    /// A dump of a database as SQL.
    Dump,
}

/// What was met on the way.
pub(super) enum Visited {
    /// A file to look through.
    File(PathBuf, Kind),
    /// One that stays as it is, and why.
    LeftAlone(PathBuf, String),
}

const TEXTS: [&str; 32] = [
    "html", "htm", "xhtml", "shtml", "php", "phtml", "inc", "css", "scss", "sass", "less", "js", "mjs", "cjs", "jsx",
    "ts", "tsx", "vue", "svelte", "xml", "svg", "rss", "atom", "md", "markdown", "txt", "twig", "tpl", "mustache",
    "hbs", "erb", "njk",
];

impl Kind {
    fn of(path: &Path) -> Option<Self> {
        let extension = path.extension().and_then(OsStr::to_str)?.to_ascii_lowercase();
        match extension.as_str() {
            "sql" => Some(Kind::Dump),
            "json" | "webmanifest" => Some(Kind::Json),
            other => TEXTS.contains(&other).then_some(Kind::Text),
        }
    }
}

/// Goes through a file, or a folder and those below it. Links are not followed, and what begins with a dot is passed over.
pub(super) fn walk(path: &Path, each: &mut dyn FnMut(Visited) -> Result<(), LinksError>) -> Result<(), LinksError> {
    let failed = |source| LinksError::Path { path: path.to_owned(), source };
    let meta = std::fs::metadata(path).map_err(failed)?;
    if meta.is_file() {
        return match Kind::of(path) {
            Some(kind) => each(Visited::File(path.to_owned(), kind)),
            None => {
                let why = "its name does not say that it is a page, a program, JSON or a dump".to_owned();
                each(Visited::LeftAlone(path.to_owned(), why))
            }
        };
    }
    let mut ahead = vec![path.to_owned()];
    while let Some(folder) = ahead.pop() {
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(source) if folder == path => return Err(failed(source)),
            Err(error) => {
                each(Visited::LeftAlone(folder, error.to_string()))?;
                continue;
            }
        };
        let mut found: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
        found.sort();
        let mut below = Vec::new();
        for path in found {
            let hidden = path.file_name().and_then(OsStr::to_str).is_some_and(|name| name.starts_with('.'));
            let Ok(meta) = std::fs::symlink_metadata(&path) else { continue };
            if hidden || meta.is_symlink() {
                continue;
            }
            if meta.is_dir() {
                below.push(path);
            } else if let (true, Some(kind)) = (meta.is_file(), Kind::of(&path)) {
                each(Visited::File(path, kind))?;
            }
        }
        ahead.extend(below.into_iter().rev());
    }
    Ok(())
}
