use super::*;
use crate::rating::rate;
use jiff::SignedDuration;

const DAY: SignedDuration = SignedDuration::from_hours(24);

fn certificate(name: &str, now: Timestamp, left: i64) -> PageCertificate {
    let of = |ends: Timestamp| Validity { not_before: ends - DAY * 90, not_after: ends };
    let validity = of(now + DAY * i32::try_from(left).unwrap());
    PageCertificate {
        certificate: name.to_owned(),
        names: vec![format!("{name}.lampholm.example")],
        state: "good".to_owned(),
        needs_attention: left < 0,
        awaits_person: false,
        generations: vec![of(validity.not_before + DAY * 30), validity],
        validity: Some(validity),
        renew_at: Some(validity.not_after - DAY * 30),
        endpoints: vec![PageEndpoint {
            endpoint: format!("{name}.lampholm.example:443"),
            rating: Some(rate(&[])),
            findings: vec![PageFinding {
                severity: Severity::Notice,
                text: "<script>alert('&')</script>".to_owned(),
                advice: Some("turn it \"off\"".to_owned()),
            }],
        }],
    }
}

#[test]
fn the_page_is_whole_says_each_thing_once_and_lets_nothing_from_outside_in() {
    let now: Timestamp = "2026-11-27T08:00:00Z".parse().unwrap();
    let certificates = vec![certificate("web<1>", now, 60), certificate("mail", now, -2)];
    let page = Page { machine: "lamp".to_owned(), at: now, certificates }.to_html();
    for wanted in [
        "<!doctype html>",
        "2 certificates; 1 needs somebody&#39;s attention. The next renewal is on 2026-12-27.",
        "web&lt;1&gt;",
        "&lt;script&gt;alert(&#39;&amp;&#39;)&lt;/script&gt;",
        "turn it &quot;off&quot;",
        "web&lt;1&gt;.lampholm.example:443 and mail.lampholm.example:443",
        "class=\"over\"",
        "renewal on 2026-12-27",
        ">2026-12</text>",
        "100 strong",
    ] {
        assert!(page.contains(wanted), "{wanted}\n{page}");
    }
    for forbidden in ["<script", "src=", "href=", "http://", "https://", "@import", "url("] {
        assert!(!page.contains(forbidden), "{forbidden}");
    }
    for tag in ["section", "svg", "table", "main", "ul", "tr"] {
        let (open, close) = (page.matches(&format!("<{tag}")).count(), page.matches(&format!("</{tag}>")).count());
        assert_eq!(open, close, "{tag}");
    }
    assert_eq!(page.matches("&lt;script&gt;").count(), 1, "the same at two endpoints is said once");
    let none = Page { machine: String::new(), at: now, certificates: Vec::new() }.to_html();
    assert!(none.contains("0 certificates, and all is well.") && none.ends_with("</html>\n"));
}
