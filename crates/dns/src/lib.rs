//! Questions to name servers, dynamic updates (RFC 2136) signed with TSIG (RFC 8945), and the look whether the name
//! servers of a zone have a record.

mod addresses;
mod caa;
mod exchange;
mod key;
mod lookup;
mod propagation;
mod signature;
mod update;
mod zone;

pub use addresses::{AddressesSeen, KnownServers, addresses_of, see_addresses};
pub use caa::KnownCaa;
pub use exchange::{AskError, first_that_answers, names_of_hosts, system_servers};
pub use key::{KeyError, UpdateKey};
#[cfg(fuzzing)]
pub use lookup::read_answer;
pub use lookup::{Found, ask_records};
pub use propagation::{NameServer, Propagation, StaleServer, find_addresses, find_name_servers, propagation};
pub use signature::{ZoneSignature, zone_signature};
pub use update::{UpdateError, add_records, remove_records};
pub use zone::{Located, Zone, locate, zone_of};
