//! When an authority wants a certificate renewed (RFC 9773).

use crate::{AcmeError, Response};
use eskort_core::renewal::Window;
use eskort_core::words::printable;
use serde_json::Value;

/// Reads renewal information (section 4.2). What it says in words comes stripped of control characters, and only an `https` address.
///
/// # Errors
/// [`AcmeError::NotProtocol`] when it has no window, or one that ends before it begins.
pub fn parse_renewal_info(response: &Response) -> Result<Window, AcmeError> {
    let expected = "renewal information";
    let wrong = |found: &str| AcmeError::NotProtocol { expected, found: found.to_owned() };
    let info: Value = response.json(expected)?;
    let instant = |name: &str| info["suggestedWindow"][name].as_str().and_then(|text| text.parse().ok());
    let (Some(start), Some(end)) = (instant("start"), instant("end")) else {
        return Err(wrong("it has no window"));
    };
    if end <= start {
        return Err(wrong("its window ends before it begins"));
    }
    let explanation = info["explanationURL"].as_str().filter(|url| url.starts_with("https://"));
    Ok(Window { start, end, explanation: explanation.map(|url| printable(url, 300)) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn response(body: &str) -> Response {
        Response {
            status: 200,
            content_type: "application/json".into(),
            body: body.as_bytes().to_vec(),
            ..Response::default()
        }
    }

    #[test]
    fn renewal_information_is_read_or_refused() {
        let good = r#"{"suggestedWindow":{"start":"2027-01-02T04:00:00Z","end":"2027-01-03T04:00:00Z"},"explanationURL":"https://ca.lampholm.example/why"}"#;
        let found = parse_renewal_info(&response(good)).unwrap();
        assert_eq!(
            (found.start.to_string(), found.end.to_string()),
            ("2027-01-02T04:00:00Z".into(), "2027-01-03T04:00:00Z".into())
        );
        assert_eq!(found.explanation.as_deref(), Some("https://ca.lampholm.example/why"));
        let odd = parse_renewal_info(&response(&good.replace("https://ca", "javascript://ca"))).unwrap();
        assert_eq!(odd.explanation, None);
        for (body, said) in [
            ("{}", "it has no window"),
            (r#"{"suggestedWindow":{"start":"soon","end":"later"}}"#, "it has no window"),
            (
                r#"{"suggestedWindow":{"start":"2027-01-02T04:00:00Z","end":"2027-01-02T04:00:00Z"}}"#,
                "ends before it begins",
            ),
            ("<html>", "renewal information"),
        ] {
            let error = parse_renewal_info(&response(body)).unwrap_err().to_string();
            assert!(error.contains(said), "{body}: {error}");
        }
    }
}
