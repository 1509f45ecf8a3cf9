//! TLS's first messages (RFC 8446, RFC 5246 and before), from SSL 3.0 on: makes a visitor's, reads a server's. Bytes in, bytes out; no
//! cryptography: what a server chooses is said before anything is encrypted, and what is encrypted somebody else opens.

mod encrypted;
mod groups;
mod hello;
mod server;
mod suites;

pub use encrypted::{EncryptedReader, Shown};
pub use groups::Group;
pub use hello::{ClientHello, Version};
pub use server::{Flight, KeyExchange, Malformed, RecordHead, ServerHello, ServerReader, take_record};
pub use suites::{Exchange, Grade, Suite};
