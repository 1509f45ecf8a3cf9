use super::*;

const SEEN: &str = "open, closed, unclear, or no filter";

fn seen(listing: &Listing<'_>, port: u16, v6: bool) -> &'static str {
    let words: Vec<&str> = SEEN.split(", ").collect();
    match judge(listing, Visitor { v6, port }) {
        Some(Verdict::Open) => words[0],
        Some(Verdict::Closed { .. }) => words[1],
        Some(Verdict::Unclear { .. }) => words[2],
        None => "none",
    }
}

/// The rules of a chain that drops what it does not accept.
fn ruleset(rules: &str) -> String {
    format!(
        r#"{{"nftables": [{{"metainfo": {{}}}}, {{"table": {{"family": "inet", "name": "f"}}}},
        {{"set": {{"family": "inet", "table": "f", "name": "webs", "elem": [443, {{"range": [8000, 8099]}}, {{"elem": {{"val": 90}}}}]}}}},
        {{"chain": {{"family": "inet", "table": "f", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}}}},
        {{"chain": {{"family": "inet", "table": "f", "name": "out", "type": "filter", "hook": "output", "prio": 0, "policy": "drop"}}}},
        {{"chain": {{"family": "inet", "table": "f", "name": "more"}}}},
        {{"rule": {{"family": "inet", "table": "f", "chain": "more", "expr": [{{"accept": null}}]}}}},
        {rules}]}}"#
    )
}

#[test]
fn what_nft_prints_is_judged() {
    let dport = |right: &str| {
        format!(
            r#"{{"match": {{"op": "==", "left": {{"payload": {{"protocol": "tcp", "field": "dport"}}}}, "right": {right}}}}}"#
        )
    };
    let ct =
        |right: &str| format!(r#"{{"match": {{"op": "in", "left": {{"ct": {{"key": "state"}}}}, "right": {right}}}}}"#);
    let meta = |key: &str, right: &str| {
        format!(r#"{{"match": {{"op": "==", "left": {{"meta": {{"key": "{key}"}}}}, "right": {right}}}}}"#)
    };
    let from = |op: &str| {
        format!(
            r#"{{"match": {{"op": "{op}", "left": {{"payload": {{"protocol": "ip", "field": "saddr"}}}}, "right": {{"prefix": {{"addr": "192.0.2.0", "len": 24}}}}}}}}"#
        )
    };
    let accept = r#"{"accept": null}"#;
    for (parts, port, wanted) in [
        (vec![dport("80"), accept.into()], 80, "open"),
        (vec![dport("80"), accept.into()], 81, "closed"),
        (vec![dport(r#"{"set": [22, {"range": [80, 90]}]}"#), accept.into()], 85, "open"),
        (vec![dport(r#""@webs""#), r#"{"counter": {"packets": 0}}"#.into(), accept.into()], 8001, "open"),
        (vec![dport(r#""@webs""#), accept.into()], 90, "open"),
        (vec![dport(r#""@webs""#), accept.into()], 91, "closed"),
        (vec![ct(r#"["established", "related"]"#), accept.into()], 80, "closed"),
        (vec![ct(r#"["established", "new"]"#), accept.into()], 80, "open"),
        (vec![meta("iifname", r#""lo""#), accept.into()], 80, "closed"),
        (vec![meta("iifname", r#""eth0""#), accept.into()], 80, "unclear"),
        (vec![meta("nfproto", r#""ipv4""#), accept.into()], 80, "open"),
        (vec![meta("nfproto", r#""ipv6""#), accept.into()], 80, "closed"),
        (vec![meta("l4proto", r#"{"set": ["udp", "icmp"]}"#), accept.into()], 80, "closed"),
        (vec![meta("l4proto", r#"{"set": ["udp", 6]}"#), accept.into()], 80, "open"),
        (vec![from("=="), accept.into()], 80, "closed"),
        (vec![from("!="), dport("80"), accept.into()], 80, "open"),
        (vec![dport("80"), r#"{"jump": {"target": "more"}}"#.into()], 80, "open"),
        (vec![r#"{"vmap": {"key": {"payload": {"protocol": "tcp", "field": "dport"}}, "data": {"set": [[80, {"goto": {"target": "more"}}], [81, {"drop": null}]]}}}"#.into()], 80, "open"),
        (vec![r#"{"vmap": {"key": {"ct": {"key": "state"}}, "data": {"set": [["invalid", {"drop": null}], ["new", {"accept": null}]]}}}"#.into()], 80, "open"),
        (vec![r#"{"queue": {"num": 1}}"#.into()], 80, "unclear"),
    ] {
        let rule = format!(r#"{{"rule": {{"family": "inet", "table": "f", "chain": "in", "expr": [{}]}}}}"#, parts.join(", "));
        let text = ruleset(&rule);
        let listing = Listing { nft: &text, ..Listing::default() };
        assert_eq!(seen(&listing, port, false), wanted, "{port}: {rule}");
    }
    let closed =
        judge(&Listing { nft: &ruleset(r#"{"other": 1}"#), ..Listing::default() }, Visitor { v6: true, port: 80 });
    assert_eq!(closed, Some(Verdict::Closed { by: "the policy of chain in".into() }));
}

#[test]
fn what_iptables_prints_is_judged() {
    let saved = "# Generated\n*filter\n:INPUT DROP [0:0]\n:OUTPUT DROP [0:0]\n:webs - [0:0]\n\
        -A INPUT -i lo -j ACCEPT\n\
        -A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n\
        -A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\n\
        -A INPUT -p tcp -m multiport --dports 80,443,8000:8099 -m comment --comment \"the web -j DROP\" -j webs\n\
        -A INPUT -s 192.0.2.0/24 -p tcp -m tcp --dport 25 -j ACCEPT\n\
        -A INPUT -p tcp -m tcp --dport 26 -m owner --uid-owner 0 -j ACCEPT\n\
        -A INPUT -p udp -m udp --dport 53 -j ACCEPT\n\
        -A INPUT ! -i eth0 -p tcp -m tcp --dport 27 -j ACCEPT\n\
        -A INPUT -m limit --limit 3/min -j LOG --log-prefix \"[x] \"\n\
        -A webs -s 198.51.100.7/32 -j DROP\n\
        -A webs -j ACCEPT\nCOMMIT\n*nat\n:PREROUTING ACCEPT [0:0]\nCOMMIT\n";
    let listing = Listing { iptables: saved, ..Listing::default() };
    for (port, wanted) in [
        (22, "open"),
        (23, "closed"),
        (25, "closed"),
        (26, "unclear"),
        (27, "unclear"),
        (53, "closed"),
        (80, "open"),
        (8050, "open"),
    ] {
        assert_eq!(seen(&listing, port, false), wanted, "{port}");
    }
    assert_eq!(seen(&listing, 22, true), "none", "nothing is known of IPv6");
    // A drop before what accepts, and a policy that accepts.
    let open =
        "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 80 -j REJECT --reject-with tcp-reset\nCOMMIT\n";
    let listing = Listing { ip6tables: open, ..Listing::default() };
    assert_eq!(
        judge(&listing, Visitor { v6: true, port: 80 }),
        Some(Verdict::Closed { by: "-A INPUT -p tcp -m tcp --dport 80 -j REJECT --reject-with tcp-reset".into() })
    );
    assert_eq!(seen(&listing, 81, true), "open");
}

#[test]
fn hostile_rules_end() {
    let circle = "*filter\n:INPUT DROP [0:0]\n:a - [0:0]\n-A INPUT -j a\n-A a -j a\n-A a -j a\nCOMMIT\n";
    assert_eq!(seen(&Listing { iptables: circle, ..Listing::default() }, 80, false), "unclear");
    for odd in ["{", "[]", r#"{"nftables": 1}"#, r#"{"nftables": [{"rule": {"family": 1}}, {"chain": []}, 7]}"#] {
        assert_eq!(seen(&Listing { nft: odd, ..Listing::default() }, 80, false), "none", "{odd}");
    }
    for odd in ["*filter\n:INPUT", ":INPUT DROP\n-A INPUT", "-A", "*filter\n-A INPUT -j ACCEPT\n", "-A INPUT \"a\" -p"]
    {
        let found = seen(&Listing { iptables: odd, ..Listing::default() }, 80, false);
        assert!(found == "none" || found == "open", "{odd}: {found}");
    }
}
