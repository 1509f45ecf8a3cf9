//! Cipher suites (IANA's registry), and what each is good for.

use serde::{Serialize, Serializer};
use std::fmt;

/// A cipher suite by its number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Suite(pub u16);

/// How good a cipher suite is, the best first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Grade {
    /// Authenticated encryption, and a key of its own for each connection.
    Modern,
    /// A key of its own for each connection, and a block cipher of before (RFC 9325 section 4.2).
    Older,
    /// Whoever gets the server's key can read what was recorded before (no forward secrecy).
    Recordable,
    /// A cipher with blocks of 64 bits: long connections leak (RFC 9325 section 4.1).
    SmallBlocks,
    /// Broken: anybody on the way can read or change what is sent.
    Broken,
}

/// How the two sides agree on a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exchange {
    /// TLS 1.3: the suite does not say.
    Separate,
    /// Elliptic curves with a key for each connection.
    Ecdhe,
    /// Diffie-Hellman with a key for each connection.
    Dhe,
    /// With the key of the certificate.
    Static,
}

impl Suite {
    /// Returns its name in the registry.
    pub fn name(self) -> Option<&'static str> {
        SUITES.binary_search_by_key(&self.0, |(code, _)| *code).ok().map(|at| SUITES[at].1)
    }

    /// Whether it is one of TLS 1.3.
    pub fn is_tls13(self) -> bool {
        self.0 >> 8 == 0x13
    }

    /// Whether it may be used before TLS 1.2 (RFC 5246 section 1.2: authenticated encryption and SHA-2 are of that).
    pub fn is_before_tls12(self) -> bool {
        let name = self.name().unwrap_or_default();
        !self.is_tls13() && !["GCM", "CCM", "POLY1305", "SHA256", "SHA384"].iter().any(|new| name.contains(new))
    }

    /// Returns how the key is agreed on.
    pub fn exchange(self) -> Exchange {
        match self.name().unwrap_or_default() {
            _ if self.is_tls13() => Exchange::Separate,
            name if name.starts_with("TLS_ECDHE_") || name.starts_with("TLS_ECDH_anon") => Exchange::Ecdhe,
            name if name.starts_with("TLS_DHE_") || name.starts_with("TLS_DH_anon") => Exchange::Dhe,
            _ => Exchange::Static,
        }
    }

    /// Whether the server shows no certificate.
    pub fn is_anonymous(self) -> bool {
        self.name().is_some_and(|name| name.contains("_anon_"))
    }

    /// Returns how good it is; one that is not known counts as broken.
    pub fn grade(self) -> Grade {
        let Some(name) = self.name() else { return Grade::Broken };
        let has = |words: &[&str]| words.iter().any(|word| name.contains(word));
        if has(&["_anon_", "NULL", "EXPORT", "RC4", "RC2", "_DES_CBC", "DES40", "MD5"]) {
            Grade::Broken
        } else if has(&["3DES", "IDEA"]) {
            Grade::SmallBlocks
        } else if self.exchange() == Exchange::Static {
            Grade::Recordable
        } else if self.is_tls13() || has(&["GCM", "CCM", "POLY1305"]) {
            Grade::Modern
        } else {
            Grade::Older
        }
    }

    /// Returns all that are known and need no key that was agreed on before.
    pub fn all() -> impl DoubleEndedIterator<Item = Suite> {
        SUITES.iter().map(|(code, _)| Suite(*code))
    }
}

impl fmt::Display for Suite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) => f.write_str(name),
            None => write!(f, "0x{:04x}", self.0),
        }
    }
}

impl Serialize for Suite {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// By their numbers.
#[rustfmt::skip]
const SUITES: &[(u16, &str)] = &[
    (0x0001, "TLS_RSA_WITH_NULL_MD5"),
    (0x0002, "TLS_RSA_WITH_NULL_SHA"),
    (0x0003, "TLS_RSA_EXPORT_WITH_RC4_40_MD5"),
    (0x0004, "TLS_RSA_WITH_RC4_128_MD5"),
    (0x0005, "TLS_RSA_WITH_RC4_128_SHA"),
    (0x0006, "TLS_RSA_EXPORT_WITH_RC2_CBC_40_MD5"),
    (0x0007, "TLS_RSA_WITH_IDEA_CBC_SHA"),
    (0x0008, "TLS_RSA_EXPORT_WITH_DES40_CBC_SHA"),
    (0x0009, "TLS_RSA_WITH_DES_CBC_SHA"),
    (0x000a, "TLS_RSA_WITH_3DES_EDE_CBC_SHA"),
    (0x0011, "TLS_DHE_DSS_EXPORT_WITH_DES40_CBC_SHA"),
    (0x0012, "TLS_DHE_DSS_WITH_DES_CBC_SHA"),
    (0x0013, "TLS_DHE_DSS_WITH_3DES_EDE_CBC_SHA"),
    (0x0014, "TLS_DHE_RSA_EXPORT_WITH_DES40_CBC_SHA"),
    (0x0015, "TLS_DHE_RSA_WITH_DES_CBC_SHA"),
    (0x0016, "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA"),
    (0x0017, "TLS_DH_anon_EXPORT_WITH_RC4_40_MD5"),
    (0x0018, "TLS_DH_anon_WITH_RC4_128_MD5"),
    (0x0019, "TLS_DH_anon_EXPORT_WITH_DES40_CBC_SHA"),
    (0x001a, "TLS_DH_anon_WITH_DES_CBC_SHA"),
    (0x001b, "TLS_DH_anon_WITH_3DES_EDE_CBC_SHA"),
    (0x002f, "TLS_RSA_WITH_AES_128_CBC_SHA"),
    (0x0032, "TLS_DHE_DSS_WITH_AES_128_CBC_SHA"),
    (0x0033, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA"),
    (0x0034, "TLS_DH_anon_WITH_AES_128_CBC_SHA"),
    (0x0035, "TLS_RSA_WITH_AES_256_CBC_SHA"),
    (0x0038, "TLS_DHE_DSS_WITH_AES_256_CBC_SHA"),
    (0x0039, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA"),
    (0x003a, "TLS_DH_anon_WITH_AES_256_CBC_SHA"),
    (0x003b, "TLS_RSA_WITH_NULL_SHA256"),
    (0x003c, "TLS_RSA_WITH_AES_128_CBC_SHA256"),
    (0x003d, "TLS_RSA_WITH_AES_256_CBC_SHA256"),
    (0x0040, "TLS_DHE_DSS_WITH_AES_128_CBC_SHA256"),
    (0x0041, "TLS_RSA_WITH_CAMELLIA_128_CBC_SHA"),
    (0x0044, "TLS_DHE_DSS_WITH_CAMELLIA_128_CBC_SHA"),
    (0x0045, "TLS_DHE_RSA_WITH_CAMELLIA_128_CBC_SHA"),
    (0x0046, "TLS_DH_anon_WITH_CAMELLIA_128_CBC_SHA"),
    (0x0067, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA256"),
    (0x006a, "TLS_DHE_DSS_WITH_AES_256_CBC_SHA256"),
    (0x006b, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA256"),
    (0x006c, "TLS_DH_anon_WITH_AES_128_CBC_SHA256"),
    (0x006d, "TLS_DH_anon_WITH_AES_256_CBC_SHA256"),
    (0x0084, "TLS_RSA_WITH_CAMELLIA_256_CBC_SHA"),
    (0x0087, "TLS_DHE_DSS_WITH_CAMELLIA_256_CBC_SHA"),
    (0x0088, "TLS_DHE_RSA_WITH_CAMELLIA_256_CBC_SHA"),
    (0x0089, "TLS_DH_anon_WITH_CAMELLIA_256_CBC_SHA"),
    (0x0096, "TLS_RSA_WITH_SEED_CBC_SHA"),
    (0x009a, "TLS_DHE_RSA_WITH_SEED_CBC_SHA"),
    (0x009c, "TLS_RSA_WITH_AES_128_GCM_SHA256"),
    (0x009d, "TLS_RSA_WITH_AES_256_GCM_SHA384"),
    (0x009e, "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"),
    (0x009f, "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384"),
    (0x00a2, "TLS_DHE_DSS_WITH_AES_128_GCM_SHA256"),
    (0x00a3, "TLS_DHE_DSS_WITH_AES_256_GCM_SHA384"),
    (0x00a6, "TLS_DH_anon_WITH_AES_128_GCM_SHA256"),
    (0x00a7, "TLS_DH_anon_WITH_AES_256_GCM_SHA384"),
    (0x00ba, "TLS_RSA_WITH_CAMELLIA_128_CBC_SHA256"),
    (0x00bd, "TLS_DHE_DSS_WITH_CAMELLIA_128_CBC_SHA256"),
    (0x00be, "TLS_DHE_RSA_WITH_CAMELLIA_128_CBC_SHA256"),
    (0x00bf, "TLS_DH_anon_WITH_CAMELLIA_128_CBC_SHA256"),
    (0x00c0, "TLS_RSA_WITH_CAMELLIA_256_CBC_SHA256"),
    (0x00c3, "TLS_DHE_DSS_WITH_CAMELLIA_256_CBC_SHA256"),
    (0x00c4, "TLS_DHE_RSA_WITH_CAMELLIA_256_CBC_SHA256"),
    (0x00c5, "TLS_DH_anon_WITH_CAMELLIA_256_CBC_SHA256"),
    (0x1301, "TLS_AES_128_GCM_SHA256"),
    (0x1302, "TLS_AES_256_GCM_SHA384"),
    (0x1303, "TLS_CHACHA20_POLY1305_SHA256"),
    (0x1304, "TLS_AES_128_CCM_SHA256"),
    (0x1305, "TLS_AES_128_CCM_8_SHA256"),
    (0xc002, "TLS_ECDH_ECDSA_WITH_RC4_128_SHA"),
    (0xc003, "TLS_ECDH_ECDSA_WITH_3DES_EDE_CBC_SHA"),
    (0xc004, "TLS_ECDH_ECDSA_WITH_AES_128_CBC_SHA"),
    (0xc005, "TLS_ECDH_ECDSA_WITH_AES_256_CBC_SHA"),
    (0xc006, "TLS_ECDHE_ECDSA_WITH_NULL_SHA"),
    (0xc007, "TLS_ECDHE_ECDSA_WITH_RC4_128_SHA"),
    (0xc008, "TLS_ECDHE_ECDSA_WITH_3DES_EDE_CBC_SHA"),
    (0xc009, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"),
    (0xc00a, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA"),
    (0xc00c, "TLS_ECDH_RSA_WITH_RC4_128_SHA"),
    (0xc00d, "TLS_ECDH_RSA_WITH_3DES_EDE_CBC_SHA"),
    (0xc00e, "TLS_ECDH_RSA_WITH_AES_128_CBC_SHA"),
    (0xc00f, "TLS_ECDH_RSA_WITH_AES_256_CBC_SHA"),
    (0xc010, "TLS_ECDHE_RSA_WITH_NULL_SHA"),
    (0xc011, "TLS_ECDHE_RSA_WITH_RC4_128_SHA"),
    (0xc012, "TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA"),
    (0xc013, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA"),
    (0xc014, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA"),
    (0xc015, "TLS_ECDH_anon_WITH_NULL_SHA"),
    (0xc016, "TLS_ECDH_anon_WITH_RC4_128_SHA"),
    (0xc017, "TLS_ECDH_anon_WITH_3DES_EDE_CBC_SHA"),
    (0xc018, "TLS_ECDH_anon_WITH_AES_128_CBC_SHA"),
    (0xc019, "TLS_ECDH_anon_WITH_AES_256_CBC_SHA"),
    (0xc023, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256"),
    (0xc024, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384"),
    (0xc027, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256"),
    (0xc028, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384"),
    (0xc02b, "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"),
    (0xc02c, "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"),
    (0xc02f, "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"),
    (0xc030, "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384"),
    (0xc050, "TLS_RSA_WITH_ARIA_128_GCM_SHA256"),
    (0xc051, "TLS_RSA_WITH_ARIA_256_GCM_SHA384"),
    (0xc052, "TLS_DHE_RSA_WITH_ARIA_128_GCM_SHA256"),
    (0xc053, "TLS_DHE_RSA_WITH_ARIA_256_GCM_SHA384"),
    (0xc056, "TLS_DHE_DSS_WITH_ARIA_128_GCM_SHA256"),
    (0xc057, "TLS_DHE_DSS_WITH_ARIA_256_GCM_SHA384"),
    (0xc05c, "TLS_ECDHE_ECDSA_WITH_ARIA_128_GCM_SHA256"),
    (0xc05d, "TLS_ECDHE_ECDSA_WITH_ARIA_256_GCM_SHA384"),
    (0xc060, "TLS_ECDHE_RSA_WITH_ARIA_128_GCM_SHA256"),
    (0xc061, "TLS_ECDHE_RSA_WITH_ARIA_256_GCM_SHA384"),
    (0xc072, "TLS_ECDHE_ECDSA_WITH_CAMELLIA_128_CBC_SHA256"),
    (0xc073, "TLS_ECDHE_ECDSA_WITH_CAMELLIA_256_CBC_SHA384"),
    (0xc076, "TLS_ECDHE_RSA_WITH_CAMELLIA_128_CBC_SHA256"),
    (0xc077, "TLS_ECDHE_RSA_WITH_CAMELLIA_256_CBC_SHA384"),
    (0xc09c, "TLS_RSA_WITH_AES_128_CCM"),
    (0xc09d, "TLS_RSA_WITH_AES_256_CCM"),
    (0xc09e, "TLS_DHE_RSA_WITH_AES_128_CCM"),
    (0xc09f, "TLS_DHE_RSA_WITH_AES_256_CCM"),
    (0xc0a0, "TLS_RSA_WITH_AES_128_CCM_8"),
    (0xc0a1, "TLS_RSA_WITH_AES_256_CCM_8"),
    (0xc0a2, "TLS_DHE_RSA_WITH_AES_128_CCM_8"),
    (0xc0a3, "TLS_DHE_RSA_WITH_AES_256_CCM_8"),
    (0xc0ac, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM"),
    (0xc0ad, "TLS_ECDHE_ECDSA_WITH_AES_256_CCM"),
    (0xc0ae, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8"),
    (0xc0af, "TLS_ECDHE_ECDSA_WITH_AES_256_CCM_8"),
    (0xcca8, "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256"),
    (0xcca9, "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"),
    (0xccaa, "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256"),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_suite_has_its_grade() {
        assert!(SUITES.is_sorted_by_key(|(code, _)| *code));
        for (name, grade, exchange) in [
            ("TLS_AES_128_GCM_SHA256", Grade::Modern, Exchange::Separate),
            ("TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256", Grade::Modern, Exchange::Ecdhe),
            ("TLS_DHE_RSA_WITH_AES_256_CCM_8", Grade::Modern, Exchange::Dhe),
            ("TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA", Grade::Older, Exchange::Ecdhe),
            ("TLS_DHE_RSA_WITH_SEED_CBC_SHA", Grade::Older, Exchange::Dhe),
            ("TLS_RSA_WITH_AES_128_GCM_SHA256", Grade::Recordable, Exchange::Static),
            ("TLS_ECDH_RSA_WITH_AES_256_CBC_SHA", Grade::Recordable, Exchange::Static),
            ("TLS_RSA_WITH_3DES_EDE_CBC_SHA", Grade::SmallBlocks, Exchange::Static),
            ("TLS_RSA_WITH_IDEA_CBC_SHA", Grade::SmallBlocks, Exchange::Static),
            ("TLS_RSA_WITH_DES_CBC_SHA", Grade::Broken, Exchange::Static),
            ("TLS_RSA_WITH_RC4_128_SHA", Grade::Broken, Exchange::Static),
            ("TLS_RSA_WITH_NULL_SHA256", Grade::Broken, Exchange::Static),
            ("TLS_DHE_RSA_EXPORT_WITH_DES40_CBC_SHA", Grade::Broken, Exchange::Dhe),
            ("TLS_DH_anon_WITH_3DES_EDE_CBC_SHA", Grade::Broken, Exchange::Dhe),
            ("TLS_ECDH_anon_WITH_AES_256_CBC_SHA", Grade::Broken, Exchange::Ecdhe),
        ] {
            let suite = Suite::all().find(|suite| suite.name() == Some(name)).unwrap();
            assert_eq!((suite.grade(), suite.exchange()), (grade, exchange), "{name}");
        }
        assert_eq!((Suite(0xeeee).to_string(), Suite(0xeeee).grade()), ("0xeeee".to_owned(), Grade::Broken));
    }
}
