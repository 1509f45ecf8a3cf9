//! Proofs by dynamic update: a real BIND as the zone's primary, a real ACME server that looks there.

use crate::pebble::Pebble;
use crate::world::*;
use eskort_core::record::RecordType;
use std::net::SocketAddr;
use std::process::{Command, Stdio};

pub(crate) const KEY: &str =
    "key \"lamp\" {\n\talgorithm hmac-sha256;\n\tsecret \"bGlnaHRob3VzZWtlZXBlcnNsaWdodGhvdXNla2VlcGVy\";\n};\n";
pub(crate) const RECORD: &str = "_acme-challenge.archive.lampholm.example";

/// A running BIND with the trust's zone; one key may update it, another only knows it.
pub(crate) struct Bind {
    pub(crate) address: SocketAddr,
    _place: Place,
    _process: Process,
}

impl Bind {
    pub(crate) fn start() -> Self {
        Bind::start_at(SocketAddr::from(([127, 0, 0, 1], free_port())))
    }

    pub(crate) fn start_at(address: SocketAddr) -> Self {
        Bind::start_with(address, "")
    }

    /// Starts one that signs the zone.
    pub(crate) fn signing() -> Self {
        Bind::signing_at(SocketAddr::from(([127, 0, 0, 1], free_port())))
    }

    pub(crate) fn signing_at(address: SocketAddr) -> Self {
        Bind::start_with(address, "dnssec-policy default; inline-signing yes; ")
    }

    fn start_with(address: SocketAddr, more_of_zone: &str) -> Self {
        let (ip, port) = (address.ip(), address.port());
        let place = Place::new();
        let dir = place.dir.path().display().to_string();
        place.write("key", KEY);
        let more = |name: &str, algorithm: &str| KEY.replace("lamp", name).replace("sha256", algorithm);
        place.write("other-key", &(more("other", "sha256") + &more("sha384", "sha384") + &more("sha512", "sha512")));
        place.write(
            "zone",
            "$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\n@ NS ns2\n@ A 127.0.0.1\nns1 A 127.0.0.1\nns2 A 127.0.0.1\n\
             archive A 127.0.0.1\n* A 127.0.0.1\n_acme-challenge.circle CNAME x\nx CNAME y\ny CNAME x\n\
             _acme-challenge.tickets CNAME tickets.proofs.test.\ntickets A 127.0.0.1\n",
        );
        place.write("proofs", "$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\nns1 A 127.0.0.1\n");
        place.write("above", "$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\nns1 A 127.0.0.1\n");
        let config = format!(
            "include \"{dir}/key\";\ninclude \"{dir}/other-key\";\ncontrols {{ }};\noptions {{ directory \"{dir}\"; \
             pid-file none; session-keyfile none; recursion yes; dnssec-validation no; listen-on-v6 {{ none; }};\n  \
             listen-on port {port} {{ {ip}; }}; }};\n\
             zone \"lampholm.example\" {{ type primary; file \"zone\"; {more_of_zone}allow-update {{ key lamp; }}; }};\n\
             zone \"proofs.test\" {{ type primary; file \"proofs\"; allow-update {{ key lamp; }}; }};\n\
             zone \"example\" {{ type primary; file \"above\"; }};\nzone \"test\" {{ type primary; file \"above\"; }};\n"
        );
        place.write("named.conf", &config);
        let child = Command::new("/usr/sbin/named")
            .args(["-f", "-c", &format!("{dir}/named.conf")])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("Debian's package bind9 is installed (scripts/test does it)");
        let process = Process(child);
        await_server(address, "BIND");
        Bind { address, _place: place, _process: process }
    }

    /// Returns the texts at the challenge's name.
    pub(crate) fn texts(&self) -> Vec<String> {
        runtime().block_on(eskort_dns::ask_records(self.address, RECORD, RecordType::Txt)).unwrap().texts
    }
}

/// An authority that looks at a name server, and an inventory with a wildcard and its bare name proved by updates of it.
pub(crate) fn archive(server: SocketAddr) -> Pebble {
    let pebble = Pebble::asking(server, &[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.place.write("zone.key", KEY);
    let text = format!(
        "{}[proof.zone]\nkind = \"dns-update\"\nserver = \"{1}\"\nkey-file = \"zone.key\"\nname-servers = [\"{1}\"]\n\
         propagation-timeout = \"2s\"\n\n[certificate.archive]\nnames = [\"*.archive.lampholm.example\", \"archive.lampholm.example\"]\n",
        pebble.authority_section(),
        server
    );
    pebble.place.write("eskort.toml", &text);
    pebble
}

#[test]
fn a_wildcard_and_its_bare_name_are_proved_side_by_side_and_the_records_go_again() {
    let bind = Bind::start();
    let pebble = archive(bind.address);
    pebble
        .place
        .run(&["keep"])
        .check(0, &["control of *.archive.lampholm.example and archive.lampholm.example proved"]);
    let bundle = "state/certificates/archive/0001/bundle.pem";
    let text = pebble.place.openssl(&["x509", "-in", bundle, "-noout", "-ext", "subjectAltName"]);
    text.check(0, &["DNS:*.archive.lampholm.example", "DNS:archive.lampholm.example"]);
    assert_eq!(bind.texts(), Vec::<String>::new(), "the records are gone");
    pebble.place.run(&["keep"]).check(0, &["nothing to do"]);
}

#[test]
fn what_keeps_a_record_from_its_zone_is_said_and_nothing_stays() {
    let bind = Bind::start();
    let pebble = archive(bind.address);
    let place = &pebble.place;
    let inventory = place.read("eskort.toml");
    let keep = || place.run(&["keep", "--only", "archive"]);
    let keys: [(String, &[&str]); 5] = [
        (KEY.replace("bGln", "AAAA"), &["another secret there (BADSIG)", "the same on both sides"]),
        (KEY.replace("\"lamp\"", "\"oil\""), &["does not know the key", "(BADKEY)"]),
        (KEY.replace("sha256", "sha512"), &["does not know the key", "the same on both sides"]),
        (KEY.replace("lamp", "other"), &["does not let the key update the zone lampholm.example", "allow-update"]),
        ("no key".into(), &["cannot use the key", "it contains no `key", "tsig-keygen"]),
    ];
    for (key, said) in &keys {
        place.write("zone.key", key);
        keep().check(1, said);
    }
    // Keys with longer digests, where the server has them: the first gets as far as the zone's own rule.
    for algorithm in ["sha384", "sha512"] {
        place.write("zone.key", &KEY.replace("lamp", algorithm).replace("sha256", algorithm));
        keep().check(1, &["does not let the key update the zone lampholm.example"]);
    }
    place.write("zone.key", KEY);
    let late = place.run_with("ESKORT_CLOCK_OFFSET", "4000", &["keep", "--only", "archive"]);
    late.check(1, &["this machine's clock is wrong (BADTIME)", "set the clocks"]);
    let silent = free_port();
    place.write(
        "eskort.toml",
        &inventory.replace("name-servers = [", &format!("name-servers = [\"127.0.0.1:{silent}\"] # [")),
    );
    keep().check(
        1,
        &[
            "none of 1 name servers can be reached after 2 seconds",
            "no answer",
            "can this machine reach name servers at all?",
        ],
    );
    assert_eq!(bind.texts(), Vec::<String>::new(), "what was published is taken away");
    assert!(!place.read("pebble/log").contains("Pulled a task"), "the authority was never told to look");

    // One that is silent says nothing about what another has.
    place.write(
        "eskort.toml",
        &inventory.replace("name-servers = [", &format!("name-servers = [\"127.0.0.1:{silent}\", ")),
    );
    let left_out = format!("name server 127.0.0.1:{silent} was left out: no answer");
    keep().check(0, &["go on with generation 1 from `ordered`", &left_out, "confirmed"]);
    let log = place.read("pebble/log");
    assert!(log.contains("Pulled a task") && log.matches("Added order").count() == 1, "all with one order");
}

#[test]
fn killed_while_records_are_published_they_are_taken_away_in_the_end() {
    let bind = Bind::start();
    for point in ["owed", "record-added", "saved-publish", "saved-self-check", "saved-respond", "taken-away"] {
        let pebble = archive(bind.address);
        let killed = pebble.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
        assert_eq!(bind.texts().is_empty(), ["owed", "taken-away"].contains(&point), "{point}");
        pebble.place.run(&["keep"]).check(0, &["go on with generation 1", "confirmed"]);
        assert_eq!(bind.texts(), Vec::<String>::new(), "{point}");
        assert_eq!(pebble.place.read("pebble/log").matches("Added order").count(), 1, "{point}");
    }
}

impl Bind {
    /// Does what a person is told to do.
    fn place_by_hand(&self, texts: &[String]) {
        let key = eskort_dns::UpdateKey::parse(&eskort_core::pki::Secret::new(KEY.to_owned())).unwrap();
        let record = |text: &String| eskort_core::record::Record::txt(RECORD, text);
        let records: Vec<_> = texts.iter().map(record).collect();
        let now = jiff::Timestamp::now();
        runtime().block_on(eskort_dns::add_records(self.address, "lampholm.example", &key, &records, 60, now)).unwrap();
    }
}

#[test]
fn a_challenge_name_that_leads_to_another_zone_is_followed() {
    let bind = Bind::start();
    let pebble = archive(bind.address);
    let text = pebble.place.read("eskort.toml");
    let names = text.lines().find(|l| l.starts_with("names")).unwrap();
    pebble.place.write("eskort.toml", &text.replace(names, "names = [\"tickets.lampholm.example\"]"));
    let said = pebble.place.run(&["keep"]);
    said.check(
        0,
        &["_acme-challenge.tickets.lampholm.example leads to tickets.proofs.test: the record goes there", "confirmed"],
    );
    let left = runtime()
        .block_on(eskort_dns::ask_records(bind.address, "tickets.proofs.test", RecordType::Txt))
        .unwrap()
        .texts;
    assert_eq!(left, Vec::<String>::new());
}

/// Returns the texts that a report asks a person to place.
fn asked_for(said: &Said) -> Vec<String> {
    let report: serde_json::Value = serde_json::from_str(&said.out).unwrap_or_else(|e| panic!("{e}: {said}"));
    assert_eq!(report["certificates"][0]["result"], "awaits-person");
    let records = report["certificates"][0]["to_place"].as_array().unwrap();
    records.iter().map(|r| r["text"].as_str().unwrap().to_owned()).collect()
}

fn by_hand(bind: &Bind) -> Pebble {
    let pebble = archive(bind.address);
    let text = pebble.place.read("eskort.toml");
    let text = text.replace("kind = \"dns-update\"", "kind = \"by-hand\"");
    let kept = text.lines().filter(|l| !l.starts_with("key-file") && !l.starts_with("propagation-timeout"));
    pebble.place.write("eskort.toml", &kept.map(|l| format!("{l}\n")).collect::<String>());
    pebble
}

#[test]
fn a_person_is_told_what_to_place_and_the_next_run_goes_on() {
    let bind = Bind::start();
    let pebble = by_hand(&bind);
    let place = &pebble.place;
    let told = place.run(&["keep"]);
    told.check(
        3,
        &[
            "archive waits for you",
            "Place 2 TXT records",
            "zone lampholm.example",
            "name _acme-challenge.archive (in full",
        ],
    );
    let texts = asked_for(&place.run(&["keep", "--output", "json"]));
    for text in &texts {
        assert!(told.out.contains(&format!("{RECORD}. 60 IN TXT \"{text}\"")), "{told}");
    }
    // One of two is not enough.
    bind.place_by_hand(&texts[..1]);
    place.run(&["keep"]).check(3, &["waits for you"]);
    assert!(!place.read("pebble/log").contains("Pulled a task"), "the authority was never told to look");
    bind.place_by_hand(&texts);
    place.run(&["keep"]).check(0, &["go on with generation 1 from `ordered`", "can be removed now", "confirmed"]);
    assert_eq!(place.read("pebble/log").matches("Added order").count(), 1);
}

#[test]
fn keep_can_wait_for_the_person() {
    let bind = Bind::start();
    let pebble = by_hand(&bind);
    let texts = asked_for(&pebble.place.run(&["keep", "--output", "json"]));
    let wait = || {
        let talk = std::fs::File::create(pebble.place.path("talk")).unwrap();
        let waiting = pebble.place.eskort().args(["keep", "--wait"]).stdout(Stdio::piped()).stderr(talk).spawn();
        until("it waits", || pebble.place.read("talk").contains("_acme-challenge"));
        Process(waiting.unwrap())
    };
    let mut waiting = wait();
    // It holds no lock meanwhile: the timer's run does its work.
    pebble.place.run(&["keep"]).check(3, &["waits for you"]);
    bind.place_by_hand(&texts);
    assert_eq!(waiting.0.wait().unwrap().code(), Some(0));
    pebble.place.run(&["list"]).check(0, &["archive", "good"]);

    // Another run may be the one that finds the records: who waits is told, and does nothing twice.
    let text = pebble.place.read("eskort.toml");
    pebble.place.write("eskort.toml", &text.replace("[certificate.archive]", "[certificate.archive]\nkey = \"p384\""));
    let texts = asked_for(&pebble.place.run(&["keep", "--output", "json"]));
    let mut waiting = wait();
    bind.place_by_hand(&texts);
    let other = pebble.place.run(&["keep"]);
    let waited = waiting.0.wait().unwrap().code();
    let talk = pebble.place.read("talk");
    assert!(waited == Some(0) && matches!(other.code, Some(0 | 5)), "{waited:?} {talk}\n{other}");
    assert_eq!(pebble.place.read("pebble/log").matches("Added order").count(), 2);
}

#[test]
fn a_program_of_the_administrators_places_and_removes_the_records() {
    let bind = Bind::start();
    let pebble = archive(bind.address);
    let place = &pebble.place;
    // A small program around BIND's own tool; it says once that it is not done yet, and writes down what it was told.
    let script = format!(
        "#!/bin/sh\nread line; echo \"$line\" >> told\n[ -e asked ] || {{ touch asked; exit 75; }}\n\
         value() {{ echo \"$line\" | sed \"s/.*\\\"$1\\\":\\\"\\([^\\\"]*\\)\\\".*/\\1/\"; }}\n\
         case $(value what) in add) do=\"add $(value name). 60 TXT $(value text)\";; \
         remove) do=\"delete $(value name). TXT $(value text)\";; *) exit 9;; esac\n\
         printf 'server 127.0.0.1 {}\\nzone lampholm.example\\n%s\\nsend\\n' \"$do\" | nsupdate -k zone.key\n",
        bind.address.port()
    );
    place.write("records", &script);
    let text = place.read("eskort.toml");
    let program = "kind = \"program\"\ncommand = [\"sh\", \"records\"]";
    let text = text.replace("kind = \"dns-update\"", program).replace("key-file = \"zone.key\"\n", "");
    place.write("eskort.toml", &text);
    place.run(&["keep"]).check(0, &["confirmed"]);
    assert_eq!(bind.texts(), Vec::<String>::new(), "the records are gone");
    let told = place.read("told");
    assert_eq!((told.matches("\"add\"").count(), told.matches("\"remove\"").count()), (3, 2), "{told}");

    place.write("records", "echo the oil is out >&2; exit 4\n");
    place.write("eskort.toml", &text.replace("[certificate.archive]", "[certificate.archive]\nkey = \"p384\""));
    place.run(&["keep"]).check(1, &["`sh records` ended with exit status: 4: the oil is out", "run `command`"]);
}

#[test]
fn a_server_that_remembers_that_there_was_no_record_is_not_asked_before_it_forgets() {
    let bind = Bind::start();
    let place = Place::new();
    let (port, dir) = (free_port(), place.dir.path().display().to_string());
    place.write(
        "named.conf",
        &format!(
            "controls {{ }};\noptions {{ directory \"{dir}\"; pid-file none; session-keyfile none; recursion yes; \
             dnssec-validation no; max-ncache-ttl 9; listen-on-v6 {{ none; }}; listen-on port {port} {{ 127.0.0.1; }};\n  \
             forward only; forwarders {{ 127.0.0.1 port {}; }}; }};\n",
            bind.address.port()
        ),
    );
    let config = format!("{dir}/named.conf");
    let child = Command::new("/usr/sbin/named").args(["-f", "-c", &config]).stderr(Stdio::null()).spawn();
    let _resolver = Process(child.unwrap());
    await_port(port, "BIND");
    let resolver = SocketAddr::from(([127, 0, 0, 1], port));
    // One that has just begun, on a machine with much to do, may not reach the other in time.
    let ask = || {
        let mut found = None;
        until("the resolver answers", || {
            found = runtime().block_on(eskort_dns::ask_records(resolver, RECORD, RecordType::Txt)).ok();
            found.is_some()
        });
        found.unwrap()
    };
    let asked = ask();
    let remembers = asked.remembers_none_for.expect("the first answer may be remembered").as_secs();
    assert!(asked.texts.is_empty() && (1..=60).contains(&remembers), "{asked:?}");
    assert!(ask().remembers_none_for.unwrap().as_secs() <= 9);
    // However slow the machine is: what it remembers is not about to be forgotten.
    let ask_until_it_remembers_for_long = || {
        while ask().remembers_none_for.is_none_or(|left| left.as_secs() < 8) {
            std::thread::sleep(std::time::Duration::from_millis(300));
        }
    };
    let pebble = archive(bind.address);
    let text = pebble.place.read("eskort.toml");
    let with = |settle: &str| {
        let listed = format!("name-servers = [\"{}\"]", bind.address);
        let both = format!("name-servers = [\"{}\", \"{resolver}\"]", bind.address);
        pebble
            .place
            .write("eskort.toml", &text.replace(&listed, &both).replace("propagation-timeout = \"2s\"", settle));
    };
    with("propagation-timeout = \"1s\"");
    ask_until_it_remembers_for_long();
    pebble.place.run(&["keep"]).check(1, &["and it remembers that for", "1 of 2 name servers do not have the records"]);
    with("propagation-timeout = \"20s\"");
    ask_until_it_remembers_for_long();
    pebble.place.run(&["keep"]).check(0, &["on 1 of 2 name servers", "confirmed"]);
    let log = pebble.place.read("pebble/log");
    assert_eq!(log.matches("Added order").count(), 1);
}

#[test]
fn without_a_server_in_the_inventory_the_zone_names_its_primary_and_its_name_servers() {
    let test = "bind::without_a_server_in_the_inventory_the_zone_names_its_primary_and_its_name_servers";
    if in_a_network_of_its_own(test, "", "nameserver 127.0.0.1\n", "") {
        return;
    }
    let bind = Bind::start_at("127.0.0.1:53".parse().unwrap());
    let pebble = archive(bind.address);
    let bare = |line: &&str| !line.starts_with("server") && !line.starts_with("name-servers");
    let text = pebble.place.read("eskort.toml");
    pebble.place.write("eskort.toml", &text.lines().filter(bare).map(|l| format!("{l}\n")).collect::<String>());
    pebble.place.run(&["keep"]).check(0, &["control of *.archive.lampholm.example", "confirmed"]);
    assert_eq!(bind.texts(), Vec::<String>::new(), "the records are gone");
    assert!(pebble.place.read("pebble/log").contains("Pulled a task"), "the authority was told to look");
}
