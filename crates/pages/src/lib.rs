//! Pages, templates and dumps: what they load and over which way. Bytes in, values out.

mod address;
mod column;
mod html;
mod sql;
mod value;

pub use address::{Found, Hosts, Left, Tally, mend_text};
pub use column::{Column, mend_cell};
pub use html::{Load, LoadKind, Loads, loads};
pub use sql::{DumpMender, ReadAt};
pub use value::mend_value;
