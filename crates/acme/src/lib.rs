//! ACME (RFC 8555): builds the signed requests, reads the answers, types the problems.
//!
//! Per resource there is a pair: one function makes the request, one reads the answer. Nothing here sends anything,
//! sleeps or knows the time; `eskort-app` does.

mod account;
mod directory;
mod jws;
mod lenient;
#[cfg(test)]
mod nearly;
mod order;
mod problem;
mod renewal;
mod wire;

pub use account::{AccountState, change_key, deactivate, find_account, parse_account_state, parse_orders, revoke};
pub use directory::{Directory, Meta, change_contact, is_account_usable, new_account, parse_account, parse_directory};
pub use jws::{ExternalBinding, Signer};
pub use order::{
    Authorization, Challenge, NewOrder, Order, OrderStatus, finalize, has_looked, new_order, parse_authorization,
    parse_certificate, parse_order, post_as_get, respond_to_challenge,
};
pub use problem::{AtFault, Problem, Rejected, Step};
pub use renewal::parse_renewal_info;
pub use wire::{Method, Request, Response, http_date, retry_after};

/// Most bytes that an answer may have: far above what any authority sends, far below what would hurt.
pub const LARGEST_RESPONSE: usize = 1 << 20;

/// What can be wrong with an authority's answer.
#[derive(Debug, thiserror::Error)]
pub enum AcmeError {
    /// The answer is a problem document (RFC 8555 section 6.7).
    #[error(transparent)]
    Problem(#[from] Box<Problem>),
    /// The answer is not what the protocol says.
    #[error("the authority's answer is not {expected}: {found}")]
    NotProtocol {
        /// What should have come.
        expected: &'static str,
        /// What came, tamed and cut.
        found: String,
    },
    /// An authorization or order is no longer good.
    #[error("{}", .0)]
    Rejected(Rejected),
    /// Our own key cannot do what ACME asks of it.
    #[error("the account key cannot sign")]
    Signing,
}
