//! Server configurations: bytes in, findings and edits out, one folder per server.
//!
//! A file is lexed to tokens that include blanks and comments, so that what is not changed stays as it is to the byte.
//! Edits are pairs of byte range and new bytes on the original; nothing is ever printed from a tree.

pub mod nginx;
mod splice;

pub use splice::{Edit, EditsOverlap, apply_edits};
