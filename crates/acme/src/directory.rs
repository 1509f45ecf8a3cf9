//! The directory (RFC 8555 section 7.1.1) and accounts (section 7.3).

use crate::lenient::{elements, or_default};
use crate::{AcmeError, ExternalBinding, Request, Response, Signer};
use serde::Deserialize;
use serde_json::json;
use std::collections::BTreeMap;

/// Where an authority's resources are.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Directory {
    /// For fresh nonces.
    pub new_nonce: String,
    /// For accounts.
    pub new_account: String,
    /// For orders.
    pub new_order: String,
    /// For authorizations before an order (RFC 8555 section 7.4.1), where the authority has it.
    #[serde(default, deserialize_with = "or_default")]
    pub new_authz: Option<String>,
    /// For revocation (section 7.6).
    #[serde(default, deserialize_with = "or_default")]
    pub revoke_cert: Option<String>,
    /// For another account key (section 7.3.5).
    #[serde(default, deserialize_with = "or_default")]
    pub key_change: Option<String>,
    /// For renewal information (RFC 9773 section 4.1).
    #[serde(default, deserialize_with = "or_default")]
    pub renewal_info: Option<String>,
    /// What the authority says of itself.
    #[serde(default, deserialize_with = "or_default")]
    pub meta: Meta,
}

/// What an authority says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Meta {
    /// The address of its terms of service.
    #[serde(deserialize_with = "or_default")]
    pub terms_of_service: Option<String>,
    /// Its web site.
    #[serde(deserialize_with = "or_default")]
    pub website: Option<String>,
    /// The names it goes by in CAA records.
    #[serde(deserialize_with = "elements")]
    pub caa_identities: Vec<String>,
    /// The profiles of certificates that it offers, with a description of each (draft-ietf-acme-profiles).
    #[serde(deserialize_with = "or_default")]
    pub profiles: BTreeMap<String, String>,
    /// Whether accounts must be bound to an external account.
    #[serde(deserialize_with = "or_default")]
    pub external_account_required: bool,
}

/// Reads a directory.
///
/// # Errors
/// When the answer is no directory, or an address that every authority has does not begin with `https://`. Of the others one that does
/// not is left out.
pub fn parse_directory(response: &Response) -> Result<Directory, AcmeError> {
    let expected = "an ACME directory";
    let mut directory: Directory = response.json(expected)?;
    let Directory { new_authz, revoke_cert, key_change, renewal_info, .. } = &mut directory;
    for optional in [new_authz, revoke_cert, key_change, renewal_info] {
        optional.take_if(|url| require_https(url, expected).is_err());
    }
    for url in [&directory.new_nonce, &directory.new_account, &directory.new_order] {
        require_https(url, expected)?;
    }
    Ok(directory)
}

/// Refuses an address from outside that would take signed requests over plain HTTP.
pub(crate) fn require_https(url: &str, expected: &'static str) -> Result<(), AcmeError> {
    match url::Url::parse(url) {
        Ok(parsed) if parsed.scheme() == "https" && parsed.has_host() => Ok(()),
        _ => Err(AcmeError::NotProtocol {
            expected,
            found: format!("`{}` does not begin with https://", eskort_core::words::printable(url, 80)),
        }),
    }
}

/// Makes the request for an account; the same key always gets the same one (RFC 8555 section 7.3.1). `agreed` says that a person
/// agrees to the authority's terms of service.
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn new_account(
    signer: &Signer,
    nonce: &str,
    directory: &Directory,
    contact: Option<&str>,
    agreed: bool,
    binding: Option<&ExternalBinding>,
) -> Result<Request, AcmeError> {
    let mut payload = json!({});
    if agreed {
        payload["termsOfServiceAgreed"] = json!(true);
    }
    if let Some(mail) = contact {
        payload["contact"] = json!([format!("mailto:{mail}")]);
    }
    if let Some(binding) = binding {
        payload["externalAccountBinding"] = signer.bind(binding, &directory.new_account);
    }
    signer.post_with_key(&directory.new_account, nonce, &payload)
}

/// Makes the request that tells the authority an account's contact (RFC 8555 section 7.3.2).
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn change_contact(
    signer: &Signer,
    nonce: &str,
    account: &str,
    contact: Option<&str>,
) -> Result<Request, AcmeError> {
    let contact: Vec<String> = contact.iter().map(|mail| format!("mailto:{mail}")).collect();
    signer.post(account, nonce, Some(&json!({ "contact": contact })))
}

/// Returns whether an account that was asked for can still be used: it is not deactivated or revoked (RFC 8555 section 7.1.6).
///
/// # Errors
/// When the answer is no account.
pub fn is_account_usable(response: &Response) -> Result<bool, AcmeError> {
    #[derive(Deserialize)]
    struct Account {
        status: String,
    }
    let account: Account = response.json("an account")?;
    Ok(account.status == "valid")
}

/// Reads the account's address.
///
/// # Errors
/// A problem, an answer without `Location`, or an account that is not valid any more.
pub fn parse_account(response: &Response) -> Result<String, AcmeError> {
    #[derive(Deserialize)]
    struct Account {
        status: String,
    }
    let expected = "an account";
    let account: Account = response.json(expected)?;
    if account.status != "valid" {
        let found = format!("the account is `{}`", eskort_core::words::printable(&account.status, 40));
        return Err(AcmeError::NotProtocol { expected: "a valid account", found });
    }
    let url = response.location.clone();
    let url = url.ok_or(AcmeError::NotProtocol { expected, found: "it has no Location".into() })?;
    require_https(&url, expected)?;
    Ok(url)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::nearly::nearly;
    use serde_json::Value;

    fn response(body: &str) -> Response {
        Response { status: 200, body: body.into(), ..Response::default() }
    }

    fn a_directory() -> Value {
        let url = |name: &str| format!("https://ca.example/{name}");
        json!({
            "newNonce": url("n"), "newAccount": url("a"), "newOrder": url("o"), "newAuthz": url("z"), "revokeCert": url("r"),
            "keyChange": url("k"), "renewalInfo": url("i"),
            "meta": {"termsOfService": url("t"), "caaIdentities": ["ca.example"], "profiles": {"short": "six days"}},
        })
    }

    proptest::proptest! {
        #[test]
        fn one_that_is_nearly_right_leads_to_https_addresses_or_is_refused(directory in nearly(&a_directory())) {
            if let Ok(found) = parse_directory(&response(&directory.to_string())) {
                let optional = [found.new_authz, found.revoke_cert, found.key_change, found.renewal_info];
                let mut urls = [found.new_nonce, found.new_account, found.new_order].into_iter().chain(optional.into_iter().flatten());
                proptest::prop_assert!(urls.all(|url| url.starts_with("https://")));
            }
        }
    }

    #[test]
    fn reads_a_directory_and_refuses_what_is_none() {
        let good = response(&a_directory().to_string());
        assert!(parse_directory(&good).unwrap().renewal_info.is_some());
        let good = r#"{"newNonce":"https://ca.example/n","newAccount":"https://ca.example/a","newOrder":"https://ca.example/o","meta":{"termsOfService":"https://ca.example/terms","extra":1},"x":"y"}"#;
        assert!(parse_directory(&response(good)).unwrap().meta.terms_of_service.is_some());
        let more = r#","revokeCert":"https://ca.example/r","keyChange":"http://ca.example/k","renewalInfo":7,"meta":{"profiles":{"short":"six days"}}}"#;
        let found = parse_directory(&response(
            &good
                .replace(",\"x\":\"y\"}", more)
                .replace(",\"meta\":{\"termsOfService\":\"https://ca.example/terms\",\"extra\":1}", ""),
        ))
        .unwrap();
        assert_eq!(found.revoke_cert.as_deref(), Some("https://ca.example/r"));
        assert_eq!((found.key_change, found.renewal_info, found.new_authz), (None, None, None));
        assert_eq!(found.meta.profiles["short"], "six days");
        for meta in ["null", "7", r#"{"caaIdentities":null,"website":7}"#, r#"{"caaIdentities":["ca.example",null]}"#] {
            let body = format!("{},\"meta\":{meta}}}", good.split(",\"meta\"").next().unwrap());
            parse_directory(&response(&body)).unwrap_or_else(|error| panic!("{meta}: {error}"));
        }
        for (body, says) in [
            ("<html>Welcome to the harbour</html>", "it begins with `<html>Welcome"),
            ("{}", "missing field `newNonce`"),
            ("", "status 200 and no text"),
            (&good.replace("https://ca.example/o", "http://ca.example/o"), "`http://ca.example/o` does not begin"),
        ] {
            let said = parse_directory(&response(body)).unwrap_err().to_string();
            assert!(said.contains(says), "{said}");
        }
    }

    #[test]
    fn an_account_must_be_valid_and_have_an_address() {
        let mut found = response(r#"{"status":"valid"}"#);
        assert!(parse_account(&found).unwrap_err().to_string().contains("no Location"));
        found.location = Some("https://ca.example/account/7".into());
        assert_eq!(parse_account(&found).unwrap(), "https://ca.example/account/7");
        found.body = br#"{"status":"deactivated"}"#.to_vec();
        assert!(parse_account(&found).unwrap_err().to_string().contains("`deactivated`"));
    }
}
