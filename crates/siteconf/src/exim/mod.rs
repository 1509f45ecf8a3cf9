//! Exim: reads the main part of its configuration, and finds where mail is taken in with TLS.

mod lex;
mod sites;
#[cfg(test)]
mod tests;

pub use sites::survey;
