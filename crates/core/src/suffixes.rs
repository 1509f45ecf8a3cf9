//! Public suffixes: the domains below which anybody may register names.

use public_suffix::DEFAULT_PROVIDER;

/// Returns whether a domain is a public suffix, as `co.uk` is one. A name of one label that is not on the list is one, too.
pub fn is_public_suffix(domain: &str) -> bool {
    DEFAULT_PROVIDER.public_suffix(domain) == domain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn knows_suffixes_of_one_label_and_of_more() {
        for (domain, is) in [("example", true), ("co.uk", true), ("lampholm.example", false), ("shop.co.uk", false)] {
            assert_eq!(is_public_suffix(domain), is, "{domain}");
        }
    }
}
