//! What is arranged with authorities beside orders: revocations and accounts.

pub(crate) mod account;
pub(crate) mod revoke;
