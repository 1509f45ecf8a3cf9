//! HAProxy: reads its configuration, and finds what its frontends listen at and show.

mod level;
mod lex;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub(crate) use level::level;
pub use sites::{Known, load, survey};
