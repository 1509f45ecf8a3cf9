//! What people bring and say: answers to CSRs, certificates that exist already, notes on an order.

pub(crate) mod adopt;
pub(crate) mod note;
pub(crate) mod receive;
