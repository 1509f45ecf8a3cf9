//! Machines: files, programs and secrets of this one, handled so that no other user of it decides what happens; and files and
//! programs of others, over SSH and FTP.

mod crash;
mod daemon;
mod error;
pub mod files;
mod ftp;
mod listening;
mod machine;
pub mod obeyed;
pub mod program;
mod secret;
mod session;
mod socket;
mod ssh;
mod trust;

pub use crash::{crash_point, panic_point};
pub use daemon::{Daemon, process_names};
pub use error::HostError;
pub use listening::{Listening, who_listens};
pub use machine::{Machine, MachineError, Machines, own_addresses};
pub use program::CommandError;
pub use secret::{SecretError, read_secret};
pub use session::{Session, passing_name};
pub use trust::{TrustError, check_trust};
