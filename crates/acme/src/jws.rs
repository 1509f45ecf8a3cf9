//! Signed bodies (RFC 8555 section 6.2, RFC 7515 flattened JSON).

use crate::{AcmeError, Method, Request};
use eskort_pki::{PrivateKey, Secret, base64url, sha256};
use serde_json::{Value, json};

/// An account key, and the account's address once it has one.
#[derive(Debug)]
pub struct Signer {
    key: PrivateKey,
    point: (String, String),
    account: Option<String>,
}

/// What external account binding needs (RFC 8555 section 7.3.4).
#[derive(Debug)]
pub struct ExternalBinding {
    /// The key's identifier at the authority.
    pub key_id: String,
    /// The MAC key.
    pub mac_key: Secret<Vec<u8>>,
}

impl Signer {
    /// Makes a signer from a P-256 key.
    ///
    /// # Errors
    /// [`AcmeError::Signing`] for any other kind of key.
    pub fn new(key: PrivateKey, account: Option<String>) -> Result<Self, AcmeError> {
        let (x, y) = key.p256_point().ok_or(AcmeError::Signing)?;
        Ok(Signer { key, point: (base64url(&x), base64url(&y)), account })
    }

    /// Returns the account's address, once known.
    pub fn account(&self) -> Option<&str> {
        self.account.as_deref()
    }

    /// Signs as this account from now on.
    pub fn set_account(&mut self, url: String) {
        self.account = Some(url);
    }

    /// Signs by key again, when the authority does not know the account any more.
    pub fn forget_account(&mut self) {
        self.account = None;
    }

    fn jwk(&self) -> Value {
        json!({ "crv": "P-256", "kty": "EC", "x": self.point.0, "y": self.point.1 })
    }

    /// Returns the key's thumbprint (RFC 7638), base64url.
    pub fn thumbprint(&self) -> String {
        // Members in lexical order and no blanks, RFC 7638 section 3.
        let (x, y) = &self.point;
        base64url(&sha256(format!(r#"{{"crv":"P-256","kty":"EC","x":"{x}","y":"{y}"}}"#).as_bytes()))
    }

    /// Returns what is published for a challenge (RFC 8555 section 8.1).
    pub fn key_authorization(&self, token: &str) -> String {
        format!("{token}.{}", self.thumbprint())
    }

    /// Signs a POST by account address, or by key as long as there is none. `payload: None` is a POST-as-GET.
    pub(crate) fn post(&self, url: &str, nonce: &str, payload: Option<&Value>) -> Result<Request, AcmeError> {
        self.signed(url, nonce, payload, self.account.as_deref())
    }

    /// Signs a POST with the key itself, as newAccount wants it.
    pub(crate) fn post_with_key(&self, url: &str, nonce: &str, payload: &Value) -> Result<Request, AcmeError> {
        self.signed(url, nonce, Some(payload), None)
    }

    fn signed(
        &self,
        url: &str,
        nonce: &str,
        payload: Option<&Value>,
        account: Option<&str>,
    ) -> Result<Request, AcmeError> {
        let mut head = json!({ "alg": "ES256", "nonce": nonce, "url": url });
        match account {
            Some(kid) => head["kid"] = json!(kid),
            None => head["jwk"] = self.jwk(),
        }
        let protected = base64url(head.to_string().as_bytes());
        let payload = payload.map(|p| base64url(p.to_string().as_bytes())).unwrap_or_default();
        let signature = self.key.sign_es256(format!("{protected}.{payload}").as_bytes()).ok_or(AcmeError::Signing)?;
        let body = json!({ "protected": protected, "payload": payload, "signature": base64url(&signature) });
        Ok(Request { method: Method::Post, url: url.to_owned(), body: Some(body.to_string().into_bytes()) })
    }

    /// Returns the inner JWS that binds this key to an external account.
    pub(crate) fn bind(&self, binding: &ExternalBinding, url: &str) -> Value {
        let head = json!({ "alg": "HS256", "kid": binding.key_id, "url": url });
        let protected = base64url(head.to_string().as_bytes());
        let payload = base64url(self.jwk().to_string().as_bytes());
        let mac = eskort_pki::hmac_sha256(&binding.mac_key, format!("{protected}.{payload}").as_bytes());
        json!({ "protected": protected, "payload": payload, "signature": base64url(&mac) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_pki::{KeyKind, base64url_decode};

    fn part(request: &Request, name: &str) -> Value {
        let body: Value = serde_json::from_slice(request.body.as_ref().unwrap()).unwrap();
        serde_json::from_slice(&base64url_decode(body[name].as_str().unwrap()).unwrap()).unwrap_or(Value::Null)
    }

    #[test]
    fn signs_by_key_until_it_has_an_account() {
        let mut signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None).unwrap();
        let request = signer.post("https://ca.example/order", "n1", Some(&json!({"a": 1}))).unwrap();
        let head = part(&request, "protected");
        assert_eq!(
            (&head["alg"], &head["nonce"], &head["jwk"]["crv"]),
            (&json!("ES256"), &json!("n1"), &json!("P-256"))
        );
        assert!(head.get("kid").is_none());
        signer.set_account("https://ca.example/account/1".into());
        let head = part(&signer.post("https://ca.example/order", "n2", None).unwrap(), "protected");
        assert_eq!(head["kid"], "https://ca.example/account/1");
        assert!(head.get("jwk").is_none());
    }

    #[test]
    fn only_p256_keys_sign() {
        let key = PrivateKey::generate(KeyKind::P384).unwrap();
        assert!(matches!(Signer::new(key, None), Err(AcmeError::Signing)));
    }
}
