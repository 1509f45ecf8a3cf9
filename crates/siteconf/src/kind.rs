//! One entry for each server program whose configuration can be read.

use crate::files::{LoadError, ReadFiles};
use crate::survey::Survey;
use crate::{apache, dovecot, exim, haproxy, lighttpd, nginx, postfix};
use eskort_core::software::Software;
use std::path::Path;

/// Reads what a server serves from its main file. `read` gets an absolute path, perhaps with `*`, `?` and `[…]` in it, and returns the files
/// it stands for.
///
/// # Errors
/// A [`LoadError`] when the main file cannot be read or understood.
pub fn survey(software: Software, main: &Path, read: &mut ReadFiles<'_>) -> Result<Survey, LoadError> {
    match software {
        Software::Nginx => nginx::survey(main, read),
        Software::Apache => apache::survey(main, read),
        Software::Haproxy => haproxy::survey(main, read),
        Software::Lighttpd => lighttpd::survey(main, read),
        Software::Postfix => postfix::survey(main, read),
        Software::Dovecot => dovecot::survey(main, read),
        Software::Exim => exim::survey(main, read),
    }
}
