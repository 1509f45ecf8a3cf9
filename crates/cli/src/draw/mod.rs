//! Draws what people see: tables, bars, colours. Nothing here prints.

pub(crate) mod bar;
pub(crate) mod board;
pub(crate) mod picker;
pub(crate) mod table;
pub(crate) mod tone;
