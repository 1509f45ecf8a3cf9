//! Orders, authorizations, challenges and certificates (RFC 8555 section 7.4 and 7.5).

use crate::directory::require_https;
use crate::lenient::{elements, or_default};
use crate::{AcmeError, Directory, Problem, Rejected, Request, Response, Signer};
use eskort_core::challenge::ChallengeKind;
use eskort_core::names::Identifier;
use eskort_pki::base64url;
use serde::Deserialize;
use serde_json::json;

/// How an order stands (RFC 8555 section 7.1.6).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OrderStatus {
    /// Not every name is proved yet.
    Pending,
    /// Waits for the CSR.
    Ready,
    /// The authority is issuing.
    Processing,
    /// The certificate is there.
    Valid,
    /// It will come to nothing.
    Invalid,
}

/// An order as the authority shows it.
#[derive(Clone, Debug, PartialEq, Deserialize)]
pub struct Order {
    /// How it stands.
    pub status: OrderStatus,
    /// One for each name.
    pub authorizations: Vec<String>,
    /// Where the CSR goes.
    pub finalize: String,
    /// Where the certificate is, once it is.
    #[serde(default, deserialize_with = "or_default")]
    pub certificate: Option<String>,
    /// Why it came to nothing.
    #[serde(default, deserialize_with = "or_default")]
    pub error: Option<Box<Problem>>,
}

impl Order {
    /// Returns the address of the certificate once the order is valid.
    ///
    /// # Errors
    /// [`AcmeError::Rejected`] for an order that came to nothing, [`AcmeError::NotProtocol`] for a valid one without a
    /// certificate.
    pub fn certificate_url(&self) -> Result<Option<&str>, AcmeError> {
        match (self.status, &self.certificate) {
            (OrderStatus::Invalid, _) => Err(AcmeError::Rejected(Rejected { name: None, problem: self.error.clone() })),
            (OrderStatus::Valid, Some(url)) => Ok(Some(url)),
            (OrderStatus::Valid, None) => Err(AcmeError::NotProtocol {
                expected: "a finished order",
                found: "it is valid and names no certificate".into(),
            }),
            _ => Ok(None),
        }
    }
}

/// What has to be proved for one name.
#[derive(Clone, Debug, PartialEq)]
pub struct Authorization {
    /// The name, without `*.`.
    pub name: String,
    /// Whether it is for the wildcard under the name.
    pub wildcard: bool,
    /// Whether the authority takes it as proved already.
    pub proved: bool,
    /// Why it failed, when it did.
    pub failed: Option<Rejected>,
    /// Whether a challenge was responded to (section 7.5.1): one of them is not waiting for that any more.
    pub responded: bool,
    /// What the authority offers to look at.
    pub challenges: Vec<Challenge>,
}

/// One thing an authority offers to look at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Challenge {
    /// Its kind; `None` for one that is not understood.
    pub kind: Option<ChallengeKind>,
    /// Where it is answered.
    pub url: String,
    /// Its token: base64url characters only, so that it is safe as a file name; empty where the kind has none.
    pub token: String,
    /// The issuer's domain names that a standing record may name; empty for other kinds.
    pub issuers: Vec<String>,
    /// Why it cannot be answered.
    pub fault: Option<String>,
}

/// What a new order asks for.
#[derive(Clone, Copy, Debug, Default)]
pub struct NewOrder<'a> {
    /// The names and addresses.
    pub identifiers: &'a [Identifier],
    /// The certificate that it replaces, by its identifier for renewal information (RFC 9773 section 5).
    pub replaces: Option<&'a str>,
    /// One of the profiles that the directory offers (draft-ietf-acme-profiles).
    pub profile: Option<&'a str>,
}

/// Makes the request for a new order.
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn new_order(
    signer: &Signer,
    nonce: &str,
    directory: &Directory,
    order: &NewOrder<'_>,
) -> Result<Request, AcmeError> {
    // RFC 8738 section 3: addresses have a type of their own.
    let kind = |name: &Identifier| match name {
        Identifier::Dns(_) => "dns",
        Identifier::Ip(_) => "ip",
    };
    let identifiers: Vec<_> = order.identifiers.iter().map(|n| json!({ "type": kind(n), "value": n })).collect();
    let mut payload = json!({ "identifiers": identifiers });
    for (member, value) in [("replaces", order.replaces), ("profile", order.profile)] {
        if let Some(value) = value {
            payload[member] = json!(value);
        }
    }
    signer.post(&directory.new_order, nonce, Some(&payload))
}

/// Makes a POST-as-GET (RFC 8555 section 6.3).
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn post_as_get(signer: &Signer, nonce: &str, url: &str) -> Result<Request, AcmeError> {
    signer.post(url, nonce, None)
}

/// Makes the request that tells the authority to look (RFC 8555 section 7.5.1).
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn respond_to_challenge(signer: &Signer, nonce: &str, url: &str) -> Result<Request, AcmeError> {
    signer.post(url, nonce, Some(&json!({})))
}

/// Makes the request that sends the CSR.
///
/// # Errors
/// [`AcmeError::Signing`] only.
pub fn finalize(signer: &Signer, nonce: &str, url: &str, csr_der: &[u8]) -> Result<Request, AcmeError> {
    signer.post(url, nonce, Some(&json!({ "csr": base64url(csr_der) })))
}

/// Reads an order.
///
/// # Errors
/// A problem, or an answer that is no order with https addresses.
pub fn parse_order(response: &Response) -> Result<Order, AcmeError> {
    let expected = "an order";
    let order: Order = response.json(expected)?;
    let urls = order.authorizations.iter().chain([&order.finalize]).chain(&order.certificate);
    urls.into_iter().try_for_each(|url| require_https(url, expected))?;
    Ok(order)
}

/// Whether the answer to [`respond_to_challenge`] says that the authority has looked (RFC 8555 section 7.1.6): one that is odd says no.
pub fn has_looked(response: &Response) -> bool {
    let challenge: Option<RawChallenge> = serde_json::from_slice(&response.body).ok();
    challenge.is_some_and(|challenge| matches!(challenge.status.as_str(), "valid" | "invalid"))
}

#[derive(Deserialize)]
struct RawChallenge {
    r#type: String,
    #[serde(default, deserialize_with = "or_default")]
    url: String,
    #[serde(default, deserialize_with = "or_default")]
    token: String,
    #[serde(default, deserialize_with = "elements", rename = "issuer-domain-names")]
    issuers: Vec<String>,
    #[serde(default, deserialize_with = "or_default")]
    status: String,
    #[serde(default, deserialize_with = "or_default")]
    error: Option<Box<Problem>>,
}

impl RawChallenge {
    /// Says why it cannot be answered: no https address, or a token with characters outside base64url (RFC 8555 section 8.1).
    fn fault(&self) -> Option<String> {
        if let Err(error) = require_https(&self.url, "a challenge") {
            return Some(error.to_string());
        }
        let base64url = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_');
        let safe = self.token.len() <= 200 && self.token.bytes().all(base64url);
        let kind = ChallengeKind::parse(&self.r#type);
        let needs_token = !matches!(kind, None | Some(ChallengeKind::DnsPersist01));
        if !safe || (self.token.is_empty() && needs_token) {
            return Some(format!("its token contains `{}`", eskort_core::words::printable(&self.token, 60)));
        }
        let nameless = kind == Some(ChallengeKind::DnsPersist01) && !self.issuers.iter().any(|name| is_issuer(name));
        nameless.then(|| "it has no `issuer-domain-names`".to_owned())
    }
}

fn is_issuer(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.'))
}

impl Authorization {
    /// Returns a challenge of a kind, `None` where none is offered.
    ///
    /// # Errors
    /// When it is offered in a form that cannot be answered. What is wrong with one that nobody chooses harms no other.
    pub fn challenge(&self, kind: ChallengeKind) -> Option<Result<&Challenge, AcmeError>> {
        let offered = || self.challenges.iter().filter(|c| c.kind == Some(kind));
        let found = offered().find(|c| c.fault.is_none()).or_else(|| offered().next())?;
        Some(match &found.fault {
            None => Ok(found),
            Some(found) => {
                Err(AcmeError::NotProtocol { expected: "a challenge that can be answered", found: found.clone() })
            }
        })
    }
}

/// Reads an authorization. Challenges that are not understood are kept without a kind, and what is wrong with one
/// matters only when it is chosen ([`Authorization::challenge`]).
///
/// # Errors
/// A problem, or an answer that is no authorization.
pub fn parse_authorization(response: &Response) -> Result<Authorization, AcmeError> {
    #[derive(Deserialize)]
    struct Raw {
        status: String,
        identifier: RawIdentifier,
        #[serde(default, deserialize_with = "or_default")]
        wildcard: bool,
        #[serde(default, deserialize_with = "elements")]
        challenges: Vec<RawChallenge>,
    }
    #[derive(Deserialize)]
    struct RawIdentifier {
        value: String,
    }
    let expected = "an authorization";
    let raw: Raw = response.json(expected)?;
    let name = eskort_core::words::printable(&raw.identifier.value, 253);
    let mut challenges = Vec::new();
    let mut problem = None;
    let mut responded = raw.status != "pending";
    for c in raw.challenges {
        responded |= !matches!(c.status.as_str(), "" | "pending");
        let fault = c.fault();
        problem = problem.or(c.error);
        // They become part of a record that people paste.
        let issuers = c.issuers.into_iter().filter(|name| is_issuer(name)).collect();
        challenges.push(Challenge {
            kind: ChallengeKind::parse(&c.r#type),
            url: c.url,
            token: c.token,
            issuers,
            fault,
        });
    }
    let failed = match raw.status.as_str() {
        "pending" | "valid" => None,
        _ => Some(Rejected { name: Some(name.clone()), problem }),
    };
    Ok(Authorization { name, wildcard: raw.wildcard, proved: raw.status == "valid", failed, responded, challenges })
}

/// Reads the PEM chain of a certificate answer.
///
/// # Errors
/// A problem, or a body that is not text.
pub fn parse_certificate(response: &Response) -> Result<String, AcmeError> {
    response.success()?;
    String::from_utf8(response.body.clone())
        .map_err(|_| AcmeError::NotProtocol { expected: "a certificate chain in PEM", found: response.begins() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::nearly::nearly;
    use eskort_pki::{KeyKind, PrivateKey};
    use serde_json::Value;

    fn response(body: serde_json::Value) -> Response {
        Response { status: 200, body: body.to_string().into_bytes(), ..Response::default() }
    }

    #[test]
    fn an_order_names_what_it_replaces_and_a_profile_only_when_there_is_one() {
        let signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), Some("https://ca.example/a/1".into()));
        let directory = json!({"newNonce": "https://ca.example/n", "newAccount": "https://ca.example/a", "newOrder": "https://ca.example/o"});
        let directory = crate::parse_directory(&response(directory)).unwrap();
        let identifiers = ["lampholm.example", "192.0.2.7"].map(|name| Identifier::parse(name).unwrap());
        let bare = NewOrder { identifiers: &identifiers, ..NewOrder::default() };
        let more = NewOrder { replaces: Some("aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE"), profile: Some("short"), ..bare };
        let named = json!([{"type": "dns", "value": "lampholm.example"}, {"type": "ip", "value": "192.0.2.7"}]);
        for (order, wanted) in [
            (bare, json!({ "identifiers": named })),
            (more, json!({ "identifiers": named, "replaces": more.replaces, "profile": "short" })),
        ] {
            let request = new_order(&signer, "n", &directory, &order).unwrap();
            let body: serde_json::Value = serde_json::from_slice(&request.body.unwrap()).unwrap();
            let payload = eskort_pki::base64url_decode(body["payload"].as_str().unwrap()).unwrap();
            assert_eq!(serde_json::from_slice::<serde_json::Value>(&payload).unwrap(), wanted);
        }
    }

    #[test]
    fn reads_orders_and_refuses_plain_http() {
        let body =
            json!({"status": "ready", "authorizations": ["https://ca.example/z"], "finalize": "https://ca.example/f"});
        let order = parse_order(&response(body.clone())).unwrap();
        assert_eq!((order.status, order.certificate_url().unwrap()), (OrderStatus::Ready, None));
        let mut plain = body.clone();
        plain["finalize"] = json!("http://ca.example/f");
        assert!(parse_order(&response(plain)).is_err());
        let mut odd = body;
        odd["status"] = json!("do\u{7f}\u{1b}zing");
        let said = parse_order(&response(odd)).unwrap_err().to_string();
        assert!(said.contains("dozing") && !said.contains(char::is_control), "{said}");
    }

    #[test]
    fn a_finished_order_has_a_certificate_and_a_failed_one_its_reason() {
        let base = json!({"authorizations": [], "finalize": "https://ca.example/f"});
        let with = |status: &str, more: serde_json::Value| {
            let mut body = base.clone();
            body["status"] = json!(status);
            body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            parse_order(&response(body)).unwrap()
        };
        assert!(with("valid", json!({})).certificate_url().is_err());
        let failed = with("invalid", json!({"error": {"type": "urn:ietf:params:acme:error:caa", "detail": "no"}}));
        assert!(failed.certificate_url().unwrap_err().to_string().contains("caa: no"));
    }

    #[test]
    fn a_token_that_would_climb_out_of_its_folder_is_refused() {
        let body = |token: &str| {
            json!({"status": "pending", "identifier": {"type": "dns", "value": "lampholm.example"}, "challenges": [
                {"type": "dns-77", "url": "https://ca.example/c/0"},
                {"type": "http-01", "url": "https://ca.example/c/1", "token": token}]})
        };
        let good = parse_authorization(&response(body("aB-_9"))).unwrap();
        assert_eq!(good.challenges[1].kind, Some(ChallengeKind::Http01));
        let persist = json!({"status": "pending", "identifier": {"type": "dns", "value": "lampholm.example"}, "challenges": [
            {"type": "dns-persist-01", "url": "https://ca.example/c/2", "issuer-domain-names": ["ca.example", "a\"; b"]}]});
        assert_eq!(parse_authorization(&response(persist)).unwrap().challenges[0].issuers, ["ca.example"]);
        for token in ["../../etc/passwd", "a/b", "", "a b", "a\u{0}", &"x".repeat(300)] {
            let read = parse_authorization(&response(body(token))).unwrap();
            assert!(read.challenge(ChallengeKind::Http01).unwrap().is_err(), "{token}");
        }
    }

    #[test]
    fn an_authority_has_looked_when_the_challenge_has_an_end() {
        let of =
            |status: Value| json!({"type": "http-01", "url": "https://ca.example/c/1", "token": "t", "status": status});
        for (body, looked) in [
            (of(json!("pending")), false),
            (of(json!("processing")), false),
            (of(json!("valid")), true),
            (of(json!("invalid")), true),
            (of(json!(7)), false),
            (json!({"status": "valid"}), false),
            (json!([]), false),
        ] {
            assert_eq!(has_looked(&response(body.clone())), looked, "{body}");
        }
    }

    #[test]
    fn an_odd_challenge_makes_no_other_unusable() {
        let odd = [
            json!(null),
            json!({"type": "dns-77", "token": {"a": 1}}),
            json!({"type": "tkauth-01", "url": "https://ca.example/c/9", "token": "a b", "status": 7}),
            json!({"type": "dns-persist-01", "url": "https://ca.example/c/2"}),
            json!({"type": "tls-alpn-01", "url": "http://ca.example/c/3", "token": "t", "error": "odd"}),
            json!({"url": "https://ca.example/c/4"}),
        ];
        for odd in odd {
            let body = json!({"status": "pending", "identifier": {"type": "dns", "value": "lampholm.example"}, "wildcard": null,
                "challenges": [odd, {"type": "http-01", "url": "https://ca.example/c/1", "token": "t", "error": null}]});
            let read = parse_authorization(&response(body)).unwrap();
            assert!(read.challenge(ChallengeKind::Http01).unwrap().is_ok(), "{odd}");
            for kind in [ChallengeKind::DnsPersist01, ChallengeKind::TlsAlpn01] {
                assert!(read.challenge(kind).is_none_or(|found| found.is_err()), "{odd}");
            }
        }
    }

    #[test]
    fn a_failed_authorization_says_for_which_name() {
        let body = json!({"status": "invalid", "identifier": {"type": "dns", "value": "lampholm.example"}, "challenges": [
            {"type": "http-01", "url": "https://ca.example/c/1", "token": "t",
             "error": {"type": "urn:ietf:params:acme:error:connection", "detail": "refused"}}]});
        let failed = parse_authorization(&response(body)).unwrap().failed.unwrap();
        assert_eq!(failed.to_string(), "lampholm.example: connection: refused");
    }

    fn an_order() -> Value {
        json!({
            "status": "valid",
            "authorizations": ["https://ca.example/z/1", "https://ca.example/z/2"],
            "finalize": "https://ca.example/f/1",
            "certificate": "https://ca.example/c/1",
            "error": {"type": "urn:ietf:params:acme:error:dns", "detail": "no answer", "subproblems": [{"type": "x"}]},
        })
    }

    fn an_authorization() -> Value {
        let challenge = |kind: &str, n: u8| json!({"type": kind, "url": format!("https://ca.example/h/{n}"), "token": "dG9rZW4", "status": "pending"});
        json!({
            "status": "pending",
            "identifier": {"type": "dns", "value": "lampholm.example"},
            "challenges": [challenge("http-01", 1), challenge("dns-01", 2), {"type": "dns-persist-01", "url": "https://ca.example/h/3",
                "issuer-domain-names": ["ca.example"]}],
        })
    }

    /// What is said of an answer that cannot be used is one line of plain characters.
    fn tame<T>(read: &Result<T, AcmeError>) -> bool {
        let said = read.as_ref().err().map(ToString::to_string);
        said.is_none_or(|text| !text.is_empty() && !text.chars().any(char::is_control))
    }

    #[test]
    fn what_the_property_tests_begin_with_is_good() {
        assert!(parse_order(&response(an_order())).unwrap().certificate_url().unwrap().is_some());
        let found = parse_authorization(&response(an_authorization())).unwrap();
        assert!(found.challenges.iter().all(|challenge| challenge.fault.is_none()));
    }

    proptest::proptest! {
        #[test]
        fn whatever_an_authority_sends_is_read_or_refused(status in 100_u16..600, body in r#"[{}\[\]",:a-z0-9 ]{0,120}"#) {
            let found = Response { status, body: body.clone().into_bytes(), ..Response::default() };
            proptest::prop_assert!(tame(&parse_order(&found)) && tame(&parse_authorization(&found)));
            proptest::prop_assert!(tame(&crate::parse_directory(&found)) && tame(&crate::parse_account(&found)));
        }

        #[test]
        fn an_order_that_is_nearly_right_leads_to_https_addresses_or_is_refused(order in nearly(&an_order())) {
            let read = parse_order(&response(order));
            proptest::prop_assert!(tame(&read));
            if let Ok(order) = read {
                let mut urls = order.authorizations.iter().chain([&order.finalize]).chain(&order.certificate);
                proptest::prop_assert!(urls.all(|url| url.starts_with("https://")));
                proptest::prop_assert!(tame(&order.certificate_url()));
            }
        }

        #[test]
        fn a_challenge_that_is_nearly_right_has_a_safe_token_or_a_fault(authorization in nearly(&an_authorization())) {
            let read = parse_authorization(&response(authorization));
            proptest::prop_assert!(tame(&read));
            let Ok(read) = read else { return Ok(()) };
            proptest::prop_assert!(!read.name.chars().any(char::is_control));
            for challenge in read.challenges.iter().filter(|challenge| challenge.fault.is_none()) {
                proptest::prop_assert!(challenge.url.starts_with("https://"), "{}", challenge.url);
                let safe = challenge.token.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'));
                proptest::prop_assert!(safe && challenge.issuers.iter().all(|name| is_issuer(name)));
                let standing = matches!(challenge.kind, None | Some(ChallengeKind::DnsPersist01));
                proptest::prop_assert!(standing || !challenge.token.is_empty());
            }
        }
    }
}
