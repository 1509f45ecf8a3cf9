//! lighttpd: reads its configuration with all includes and conditions, and finds its hosts and sockets.

mod level;
mod lex;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub(crate) use level::level;
pub use sites::survey;
