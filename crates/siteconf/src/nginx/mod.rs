//! nginx: reads its configuration with all includes, finds the server blocks of a certificate's names, plans the edits.

mod blocks;
mod lex;
mod plan;
mod redirect;
#[cfg(test)]
mod tests;
mod tree;

pub use blocks::{BlockId, Listen, ServerBlock, Sites, Socket};
pub use plan::{Endpoint, FileChange, PlanError, SitePlan, TlsTarget, plan};
pub use tree::{Config, ConfigFile, LoadError, ReadFiles, load};
