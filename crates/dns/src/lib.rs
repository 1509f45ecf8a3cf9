//! Questions to name servers, dynamic updates (RFC 2136) signed with TSIG (RFC 8945), and the look whether every name
//! server of a zone has a record.

mod ask;
mod key;
mod update;
mod watch;

pub use ask::{AskError, Found, Located, Zone, ask_records, first_that_answers, locate, system_servers, zone_of};
pub use key::{KeyError, UpdateKey};
pub use update::{UpdateError, add_records, remove_records};
pub use watch::{Behind, find_addresses, find_name_servers, lagging};
