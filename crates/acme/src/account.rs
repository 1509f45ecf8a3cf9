//! What is done with an account that exists (RFC 8555 section 7.3), and revocation (section 7.6).

use crate::directory::require_https;
use crate::lenient::{elements, or_default};
use crate::{AcmeError, Directory, Request, Response, Signer};
use eskort_core::revocation::Revocation;
use eskort_core::words::printable;
use eskort_pki::base64url;
use serde::Deserialize;
use serde_json::json;

/// What an authority says of an account.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct AccountState {
    /// `valid`, `deactivated` or `revoked`.
    #[serde(deserialize_with = "or_default")]
    pub status: String,
    /// Whom it may write to, as addresses with their scheme.
    #[serde(default, deserialize_with = "elements")]
    pub contact: Vec<String>,
    /// Where the list of its orders is, where there is one.
    #[serde(default, deserialize_with = "or_default")]
    pub orders: Option<String>,
}

/// Makes the request that finds the account of a key, and makes none (section 7.3.1).
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn find_account(signer: &Signer, nonce: &str, directory: &Directory) -> Result<Request, AcmeError> {
    signer.post_with_key(&directory.new_account, nonce, &json!({ "onlyReturnExisting": true }))
}

/// Makes the request that gives an account another key (section 7.3.5): `new` signs within, `old` around it.
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn change_key(old: &Signer, new: &Signer, nonce: &str, url: &str) -> Result<Request, AcmeError> {
    let account = old.account().unwrap_or_default();
    let inner = new.signed_within(url, &json!({ "account": account, "oldKey": old.jwk() }))?;
    old.post(url, nonce, Some(&inner))
}

/// Makes the request that ends an account for good (section 7.3.6).
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn deactivate(signer: &Signer, nonce: &str, account: &str) -> Result<Request, AcmeError> {
    signer.post(account, nonce, Some(&json!({ "status": "deactivated" })))
}

/// Makes the request that revokes a certificate: signed by the account, or with the certificate's own key by a signer that has no account.
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn revoke(
    signer: &Signer,
    nonce: &str,
    url: &str,
    certificate_der: &[u8],
    reason: Revocation,
) -> Result<Request, AcmeError> {
    let payload = json!({ "certificate": base64url(certificate_der), "reason": reason.code() });
    signer.post(url, nonce, Some(&payload))
}

/// Reads what an authority says of an account. What it says in words comes stripped of control characters.
///
/// # Errors
/// When the answer is no account.
pub fn parse_account_state(response: &Response) -> Result<AccountState, AcmeError> {
    let mut state: AccountState = response.json("an account")?;
    state.status = printable(&state.status, 40);
    state.contact = state.contact.iter().take(20).map(|address| printable(address, 200)).collect();
    state.orders.take_if(|url| require_https(url, "an account").is_err());
    Ok(state)
}

/// Reads a page of the list of an account's orders (section 7.1.2.1): their addresses.
///
/// # Errors
/// When the answer is no such list.
pub fn parse_orders(response: &Response) -> Result<Vec<String>, AcmeError> {
    #[derive(Deserialize)]
    struct Orders {
        #[serde(deserialize_with = "elements")]
        orders: Vec<String>,
    }
    let found: Orders = response.json("a list of orders")?;
    Ok(found.orders.into_iter().filter(|url| require_https(url, "a list of orders").is_ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_pki::{KeyKind, PrivateKey, base64url_decode};
    use serde_json::Value;

    fn part(body: &Value, name: &str) -> Value {
        serde_json::from_slice(&base64url_decode(body[name].as_str().unwrap()).unwrap()).unwrap()
    }

    #[test]
    fn a_key_is_changed_by_both_keys() {
        let key = || PrivateKey::generate(KeyKind::P256).unwrap();
        let old = Signer::new(key(), Some("https://ca.example/account/1".into()));
        let new = Signer::new(key(), None);
        let request = change_key(&old, &new, "n", "https://ca.example/change").unwrap();
        let body: Value = serde_json::from_slice(&request.body.unwrap()).unwrap();
        assert_eq!(part(&body, "protected")["kid"], "https://ca.example/account/1");
        let inner = part(&body, "payload");
        let head = part(&inner, "protected");
        assert_eq!(
            (&head["url"], head.get("nonce"), head.get("kid")),
            (&json!("https://ca.example/change"), None, None)
        );
        assert_eq!(head["jwk"], new.jwk());
        assert_eq!(part(&inner, "payload"), json!({"account": "https://ca.example/account/1", "oldKey": old.jwk()}));
    }

    #[test]
    fn what_is_said_of_an_account_is_tamed() {
        let of = |body: Value| {
            let body = body.to_string().into_bytes();
            parse_account_state(&Response { status: 200, body, ..Response::default() })
        };
        let found =
            of(json!({"status": "valid\u{1b}", "contact": ["mailto:a@lampholm.example", 7], "orders": "http://x"}))
                .unwrap();
        assert_eq!((found.contact.len(), found.orders), (1, None));
        assert!(!found.status.contains('\u{1b}'));
        assert!(of(json!("valid")).is_err());
    }
}
