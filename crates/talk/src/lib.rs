//! Conversations over HTTP: with authorities over ACME and EST, with APIs by recipes, and with whoever has an issuer's certificate.

mod acme;
mod api;
mod error;
mod est;
mod est_messages;
pub mod http;
mod issuers;

pub use acme::{Conversation, Repeat};
pub use api::{Api, ApiError, KnownRecipe, load_recipe};
pub use error::AuthorityError;
pub use est::Est;
pub use est_messages::{Enrolled, EstError};
pub use issuers::{add_missing_issuers, ask_responder, fetch_revocation_list};
