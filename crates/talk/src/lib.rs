//! Conversations over HTTP: with authorities over ACME and EST, and with whoever has an issuer's certificate.

mod acme;
mod error;
mod est;
pub mod http;
mod issuers;

pub use acme::{Conversation, Hold};
pub use error::{AuthorityError, EstError};
pub use est::{Enrolled, Est};
pub use issuers::add_missing_issuers;
