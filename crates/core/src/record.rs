//! The DNS records that prove control of a name.

use crate::pki::{base32, base64url, hex, sha256, sha512};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The types of record that are placed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum RecordType {
    /// A text (RFC 1035 section 3.3.14).
    #[default]
    Txt,
    /// Another name for the name (RFC 1035 section 3.3.1).
    Cname,
    /// Which key a service has (RFC 6698); it proves nothing to an authority.
    Tlsa,
}

impl RecordType {
    /// Returns the type's word in zone files.
    pub fn word(self) -> &'static str {
        match self {
            RecordType::Txt => "TXT",
            RecordType::Cname => "CNAME",
            RecordType::Tlsa => "TLSA",
        }
    }
}

/// A record that proves control of a name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Record {
    /// Its name in full, without the final dot.
    pub name: String,
    /// Its type.
    #[serde(rename = "type", default)]
    pub kind: RecordType,
    /// Its text; for a CNAME record the target in full, without the final dot.
    pub text: String,
}

impl Record {
    /// Returns a TXT record.
    pub fn txt(name: impl Into<String>, text: impl Into<String>) -> Self {
        Record { name: name.into(), kind: RecordType::Txt, text: text.into() }
    }

    /// Returns the text as a TXT record holds it: in strings of at most 255 bytes (RFC 1035 section 3.3).
    pub fn strings(&self) -> Vec<String> {
        let mut found = vec![String::new()];
        for c in self.text.chars() {
            if found[found.len() - 1].len() + c.len_utf8() > 255 {
                found.push(String::new());
            }
            found.last_mut().expect("it begins with one").push(c);
        }
        found
    }

    /// Returns what stands behind the type in a zone file: a quoted text, in strings, or a target with its final dot.
    pub fn zone_data(&self) -> String {
        let quoted = |text: &String| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
        match self.kind {
            RecordType::Txt => self.strings().iter().map(quoted).collect::<Vec<_>>().join(" "),
            RecordType::Cname => format!("{}.", self.text),
            RecordType::Tlsa => self.text.clone(),
        }
    }

    /// Returns whether a name with these texts or targets has what this record is for: its own, or for a standing record one
    /// that says as much at `now`.
    pub fn is_answered_by(&self, texts: &[String], now: Timestamp) -> bool {
        if self.kind == RecordType::Tlsa {
            return texts.iter().any(|text| text.eq_ignore_ascii_case(&self.text));
        }
        if self.kind == RecordType::Cname {
            return texts.iter().any(|target| target.trim_end_matches('.').eq_ignore_ascii_case(&self.text));
        }
        let standing = StandingRecord::parse(&self.text);
        texts
            .iter()
            .any(|text| *text == self.text || standing.as_ref().is_some_and(|wanted| wanted.is_met_by(text, now)))
    }
}

/// Returns the record for a dns-01 challenge (RFC 8555 section 8.4).
pub fn challenge_record(name: &str, key_authorization: &str) -> Record {
    let text = base64url(&sha256(key_authorization.as_bytes()));
    Record::txt(format!("_acme-challenge.{name}"), text)
}

/// Returns the record that names the key of a service at a port: DANE-EE, its public key, SHA-256 (RFC 6698, RFC 7671 section 5.1). `public_key` is
/// a `SubjectPublicKeyInfo` in DER.
pub fn tlsa_record(name: &str, port: u16, public_key: &[u8]) -> Record {
    let digest = hex(&sha256(public_key));
    Record { name: format!("_{port}._tcp.{name}"), kind: RecordType::Tlsa, text: format!("3 1 1 {digest}") }
}

/// Whether a TLSA record, written as in zone files, fits a chain of certificates, each with its key, both in DER, the leaf first (RFC 6698
/// section 2.1). A record for an authority fits when it names one of those that are sent.
pub fn tlsa_fits(text: &str, chain: &[(&[u8], &[u8])]) -> bool {
    let mut fields = text.split_whitespace();
    let (Some(usage), Some(selector), Some(matching)) = (fields.next(), fields.next(), fields.next()) else {
        return false;
    };
    let data: String = fields.collect::<String>().to_ascii_lowercase();
    let candidates = match usage {
        "1" | "3" => chain.get(..1),
        "0" | "2" => Some(chain),
        _ => None,
    };
    let fits = |(certificate, key): &(&[u8], &[u8])| {
        let bytes = match selector {
            "0" => certificate,
            "1" => key,
            _ => return false,
        };
        let wanted = match matching {
            "0" => hex(bytes),
            "1" => hex(&sha256(bytes)),
            "2" => hex(&sha512(bytes)),
            _ => return false,
        };
        wanted == data
    };
    candidates.is_some_and(|candidates| candidates.iter().any(fits))
}

/// Returns the record for a dns-account-01 challenge (draft-ietf-acme-dns-account-label): as for dns-01, below a label made
/// from the account's address.
pub fn account_record(name: &str, account: &str, key_authorization: &str) -> Record {
    let label = base32(&sha256(account.as_bytes())[..10]);
    let record = challenge_record(name, key_authorization);
    Record { name: format!("_{label}.{}", record.name), ..record }
}

/// A standing record for dns-persist-01 challenges (draft-ietf-acme-dns-persist): it lets one account at one issuer have
/// certificates for a name, again and again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StandingRecord {
    /// The issuer's domain name.
    pub issuer: String,
    /// The account's address.
    pub account: String,
    /// Whether it counts for wildcards and names below as well.
    pub wildcard: bool,
    /// When it ends; `None` for never.
    pub until: Option<Timestamp>,
}

impl StandingRecord {
    /// Returns the record that says this for a name.
    pub fn record(&self, name: &str) -> Record {
        let mut text = format!("{}; accounturi={}", self.issuer, self.account);
        if self.wildcard {
            text += "; policy=wildcard";
        }
        if let Some(until) = self.until {
            text += &format!("; persistUntil={}", until.as_second());
        }
        Record::txt(format!("_validation-persist.{name}"), text)
    }

    /// Reads the text of such a record; `None` when it is none. Parameters that are not known are passed over.
    pub fn parse(text: &str) -> Option<Self> {
        let mut parts = text.split(';').map(str::trim);
        let issuer = parts.next().filter(|i| !i.is_empty())?.trim_end_matches('.').to_ascii_lowercase();
        let mut read = StandingRecord { issuer, account: String::new(), wildcard: false, until: None };
        for (key, value) in parts.filter_map(|part| part.split_once('=')) {
            let value = value.trim();
            match key.trim().to_ascii_lowercase().as_str() {
                "accounturi" => value.clone_into(&mut read.account),
                "policy" => read.wildcard = value.eq_ignore_ascii_case("wildcard"),
                "persistuntil" => read.until = Some(Timestamp::from_second(value.parse().ok()?).ok()?),
                _ => {}
            }
        }
        (!read.account.is_empty()).then_some(read)
    }

    /// Returns whether a record with this text says at `now` at least what `self` says: the same issuer and account, the
    /// wildcard where it is wanted, and no end that is past.
    pub fn is_met_by(&self, text: &str, now: Timestamp) -> bool {
        StandingRecord::parse(text).is_some_and(|found| {
            found.issuer == self.issuer.to_ascii_lowercase()
                && found.account == self.account
                && (found.wildcard || !self.wildcard)
                && found.until.is_none_or(|until| until > now)
        })
    }
}

/// A record, with its type whatever it is.
#[derive(Clone, Debug, Serialize)]
pub struct RecordView {
    /// Its name in full.
    pub name: String,
    /// Its type.
    pub r#type: &'static str,
    /// Its text or target.
    pub text: String,
}

impl From<&Record> for RecordView {
    fn from(record: &Record) -> Self {
        RecordView { name: record.name.clone(), r#type: record.kind.word(), text: record.text.clone() }
    }
}

/// A record that a person has to place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordToPlace {
    /// The record.
    pub record: Record,
    /// The zone it goes into.
    pub zone: String,
    /// The time to live in seconds.
    pub ttl: u32,
    /// Whether it stays there for later journeys.
    pub for_good: bool,
}

impl Serialize for RecordToPlace {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        #[derive(Serialize)]
        struct View<'a> {
            zone: &'a str,
            #[serde(flatten)]
            record: RecordView,
            ttl: u32,
            for_good: bool,
        }
        let RecordToPlace { record, zone, ttl, for_good } = self;
        View { zone, record: record.into(), ttl: *ttl, for_good: *for_good }.serialize(serializer)
    }
}

impl RecordToPlace {
    /// Returns the record's name within its zone: `@` for the zone's own.
    pub fn name_in_zone(&self) -> &str {
        match self.record.name.strip_suffix(&self.zone) {
            Some("") => "@",
            Some(rest) => rest.trim_end_matches('.'),
            None => &self.record.name,
        }
    }

    /// Returns the record as a line of a zone file.
    pub fn zone_line(&self) -> String {
        let Record { name, kind, .. } = &self.record;
        format!("{name}. {} IN {} {}", self.ttl, kind.word(), self.record.zone_data())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ACCOUNT: &str = "https://ca.example/account/7";

    #[test]
    fn a_long_text_is_several_strings() {
        for (length, lengths) in [(0, vec![0]), (255, vec![255]), (256, vec![255, 1]), (600, vec![255, 255, 90])] {
            let record = Record::txt("a.example", "a".repeat(length));
            let cut = record.strings();
            assert_eq!((cut.iter().map(String::len).collect::<Vec<_>>(), cut.concat()), (lengths, record.text));
        }
        assert_eq!(Record::txt("a.example", "a".repeat(256)).zone_data(), format!("\"{}\" \"a\"", "a".repeat(255)));
    }

    #[test]
    fn the_records_stand_where_the_standards_say() {
        let usual = challenge_record("lampholm.example", "token.thumb");
        assert_eq!((usual.name.as_str(), usual.text.len()), ("_acme-challenge.lampholm.example", 43));
        assert_eq!(usual.text, base64url(&sha256(b"token.thumb")));
        // The draft's own example.
        let account = account_record("example.org", "https://example.com/acme/acct/ExampleAccount", "token.thumb");
        assert_eq!(account.name, "_ujmmovf2vn55tgye._acme-challenge.example.org");
        assert_eq!(account.text, usual.text);
    }

    #[test]
    fn a_record_is_written_for_a_zone_file_and_found_again() {
        let cname = Record { name: "_a.lampholm.example".into(), kind: RecordType::Cname, text: "b.ca.example".into() };
        assert_eq!(cname.zone_data(), "b.ca.example.");
        assert_eq!(Record::txt("a", "say \"lamp\" \\").zone_data(), r#""say \"lamp\" \\""#);
        let at = Timestamp::UNIX_EPOCH;
        for (target, answers) in [("B.ca.Example.", true), ("b.ca.example", true), ("c.ca.example", false)] {
            assert_eq!(cname.is_answered_by(&[target.to_owned()], at), answers, "{target}");
        }
        let saved = serde_json::to_string(&Record::txt("a", "b")).unwrap();
        for text in [&saved, r#"{"name":"a","text":"b"}"#] {
            assert_eq!(serde_json::from_str::<Record>(text).unwrap(), Record::txt("a", "b"), "also from before types");
        }
    }

    #[test]
    fn a_standing_record_is_read_back_and_weighed() {
        let at = |second| Timestamp::from_second(second).unwrap();
        let wanted = StandingRecord {
            issuer: "ca.example".into(),
            account: ACCOUNT.into(),
            wildcard: true,
            until: Some(at(90)),
        };
        let record = wanted.record("lampholm.example");
        assert_eq!(record.name, "_validation-persist.lampholm.example");
        assert_eq!(record.text, format!("ca.example; accounturi={ACCOUNT}; policy=wildcard; persistUntil=90"));
        assert_eq!(StandingRecord::parse(&record.text), Some(wanted.clone()));
        for (text, now, met) in [
            (record.text.clone(), 80, true),
            (record.text.clone(), 90, false),
            (format!("CA.example.;policy=WILDCARD ;accounturi={ACCOUNT}; later=1"), 0, true),
            (format!("ca.example; accounturi={ACCOUNT}"), 0, false),
            (format!("other.example; accounturi={ACCOUNT}; policy=wildcard"), 0, false),
            ("ca.example; accounturi=https://ca.example/account/8; policy=wildcard".into(), 0, false),
            (format!("ca.example; accounturi={ACCOUNT}; policy=wildcard; persistUntil=soon"), 0, false),
            ("v=spf1 -all".into(), 0, false),
            (String::new(), 0, false),
        ] {
            assert_eq!(wanted.is_met_by(&text, at(now)), met, "{text}");
        }
        let plain = StandingRecord { wildcard: false, ..wanted };
        assert!(plain.is_met_by(&record.text, at(0)), "more than is wanted is enough");
    }
}
