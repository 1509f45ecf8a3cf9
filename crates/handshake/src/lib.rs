//! TLS's first messages (RFC 8446, RFC 5246 and before), from SSL 3.0 on: makes a visitor's, reads a server's. Bytes in, bytes out; no
//! cryptography: what a server chooses is said before anything is encrypted.

mod groups;
mod hello;
mod server;
mod suites;

pub use groups::Group;
pub use hello::{ClientHello, Version};
pub use server::{Flight, KeyExchange, Malformed, ServerHello, ServerReader};
pub use suites::{Exchange, Grade, Suite};
