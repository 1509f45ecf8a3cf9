//! Conversations over HTTP: with authorities over ACME and EST, and with whoever has an issuer's certificate.

mod acme;
mod error;
mod est;
mod est_messages;
pub mod http;
mod issuers;

pub use acme::{Conversation, Repeat};
pub use error::AuthorityError;
pub use est::Est;
pub use est_messages::{Enrolled, EstError};
pub use issuers::add_missing_issuers;
