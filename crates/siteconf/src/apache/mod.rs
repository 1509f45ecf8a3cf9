//! Apache httpd: reads its configuration with includes, conditions, definitions and macros, and finds its virtual hosts.

mod lex;
mod plan;
mod sites;
#[cfg(test)]
mod tests;
mod tree;
mod version;
mod wishes;

pub use plan::{gain_tls, grant};
pub use sites::{Known, load, survey};
