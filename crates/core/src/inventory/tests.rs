use super::*;

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
    let Err(Mistakes(mistakes)) = read_inventory(source) else { return "no mistake".into() };
    let line = |m: &Mistake| format!("{}: {} ({})", m.line, m.what, m.advice.as_deref().unwrap_or("-"));
    mistakes.iter().map(line).collect::<Vec<_>>().join("\n")
}

#[test]
fn reads_a_whole_inventory_with_its_defaults() {
    let inventory = read_inventory(GOOD).unwrap();
    let website = &inventory.certificates["website"];
    assert_eq!(website.names.len(), 2);
    assert_eq!((&*website.authority, &*website.proof, website.key), ("public", "pages", KeyKind::P256));
    assert!(website.install[0].redirect);
    let ServerKind::Nginx { config, tls_port, test, .. } = &inventory.servers["front"].kind else { panic!() };
    assert_eq!((config.to_str(), *tls_port, test), (Some("/etc/nginx/nginx.conf"), 443, &None));
    assert_eq!(inventory.servers["front"].settle, Duration::from_secs(30));
}

#[test]
fn relative_paths_lie_in_the_inventorys_folder() {
    let mut inventory = read_inventory(&GOOD.replace("/srv/www/lampholm", "www")).unwrap();
    inventory.resolve_paths(Path::new("/etc/eskort"));
    let Proof::HttpFolder { folder, .. } = &inventory.proofs["pages"] else { panic!() };
    assert_eq!(folder, Path::new("/etc/eskort/www"));
    let ServerKind::Nginx { config, .. } = &inventory.servers["front"].kind else { panic!() };
    assert_eq!(config, Path::new("/etc/nginx/nginx.conf"));
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
            "2: unknown key `colour` in the top of the file (known here: contact, state, authority",
        ),
        (
            "kind = \"acme\"",
            "kind = \"acne\"",
            "5: [authority.public] has an unknown kind `acne` (did you mean `acme`?)",
        ),
        ("kind = \"nginx\"\n", "", "13: [server.front] has no `kind` (add a line: kind = \"nginx\" or \"files\")"),
        ("https://ca", "http://ca", "6: `directory` in [authority.public] wants an address that begins with https://"),
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
        ("server = \"front\"", "server = \"frnot\"", "18: there is no [server.frnot] (did you mean `front`?)"),
        (
            "redirect = true",
            "redirect = \"yes\"",
            "18: `redirect` in this `install` wants true or false, this is a string",
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
        ("kind = \"nginx\"", "kind = \"nginx\"\nsettle = \"soon\"", "15: `settle` in [server.front] wants a time"),
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
    let inventory = read_inventory(&with(zone)).unwrap();
    let Proof::DnsUpdate(update) = &inventory.proofs["pages"] else { panic!() };
    assert_eq!((update.server.port(), update.ttl, update.settle), (53, 60, Duration::from_secs(120)));
    for proof in ["kind = \"by-hand\"", "kind = \"program\"\ncommand = [\"records\"]"] {
        assert_eq!(said(&with(proof)), "no mistake");
    }
    for (proof, wanted) in [
        ("kind = \"dns-update\"\nkey-file = \"k\"", "has no `server` (add a line: server = \"192.0.2.53\")"),
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
    assert!(said(&source).contains("did you mean `folder`?") && !said(&source).contains("there is no"));
}

proptest::proptest! {
    #[test]
    fn any_change_of_one_place_is_read_or_refused(at in 0..GOOD.len(), with in "[\\[\\]{}=\"#a-z0-9.\n]{0,4}") {
        let source = format!("{}{with}{}", &GOOD[..at], &GOOD[at + 1..]);
        if let Err(Mistakes(mistakes)) = read_inventory(&source) {
            proptest::prop_assert!(!mistakes.is_empty());
        }
    }
}
