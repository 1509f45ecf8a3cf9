//! The practice world: a certificate authority, a name server, web sites, a hosting account and its panel on loopback, an
//! office's CA, and an authority that speaks EST. For the demo and for tests.
//!
//! The authority is strict where a real one is (signatures, nonces, requests, looks at the sites) and misbehaves on demand
//! (see [`Fault`]). Nothing here listens on anything but loopback.

mod board;
pub mod ca;
mod clock;
mod est;
mod ftp;
mod http;
mod issuer;
mod machine;
mod names;
mod office;
mod panel;
mod site;
mod uploads;

pub use board::Board;
pub use ca::{Authority, AuthorityOptions, Fault, Offer, Resource};
pub use clock::Clock;
pub use est::{EST_PASSWORD, EST_USER, EstServer};
pub use ftp::{FTP_USER, FtpServer};
pub use issuer::{Issuer, signed_by_each_other};
pub use machine::write_machine;
pub use names::NameServer;
pub use office::{Office, Slip};
pub use panel::Panel;
pub use site::{Manners, Site};
pub use uploads::{UploadKind, Uploads};
