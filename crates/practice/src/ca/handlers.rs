//! One handler for each resource.

use super::fault::{Fault, Resource};
use super::jws::{AccountKey, Signed, binding_holds, open};
use super::look::Seeker;
use super::state::{Authorization, Order, Phase, State, problem, random_text};
use super::{Core, Offer};
use crate::http::{Answered, Asked, Cut, response};
use bytes::Bytes;
use eskort_pki::names::Identifier;
use eskort_pki::{KeyKind, PrivateKey, base64url_decode, parse_csr};
use http_body_util::Full;
use hyper::{Method, Response};
use jiff::SignedDuration;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::sync::{Arc, MutexGuard};

type Reply = Response<Full<Bytes>>;
/// Status and problem document.
type Refusal = (u16, Value);

fn refuse<T>(status: u16, kind: &str, detail: &str) -> Result<T, Refusal> {
    Err((status, problem(kind, detail)))
}

/// Where a path leads: the resource, and the number in it.
fn route(path: &str) -> Option<(Resource, usize)> {
    let parts: Vec<&str> = path.trim_matches('/').split('/').collect();
    let number = |text: &str| text.parse().ok();
    Some(match parts[..] {
        ["directory"] => (Resource::Directory, 0),
        ["new-nonce"] => (Resource::NewNonce, 0),
        ["new-account"] => (Resource::NewAccount, 0),
        ["account", n] => (Resource::Account, number(n)?),
        ["new-order"] => (Resource::NewOrder, 0),
        ["order", n] => (Resource::Order, number(n)?),
        ["order", n, "finalize"] => (Resource::Finalize, number(n)?),
        ["authorization", n] => (Resource::Authorization, number(n)?),
        ["challenge", n, _] => (Resource::Challenge, number(n)?),
        ["account", n, "orders"] => (Resource::Orders, number(n)?),
        ["revoke"] => (Resource::Revoke, 0),
        ["key-change"] => (Resource::KeyChange, 0),
        ["renewal-info", _] => (Resource::RenewalInfo, 0),
        ["certificate", n] | ["certificate", n, "old"] => (Resource::Certificate, number(n)?),
        _ => return None,
    })
}

pub(super) async fn handle(core: Arc<Core>, asked: Asked) -> Answered {
    let path = asked.uri().path().to_owned();
    let Some((resource, number)) = route(&path) else {
        return Ok(core.finish(problem_reply((404, problem("malformed", "no such resource")))));
    };
    core.state().asked.push(resource);
    let fault = core.faults.lock().expect("no holder panics").take(resource);
    match &fault {
        Some(Fault::CutBefore) => return Err(Cut),
        Some(Fault::Hang) => std::future::pending().await,
        Some(Fault::NotAcme) => return Ok(response(200, "text/html", "<!doctype html><title>Welcome</title>")),
        Some(Fault::Status(status)) if resource == Resource::NewNonce => {
            return Ok(response(*status, "text/plain", ""));
        }
        Some(Fault::Status(status)) => return Ok(core.finish(response(*status, "text/plain", "out of order"))),
        Some(Fault::BadNonce) => return Ok(core.finish(problem_reply((400, problem("badNonce", "on demand"))))),
        Some(Fault::Problem(kind)) => return Ok(core.finish(problem_reply((403, problem(kind, "on demand"))))),
        Some(Fault::UserAction) => {
            let mut document = problem("userActionRequired", "the terms of service have changed");
            document["instance"] = json!("https://ca.lampholm.example/agree");
            let mut reply = problem_reply((403, document));
            let link = "<https://ca.lampholm.example/terms-2>;rel=\"terms-of-service\"";
            reply.headers_mut().insert("link", link.parse().expect("a header value"));
            return Ok(core.finish(reply));
        }
        Some(Fault::Empty) => return Ok(core.finish(response(200, "application/pem-certificate-chain", ""))),
        Some(Fault::RateLimited(wait)) => {
            let mut reply = problem_reply((429, problem("rateLimited", "too many requests of this kind")));
            reply.headers_mut().insert("retry-after", wait.parse().expect("a header value"));
            return Ok(core.finish(reply));
        }
        _ => {}
    }
    let mut reply = match act(&core, resource, number, &asked, fault.as_ref()) {
        Ok(reply) => reply,
        Err(refusal) => problem_reply(refusal),
    };
    match fault {
        Some(Fault::CutAfter) => Err(Cut),
        Some(Fault::StatusAfter(status)) => Ok(core.finish(response(status, "text/plain", "out of order"))),
        Some(Fault::NoNonce) => Ok(reply),
        Some(Fault::AskLater(wait)) => {
            reply.headers_mut().insert("retry-after", wait.parse().expect("a header value"));
            Ok(core.finish(reply))
        }
        _ => Ok(core.finish(reply)),
    }
}

fn problem_reply((status, document): Refusal) -> Reply {
    response(status, "application/problem+json", document.to_string())
}

fn json_reply(status: u16, value: &Value) -> Reply {
    response(status, "application/json", value.to_string())
}

impl Core {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().expect("no holder panics")
    }

    fn base(&self) -> String {
        self.base.read().expect("no holder panics").clone()
    }

    fn url(&self, rest: &str) -> String {
        format!("{}/{rest}", self.base())
    }

    /// Every answer carries a fresh nonce.
    fn finish(&self, mut reply: Reply) -> Reply {
        let nonce = self.state().fresh_nonce();
        let date = self.clock.now().strftime("%a, %d %b %Y %H:%M:%S GMT").to_string();
        reply.headers_mut().insert("date", date.parse().expect("a date is a header value"));
        reply.headers_mut().insert("replay-nonce", nonce.parse().expect("base64url is a header value"));
        reply
    }

    /// Checks a signed request: signature, nonce, address. Returns it with the account's number, if it names one.
    fn signed(&self, asked: &Asked) -> Result<(Signed, Option<usize>), Refusal> {
        if asked.headers().get("content-type").is_none_or(|t| t != "application/jose+json") {
            return refuse(415, "malformed", "the content type is not application/jose+json");
        }
        let mut state = self.state();
        let prefix = self.url("account/");
        let mut account = None;
        let signed = open(asked.body(), |head| match head.get("jwk") {
            Some(jwk) => AccountKey::from_jwk(jwk),
            None => {
                account = head["kid"].as_str()?.strip_prefix(&prefix)?.parse::<usize>().ok();
                state.accounts.get(account?).filter(|_| account >= Some(state.forgotten)).cloned()
            }
        });
        let signed = match signed {
            Ok(signed) => signed,
            Err("no such account") => return refuse(400, "accountDoesNotExist", "no such account"),
            Err(why) => return refuse(400, "malformed", why),
        };
        let path = asked.uri().path_and_query().map_or("", |path| path.as_str());
        if signed.head["url"] != json!(self.url(path.trim_start_matches('/'))) {
            return refuse(401, "unauthorized", "the signed address is another one");
        }
        let nonce = signed.head["nonce"].as_str().unwrap_or_default();
        // A nonce is as good as a die.
        let die = nonce.bytes().fold(0_u32, |sum, byte| sum * 31 % 9_973 + u32::from(byte)) % 100;
        if !state.nonces.remove(nonce) || die < u32::from(self.options.refused_nonces) {
            return refuse(400, "badNonce", "this nonce was not given out, or was used");
        }
        if account.is_some_and(|account| state.ended.contains(&account)) {
            return refuse(401, "unauthorized", "the account is deactivated");
        }
        Ok((signed, account))
    }

    fn account(&self, asked: &Asked) -> Result<(Signed, usize), Refusal> {
        match self.signed(asked)? {
            (signed, Some(account)) => Ok((signed, account)),
            _ => refuse(401, "unauthorized", "this wants an account"),
        }
    }
}

fn act(
    core: &Arc<Core>,
    resource: Resource,
    number: usize,
    asked: &Asked,
    fault: Option<&Fault>,
) -> Result<Reply, Refusal> {
    let reading = matches!(*asked.method(), Method::GET | Method::HEAD);
    match resource {
        Resource::Directory if reading => Ok(directory(core)),
        Resource::NewNonce if reading => Ok(response(200, "text/plain", "")),
        Resource::RenewalInfo if reading => renewal_info(core, asked, fault),
        _ if *asked.method() != Method::POST => refuse(405, "malformed", "this wants a POST"),
        Resource::NewAccount => new_account(core, asked),
        Resource::Account => account(core, number, asked),
        Resource::NewOrder => new_order(core, asked),
        Resource::Order => order(core, number, asked),
        Resource::Authorization => authorization(core, number, asked),
        Resource::Challenge => challenge(core, number, asked, fault),
        Resource::Finalize => finalize(core, number, asked, fault),
        Resource::Certificate => certificate(core, number, asked, fault),
        Resource::Revoke => revoke(core, asked),
        Resource::KeyChange => key_change(core, asked),
        Resource::Orders => orders(core, number, asked),
        Resource::Directory | Resource::NewNonce | Resource::RenewalInfo => {
            refuse(405, "malformed", "this wants a GET")
        }
    }
}

fn directory(core: &Core) -> Reply {
    let mut shown = json!({
        "newNonce": core.url("new-nonce"), "newAccount": core.url("new-account"), "newOrder": core.url("new-order"),
        "revokeCert": core.url("revoke"), "keyChange": core.url("key-change"),
        "meta": {
            "termsOfService": "https://ca.lampholm.example/terms",
            "website": "https://ca.lampholm.example/",
            "caaIdentities": ["ca.lampholm.example"],
            "externalAccountRequired": core.options.external_account.is_some(),
        }
    });
    if core.options.renewals {
        shown["renewalInfo"] = json!(core.url("renewal-info"));
    }
    for (name, lifetime) in core.options.profiles {
        shown["meta"]["profiles"][name] = json!(format!("good for {} days", lifetime.as_hours() / 24));
    }
    json_reply(200, &shown)
}

/// Says when a certificate is to be renewed (RFC 9773 section 4.2): for a day, when a third of its lifetime is left, or as it was told.
fn renewal_info(core: &Core, asked: &Asked, fault: Option<&Fault>) -> Result<Reply, Refusal> {
    let id = asked.uri().path().rsplit('/').next().unwrap_or_default();
    let state = core.state();
    let certificate = state
        .orders
        .iter()
        .filter_map(|order| order.certificate.as_ref())
        .find(|c| c.renewal_id().as_deref() == Some(id));
    let Some(certificate) = certificate.filter(|_| core.options.renewals) else {
        return refuse(404, "malformed", "no such certificate");
    };
    let usual = certificate.not_after - certificate.not_after.duration_since(certificate.not_before) / 3;
    let (start, end) = state.window.unwrap_or((usual, usual + SignedDuration::from_hours(24)));
    let (start, end) = if fault == Some(&Fault::TurnedWindow) { (end, start) } else { (start, end) };
    let mut shown = json!({ "suggestedWindow": { "start": start.to_string(), "end": end.to_string() } });
    if state.window.is_some() {
        shown["explanationURL"] = json!("https://ca.lampholm.example/renewals");
    }
    let mut reply = json_reply(200, &shown);
    reply.headers_mut().insert("retry-after", "21600".parse().expect("a header value"));
    Ok(reply)
}

fn new_account(core: &Core, asked: &Asked) -> Result<Reply, Refusal> {
    let (signed, _) = core.signed(asked)?;
    let Some(key) = signed.head.get("jwk").and_then(AccountKey::from_jwk) else {
        return refuse(400, "malformed", "a new account is signed with its key");
    };
    let payload: Value = serde_json::from_slice(&signed.payload).unwrap_or_default();
    let mut state = core.state();
    let known = state.accounts.iter().rposition(|k| *k == key);
    let reply = |status, index: usize| {
        let mut reply = json_reply(status, &json!({ "status": "valid", "contact": payload["contact"] }));
        let url = core.url(&format!("account/{index}"));
        reply.headers_mut().insert("location", url.parse().expect("an address is a header value"));
        Ok(reply)
    };
    let known = known.filter(|index| *index >= state.forgotten);
    if let Some(index) = known {
        if state.ended.contains(&index) {
            return refuse(401, "unauthorized", "the account is deactivated");
        }
        return reply(200, index);
    }
    if payload["onlyReturnExisting"] == json!(true) {
        return refuse(400, "accountDoesNotExist", "no account has this key");
    }
    if payload["termsOfServiceAgreed"] != json!(true) {
        return refuse(403, "userActionRequired", "the terms of service have to be agreed to");
    }
    if let Some((id, mac_key)) = &core.options.external_account
        && !binding_holds(&payload["externalAccountBinding"], id, mac_key, &key, &core.url("new-account"))
    {
        return refuse(403, "externalAccountRequired", "the external account binding is missing or not valid");
    }
    state.accounts.push(key);
    state.contacts.push(payload["contact"].clone());
    reply(201, state.accounts.len() - 1)
}

fn account(core: &Core, number: usize, asked: &Asked) -> Result<Reply, Refusal> {
    let (signed, account) = core.account(asked)?;
    own(Some(number), account)?;
    let payload: Value = serde_json::from_slice(&signed.payload).unwrap_or_default();
    let mut state = core.state();
    if payload.get("contact").is_some() {
        state.contacts.push(payload["contact"].clone());
    }
    let ends = payload["status"] == "deactivated";
    if ends {
        state.ended.insert(account);
    }
    let contact = state.contacts.last().cloned().unwrap_or_default();
    let status = if ends { "deactivated" } else { "valid" };
    let orders = core.url(&format!("account/{account}/orders"));
    Ok(json_reply(200, &json!({ "status": status, "contact": contact, "orders": orders })))
}

/// Lists an account's orders, two on a page (RFC 8555 section 7.1.2.1).
fn orders(core: &Core, number: usize, asked: &Asked) -> Result<Reply, Refusal> {
    let (_, account) = core.account(asked)?;
    own(Some(number), account)?;
    let from: usize = asked.uri().query().and_then(|query| query.strip_prefix("from=")?.parse().ok()).unwrap_or(0);
    let state = core.state();
    let theirs = state.orders.iter().enumerate().filter(|(_, order)| order.account == account);
    let urls: Vec<String> = theirs.map(|(index, _)| core.url(&format!("order/{index}"))).collect();
    let page: Vec<&String> = urls.iter().skip(from).take(2).collect();
    let mut reply = json_reply(200, &json!({ "orders": page }));
    if from + 2 < urls.len() {
        let next = format!("<{}?from={}>;rel=\"next\"", core.url(&format!("account/{account}/orders")), from + 2);
        reply.headers_mut().insert("link", next.parse().expect("an address is a header value"));
    }
    Ok(reply)
}

/// Revokes a certificate for the account that got it, or for who has its key (RFC 8555 section 7.6).
fn revoke(core: &Core, asked: &Asked) -> Result<Reply, Refusal> {
    let (signed, account) = core.signed(asked)?;
    let payload: Value = serde_json::from_slice(&signed.payload).unwrap_or_default();
    let der = payload["certificate"].as_str().and_then(base64url_decode).unwrap_or_default();
    let mut state = core.state();
    let is_it = |order: &Order| order.certificate.as_ref().is_some_and(|certificate| certificate.der() == der);
    let Some(index) = state.orders.iter().position(is_it) else {
        return refuse(404, "malformed", "this is no certificate of this authority");
    };
    let by_key = || {
        let key = signed.head.get("jwk").and_then(AccountKey::from_jwk);
        let certificate = state.orders[index].certificate.as_ref();
        key.zip(certificate).is_some_and(|(key, certificate)| key.is_key_of(certificate))
    };
    if account != Some(state.orders[index].account) && !by_key() {
        return refuse(403, "unauthorized", "neither the account that got it nor its key has signed this");
    }
    let reason = payload["reason"].as_u64().unwrap_or(0);
    if ![0, 1, 3, 4, 5].contains(&reason) {
        return refuse(400, "badRevocationReason", "0, 1, 3, 4 and 5 are taken");
    }
    if state.revoked.contains_key(&index) {
        return refuse(400, "alreadyRevoked", "it was revoked before");
    }
    state.revoked.insert(index, reason);
    Ok(response(200, "text/plain", ""))
}

/// Gives an account another key (RFC 8555 section 7.3.5).
fn key_change(core: &Core, asked: &Asked) -> Result<Reply, Refusal> {
    let (signed, account) = core.account(asked)?;
    let url = core.url("key-change");
    let inner = open(&signed.payload, |head| {
        AccountKey::from_jwk(&head["jwk"]).filter(|_| head["url"] == json!(url) && head.get("nonce").is_none())
    });
    let Ok(inner) = inner else { return refuse(400, "malformed", "what is signed within is not as it should be") };
    let payload: Value = serde_json::from_slice(&inner.payload).unwrap_or_default();
    let mut state = core.state();
    let old = AccountKey::from_jwk(&payload["oldKey"]);
    if payload["account"] != json!(core.url(&format!("account/{account}")))
        || old.as_ref() != state.accounts.get(account)
    {
        return refuse(400, "malformed", "it is for another account or another key");
    }
    let Some(new) = AccountKey::from_jwk(&inner.head["jwk"]) else { return refuse(400, "malformed", "no key") };
    if state.accounts.contains(&new) {
        return refuse(409, "malformed", "an account has this key already");
    }
    state.accounts[account] = new;
    Ok(response(200, "application/json", "{}"))
}

fn new_order(core: &Core, asked: &Asked) -> Result<Reply, Refusal> {
    let (signed, account) = core.account(asked)?;
    let payload: Value = serde_json::from_slice(&signed.payload).unwrap_or_default();
    let values = payload["identifiers"].as_array().into_iter().flatten().map(|i| i["value"].as_str());
    let names: Option<Vec<Identifier>> = values.map(|text| Identifier::parse_any(text?).ok()).collect();
    let names = names.unwrap_or_default();
    if names.is_empty() || names.len() > 100 {
        return refuse(400, "malformed", "an order is for 1 to 100 names");
    }
    let here = |n: &Identifier| match n.address() {
        Some(ip) => ip.is_loopback(),
        None => n.base().ends_with(".example") || n.base().ends_with(".test"),
    };
    if let Some(foreign) = names.iter().find(|n| core.options.looks && !here(n)) {
        return refuse(403, "rejectedIdentifier", &format!("{foreign} is not of the practice world"));
    }
    let profile = match payload["profile"].as_str() {
        Some(wanted) => match core.options.profiles.iter().find(|(name, _)| *name == wanted) {
            Some((name, _)) => Some(*name),
            None => return refuse(400, "invalidProfile", &format!("{wanted} is not offered")),
        },
        None => None,
    };
    let mut state = core.state();
    let replaces = match payload["replaces"].as_str() {
        Some(id) => {
            let is_it = |o: &Order| {
                o.account == account && o.certificate.as_ref().is_some_and(|c| c.renewal_id().as_deref() == Some(id))
            };
            let Some(replaced) = state.orders.iter().position(is_it) else {
                return refuse(400, "malformed", "what it replaces is no certificate of this account");
            };
            if state.orders.iter().any(|order| order.replaces == Some(replaced) && order.certificate.is_some()) {
                return refuse(409, "alreadyReplaced", "that certificate was replaced already");
            }
            Some(replaced)
        }
        None => None,
    };
    let same = |o: &Order| o.account == account && o.names == names && state.order_status(o) == "pending";
    // As large authorities do: an order for the same names that is still open is given again (RFC 8555 leaves it free).
    let open = state.orders.iter().position(same).filter(|_| core.options.repeats_orders);
    let index = match open {
        Some(index) => index,
        None => {
            let authorizations = names.iter().map(|n| authorize(core, &mut state, account, n)).collect();
            state.orders.push(Order {
                account,
                names,
                authorizations,
                phase: Phase::Open,
                certificate: None,
                replaces,
                profile,
            });
            state.orders.len() - 1
        }
    };
    let mut reply = json_reply(201, &state.show_order(&core.base(), index));
    // An address may be relative (RFC 9110 section 10.2.2).
    let url = if core.options.repeats_orders { core.url(&format!("order/{index}")) } else { format!("/order/{index}") };
    reply.headers_mut().insert("location", url.parse().expect("an address is a header value"));
    Ok(reply)
}

fn authorize(core: &Core, state: &mut State, account: usize, name: &Identifier) -> usize {
    let usable = |a: &Authorization| a.account == account && a.name == *name && a.result == Some(Ok(()));
    if core.options.remembers_proofs
        && let Some(known) = state.authorizations.iter().position(usable)
    {
        return known;
    }
    state.authorizations.push(Authorization {
        account,
        name: name.clone(),
        token: random_text(),
        answered: None,
        result: None,
    });
    state.authorizations.len() - 1
}

/// Checks that an order or authorization exists and belongs to the account.
fn own(owner: Option<usize>, account: usize) -> Result<(), Refusal> {
    match owner {
        None => refuse(404, "malformed", "no such resource"),
        Some(owner) if owner != account => refuse(403, "unauthorized", "this belongs to another account"),
        Some(_) => Ok(()),
    }
}

fn order(core: &Core, number: usize, asked: &Asked) -> Result<Reply, Refusal> {
    let (_, account) = core.account(asked)?;
    let state = core.state();
    own(state.orders.get(number).map(|o| o.account), account)?;
    let mut reply = json_reply(200, &state.show_order(&core.base(), number));
    if state.order_status(&state.orders[number]) == "processing" {
        reply.headers_mut().insert("retry-after", "1".parse().expect("a header value"));
    }
    Ok(reply)
}

fn authorization(core: &Core, number: usize, asked: &Asked) -> Result<Reply, Refusal> {
    let (_, account) = core.account(asked)?;
    let state = core.state();
    own(state.authorizations.get(number).map(|a| a.account), account)?;
    Ok(json_reply(200, &state.show_authorization(&core.base(), number, core.options.offers)))
}

fn challenge(core: &Arc<Core>, number: usize, asked: &Asked, fault: Option<&Fault>) -> Result<Reply, Refusal> {
    let (signed, account) = core.account(asked)?;
    let mut state = core.state();
    own(state.authorizations.get(number).map(|a| a.account), account)?;
    let word = asked.uri().path().rsplit('/').next().unwrap_or_default();
    let Some(offer) = Offer::ALL.into_iter().find(|o| o.word() == word && core.options.offers.contains(o)) else {
        return refuse(404, "malformed", "no such challenge");
    };
    if !signed.payload.is_empty() && state.authorizations[number].answered.is_none() {
        let refused = fault == Some(&Fault::RefuseProof);
        let thumbprint = state.accounts[account].thumbprint();
        let found = &mut state.authorizations[number];
        found.answered = Some(offer);
        let seeker = Seeker {
            offer,
            name: found.name.base().into_owned(),
            wildcard: found.name.is_wildcard(),
            token: found.token.clone(),
            key_authorization: format!("{}.{thumbprint}", found.token),
            account: core.url(&format!("account/{account}")),
        };
        let core = Arc::clone(core);
        tokio::spawn(async move {
            tokio::time::sleep(core.options.thinking).await;
            let result = match refused {
                true => Err(("unauthorized", "the proof was found lacking, on demand".to_owned())),
                false => seeker.look(&core).await,
            };
            core.state().authorizations[number].result = Some(result);
        });
    }
    Ok(json_reply(200, &state.show_challenge(&core.base(), number, offer)))
}

fn finalize(core: &Arc<Core>, number: usize, asked: &Asked, fault: Option<&Fault>) -> Result<Reply, Refusal> {
    let (signed, account) = core.account(asked)?;
    let mut state = core.state();
    own(state.orders.get(number).map(|o| o.account), account)?;
    let status = state.order_status(&state.orders[number]);
    if status != "ready" {
        return refuse(403, "orderNotReady", &format!("the order is {status}"));
    }
    let payload: Value = serde_json::from_slice(&signed.payload).unwrap_or_default();
    let csr = payload["csr"].as_str().and_then(base64url_decode).unwrap_or_default();
    let facts = match parse_csr(&csr) {
        Ok(facts) => facts,
        Err(why) => return refuse(400, "badCSR", &why.to_string()),
    };
    let asked: Option<BTreeSet<Identifier>> = facts.identifiers().map(|names| names.into_iter().collect());
    if asked != Some(state.orders[number].names.iter().cloned().collect()) {
        return refuse(400, "badCSR", "the names of the CSR are not those of the order");
    }
    let key = match fault {
        Some(Fault::WrongKey) => PrivateKey::generate(KeyKind::P256).expect("a key can be made").public_key_der(),
        _ => facts.public_key,
    };
    // Good from a little before, for clocks that go wrong, and until a little after the full lifetime from now.
    let slack = jiff::SignedDuration::from_mins(5);
    let from = core.clock.now() - slack;
    let of_profile =
        |wanted| core.options.profiles.iter().find(|(name, _)| *name == wanted).map(|(_, lifetime)| *lifetime);
    let lifetime = state.orders[number].profile.and_then(of_profile).unwrap_or(core.options.lifetime);
    let leaf = core.issuer.issue(&state.orders[number].names, &key, from, lifetime + slack * 2);
    state.orders[number].certificate = Some(leaf);
    if fault == Some(&Fault::StuckProcessing) {
        state.orders[number].phase = Phase::Processing;
    } else if core.options.thinking.is_zero() {
        state.orders[number].phase = Phase::Valid;
    } else {
        state.orders[number].phase = Phase::Processing;
        let core = Arc::clone(core);
        tokio::spawn(async move {
            tokio::time::sleep(core.options.thinking).await;
            core.state().orders[number].let_go();
        });
    }
    Ok(json_reply(200, &state.show_order(&core.base(), number)))
}

fn certificate(core: &Core, number: usize, asked: &Asked, fault: Option<&Fault>) -> Result<Reply, Refusal> {
    let (_, account) = core.account(asked)?;
    let state = core.state();
    own(state.orders.get(number).map(|o| o.account), account)?;
    let order = &state.orders[number];
    let Some(leaf) = order.certificate.as_ref().filter(|_| order.phase == Phase::Valid) else {
        return refuse(404, "malformed", "there is no certificate yet");
    };
    let old = asked.uri().path().ends_with("/old");
    let mut chain = core.issuer.chain_pem(leaf, old);
    if fault == Some(&Fault::Turned) {
        let end = "-----END CERTIFICATE-----\n";
        let mut blocks: Vec<&str> = chain.split_inclusive(end).collect();
        blocks.reverse();
        chain = blocks.concat();
    }
    let mut reply = response(200, "application/pem-certificate-chain", chain);
    if !old {
        let link = format!("<{}>;rel=\"alternate\"", core.url(&format!("certificate/{number}/old")));
        reply.headers_mut().insert("link", link.parse().expect("an address is a header value"));
    }
    Ok(reply)
}
