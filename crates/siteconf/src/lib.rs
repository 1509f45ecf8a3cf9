//! Server configurations: bytes in, findings and edits out, one folder per server.
//!
//! A file is lexed to tokens that include blanks and comments, so that what is not changed stays as it is to the byte.
//! Edits are pairs of byte range and new bytes on the original; nothing is ever printed from a tree.

mod change;
mod files;
pub mod nginx;
mod site;
mod splice;

pub use change::{Endpoint, FileChange, PlanError, SitePlan, TlsTarget};
pub use files::{ConfigFile, Files, LoadError, ReadFiles};
pub use site::{Listener, NamePattern, Place, Protocol, Site, SiteName, Socket};
pub use splice::{Edit, EditsOverlap, apply_edits};
