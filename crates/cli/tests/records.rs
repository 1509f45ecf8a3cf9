//! Proofs by TXT records in the practice world: a server that lags, an API of a panel, drafts, and several proofs at once.

use crate::world::*;
use eskort_practice::{Offer, Panel, Resource};
use std::sync::Arc;
use std::time::Duration;

const ARCHIVE: &str = "_acme-challenge.archive.lampholm.example";

impl World {
    /// A wildcard and its bare name, proved by dynamic updates that two name servers have to have.
    fn write_archive(&self, change: impl FnOnce(String) -> String) {
        self.place.write("zone.key", &self.names.update_key());
        let (first, second) = (self.names.address(), self.names.second_address());
        let zone = format!(
            "[proof.zone]\nkind = \"dns-update\"\nserver = \"{first}\"\nkey-file = \"zone.key\"\npropagation-timeout = \"4s\"\n\
             name-servers = [\"{first}\", \"{second}\"]\n\n[certificate.archive]\n\
             names = [\"*.archive.lampholm.example\", \"archive.lampholm.example\"]\nproof = \"zone\"\n"
        );
        self.write_inventory(|text| change(without_website(&text) + &zone));
    }
}

fn without_website(text: &str) -> String {
    text.split("[certificate.website]").next().unwrap().to_owned()
}

#[test]
fn the_authority_is_never_asked_before_a_record_is_everywhere() {
    let world = World::new();
    world.write_archive(|text| text);
    // Longer than `propagation-timeout`: nobody is asked.
    world.names.set_lag(Duration::from_secs(3600));
    let late = world.place.run(&["keep"]);
    late.check(
        1,
        &["1 of 2 name servers do not have the records after 4 seconds", "on 1 of 2 name servers, 0 seconds"],
    );
    assert_eq!(world.names.texts(ARCHIVE), Vec::<String>::new(), "what was published is taken away");
    let (mut orders, mut rounds) = (0, 0);
    for lag in [0, 100, 700, 1500] {
        world.names.set_lag(Duration::from_millis(lag));
        world.write_archive(|text| text + ["key = \"p256\"\n", "key = \"p384\"\n"][rounds % 2]);
        let said = world.place.run(&["keep"]);
        said.check(0, &["control of *.archive.lampholm.example and archive.lampholm.example proved"]);
        assert!(said.err.contains("on 1 of 2 name servers") || lag < 500, "{lag}: {said}");
        (orders, rounds) = (orders + 1, rounds + 1);
        assert_eq!(world.authority.counts(), (orders, orders));
    }
    assert_eq!(world.authority.early_looks(), 0);
}

#[test]
fn a_panels_api_places_and_removes_its_own_records_only() {
    let world = World::new();
    let runtime = runtime();
    let panel = runtime.block_on(Panel::start(Arc::clone(&world.names))).unwrap();
    world.place.write("token", &format!("{}\n", panel.token()));
    world.place.write("other-token", "hmac");
    world.place.write("panel-root.pem", panel.root_pem());
    let api = format!(
        "kind = \"web-api\"\nrecipe = \"lampholm-panel\"\naddress = \"{}\"\nroots = \"panel-root.pem\"\nsecret-file = \"token\"",
        panel.address()
    );
    let by_api = |text: String| text.replace("kind = \"dns-update\"", &api).replace("key-file = \"zone.key\"\n", "");
    world.names.add_text(ARCHIVE, "somebody else's");
    world.write_archive(by_api);
    let inventory = world.place.read("eskort.toml");

    let token = panel.token();
    for (from, to, said) in [
        (
            "secret-file = \"token\"",
            "secret-file = \"other-token\"",
            "was answered with 401: {\"message\":\"this token is not known\"}",
        ),
        ("secret-file = \"token\"", "secret-env = \"PANEL_TOKEN\"", "cannot read the environment variable PANEL_TOKEN"),
        ("secret-file = \"token\"\n", "", "the recipe `lampholm-panel` cannot be used: it wants a secret"),
        ("\"panel-root.pem\"", "\"api-root.pem\"", "cannot reach https://127.0.0.1"),
        (
            "[proof.zone]",
            "[proof.zone]\nzone = \"example\"",
            "was answered with 404: {\"message\":\"no zone example here\"}",
        ),
    ] {
        world.place.write("eskort.toml", &inventory.replace(from, to));
        let failed = world.place.run(&["keep", "--verbose"]);
        failed.check(1, &[said]);
        assert!(!failed.err.contains(token) && !failed.err.contains("hmac"), "{failed}");
    }
    world.place.write("eskort.toml", &inventory);
    // What is on this machine is not asked through a proxy.
    let nowhere = format!("http://127.0.0.1:{}", free_port());
    let mut command = world.place.eskort();
    for name in ["HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"] {
        command.env(name, &nowhere).env(name.to_lowercase(), &nowhere);
    }
    let output = command.arg("keep").output().unwrap();
    Said::from(output).check(0, &["go on with generation 1", "confirmed"]);
    assert_eq!(world.names.texts(ARCHIVE), ["somebody else's"]);

    // Killed after the panel took the record and before that was written down: found again, and removed.
    for (n, point) in ["owed", "record-added", "saved-publish"].into_iter().enumerate() {
        world.place.write("eskort.toml", &format!("{inventory}key = \"{}\"\n", ["p384", "p256", "p384"][n]));
        let killed = world.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
        world.place.run(&["keep"]).check(0, &["confirmed"]);
        assert_eq!(world.names.texts(ARCHIVE), ["somebody else's"], "{point}");
    }
}

#[test]
fn a_recipe_of_ones_own_is_read_from_its_file_and_its_mistakes_are_shown() {
    let world = World::new();
    world.place.write("own.toml", "[add]\nmethod = \"POST\"\nurl = \"${address}/x\"\n[remoev]\n");
    let api = "kind = \"web-api\"\nrecipe = \"own.toml\"\naddress = \"https://127.0.0.1:9\"";
    world.write_archive(|text| text.replace("kind = \"dns-update\"", api).replace("key-file = \"zone.key\"\n", ""));
    world
        .place
        .run(&["keep"])
        .check(1, &["the recipe", "own.toml cannot be used", "unknown key `remoev`", "did you mean `remove`?"]);
    world.place.write(
        "own.toml",
        "add = { method = \"POST\", url = \"${adress}/x\" }\nremove = { method = \"GET\", url = \"x\" }\n",
    );
    world.place.run(&["keep"]).check(1, &["nothing gives a value for `${adress}`", "with = { adress"]);
}

/// Answers every request with a refusal that repeats the request, once as it came and once decoded.
fn echo() -> u16 {
    use std::io::{Read, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().filter_map(Result::ok) {
            let mut buffer = [0; 8192];
            let read = stream.read(&mut buffer).unwrap_or(0);
            let asked = String::from_utf8_lossy(&buffer[..read]).into_owned();
            let body = format!("{asked}\n{}", asked.replace("%2B", "+").replace("%2F", "/").replace("%3D", "="));
            let head = format!("HTTP/1.1 403 Forbidden\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len());
            let _ = stream.write_all((head + &body).as_bytes());
        }
    });
    port
}

#[test]
fn a_secret_that_every_encoding_changes_is_never_shown_or_written_down() {
    let secret = "oil+wick/7==";
    let forms = [secret, "oil%2Bwick%2F7%3D%3D", "oil%2bwick%2f7%3d%3d", "b2lsK3dpY2svNz09", "oil+wick\\/7=="];
    for (url, body) in
        [("${address}/x?key=${secret}", ""), ("${address}/x/${value}", ", body = '{\"key\": \"${secret}\"}'")]
    {
        for address in [format!("http://127.0.0.1:{}", echo()), "http://127.0.0.1:9".to_owned()] {
            let world = World::new();
            world.place.write("token", secret);
            let one = format!("{{ method = \"POST\", url = \"{url}\"{body} }}");
            world.place.write("own.toml", &format!("value = \"${{text}}-${{secret}}\"\nadd = {one}\nremove = {one}\n"));
            let api =
                format!("kind = \"web-api\"\nrecipe = \"own.toml\"\naddress = \"{address}\"\nsecret-file = \"token\"");
            world.write_archive(|text| {
                text.replace("kind = \"dns-update\"", &api).replace("key-file = \"zone.key\"\n", "")
            });
            let said = world.place.run(&["keep", "--verbose"]);
            said.check(1, &["[redacted]"]);
            let shown = world.place.run(&["show", "archive", "--output", "json"]);
            let ledger = std::fs::read(world.place.path("state/ledger.sqlite")).unwrap();
            let wal = std::fs::read(world.place.path("state/ledger.sqlite-wal")).unwrap_or_default();
            let all = [said.out, said.err, shown.out, String::from_utf8_lossy(&[ledger, wal].concat()).into_owned()];
            for form in forms {
                assert!(all.iter().all(|text| !text.contains(form)), "{form} in {}", all[1]);
            }
        }
    }
}

#[test]
fn a_standing_record_is_placed_once_and_serves_every_renewal() {
    let world = World::with(|options| options.offers = &[Offer::DnsPersist01]);
    let address = world.names.address();
    world.write_archive(|text| {
        let text = text.replace("kind = \"dns-update\"", "kind = \"standing-record\"\nuntil = \"2199-12-31\"");
        text.lines()
            .filter(|l| !l.starts_with("key-file") && !l.starts_with("propagation-timeout"))
            .map(|l| format!("{l}\n"))
            .collect()
    });
    let told = world.place.run(&["keep"]);
    told.check(
        3,
        &["archive waits for you", "Place 1 TXT record, once and for good", "name _validation-persist.archive"],
    );
    let account = format!("{}account/0", world.authority.directory().trim_end_matches("directory"));
    let text = format!("ca.lampholm.example; accounturi={account}; policy=wildcard; persistUntil=7258032000");
    told.check(3, &[&text]);
    world.place.run(&["list"]).check(3, &["archive", "waits for you"]);
    let days = world.place.run_with("ESKORT_CLOCK_OFFSET", &(3 * 86_400).to_string(), &["list"]);
    days.check(3, &["waits for you, 3 days"]);
    world
        .place
        .run(&["show", "archive"])
        .check(0, &["place", "_validation-persist.archive.lampholm.example. TXT", &text]);

    // Too little, then what was asked for in other words.
    let name = "_validation-persist.archive.lampholm.example";
    world.names.add_text(name, &text.replace("; policy=wildcard", ""));
    world.place.run(&["keep"]).check(3, &["waits for you"]);
    world.names.add_text(name, &text);
    world.place.run(&["keep"]).check(0, &["go on with generation 1 from `ordered`", "confirmed"]);
    let renewal = world.place.run_with("ESKORT_CLOCK_OFFSET", &(70 * 86_400).to_string(), &["keep"]);
    renewal.check(0, &["generation 2 stored"]);
    assert_eq!(world.names.texts(name).len(), 2, "it stays");
    assert_eq!(world.authority.counts(), (2, 2));
    assert_eq!(address, world.names.address());
}

#[test]
fn a_label_of_the_accounts_own_is_used_where_it_is_wanted_or_all_there_is() {
    let both: &[Offer] = &[Offer::Dns01, Offer::DnsAccount01];
    for (offers, wanted) in [(both, "challenge = \"dns-account-01\"\n"), (&[Offer::DnsAccount01], "")] {
        let world = World::with(|options| options.offers = offers);
        world.write_archive(|text| {
            text.replace("propagation-timeout = \"4s\"\n", &format!("propagation-timeout = \"4s\"\n{wanted}"))
        });
        world.place.run(&["keep"]).check(0, &["confirmed"]);
    }
    let world = World::with(|options| options.offers = &[Offer::Http01, Offer::DnsPersist01]);
    world.write_archive(|text| text);
    let said = world.place.run(&["keep"]);
    said.check(1, &["the authority offers no dns-01 or dns-account-01 challenge for *.archive.lampholm.example"]);
}

#[test]
fn one_certificate_proves_its_names_in_different_ways() {
    let world = World::new();
    world.write_archive(|text| {
        let names = "names = [\"lampholm.example\", \"127.0.0.1\", \"*.archive.lampholm.example\", \"tickets.lampholm.example\"]";
        let desk = format!(
            "[proof.desk]\nkind = \"by-hand\"\nserver = \"{0}\"\nname-servers = [\"{0}\"]\n\n[certificate.all]\n{names}\nproof = \"pages\"\n\
             proof-for = {{ \"*.archive.lampholm.example\" = \"zone\", \"tickets.lampholm.example\" = \"desk\" }}\n",
            world.names.address()
        );
        text.split("[certificate.archive]").next().unwrap().to_owned() + &desk
    });
    let told = world.place.run(&["keep", "--output", "json"]);
    told.check(3, &["awaits-person", "_acme-challenge.tickets.lampholm.example"]);
    assert!(!told.out.contains(ARCHIVE), "the machine's own record is not asked of a person: {told}");
    let report: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    let text = report["certificates"][0]["to_place"][0]["text"].as_str().unwrap();
    world.place.run(&["show", "all"]).check(0, &["pages (http-folder), zone (dns-update) for *.archive", text]);
    world.names.add_text("_acme-challenge.tickets.lampholm.example", text);
    world.place.run(&["keep"]).check(0, &["the records placed by hand can be removed now", "confirmed"]);
    let bundle = "state/certificates/all/0001/bundle.pem";
    let names =
        "DNS:lampholm.example, IP Address:127.0.0.1, DNS:*.archive.lampholm.example, DNS:tickets.lampholm.example";
    world.place.openssl(&["x509", "-in", bundle, "-noout", "-ext", "subjectAltName"]).check(0, &[names]);
    world.place.check_nothing_published();
    assert_eq!(world.names.texts(ARCHIVE), Vec::<String>::new());
}

#[test]
fn a_long_wait_for_the_authority_says_how_each_name_stands() {
    let world = World::with(|options| options.thinking = Duration::from_secs(5));
    world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"20s\""));
    let said = world.place.run(&["keep"]);
    said.check(0, &["lampholm.example  validation in progress, ", "generation 1 installed"]);
    // What is asked while it looks and issues does not grow with the names.
    let asked = world.authority.asked();
    let polls = asked.iter().filter(|r| matches!(r, Resource::Order | Resource::Authorization)).count();
    assert!(polls < 16, "{polls} questions in ten seconds: {asked:?}");
}

#[test]
fn a_program_needs_no_zone_and_one_that_never_began_leaves_no_debt() {
    let world = World::new();
    // A name server that knows the records and no SOA: it is asked for what the program placed, and for nothing else.
    let names = world.names.address();
    let with = |command: &str| {
        let proof = format!(
            "[proof.zone]\nkind = \"program\"\ncommand = [\"{command}\"]\nserver = \"127.0.0.1:9\"\npropagation-timeout = \"2s\"\n\
             name-servers = [\"{names}\"]\n\n[certificate.archive]\nnames = [\"archive.lampholm.example\"]\nproof = \"zone\"\n"
        );
        world.write_inventory(|text| without_website(&text) + &proof);
    };
    with("./gone");
    world.place.run(&["keep"]).check(1, &["cannot run `./gone`"]);
    let shown = world.place.run(&["show", "archive"]);
    assert!(!shown.out.contains("left over"), "{shown}");
    world.place.write("records", "#!/bin/sh\ncat >> told; exit 0\n");
    let path = world.place.path("records");
    std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    with("./records");
    world.place.run(&["keep"]).check(1, &["name servers do not have the records"]);
    assert!(world.place.read("told").contains("\"what\":\"add\""));
}
