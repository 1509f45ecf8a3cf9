use crate::{Mistake, Mistakes, parse_inventory};
use eskort_core::inventory::*;
use eskort_core::pki::KeyKind;
use std::path::Path;
use std::time::Duration;

const GOOD: &str = r#"
contact = "keeper@lampholm.example"

[authority.public]
kind = "acme"
directory = "https://ca.example/directory"
accept-terms = true

[proof.pages]
kind = "http-folder"
folder = "/srv/www/lampholm"

[server.front]
kind = "nginx"

[certificate.website]
names = ["lampholm.example", "www.lampholm.example"]
install = [{ server = "front", redirect = true }]
"#;

/// Returns what the mistakes say, a line each: `LINE: what (advice)`.
fn said(source: &str) -> String {
    let Err(Mistakes(mistakes)) = parse_inventory(source) else { return "no mistake".into() };
    let line = |m: &Mistake| format!("{}: {} ({})", m.line, m.what, m.advice.as_deref().unwrap_or("-"));
    mistakes.iter().map(line).collect::<Vec<_>>().join("\n")
}

#[test]
fn reads_a_whole_inventory_with_its_defaults() {
    let inventory = parse_inventory(GOOD).unwrap();
    let website = &inventory.certificates["website"];
    assert_eq!(website.names.len(), 2);
    assert_eq!((&*website.authority, website.proof.as_deref(), website.key), ("public", Some("pages"), KeyKind::P256));
    assert!(website.install[0].wishes.redirect);
    let ServerKind::Configured(front) = &inventory.servers["front"].kind else { panic!() };
    assert_eq!((front.config.to_str(), front.tls_port, &front.test), (Some("/etc/nginx/nginx.conf"), 443, &None));
    assert_eq!(inventory.servers["front"].reload_timeout, Duration::from_secs(30));
}

#[test]
fn relative_paths_lie_in_the_inventorys_folder() {
    let mut inventory = parse_inventory(&GOOD.replace("/srv/www/lampholm", "www")).unwrap();
    inventory.resolve_paths(Path::new("/etc/eskort"));
    let Proof::HttpFolder { folder, .. } = &inventory.proofs["pages"] else { panic!() };
    assert_eq!(folder, Path::new("/etc/eskort/www"));
    let ServerKind::Configured(front) = &inventory.servers["front"].kind else { panic!() };
    assert_eq!(front.config, Path::new("/etc/nginx/nginx.conf"));
}

#[test]
fn each_mistake_is_said_with_its_line() {
    let table: &[(&str, &str, &str)] = &[
        (
            "names = [\"lamp",
            "nmaes = [\"lamp",
            "17: unknown key `nmaes` in [certificate.website] (did you mean `names`?)",
        ),
        (
            "contact =",
            "colour =",
            "2: unknown key `colour` in the top of the file (known here: contact, state, keep-generations, keep-days, authority",
        ),
        (
            "kind = \"acme\"",
            "kind = \"acne\"",
            "5: [authority.public] has an unknown kind `acne` (did you mean `acme`?)",
        ),
        (
            "kind = \"nginx\"\n",
            "",
            "13: [server.front] has no `kind` (add a line: kind = \"nginx\" or \"apache\" or \"haproxy\" or \"lighttpd\" or \"postfix\" or \"dovecot\" or \"exim\" or \"files\" or \"keystore\" or \"parcel\" or \"web-api\" or \"cluster-secret\" or \"program\")",
        ),
        ("https://ca", "http://ca", "6: `directory` in [authority.public] wants a URL that begins with https://"),
        ("keeper@", "keeper ", "2: `contact` in the top of the file wants a mail address, this is `keeper lampholm"),
        ("\"lampholm.example\"", "\"lamp holm.example\"", "17: `lamp holm.example` has ` ` in it"),
        ("\"lampholm.example\"", "\"https://lampholm.example/\"", "(write just the name: \"lampholm.example\")"),
        ("\"lampholm.example\"", "\"WWW.lampholm.example\"", "17: `www.lampholm.example` is listed twice"),
        ("\"lampholm.example\"", "\"*.lampholm.example\"", "17: `*.lampholm.example` is a wildcard, and `http-folder`"),
        (
            "\"lampholm.example\"",
            "7",
            "17: `names` in [certificate.website] wants a list of texts in quotes, this is a",
        ),
        ("server = \"front\"", "server = \"frnot\"", "18: the inventory has no [server.frnot] (did you mean `front`?)"),
        (
            "redirect = true",
            "redirect = \"yes\"",
            "18: `redirect` in this `install` wants true or false, this is a string",
        ),
        (
            "redirect = true",
            "hsts = \"forever\"",
            "18: `hsts` in this `install` wants \"ramp\", \"off\", or a time like \"7d\"",
        ),
        (
            "redirect = true",
            "tls = \"modest\"",
            "18: `tls` in this `install` wants \"strict\", \"usual\" or \"lenient\"",
        ),
        ("redirect = true", "prefer = \"none\"", "18: `prefer` in this `install` wants \"bare\" or \"www\""),
        (
            "\"www.lampholm.example\"]\ninstall = [{ server = \"front\", redirect = true",
            "\"shop.lampholm.example\"]\ninstall = [{ server = \"front\", prefer = \"www\"",
            "18: `prefer = \"www\"` wants a name both with and without `www.`",
        ),
        (
            "kind = \"nginx\"",
            "kind = \"haproxy\"\n[certificate.more]\nnames = [\"a.example\"]\ninstall = [{ server = \"front\", http2 = true }]\n[server.other]\nkind = \"nginx\"",
            "`http2` is for servers of kind nginx and apache",
        ),
        ("kind = \"nginx\"", "kind = \"nginx\"\npartial = true", "`partial` is for servers on several hosts"),
        (
            "kind = \"nginx\"",
            "kind = \"nginx\"\ncheck-address = [\"::1\", \"::2\"]",
            "`check-address` has 2, and `host` has 0",
        ),
        ("[proof.pages]", "[proof.\"../pages\"]", "9: `../pages` cannot name a section"),
        ("accept-terms = true", "accept-terms = ", "7: this is not TOML"),
        ("folder = \"/srv/www/lampholm\"\n", "", "9: [proof.pages] has no `folder`"),
        ("accept-terms = true", "external-key-id = \"7\"", "4: [authority.public] has no `external-key-file`"),
        (
            "kind = \"nginx\"",
            "kind = \"nginx\"\ntls-port = 70000",
            "15: `tls-port` in [server.front] wants a number from 1 to 65535",
        ),
        (
            "kind = \"nginx\"",
            "kind = \"nginx\"\nreload-timeout = \"soon\"",
            "15: `reload-timeout` in [server.front] wants a time",
        ),
        (
            "install =",
            "subject = { country = \"Lampholm\" }\ninstall =",
            "`country` in this `subject` wants two letters",
        ),
        ("install =", "subject = { unit = \"\" }\ninstall =", "`unit` in this `subject` wants a text of at most 64"),
        (
            "[server.front]",
            "[notify.keeper]\nkind = \"mail\"\nto = [\"a@b.example\"]\nfrom = \"a@b.example\"\nserver = \"b.example\"\ntls = \"none\"\n[server.front]",
            "mail goes to b.example without TLS",
        ),
        (
            "kind = \"nginx\"",
            "kind = \"files\"\ncopy = [{ part = \"key\", to = \"/k\", mode = \"0644\" }]",
            "15: a private key must not be open to everybody (use mode = \"0600\" or \"0640\")",
        ),
    ];
    for (from, to, wanted) in table {
        let source = GOOD.replacen(from, to, 1);
        assert_ne!(source, GOOD, "{from}");
        assert!(said(&source).contains(wanted), "{to}:\n{}\nlacks\n{wanted}", said(&source));
    }
}

#[test]
fn proofs_over_dns_prove_wildcards_and_their_mistakes_are_said() {
    let zone = "kind = \"dns-update\"\nserver = \"192.0.2.53\"\nkey-file = \"zone.key\"";
    let pages = "kind = \"http-folder\"\nfolder = \"/srv/www/lampholm\"";
    let with = |proof: &str| GOOD.replace(pages, proof).replace("\"lampholm.example\"", "\"*.lampholm.example\"");
    let inventory = parse_inventory(&with(zone)).unwrap();
    let Proof::Dns(DnsProof { look, .. }) = &inventory.proofs["pages"] else { panic!() };
    assert_eq!((look.server.unwrap().port(), look.ttl, look.propagation_timeout), (53, 60, Duration::from_secs(120)));
    let named = "kind = \"dns-update\"\nkey-name = \"lamp\"\nkey-secret-env = \"ZONE\"\nchallenge = \"dns-account-01\"";
    let panel = "kind = \"web-api\"\nrecipe = \"powerdns\"\naddress = \"http://127.0.0.1:8081\"";
    let own = "kind = \"web-api\"\naddress = \"https://x.example/\"\n[proof.pages.recipe]\nadd = { method = \"PUT\", url = \"${address}/a\" }\n\
               remove = { method = \"DELETE\", url = \"${address}/a\", accept = [404] }";
    for proof in [
        "kind = \"by-hand\"",
        "kind = \"program\"\ncommand = [\"records\"]",
        "kind = \"standing-record\"\nuntil = \"2027-03-31\"",
        named,
        panel,
        own,
    ] {
        assert_eq!(said(&with(proof)), "no mistake");
    }
    for (proof, wanted) in [
        ("kind = \"dns-update\"", "has no `key-file` (add a line: key-file = \"zone.key\")"),
        (&format!("{zone}\nkey-name = \"lamp\""), "`key-file` has everything; `key-name` says it again"),
        ("kind = \"dns-update\"\nkey-name = \"lamp\"", "has no `key-secret-file`"),
        (&format!("{named}\nkey-secret-file = \"z\""), "both say where the secret is (keep one of the two)"),
        (&named.replace("dns-account-01", "http-01"), "`challenge` in [proof.pages] wants one of \"dns-01\""),
        (&panel.replace("powerdns", "powerdms"), "no recipe `powerdms` is shipped (did you mean `powerdns`?)"),
        (&panel.replace("127.0.0.1", "192.0.2.1"), "`address` in [proof.pages] wants a URL that begins with https"),
        (&own.replace("DELETE", "delete"), "`method` in this `remove` wants one of GET, POST"),
        (&own.replace("[404]", "404"), "`accept` in this `remove` wants a list of numbers"),
        (&own.replace("${address}/a\" }", "${address\" }"), "`${` without `}` (slots look like ${name})"),
        ("kind = \"web-api\"\nrecipe = {}\naddress = \"https://x.example\"", "this recipe has no `add`"),
        ("kind = \"program\"\ncommand = [\"r\"]\nhost = \"far\"", "the inventory has no [host.far]"),
        ("kind = \"standing-record\"\nuntil = \"soon\"", "`until` in [proof.pages] wants a day like"),
        (&zone.replace("192.0.2.53", "ns.example"), "`server` in [proof.pages] wants an address like \"192.0.2.53\""),
        (&format!("{zone}\nttl = 0"), "`ttl` in [proof.pages] wants a number from 1 to 86400"),
        (&format!("{zone}\nname-servers = [\"ns1\"]"), "`name-servers` wants addresses, this is `ns1`"),
        (&format!("{zone}\nzone = \"lamp holm\""), "`zone` in [proof.pages] wants the name of a zone"),
        ("kind = \"program\"", "has no `command`"),
        ("kind = \"program\"\ncommand = []", "`command` in [proof.pages] is empty"),
        ("kind = \"tls-listener\"", "`*.lampholm.example` is a wildcard, and `tls-listener` cannot prove a wildcard"),
    ] {
        assert!(said(&with(proof)).contains(wanted), "{proof}\n{}\nlacks\n{wanted}", said(&with(proof)));
    }
}

#[test]
fn hosts_are_read_and_their_mistakes_said() {
    let pages = "[proof.pages]\nkind = \"http-folder\"";
    let ssh = "[host.node]\nkind = \"ssh\"\naddress = \"node.lampholm.example\"\nport = 2222\njump = \"gate\"\n";
    let ftp =
        "[host.site]\nkind = \"ftp\"\naddress = \"ftp.lampholm.example\"\nuser = \"keeper\"\npassword-file = \"p\"\n";
    let with = |hosts: &str| GOOD.replace(pages, &format!("{hosts}{pages}\nhost = [\"node\", \"site\"]"));
    let both = format!("{ssh}{ftp}");
    let mut inventory = parse_inventory(&with(&both)).unwrap();
    inventory.resolve_paths(Path::new("/etc/eskort"));
    let Proof::HttpFolder { folder, hosts, .. } = &inventory.proofs["pages"] else { panic!() };
    assert_eq!(
        (folder.to_str(), hosts.len()),
        (Some("/srv/www/lampholm"), 2),
        "a folder elsewhere stays as it is written"
    );
    let HostKind::Ftp(site) = &inventory.hosts["site"].kind else { panic!() };
    assert_eq!(
        (site.port, site.tls, &site.password),
        (21, FtpTls::Explicit, &SecretSource::File("/etc/eskort/p".into()))
    );
    for (from, to, wanted) in [
        ("node.lampholm.example", "-oProxyCommand=x", "`address` cannot be `-oProxyCommand=x`"),
        ("\"gate\"", "[\"a b\"]", "`jump` cannot be `a b`"),
        ("port = 2222", "port = 0", "`port` in [host.node] wants a number from 1 to 65535"),
        ("user = \"keeper\"\n", "", "[host.site] has no `user`"),
        ("password-file = \"p\"", "password = \"oil\"", "unknown key `password` in [host.site]"),
        ("password-file = \"p\"", "", "[host.site] has no `password-file`"),
        (
            "password-file = \"p\"",
            "password-env = \"P\"\ntls = \"yes\"",
            "`tls` in [host.site] wants one of \"explicit\"",
        ),
        ("kind = \"ssh\"", "kind = \"ssl\"", "unknown kind `ssl` (did you mean `ssh`?)"),
        ("[host.site]", "[host.sites]", "the inventory has no [host.site] (did you mean `sites`?)"),
    ] {
        let changed = both.replace(from, to);
        assert_ne!(changed, both, "{from}");
        assert!(said(&with(&changed)).contains(wanted), "{to}\n{}\nlacks\n{wanted}", said(&with(&changed)));
    }
}

#[test]
fn a_server_on_another_machine_has_paths_and_commands_of_that_machine() {
    let node = "[host.node]\nkind = \"ssh\"\naddress = \"node.lampholm.example\"\n\n\
                [host.site]\nkind = \"ftp\"\naddress = \"ftp.lampholm.example\"\nuser = \"keeper\"\npassword-file = \"p\"\n\n";
    let with = |lines: &str| format!("{GOOD}\n{node}[server.far]\n{lines}\n");
    let nginx = "kind = \"nginx\"\nhost = \"node\"\ncertificates-folder = \"/srv/tls\"";
    let mut inventory = parse_inventory(&with(nginx)).unwrap();
    inventory.resolve_paths(Path::new("/home/keeper"));
    let far = &inventory.servers["far"];
    assert_eq!(far.host.as_deref(), Some("node"));
    let ServerKind::Configured(far) = &far.kind else { panic!() };
    let paths = [Some(&*far.config), far.certificates.as_deref()];
    assert_eq!(paths, [Some(Path::new("/etc/nginx/nginx.conf")), Some(Path::new("/srv/tls"))]);
    let files = |more: &str, copy: &str| {
        format!("kind = \"files\"\nhost = \"node\"\n{more}\ncopy = [{{ part = \"key\", to = \"/srv/key\"{copy} }}]")
    };
    assert_eq!(said(&with(&files("", ""))), "no mistake");
    // A server on two machines is two servers.
    let two = with(&nginx.replace("\"node\"", "[\"node\", \"second\"]"))
        + "\n[host.second]\nkind = \"ssh\"\naddress = \"192.0.2.9\"\n";
    let two = parse_inventory(&two).unwrap();
    let names: Vec<&str> = two.servers.keys().map(String::as_str).filter(|name| name.contains('@')).collect();
    assert_eq!(names.len(), 2, "{names:?}");
    assert_eq!(two.servers[names[1]].check_address.map(|address| address.to_string()), Some("192.0.2.9".to_owned()));
    for (lines, wanted) in [
        (nginx.replace("node", "nodes"), "the inventory has no [host.nodes] (did you mean `node`?)"),
        (nginx.replace("node", "site"), "host `site` is reached over FTP, which runs no commands"),
        (nginx.replace("/srv", "srv"), "`srv/tls` has to be absolute"),
        (nginx.replace("nginx", "postfix") + "\ntls-port = 4443", "`tls-port` is for servers of kind nginx and apache"),
        (files("user = \"lamp\"", ""), "`user` is for servers of this machine"),
        (
            files("run = [\"true\"]", "").replace("node", "site"),
            "host `site` is reached over FTP, which runs no commands",
        ),
        (files("", ", owner = \"lamp\"").replace("node", "site"), "which gives files to nobody else"),
        (
            files("", "").replace("node", "site")
                + "\n[host.clear]\nkind = \"ftp\"\naddress = \"a.example\"\nuser = \"k\"\npassword-file = \"p\"\ntls = \"none\"\n[server.more]\n"
                + &files("", "").replace("node", "clear"),
            "host `clear` is reached over FTP, without TLS: the key would travel in clear",
        ),
        (files("env = [\"LAMP\"]", ""), "`env` is for servers of this machine"),
    ] {
        let found = said(&with(&lines));
        assert!(found.contains(wanted), "{lines}\n{found}\nlacks\n{wanted}");
    }
}

#[test]
fn one_certificate_can_prove_different_names_in_different_ways() {
    let zone = "[proof.zone]\nkind = \"by-hand\"\n\n[certificate.website]";
    let source = GOOD
        .replace("[certificate.website]", zone)
        .replace("names = [", "names = [\"*.lampholm.example\", \"192.0.2.7\", ");
    let with = |line: &str| source.replace("names = [", &format!("{line}\nnames = ["));
    let good = with("proof = \"pages\"\nproof-for = { \"*.lampholm.example\" = \"zone\" }");
    let inventory = parse_inventory(&good).unwrap();
    let entry = &inventory.certificates["website"];
    let proofs: Vec<&str> = entry.names.iter().filter_map(|n| entry.proof_of(n)).collect();
    assert_eq!(proofs[..2], ["zone", "pages"]);
    for (line, wanted) in [
        ("proof = \"pages\"", "`*.lampholm.example` is a wildcard, and `http-folder` cannot prove a wildcard"),
        ("proof = \"zone\"", "`192.0.2.7` is an address, and `by-hand` cannot prove an address"),
        ("proof-for = { \"shop.example\" = \"zone\" }", "`proof-for` has `shop.example`, which is not among `names`"),
        ("proof-for = { \"192.0.2.7\" = \"page\" }", "the inventory has no [proof.page] (did you mean `pages`?)"),
        ("proof-for = { \"192.0.2.7\" = \"pages\" }", "has no `proof`"),
    ] {
        let found = said(&with(line));
        assert!(found.contains(wanted), "{line}\n{found}\nlacks\n{wanted}");
    }
}

#[test]
fn missing_sections_and_several_mistakes_at_once_are_all_named() {
    let bare = "[certificate.website]\nnames = []\n";
    let all = said(bare);
    for wanted in ["no [authority.NAME]", "no [proof.NAME]", "`names` is empty"] {
        assert!(all.contains(wanted), "{all}");
    }
    assert_eq!(said("state = \"x\"\n"), "no mistake");
    assert!(said("certificate = 3").contains("[certificate.NAME]"));
}

#[test]
fn a_broken_section_is_not_reported_as_missing_too() {
    let source = GOOD.replace("folder = \"/srv", "fodler = \"/srv");
    assert!(said(&source).contains("did you mean `folder`?") && !said(&source).contains("the inventory has no"));
}

proptest::proptest! {
    #[test]
    fn any_change_of_one_place_is_read_or_refused(at in 0..GOOD.len(), with in "[\\[\\]{}=\"#a-z0-9.\n]{0,4}") {
        let source = format!("{}{with}{}", &GOOD[..at], &GOOD[at + 1..]);
        if let Err(Mistakes(mistakes)) = parse_inventory(&source) {
            proptest::prop_assert!(!mistakes.is_empty());
            for mistake in mistakes {
                let line = source.split('\n').nth(mistake.line - 1).map(|line| line.trim_end_matches('\r'));
                proptest::prop_assert_eq!(line, Some(&*mistake.text), "{}", mistake.what);
            }
        }
    }
}
