//! Misbehaviour on demand.

/// A resource of the authority.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Resource {
    /// The directory.
    Directory,
    /// Fresh nonces.
    NewNonce,
    /// Accounts.
    NewAccount,
    /// One account.
    Account,
    /// New orders.
    NewOrder,
    /// An order, asked for again.
    Order,
    /// An authorization.
    Authorization,
    /// The answer to a challenge.
    Challenge,
    /// The CSR.
    Finalize,
    /// A certificate.
    Certificate,
    /// When a certificate is to be renewed (RFC 9773).
    RenewalInfo,
    /// Revocations.
    Revoke,
    /// Another key for an account.
    KeyChange,
    /// The orders of an account.
    Orders,
}

/// A way to misbehave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Answers with a status and no problem document.
    Status(u16),
    /// Answers 429 `rateLimited` with this `Retry-After`.
    RateLimited(String),
    /// Answers with a problem of this kind.
    Problem(&'static str),
    /// Answers without a fresh nonce.
    NoNonce,
    /// Says that the nonce was bad.
    BadNonce,
    /// Cuts the connection before it has done anything.
    CutBefore,
    /// Does what was asked, and cuts the connection instead of answering.
    CutAfter,
    /// Does what was asked, and wants to be asked again only after this `Retry-After`.
    AskLater(String),
    /// Does what was asked, and answers with a status and no problem document.
    StatusAfter(u16),
    /// Wants a person to go to a page first (RFC 8555 section 7.3.3).
    UserAction,
    /// Gives a certificate without a body.
    Empty,
    /// Gives a chain in another order.
    Turned,
    /// Never answers.
    Hang,
    /// Answers with a page of a web site.
    NotAcme,
    /// Gives a window that ends before it begins (RFC 9773).
    TurnedWindow,
    /// Leaves an order in `processing` until it is told to behave.
    StuckProcessing,
    /// Issues for another key than the CSR's.
    WrongKey,
    /// Finds every proof lacking.
    RefuseProof,
}

/// The faults that are due.
#[derive(Debug, Default)]
pub(super) struct Faults(Vec<(Resource, Fault, u32)>);

impl Faults {
    pub(super) fn add(&mut self, resource: Resource, fault: Fault, times: u32) {
        self.0.push((resource, fault, times));
    }

    /// Takes the next fault for a resource.
    pub(super) fn take(&mut self, resource: Resource) -> Option<Fault> {
        let entry = self.0.iter_mut().find(|(r, _, left)| *r == resource && *left > 0)?;
        entry.2 -= 1;
        Some(entry.1.clone())
    }
}
