//! Files and programs that are obeyed: nobody but root and the caller may be able to change them.

use crate::trust::{TrustError, check_trust};
use std::io;
use std::path::{Path, PathBuf};

/// No such file is larger.
const LARGEST: u64 = 4 << 20;

/// Says what is wrong, and what mends it.
pub fn words(error: &TrustError) -> String {
    match error.mended_by() {
        Some(mended) => format!("{error}; {mended}"),
        None => error.to_string(),
    }
}

/// Reads a file that is obeyed.
///
/// # Errors
/// In words: when it cannot be read, or somebody else may change it.
pub fn read(path: &Path) -> Result<Vec<u8>, String> {
    match check_trust(path) {
        Err(error) if !error.is_missing() => return Err(words(&error)),
        _ => {}
    }
    let file = std::fs::File::open(path).map_err(|e| e.to_string())?;
    let mut bytes = Vec::new();
    io::Read::read_to_end(&mut io::Read::take(file, LARGEST + 1), &mut bytes).map_err(|e| e.to_string())?;
    if bytes.len() as u64 > LARGEST {
        return Err(format!("it is larger than {LARGEST} bytes"));
    }
    Ok(bytes)
}

/// Reads a text that is obeyed.
///
/// # Errors
/// As [`read`]; also when it is no text.
pub fn read_text(path: &Path) -> Result<String, String> {
    String::from_utf8(read(path)?).map_err(|_| "it is not UTF-8 text".to_owned())
}

/// Finds a program as the system would, seen from a folder, and checks that nobody else may change it. One that does not exist
/// is left to the attempt to run it.
///
/// # Errors
/// [`TrustError`] of the program.
pub fn check_program(program: &str, folder: &Path) -> Result<(), TrustError> {
    let found: Option<PathBuf> = if program.contains('/') {
        Some(folder.join(program))
    } else {
        let path = std::env::var_os("PATH").unwrap_or_default();
        std::env::split_paths(&path).map(|dir| folder.join(dir).join(program)).find(|path| path.is_file())
    };
    match found.as_deref().map(check_trust) {
        Some(Err(error)) if !error.is_missing() => Err(error),
        _ => Ok(()),
    }
}
