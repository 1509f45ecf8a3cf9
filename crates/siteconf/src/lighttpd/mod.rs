//! lighttpd: reads its configuration with all includes and conditions, and finds its hosts and sockets.

mod lex;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub use sites::survey;
