//! HAProxy: reads its configuration, and finds what its frontends listen at and show.

mod lex;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub use sites::{Known, load, survey};
