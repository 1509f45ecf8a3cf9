//! What the desk of an authority without ACME asks as proof: a file, a record, a mail; and notes on the order.

use crate::bind::{Bind, KEY};
use crate::office::Office;
use crate::world::*;
use crate::zones::power_dns;
use eskort_core::record::RecordType;
use eskort_dns::ask_records;
use std::net::SocketAddr;

/// Adds proofs and a certificate of the office to an inventory.
fn inventory(office: &Office, site: Option<SocketAddr>, zone: &str) {
    let place = &office.place;
    let text = place
        .read("eskort.toml")
        .replace("[\"stock.lampholm.internal\", \"192.0.2.7\"]", "[\"archive.lampholm.example\"]");
    let at = site.unwrap_or_else(|| SocketAddr::from(([127, 0, 0, 1], 9)));
    let pages = format!("[proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"{at}\"\n\n");
    place.write("eskort.toml", &format!("{text}\n{pages}{zone}"));
}

fn zone_section(server: SocketAddr, how: &str) -> String {
    format!("[proof.zone]\n{how}\nserver = \"{server}\"\nname-servers = [\"{server}\"]\n\n")
}

#[test]
fn what_the_desk_asks_is_published_until_the_answer_is_here_and_can_be_changed_over() {
    let world = World::new();
    let (office, bind) = (Office::new(), Bind::start());
    let place = &office.place;
    // The practice site serves this place's folder.
    world.site.serve("archive.lampholm.example", &place.path("www"));
    place.write("zone.key", KEY);
    let zone = zone_section(bind.address, "kind = \"dns-update\"\nkey-file = \"zone.key\"");
    inventory(&office, Some(world.site.plain_address()), &zone);
    let note = |more: &[&str]| place.run(&[&["note", "stock"], more].concat());
    note(&["--order", "4711"])
        .check(1, &["nothing was noted", "no journey of `stock` waits", "eskort keep --only stock"]);
    place.run(&["keep"]).check(3, &["Carry this CSR", "can be noted with `eskort note stock`"]);
    let said = note(&["--order", "4711", "--placed", "2026-11-20", "--page", "https://desk.lampholm.example/4711"]);
    said.check(3, &["4711, placed on 2026-11-20", "page https://desk.lampholm.example/4711"]);
    assert!(!said.out.contains("BEGIN CERTIFICATE REQUEST"), "it is carried there already");

    let path = "/.well-known/pki-validation/lamp.txt";
    let published = place.path("www").join(path.trim_start_matches('/'));
    place.write("slip.txt", "office=lamp\nca.lampholm.example\n");
    let said = note(&["--file", path, "--from", "slip.txt", "--by", "pages"]);
    said.check(
        3,
        &[
            "published by proof `pages`",
            "seen http://archive.lampholm.example/.well-known/pki",
            "notify it that it may look",
        ],
    );
    assert_eq!(std::fs::read_to_string(&published).unwrap(), "office=lamp\nca.lampholm.example\n");
    // The authority may look on any day: neither a run for something else nor one after another takes it away.
    let more = place.read("eskort.toml") + "\n[certificate.other]\nnames = [\"other.lampholm.internal\"]\n";
    place.write("eskort.toml", &more);
    for words in [&["keep", "--only", "other"][..], &["keep"], &["receive", "root.pem"]] {
        place.run(words);
        assert!(published.exists(), "{words:?}");
    }
    note(&["--notified"]).check(3, &["validation in progress", "4711"]);
    // Somebody removed it: the next run puts it back.
    std::fs::remove_file(&published).unwrap();
    place.run(&["keep"]).check(3, &["go on with generation 1 from `ordered`", "seen http://archive"]);
    assert!(published.exists());

    // Changed over to records, of either type, and nothing stays of the former way.
    let at = |name: &str, kind| runtime().block_on(ask_records(bind.address, name, kind)).unwrap().texts;
    let cname = "_a1b2.archive.lampholm.example";
    note(&["--record", cname, "--cname", "c3d4.ca.example.", "--by", "zone"])
        .check(3, &["a CNAME record, published by proof `zone`", "CNAME c3d4.ca.example.", "seen _a1b2.archive"]);
    assert_eq!(at(cname, RecordType::Cname), ["c3d4.ca.example"]);
    place.check_nothing_published();
    let txt = "archive.lampholm.example";
    note(&["--record", txt, "--txt", "office=lamp", "--by", "zone"]).check(3, &["a TXT record", "seen archive"]);
    assert_eq!((at(cname, RecordType::Cname), at(txt, RecordType::Txt)), (vec![], vec!["office=lamp".to_owned()]));
    // A name server that lags is waited for until the authority was told; then only said.
    let other = Bind::start();
    let text = place.read("eskort.toml");
    place.write(
        "eskort.toml",
        &text.replace(
            "name-servers = [",
            &format!("propagation-timeout = \"1h\"\nname-servers = [\"{}\", ", other.address),
        ),
    );
    let begun = std::time::Instant::now();
    note(&["--notified"]).check(3, &["1 of 2 name servers do not have it yet", "validation in progress"]);
    assert!(begun.elapsed() < std::time::Duration::from_secs(600), "an hour was waited for");
    place.write("eskort.toml", &text);
    place.run(&["show", "stock"]).check(
        0,
        &[
            "order 4711, placed on 2026-11-20",
            "asked a TXT record",
            "noted: proof: the TXT record at archive.lampholm.example",
        ],
    );

    office.answer(1, 300);
    place.write("answer.pem", &office.all()[..3].concat());
    place.run(&["receive", "answer.pem"]).check(0, &["generation 1 stored and put in place"]);
    assert_eq!(at(txt, RecordType::Txt), Vec::<String>::new(), "the record is gone with the answer");
}

#[test]
fn a_proof_that_cannot_be_seen_yet_is_no_failure_and_stays() {
    let world = World::new();
    let (office, bind) = (Office::new(), Bind::start());
    let place = &office.place;
    inventory(&office, Some(world.site.plain_address()), &zone_section(bind.address, "kind = \"by-hand\""));
    place.run(&["keep"]).check(3, &[]);
    let note = |more: &[&str]| place.run(&[&["note", "stock"], more].concat());
    // The site serves another folder: the file is not to be seen, and is left for the person to mend that.
    place.write("slip.txt", "lamp");
    let path = "/.well-known/pki-validation/lamp.txt";
    note(&["--file", path, "--from", "slip.txt", "--by", "pages"])
        .check(3, &["not seen", "404", "`eskort keep` looks again"]);
    assert!(place.path("www/.well-known/pki-validation/lamp.txt").exists());
    world.site.serve("archive.lampholm.example", &place.path("www"));
    let report = place.run(&["keep", "--output", "json"]);
    let report: serde_json::Value = serde_json::from_str(&report.check(3, &[]).out).unwrap();
    let step = &report["certificates"][0]["manual_step"];
    assert_eq!((&step["proof"]["is"], &step["notes"]["asked"]["by"]), (&"seen".into(), &"pages".into()));

    let record = "_office.archive.lampholm.example";
    note(&["--record", record, "--txt", "lamp", "--by", "zone"])
        .check(3, &["it is not there yet", "Place 1 TXT record", &format!("{record}. 60 IN TXT \"lamp\"")]);
    place.check_nothing_published();
    // A program is told the type, and told again to remove it.
    let script =
        "[proof.script]\nkind = \"program\"\ncommand = [\"tee\", \"-a\", \"told\"]\npropagation-timeout = \"1s\"\n";
    let server = format!("server = \"{0}\"\nname-servers = [\"{0}\"]\n", bind.address);
    place.write("eskort.toml", &[&place.read("eskort.toml"), "\n", script, &server].concat());
    note(&["--record", record, "--cname", "c3d4.ca.example", "--by", "script"])
        .check(3, &["name servers do not have it yet"]);
    note(&["--no-proof"]).check(3, &[]);
    let told = place.read("told");
    assert_eq!(told.lines().count(), 2, "{told}");
    for (line, what) in told.lines().zip(["add", "remove"]) {
        let line: serde_json::Value = serde_json::from_str(line).unwrap();
        assert_eq!((&line["what"], &line["type"]), (&what.into(), &"CNAME".into()), "{line}");
    }
    note(&["--mail", "hostmaster@lampholm.example"])
        .check(3, &["Do what the mail to hostmaster@lampholm.example says"]);
    note(&["--notified"]).check(3, &["validation in progress"]);
    note(&["--no-proof"]).check(3, &["When the answer is here"]);
    place.run(&["list"]).check(3, &["waits for you"]);

    for (words, code, said) in [
        (&["--file", "/../x", "--from", "slip.txt"][..], 2, "not a path that can be used in a URL"),
        (&["--file", "/x", "--from", "gone.txt"], 2, "cannot read gone.txt"),
        (&["--file", "/x", "--from", "slip.txt", "--by", "zone"], 1, "no proof `zone` of kind http-folder"),
        (
            &["--record", record, "--txt", "x", "--by", "pages"],
            1,
            "the inventory has no proof `pages` that places records",
        ),
        (&["--record", "_office.harbour.example", "--txt", "x"], 2, "belongs to none of the certificate's names"),
        (&["--record", record], 2, "--txt <TEXT>|--cname <TARGET>"),
        (&["--mail", "keeper@lampholm.example"], 2, "not one of the five addresses"),
        (&["--mail", "admin@lampholm.example", "--no-proof"], 2, "cannot be used with"),
    ] {
        note(words).check(code, &[said]);
    }
    std::fs::create_dir_all(place.path("www/.well-known/pki-validation")).unwrap();
    place.write("www/.well-known/pki-validation/lamp.txt", "somebody else's");
    note(&["--file", path, "--from", "slip.txt", "--by", "pages"])
        .check(1, &["exists already and contains something else"]);
    assert_eq!(place.read("www/.well-known/pki-validation/lamp.txt"), "somebody else's");
}

#[test]
fn powerdns_takes_a_cname_record_over_its_api_and_a_killed_run_leaves_nothing() {
    let office = Office::new();
    let (server, api_port) = power_dns();
    let place = &office.place;
    place.write("secret", "oil-and-wick");
    let how = format!(
        "kind = \"web-api\"\nrecipe = \"powerdns\"\naddress = \"http://127.0.0.1:{api_port}\"\nsecret-file = \"secret\""
    );
    inventory(&office, None, &zone_section(server.address, &how));
    place.run(&["keep"]).check(3, &[]);
    let (name, target) = ("_a1b2.archive.lampholm.example", "c3d4.ca.example");
    let at = || runtime().block_on(ask_records(server.address, name, RecordType::Cname)).unwrap().texts;
    let words = ["note", "stock", "--record", name, "--cname", target, "--by", "zone"];
    for point in ["owed", "record-added"] {
        assert_eq!(place.run_with("ESKORT_CRASH_AT", point, &words).code, None, "{point}");
        place.run(&["keep"]).check(3, &["seen _a1b2.archive"]);
        assert_eq!(at(), [target], "{point}");
        place.run(&["note", "stock", "--no-proof"]).check(3, &[]);
        assert_eq!(at(), Vec::<String>::new(), "{point}");
    }
}
