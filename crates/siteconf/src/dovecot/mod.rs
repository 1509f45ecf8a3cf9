//! Dovecot: reads its configuration with all includes, and finds the listeners of its mailboxes, and who is shown which certificate.

mod level;
mod lex;
mod sites;
#[cfg(test)]
mod tests;
mod tree;

pub(crate) use level::level;
pub use sites::survey;
