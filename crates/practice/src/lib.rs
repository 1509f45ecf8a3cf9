//! The practice world: a certificate authority, a name server and web sites on loopback. For the demo and for tests.
//!
//! The authority is strict where a real one is (signatures, nonces, requests, looks at the sites) and misbehaves on demand
//! (see [`Fault`]). Nothing here listens on anything but loopback.

pub mod ca;
mod clock;
mod http;
mod issuer;
mod names;
mod site;

pub use ca::{Authority, AuthorityOptions, Fault, Resource};
pub use clock::Clock;
pub use issuer::Issuer;
pub use names::NameServer;
pub use site::Site;
