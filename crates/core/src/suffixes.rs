//! Public suffixes: the domains below which anybody may register names.

use public_suffix::{DEFAULT_PROVIDER, EffectiveTLDProvider};

/// Returns whether a domain is a public suffix, as `co.uk` is one. A name of one label that is not on the list is one, too.
pub fn is_public_suffix(domain: &str) -> bool {
    DEFAULT_PROVIDER.public_suffix(domain) == domain
}

/// Returns the domain that somebody has registered, of a name in it: the public suffix and one label more. `None` for a public suffix.
pub fn registered_domain(name: &str) -> Option<String> {
    DEFAULT_PROVIDER.effective_tld_plus_one(name).ok().map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn knows_suffixes_of_one_label_and_of_more() {
        for (name, is_suffix, registered) in [
            ("example", true, None),
            ("co.uk", true, None),
            ("lampholm.example", false, Some("lampholm.example")),
            ("shop.co.uk", false, Some("shop.co.uk")),
            ("a.b.shop.co.uk", false, Some("shop.co.uk")),
        ] {
            assert_eq!(is_public_suffix(name), is_suffix, "{name}");
            assert_eq!(registered_domain(name).as_deref(), registered, "{name}");
        }
    }
}
