//! nginx: reads its configuration with all includes, finds the server blocks of a certificate's names, plans the edits.

mod lex;
mod plan;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub use plan::{Endpoint, FileChange, PlanError, SitePlan, TlsTarget, plan};
pub use sites::{BlockId, Listen, ServerBlock, Sites, Socket};
pub use tree::{Config, ConfigFile, LoadError, ReadFiles, load};
