//! Postfix: reads its parameters and services, and finds where mail is taken in with TLS.

mod level;
mod lex;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub(crate) use level::level;
pub use sites::{Known, Map, load, survey};
