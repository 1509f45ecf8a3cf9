//! Server configurations: bytes in, findings and edits out, one folder per server.
//!
//! A file is lexed to tokens that include blanks and comments, so that what is not changed stays as it is to the byte.
//! Edits are pairs of byte range and new bytes on the original; nothing is ever printed from a tree.

pub mod apache;
mod change;
pub mod dovecot;
pub mod exim;
mod files;
pub mod haproxy;
mod kind;
pub mod lighttpd;
pub mod nginx;
pub mod postfix;
mod reading;
mod repoint;
mod site;
mod splice;
mod survey;

pub use change::{Endpoint, FileChange, PlanError, Present, SitePlan, TlsTarget};
pub use files::{ConfigFile, Files, LoadError, ReadFiles, pattern_has};
pub use kind::survey;
pub use repoint::{RepointTarget, Repointed, repoint};
pub use site::{CertificateFiles, Listener, NamePattern, Place, Protocol, Site, SiteName, Socket, Value};
pub use splice::{Edit, EditsOverlap, apply_edits};
pub use survey::{Remark, Survey, SurveyFile};
