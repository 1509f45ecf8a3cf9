//! What the authority remembers.

use super::jws::AccountKey;
use super::{Offer, Resource};
use eskort_pki::Certificate;
use eskort_pki::names::Identifier;
use jiff::Timestamp;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Default)]
pub(super) struct State {
    pub(super) nonces: BTreeSet<String>,
    pub(super) accounts: Vec<AccountKey>,
    /// The contacts that accounts were made with or changed to.
    pub(super) contacts: Vec<Value>,
    /// So many of the first accounts are forgotten.
    pub(super) forgotten: usize,
    /// Accounts that are deactivated.
    pub(super) ended: BTreeSet<usize>,
    pub(super) orders: Vec<Order>,
    pub(super) authorizations: Vec<Authorization>,
    /// The orders whose certificates are revoked, with the reason's code.
    pub(super) revoked: BTreeMap<usize, u64>,
    pub(super) asked: Vec<Resource>,
    /// When all certificates are to be renewed, where that is not as usual.
    pub(super) window: Option<(Timestamp, Timestamp)>,
}

pub(super) struct Order {
    pub(super) account: usize,
    pub(super) names: Vec<Identifier>,
    pub(super) authorizations: Vec<usize>,
    pub(super) phase: Phase,
    pub(super) certificate: Option<Certificate>,
    /// The order whose certificate it replaces.
    pub(super) replaces: Option<usize>,
    /// The profile that it asks for.
    pub(super) profile: Option<&'static str>,
}

/// How far an order is, as far as its authorizations do not say it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Phase {
    Open,
    Processing,
    Valid,
}

impl Order {
    /// Ends `processing` when the certificate is there.
    pub(super) fn let_go(&mut self) {
        if self.phase == Phase::Processing && self.certificate.is_some() {
            self.phase = Phase::Valid;
        }
    }
}

pub(super) struct Authorization {
    pub(super) account: usize,
    pub(super) name: Identifier,
    pub(super) token: String,
    /// The challenge that the account chose.
    pub(super) answered: Option<Offer>,
    pub(super) result: Option<Result<(), Lack>>,
}

pub(crate) fn random_text() -> String {
    let mut bytes = [0_u8; 16];
    aws_lc_rs::rand::fill(&mut bytes).expect("the system has randomness");
    eskort_pki::base64url(&bytes)
}

pub(super) fn problem(kind: &str, detail: &str) -> Value {
    json!({ "type": format!("urn:ietf:params:acme:error:{kind}"), "detail": detail })
}

impl State {
    pub(super) fn fresh_nonce(&mut self) -> String {
        let nonce = random_text();
        self.nonces.insert(nonce.clone());
        nonce
    }

    /// RFC 8555 section 7.1.6.
    pub(super) fn order_status(&self, order: &Order) -> &'static str {
        let results = || order.authorizations.iter().map(|a| &self.authorizations[*a].result);
        match order.phase {
            Phase::Valid => "valid",
            Phase::Processing => "processing",
            Phase::Open if results().any(|r| matches!(r, Some(Err(_)))) => "invalid",
            Phase::Open if results().all(|r| matches!(r, Some(Ok(())))) => "ready",
            Phase::Open => "pending",
        }
    }

    pub(super) fn show_order(&self, base: &str, index: usize) -> Value {
        let order = &self.orders[index];
        let status = self.order_status(order);
        let urls: Vec<String> = order.authorizations.iter().map(|a| format!("{base}/authorization/{a}")).collect();
        let identifiers: Vec<Value> = order.names.iter().map(identifier).collect();
        let mut shown = json!({ "status": status, "identifiers": identifiers, "authorizations": urls,
            "finalize": format!("{base}/order/{index}/finalize") });
        if status == "valid" {
            shown["certificate"] = json!(format!("{base}/certificate/{index}"));
        }
        if status == "invalid" {
            let mut error = problem("unauthorized", "some names were not proved");
            let failed = order.authorizations.iter().filter_map(|a| match &self.authorizations[*a] {
                Authorization { name, result: Some(Err((kind, detail))), .. } => {
                    let mut part = problem(kind, detail);
                    part["identifier"] = identifier(&name.without_wildcard());
                    Some(part)
                }
                _ => None,
            });
            error["subproblems"] = failed.collect();
            shown["error"] = error;
        }
        shown
    }

    pub(super) fn show_authorization(&self, base: &str, index: usize, offers: &[Offer]) -> Value {
        let a = &self.authorizations[index];
        let status = match &a.result {
            None => "pending",
            Some(Ok(())) => "valid",
            Some(Err(_)) => "invalid",
        };
        let wildcard = a.name.is_wildcard();
        let possible = |offer: &&Offer| if **offer == Offer::Http01 { !wildcard } else { a.name.address().is_none() };
        let challenges = offers.iter().filter(possible).map(|offer| self.show_challenge(base, index, *offer));
        json!({ "status": status, "identifier": identifier(&a.name.without_wildcard()), "wildcard": wildcard,
            "challenges": challenges.collect::<Vec<_>>() })
    }

    pub(super) fn show_challenge(&self, base: &str, index: usize, offer: Offer) -> Value {
        let a = &self.authorizations[index];
        let answered = a.answered == Some(offer);
        let status = match &a.result {
            Some(Ok(())) if answered => "valid",
            Some(Err(_)) if answered => "invalid",
            None if answered => "processing",
            _ => "pending",
        };
        let word = offer.word();
        let mut shown = json!({ "type": word, "url": format!("{base}/challenge/{index}/{word}"), "status": status, "token": a.token });
        if offer == Offer::DnsPersist01 {
            shown.as_object_mut().expect("it was just made").remove("token");
            shown["issuer-domain-names"] = json!([ISSUER_DOMAIN]);
        }
        if let (true, Some(Err((kind, detail)))) = (answered, &a.result) {
            shown["error"] = problem(kind, detail);
        }
        shown
    }
}

/// A finding against the site: the kind of problem and an explanation.
pub(crate) type Lack = (&'static str, String);

/// The domain name that standing records name this authority by.
pub(super) const ISSUER_DOMAIN: &str = "ca.lampholm.example";

/// RFC 8738 section 3: addresses have a type of their own.
fn identifier(name: &Identifier) -> Value {
    let kind = if name.address().is_some() { "ip" } else { "dns" };
    json!({ "type": kind, "value": name })
}
