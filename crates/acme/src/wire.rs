//! Requests and responses as plain values.

use eskort_core::words::printable;
use jiff::{SignedDuration, Timestamp};

/// The method of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Method {
    /// Only for the directory.
    Get,
    /// Only for a new nonce.
    Head,
    /// Everything else (RFC 8555 section 6.2).
    Post,
}

/// A request ready to send. A body is always `application/jose+json`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// The method.
    pub method: Method,
    /// The whole address.
    pub url: String,
    /// The signed body.
    pub body: Option<Vec<u8>>,
}

/// A response, with the headers that the protocol uses.
#[derive(Clone, Debug, Default)]
pub struct Response {
    /// The HTTP status.
    pub status: u16,
    /// `Content-Type`, empty when absent.
    pub content_type: String,
    /// `Location`.
    pub location: Option<String>,
    /// `Retry-After`, as sent.
    pub retry_after: Option<String>,
    /// `Replay-Nonce`.
    pub nonce: Option<String>,
    /// Targets of `Link` headers with `rel="alternate"`.
    pub alternates: Vec<String>,
    /// The address of the terms of service that a link names (RFC 8555 section 7.3.3).
    pub terms: Option<String>,
    /// The address of the next page that a link names (RFC 8555 section 7.1.2.1).
    pub next: Option<String>,
    /// When the authority sent it, by its own clock.
    pub date: Option<String>,
    /// The body.
    pub body: Vec<u8>,
}

impl Response {
    /// Returns the tamed beginning of the body, for messages.
    pub(crate) fn begins(&self) -> String {
        match &self.body[..] {
            [] => format!("status {} and no text", self.status),
            body => {
                let text = String::from_utf8_lossy(&body[..body.len().min(200)]);
                format!("status {}, it begins with `{}`", self.status, printable(text.trim(), 60))
            }
        }
    }
}

/// Reads `Retry-After` (RFC 9110 section 10.2.3): seconds, or a date in one of the three forms of section 5.6.7, relative to `now`.
/// Negative waits become zero.
pub fn retry_after(value: &str, now: Timestamp) -> Option<SignedDuration> {
    let value = value.trim();
    if let Ok(seconds) = value.parse::<u32>() {
        return Some(SignedDuration::from_secs(i64::from(seconds)));
    }
    Some(http_date(value, now)?.duration_since(now).max(SignedDuration::ZERO))
}

/// Reads a date in any of the three forms of HTTP (RFC 9110 section 5.6.7).
pub fn http_date(value: &str, now: Timestamp) -> Option<Timestamp> {
    jiff::fmt::rfc2822::parse(value).map(|date| date.timestamp()).ok().or_else(|| older_date(value, now))
}

/// Reads a date as RFC 850 had it, or as C's `asctime` writes it.
fn older_date(value: &str, now: Timestamp) -> Option<Timestamp> {
    use jiff::civil::DateTime;
    let utc = |date: DateTime| date.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|date| date.timestamp());
    let value = value.split_whitespace().collect::<Vec<_>>().join(" ");
    if let Ok(date) = DateTime::strptime("%a %b %d %H:%M:%S %Y", &value) {
        return utc(date);
    }
    let (_, rest) = value.split_once(", ")?;
    let date = utc(DateTime::strptime("%d-%b-%y %H:%M:%S GMT", rest).ok()?)?;
    // A year of two digits that seems more than 50 years away is one of the past (RFC 9110 section 5.6.7).
    let fifty_years = SignedDuration::from_hours(24 * 365 * 50);
    let past = || date.to_zoned(jiff::tz::TimeZone::UTC).checked_sub(jiff::Span::new().years(100)).ok();
    if date.duration_since(now) > fifty_years { past().map(|date| date.timestamp()) } else { Some(date) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn retry_after_comes_as_seconds_or_date() {
        let now: Timestamp = "2026-03-02T10:00:00Z".parse().unwrap();
        for (value, seconds) in [
            ("7", Some(7)),
            (" 0 ", Some(0)),
            ("Mon, 02 Mar 2026 10:01:00 GMT", Some(60)),
            ("Mon, 02 Mar 2026 09:01:00 GMT", Some(0)),
            ("Monday, 02-Mar-26 10:01:00 GMT", Some(60)),
            ("Mon Mar  2 10:01:00 2026", Some(60)),
            ("Sunday, 06-Nov-94 08:49:37 GMT", Some(0)),
            ("soon", None),
            ("-4", None),
        ] {
            assert_eq!(retry_after(value, now).map(|d| d.as_secs()), seconds, "{value}");
        }
    }
}
