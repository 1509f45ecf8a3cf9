//! Pages, templates and dumps: what they load and over which way. Bytes in, values out.

mod html;

pub use html::{Load, LoadKind, Loads, loads};
