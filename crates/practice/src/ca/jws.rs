//! Checks signed requests (RFC 8555 section 6.2 to 6.5), written from the RFC and sharing no code with the client.

use eskort_pki::{Certificate, base64url, base64url_decode, sha256};
use serde_json::Value;

/// A signed request, its signature good.
pub(super) struct Signed {
    pub(super) head: Value,
    /// Empty for a POST-as-GET.
    pub(super) payload: Vec<u8>,
}

/// A public P-256 key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct AccountKey {
    x: Vec<u8>,
    y: Vec<u8>,
}

impl AccountKey {
    pub(super) fn from_jwk(jwk: &Value) -> Option<Self> {
        let part = |name: &str| base64url_decode(jwk[name].as_str()?).filter(|b| b.len() == 32);
        if jwk["kty"] != "EC" || jwk["crv"] != "P-256" {
            return None;
        }
        Some(AccountKey { x: part("x")?, y: part("y")? })
    }

    /// RFC 7638.
    pub(super) fn thumbprint(&self) -> String {
        let (x, y) = (base64url(&self.x), base64url(&self.y));
        base64url(&sha256(format!("{{\"crv\":\"P-256\",\"kty\":\"EC\",\"x\":\"{x}\",\"y\":\"{y}\"}}").as_bytes()))
    }

    pub(super) fn to_jwk(&self) -> Value {
        serde_json::json!({ "crv": "P-256", "kty": "EC", "x": base64url(&self.x), "y": base64url(&self.y) })
    }

    /// Whether it is the key of a certificate.
    pub(super) fn is_key_of(&self, certificate: &Certificate) -> bool {
        let point = [&[4], &self.x[..], &self.y[..]].concat();
        certificate.public_key().ends_with(&point)
    }

    fn verifies(&self, message: &[u8], signature: &[u8]) -> bool {
        let point = [&[4], &self.x[..], &self.y[..]].concat();
        let key = aws_lc_rs::signature::UnparsedPublicKey::new(&aws_lc_rs::signature::ECDSA_P256_SHA256_FIXED, point);
        key.verify(message, signature).is_ok()
    }
}

/// Takes a flattened JWS apart and checks its signature with the key that `find` names for its head.
pub(super) fn open(body: &[u8], find: impl FnOnce(&Value) -> Option<AccountKey>) -> Result<Signed, &'static str> {
    let outer: Value = serde_json::from_slice(body).map_err(|_| "the body is not JSON")?;
    let text = |name: &str| outer[name].as_str().ok_or("the body is no flattened JWS");
    let decode = |text: &str| base64url_decode(text).ok_or("a part is not base64url");
    let (protected, payload) = (text("protected")?, text("payload")?);
    let head: Value = serde_json::from_slice(&decode(protected)?).map_err(|_| "the head is not JSON")?;
    if head["alg"] != "ES256" {
        return Err("the algorithm is not ES256");
    }
    if head.get("jwk").is_some() == head.get("kid").is_some() {
        return Err("a head has either jwk or kid");
    }
    let key = find(&head).ok_or("no such account")?;
    let signed = format!("{protected}.{payload}");
    if !key.verifies(signed.as_bytes(), &decode(text("signature")?)?) {
        return Err("the signature is not valid");
    }
    Ok(Signed { payload: decode(payload)?, head })
}

/// Checks an external account binding (RFC 8555 section 7.3.4).
pub(super) fn binding_holds(binding: &Value, key_id: &str, mac_key: &[u8], account: &AccountKey, url: &str) -> bool {
    let part = |name: &str| binding[name].as_str().unwrap_or_default();
    let json = |text: &str| -> Value {
        base64url_decode(text).and_then(|b| serde_json::from_slice(&b).ok()).unwrap_or(Value::Null)
    };
    let head = json(part("protected"));
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, mac_key);
    let message = format!("{}.{}", part("protected"), part("payload"));
    let mac = base64url_decode(part("signature")).unwrap_or_default();
    head["alg"] == "HS256"
        && head["kid"] == key_id
        && head["url"] == url
        && json(part("payload")) == account.to_jwk()
        && aws_lc_rs::hmac::verify(&key, message.as_bytes(), &mac).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_acme::{Directory, ExternalBinding, Response, Signer, new_account, parse_directory};
    use eskort_pki::{KeyKind, PrivateKey, Secret};

    fn directory() -> Directory {
        let url = |part: &str| format!("https://ca.example/{part}");
        let text = serde_json::json!({
            "newNonce": url("nonce"), "newAccount": url("account"), "newOrder": url("order"),
            "meta": { "termsOfService": url("terms") },
        });
        let response = Response { status: 200, body: text.to_string().into_bytes(), ..Response::default() };
        parse_directory(&response).unwrap()
    }

    fn key_of(head: &Value) -> Option<AccountKey> {
        AccountKey::from_jwk(&head["jwk"])
    }

    #[test]
    fn a_request_is_taken_as_signed_and_refused_when_anything_changed() {
        let signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None);
        let request = new_account(&signer, "n1", &directory(), Some("keeper@lampholm.example"), true, None).unwrap();
        let body = request.body.unwrap();
        let signed = open(&body, key_of).unwrap_or_else(|e| panic!("{e}"));
        assert_eq!((&signed.head["nonce"], &signed.head["url"]), (&"n1".into(), &"https://ca.example/account".into()));
        let payload: Value = serde_json::from_slice(&signed.payload).unwrap();
        assert_eq!(payload["contact"][0], "mailto:keeper@lampholm.example");
        assert_eq!(key_of(&signed.head).unwrap().thumbprint(), signer.thumbprint());

        let outer: Value = serde_json::from_slice(&body).unwrap();
        let other = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None);
        let foreign: Value =
            serde_json::from_slice(&new_account(&other, "n1", &directory(), None, true, None).unwrap().body.unwrap())
                .unwrap();
        for part in ["protected", "payload", "signature"] {
            let mut changed = outer.clone();
            changed[part] = foreign[part].clone();
            assert!(open(changed.to_string().as_bytes(), key_of).is_err(), "{part}");
            changed[part] = Value::Null;
            assert!(open(changed.to_string().as_bytes(), key_of).is_err(), "{part}");
        }
        assert!(open(&body, |_| None).is_err());
        assert!(open(b"{}", key_of).is_err() && open(b"lamp", key_of).is_err());
    }

    #[test]
    fn an_external_binding_holds_for_its_key_its_account_and_its_address_only() {
        let signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None);
        let binding = ExternalBinding { key_id: "lamp-1".into(), mac_key: Secret::new(b"oil".to_vec()) };
        let request = new_account(&signer, "n1", &directory(), None, true, Some(&binding)).unwrap();
        let signed = open(&request.body.unwrap(), key_of).unwrap_or_else(|e| panic!("{e}"));
        let payload: Value = serde_json::from_slice(&signed.payload).unwrap();
        let (bound, account) = (&payload["externalAccountBinding"], key_of(&signed.head).unwrap());
        let url = "https://ca.example/account";
        assert!(binding_holds(bound, "lamp-1", b"oil", &account, url));
        assert!(!binding_holds(bound, "lamp-2", b"oil", &account, url));
        assert!(!binding_holds(bound, "lamp-1", b"gas", &account, url));
        assert!(!binding_holds(bound, "lamp-1", b"oil", &account, "https://ca.example/other"));
        assert!(!binding_holds(&Value::Null, "lamp-1", b"oil", &account, url));
    }
}
