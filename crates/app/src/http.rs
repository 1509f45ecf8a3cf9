//! What all HTTP clients here have in common, and which addresses are whose.

use std::net::IpAddr;

/// Begins a client that will talk to an address: it says who we are, and asks no proxy for what is on this machine or network.
pub(crate) fn client(address: &str) -> reqwest::ClientBuilder {
    let builder = reqwest::Client::builder().user_agent(concat!("eskort/", env!("CARGO_PKG_VERSION")));
    if is_local(address) { builder.no_proxy() } else { builder }
}

/// Returns the host of an address, without the brackets of an IPv6 one.
pub(crate) fn host_of(address: &str) -> Option<String> {
    let url = reqwest::Url::parse(address).ok()?;
    Some(url.host_str()?.trim_matches(['[', ']']).to_owned())
}

/// Whether an address names this machine or one of this network: `localhost`, a name that only a local network can have, or an
/// address that is not public.
fn is_local(address: &str) -> bool {
    let Some(host) = host_of(address) else { return false };
    match host.parse::<IpAddr>() {
        Ok(ip) => !is_public(ip),
        Err(_) => host == "localhost" || [".localhost", ".internal", ".test"].iter().any(|end| host.ends_with(end)),
    }
}

/// Whether an address is one of the public network, where asking reaches nothing that only this machine can reach.
pub(crate) fn is_public(ip: IpAddr) -> bool {
    match ip {
        IpAddr::V4(ip) => {
            let [a, b, ..] = ip.octets();
            let shared = a == 100 && (64..128).contains(&b);
            !(ip.is_private()
                || ip.is_loopback()
                || ip.is_link_local()
                || ip.is_multicast()
                || ip.is_broadcast()
                || a == 0
                || shared)
        }
        IpAddr::V6(ip) => match ip.to_ipv4() {
            Some(inner) => is_public(inner.into()),
            None => !(ip.is_multicast() || ip.is_unique_local() || ip.is_unicast_link_local()),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_told_apart() {
        for (ip, public) in [
            ("192.0.2.7", true),
            ("127.0.0.1", false),
            ("10.1.2.3", false),
            ("172.31.0.1", false),
            ("169.254.169.254", false),
            ("100.64.0.1", false),
            ("0.0.0.0", false),
            ("2001:db8::1", true),
            ("::1", false),
            ("::", false),
            ("::ffff:192.168.0.1", false),
            ("fd00::1", false),
            ("fe80::1", false),
        ] {
            assert_eq!(is_public(ip.parse().unwrap()), public, "{ip}");
        }
        assert!(
            is_local("http://localhost:8081/api") && is_local("https://[::1]/") && is_local("http://panel.internal")
        );
        assert!(!is_local("https://panel.lampholm.example/api"));
    }
}
