//! Signed bodies (RFC 8555 section 6.2, RFC 7515 flattened JSON).

use crate::{AcmeError, Method, Request};
use eskort_pki::{JwsKey, PrivateKey, Secret, base64url, sha256};
use serde_json::{Value, json};
use std::sync::Arc;

/// An account key, and the account's address once it has one.
#[derive(Clone, Debug)]
pub struct Signer {
    key: Arc<PrivateKey>,
    public: JwsKey,
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
    /// Makes a signer from a key of any kind.
    pub fn new(key: PrivateKey, account: Option<String>) -> Self {
        Signer { public: key.jws_key(), key: Arc::new(key), account }
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

    pub(crate) fn jwk(&self) -> Value {
        self.public.members.iter().map(|(name, value)| (*name, value.as_str())).collect()
    }

    /// Returns the key's thumbprint (RFC 7638), base64url.
    pub fn thumbprint(&self) -> String {
        // Members in lexical order and no blanks, RFC 7638 section 3.
        let members: Vec<String> =
            self.public.members.iter().map(|(name, value)| format!(r#""{name}":"{value}""#)).collect();
        base64url(&sha256(format!("{{{}}}", members.join(",")).as_bytes()))
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
        let mut head = json!({ "alg": self.public.algorithm, "nonce": nonce, "url": url });
        match account {
            Some(kid) => head["kid"] = json!(kid),
            None => head["jwk"] = self.jwk(),
        }
        let body = self.flattened(&head, payload)?;
        Ok(Request { method: Method::Post, url: url.to_owned(), body: Some(body.to_string().into_bytes()) })
    }

    /// Signs a body that goes within another, with the key itself and without a nonce (section 7.3.5).
    pub(crate) fn signed_within(&self, url: &str, payload: &Value) -> Result<Value, AcmeError> {
        self.flattened(&json!({ "alg": self.public.algorithm, "jwk": self.jwk(), "url": url }), Some(payload))
    }

    fn flattened(&self, head: &Value, payload: Option<&Value>) -> Result<Value, AcmeError> {
        let protected = base64url(head.to_string().as_bytes());
        let payload = payload.map(|p| base64url(p.to_string().as_bytes())).unwrap_or_default();
        let signature = self.key.sign_jws(format!("{protected}.{payload}").as_bytes()).ok_or(AcmeError::Signing)?;
        Ok(json!({ "protected": protected, "payload": payload, "signature": base64url(&signature) }))
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
        let mut signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None);
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
    fn each_kind_of_key_signs_with_its_algorithm() {
        use aws_lc_rs::signature::{
            ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, ED25519, RSA_PKCS1_2048_8192_SHA256, UnparsedPublicKey,
            VerificationAlgorithm,
        };
        let cases: [(KeyKind, &str, &dyn VerificationAlgorithm); 4] = [
            (KeyKind::P256, "ES256", &ECDSA_P256_SHA256_FIXED),
            (KeyKind::P384, "ES384", &ECDSA_P384_SHA384_FIXED),
            (KeyKind::Rsa2048, "RS256", &RSA_PKCS1_2048_8192_SHA256),
            (KeyKind::Ed25519, "EdDSA", &ED25519),
        ];
        for (kind, algorithm, verification) in cases {
            let key = PrivateKey::generate(kind).unwrap();
            let public = key.public_key_der();
            let request = Signer::new(key, None).post("https://ca.example/order", "n", None).unwrap();
            assert_eq!(part(&request, "protected")["alg"], algorithm);
            let body: Value = serde_json::from_slice(request.body.as_ref().unwrap()).unwrap();
            let text = |name: &str| body[name].as_str().unwrap().to_owned();
            let signed = format!("{}.{}", text("protected"), text("payload"));
            let signature = base64url_decode(&text("signature")).unwrap();
            let verified = UnparsedPublicKey::new(verification, public).verify(signed.as_bytes(), &signature);
            assert!(verified.is_ok(), "{algorithm}");
        }
    }

    /// The examples of RFC 7638 section 3.1 and RFC 8037 appendix A.3.
    #[test]
    fn thumbprints_are_those_of_the_standards() {
        let n = "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw";
        let x = "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo";
        let text = |value: &str| value.to_owned();
        for (members, thumbprint) in [
            (
                vec![("e", text("AQAB")), ("kty", text("RSA")), ("n", text(n))],
                "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs",
            ),
            (
                vec![("crv", text("Ed25519")), ("kty", text("OKP")), ("x", text(x))],
                "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k",
            ),
        ] {
            let mut signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None);
            signer.public.members = members;
            assert_eq!(signer.thumbprint(), thumbprint);
        }
    }
}
