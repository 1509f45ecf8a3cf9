//! nginx: reads its configuration with all includes, finds the server blocks of a certificate's names, plans the edits.

mod lex;
mod plan;
mod sites;
mod survey;
#[cfg(test)]
mod tests;
mod tree;

pub use plan::plan;
pub use sites::{BlockId, ServerBlock, Sites};
pub use survey::{other_sites, survey};
pub use tree::{Config, load, pid_file, with_changes};
