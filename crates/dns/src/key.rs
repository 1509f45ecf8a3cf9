//! The key of a dynamic update, read from a file in BIND's syntax.

use base64::Engine;
use eskort_core::pki::Secret;
use hickory_proto::rr::Name;
use hickory_proto::rr::TSigner;
use hickory_proto::rr::rdata::tsig::TsigAlgorithm;

/// A TSIG key: name, algorithm and secret.
#[derive(Clone, Debug)]
pub struct UpdateKey {
    name: Name,
    algorithm: TsigAlgorithm,
    secret: Secret<Vec<u8>>,
}

/// Why a key file cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// No `key "NAME" { … };` in it.
    #[error("it contains no `key \"NAME\" {{ … }};` in it")]
    NoKey,
    /// A statement is missing.
    #[error("the key has no `{0}`")]
    Missing(&'static str),
    /// An algorithm that is not spoken here.
    #[error("the algorithm `{0}` is not one of hmac-sha256, hmac-sha384, hmac-sha512")]
    Algorithm(String),
    /// A secret that is not base64.
    #[error("the secret is not base64")]
    Secret,
    /// A name that is none.
    #[error("`{0}` cannot name a key")]
    Name(String),
}

impl UpdateKey {
    /// Reads the first key of a file in BIND's syntax: `key "NAME" { algorithm hmac-sha256; secret "…"; };`.
    ///
    /// # Errors
    /// A [`KeyError`] that never shows the secret.
    pub fn parse(text: &Secret<String>) -> Result<Self, KeyError> {
        let words = words(text.reveal());
        let start = words.iter().position(|w| w == "key").ok_or(KeyError::NoKey)?;
        let name = words.get(start + 1).filter(|w| !matches!(w.as_str(), "{" | "}" | ";")).ok_or(KeyError::NoKey)?;
        let body = words[start + 2..].iter().take_while(|w| *w != "}").cloned().collect::<Vec<_>>();
        let value = |statement| {
            let at = body.iter().position(|w| w == statement).ok_or(KeyError::Missing(statement))?;
            body.get(at + 1).filter(|w| *w != ";").ok_or(KeyError::Missing(statement))
        };
        UpdateKey::from_parts(name, value("algorithm")?, value("secret")?)
    }

    /// Makes a key from its parts; the secret is in base64.
    ///
    /// # Errors
    /// A [`KeyError`] that never shows the secret.
    pub fn from_parts(name: &str, algorithm: &str, secret: &str) -> Result<Self, KeyError> {
        let algorithm = match algorithm.to_ascii_lowercase().trim_end_matches('.') {
            "hmac-sha256" => TsigAlgorithm::HmacSha256,
            "hmac-sha384" => TsigAlgorithm::HmacSha384,
            "hmac-sha512" => TsigAlgorithm::HmacSha512,
            _ => return Err(KeyError::Algorithm(eskort_core::words::printable(algorithm, 40))),
        };
        let secret = base64::engine::general_purpose::STANDARD.decode(secret);
        let secret = secret.ok().filter(|s| !s.is_empty()).ok_or(KeyError::Secret)?;
        let parsed = Name::from_ascii(format!("{}.", name.trim_end_matches('.')));
        let name = parsed.map_err(|_| KeyError::Name(eskort_core::words::printable(name, 40)))?;
        Ok(UpdateKey { name, algorithm, secret: Secret::new(secret) })
    }

    /// Signatures may be this many seconds off (RFC 8945 section 10 recommends it).
    pub(crate) fn signer(&self) -> Option<TSigner> {
        TSigner::new(self.secret.reveal().clone(), self.algorithm.clone(), self.name.clone(), 300).ok()
    }
}

/// Cuts a file into words, braces and semicolons; comments go, quotes are taken off.
fn words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    let text = without_long_comments(text);
    for line in text.lines() {
        // Every other part stands in quotes, where base64 may well have `//` in it.
        for (n, part) in line.split('"').enumerate() {
            if n % 2 == 1 {
                words.push(part.to_owned());
                continue;
            }
            let plain = part.split("//").next().unwrap_or_default().split('#').next().unwrap_or_default();
            for piece in plain.split_inclusive(['{', '}', ';']) {
                let (body, mark) = match piece.chars().last() {
                    Some(mark @ ('{' | '}' | ';')) => (&piece[..piece.len() - 1], Some(mark)),
                    _ => (piece, None),
                };
                words.extend(body.split_whitespace().map(str::to_owned));
                words.extend(mark.map(String::from));
            }
            if plain.len() < part.len() {
                break;
            }
        }
    }
    words
}

/// Takes `/* … */` away, but not in quotes.
fn without_long_comments(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    let mut in_quotes = false;
    while let Some(c) = rest.chars().next() {
        if !in_quotes && rest.starts_with("/*") {
            rest = rest.split_once("*/").map_or("", |(_, behind)| behind);
            out.push(' ');
            continue;
        }
        in_quotes ^= c == '"';
        out.push(c);
        rest = &rest[c.len_utf8()..];
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Result<UpdateKey, KeyError> {
        UpdateKey::parse(&Secret::new(text.to_owned()))
    }

    #[test]
    fn comments_of_every_kind_go() {
        let text = "/* key \"old\" { } */ key \"lamp\" { # one\n algorithm hmac-sha256; /* two\n lines */ secret \"YWJj/*ZA==\"; // three\n};";
        assert!(matches!(parse(text), Ok(_) | Err(KeyError::Secret)), "{:?}", parse(text));
        let text = text.replace("/*ZA==", "ZA==");
        assert!(parse(&text).is_ok(), "{:?}", parse(&text));
    }

    #[test]
    fn reads_keys_as_they_are_written_and_says_what_is_wrong_with_others() {
        let good = "# made by a tool\nkey \"lamp.key\" {\n\talgorithm hmac-sha256; // usual\n\tsecret \"b2ls\";\n};\n";
        assert_eq!(parse(good).unwrap().name.to_string(), "lamp.key.");
        assert!(parse("key \"lamp\" { algorithm hmac-sha256; secret \"b2//ls#7b2ls\"; }; // \"").is_err());
        assert!(
            parse("key \"lamp\" { algorithm hmac-sha256; secret \"b2//b2ls\"; }; // \"").is_ok(),
            "base64 has slashes"
        );
        assert!(parse("key lamp { secret \"b2ls\"; algorithm HMAC-SHA512; };").is_ok());
        assert!(!format!("{:?}", parse(good).unwrap()).contains("oil"));
        for (text, wrong) in [
            ("", KeyError::NoKey),
            ("key {", KeyError::NoKey),
            ("key lamp { algorithm hmac-sha256; };", KeyError::Missing("secret")),
            ("key lamp { secret \"b2ls\"; };", KeyError::Missing("algorithm")),
            ("key lamp { algorithm hmac-md5; secret \"b2ls\"; };", KeyError::Algorithm("hmac-md5".into())),
            ("key lamp { algorithm hmac-sha256; secret \"!\"; };", KeyError::Secret),
        ] {
            assert_eq!(parse(text).unwrap_err(), wrong, "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[key{}; \"a-z0-9=\n#/]{0,120}") {
            let _ = parse(&text);
        }
    }
}
