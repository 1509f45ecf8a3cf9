//! Every report is one whole JSON document, looks as its golden file says, and has the fields that docs/json.md explains.
//!
//! `ESKORT_GOLDEN=write` writes the golden files anew.

use crate::office::Office;
use crate::world::*;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

/// Takes out of a report what differs from run to run.
fn settle(value: &mut Value, dir: &str) {
    match value {
        Value::Object(fields) => {
            // Other tests may run such a server.
            if let Some(runs) = fields.get_mut("runs").filter(|runs| !runs.is_array()) {
                *runs = Value::Null;
            }
            // Whatever this machine is called.
            if let Some(machine) = fields.get_mut("machine") {
                *machine = "MACHINE".into();
            }
            // It is in docs/guides, and once is enough.
            if let Some(page) = fields.get_mut("markdown") {
                assert!(page.as_str().is_some_and(|page| page.starts_with("# ")), "{page}");
                *page = "PAGE".into();
            }
            // How often an order is asked for depends on the moment.
            for name in ["requests", "handshakes"] {
                if let Some(count) = fields.get_mut(name) {
                    assert!(count.as_u64().is_some_and(|count| (1..99).contains(&count)), "{count}");
                    *count = 1.into();
                }
            }
            fields.values_mut().for_each(|v| settle(v, dir));
        }
        Value::Array(items) => items.iter_mut().for_each(|v| settle(v, dir)),
        // Ports differ; nothing else here is so large.
        Value::Number(number) if number.as_u64().is_some_and(|n| n > 1_023) => *value = 0.into(),
        Value::String(text) if text.parse::<jiff::Timestamp>().is_ok() => *text = "TIME".into(),
        Value::String(text) if text.len() >= 16 && text.bytes().all(|b| b.is_ascii_hexdigit()) => *text = "HEX".into(),
        Value::String(text) if text.starts_with("-----BEGIN") => *text = "PEM".into(),
        Value::String(text)
            if text.len() >= 40 && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b)) =>
        {
            *text = "RANDOM".into();
        }
        Value::String(text) => {
            let plain = text.replace(dir, "DIR").replace(env!("CARGO_BIN_EXE_eskort"), "PROGRAM");
            let mut out = String::new();
            let mut figures = false;
            for c in plain.chars() {
                if !c.is_ascii_digit() {
                    out.push(c);
                } else if !figures {
                    out.push('0');
                }
                figures = c.is_ascii_digit();
            }
            *text = out;
        }
        _ => {}
    }
}

/// Adds the paths of all fields: `certificates[].decision.obtain.do`.
fn fields(value: &Value, at: &str, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(members) => {
            for (name, member) in members {
                let path = if at.is_empty() { name.clone() } else { format!("{at}.{name}") };
                found.insert(path.clone());
                fields(member, &path, found);
            }
        }
        Value::Array(items) => {
            let positional = items.iter().any(Value::is_string) && items.iter().any(Value::is_number);
            assert!(!positional, "{at} has positions instead of names: {value}");
            items.iter().for_each(|item| fields(item, &format!("{at}[]"), found));
        }
        _ => {}
    }
}

/// Holds a report against its golden file.
fn check_golden(name: &str, report: &Value) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join(format!("tests/json/{name}.json"));
    let text = serde_json::to_string_pretty(report).unwrap() + "\n";
    if std::env::var_os("ESKORT_GOLDEN").is_some_and(|v| v == "write") {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, &text).unwrap();
    }
    let golden = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(golden == text, "{} is otherwise now:\n{text}", path.display());
}

/// Fields that need a world of their own, which other tests have.
const SELDOM: &[&str] = &[
    "others_over_https",
    "others_over_https.tides.example",
    "certificates[].endpoints[].rating.deductions[].cap",
    "endpoints[].inspection.prime_bits",
    "endpoints[].inspection.protocol",
    "endpoints[].inspection.unknown_name.title",
    "endpoints[].inspection.without_name.title",
    "endpoints[].rating.deductions[].cap",
    "endpoints[].visit.hsts",
    "endpoints[].visit.mixed[].element",
    "endpoints[].visit.mixed[].kind",
    "endpoints[].visit.mixed[].page",
    "endpoints[].visit.mixed[].url",
    "endpoints[].visit.plain.hops",
    "endpoints[].visit.plain.keeps_path",
    "endpoints[].visit.plain.permanent",
    "endpoints[].visit.plain.secure",
    "endpoints[].visit.plain.status",
    "advised",
    "advised[].certificate",
    "advised[].changes",
    "advised[].changes[].difference",
    "advised[].changes[].path",
    "advised[].findings",
    "advised[].keys",
    "advised[].run",
    "advised[].server",
    "advised[].test",
    "certificates[].ask_again",
    "certificates[].servers[].signal",
    "certificates[].unconfirmed",
    "certificates[].to_carry",
    "certificates[].servers[].prepare",
    "certificates[].decision.obtain.reason",
    "certificates[].decision.place.targets[].host",
    "certificates[].decision.place.targets[].lacks[].why",
    "certificates[].placed.error",
    "debts[].what",
    "events[].notes[].day",
    "events[].why",
    "removed",
    "keeper.units",
    "keeper.user",
    "keeper.path",
    "asked_renewal.ask_again",
    "asked_renewal.moment",
    "asked_renewal.trouble",
    "asked_renewal.window",
    "asked_renewal.window.end",
    "asked_renewal.window.explanation",
    "asked_renewal.window.start",
    "ramps[].max_age",
    "ramps[].next",
    "ramps[].server",
    "ramps[].since",
    "debts[].trouble",
    "debts[].by_hand",
    "events[].by_us",
    "events[].reason",
    "account.agreed_terms",
    "account.external_account",
    "generations[].swept",
    "state.failures",
    "state.fault",
    "state.reason",
    "state.why",
    "state.passed",
    "state.have",
    "state.servers",
    "certificates[].state.failures",
    "certificates[].state.fault",
    "certificates[].state.reason",
    "certificates[].state.why",
    "certificates[].state.have",
    "certificates[].state.servers",
    "certificates[].state.passed",
    "certificates[].state.since",
    "certificates[].state.age",
    "certificates[].manual_step.notes.placed",
    "certificates[].manual_step.notes.page",
    "certificates[].manual_step.notes.remark",
    "certificates[].manual_step.notes.notified",
    "certificates[].manual_step.notes.asked.by",
    "certificates[].manual_step.notes.asked.what.path",
    "certificates[].manual_step.notes.asked.what.name",
    "certificates[].manual_step.notes.asked.what.type",
    "certificates[].manual_step.notes.asked.what.text",
    "certificates[].manual_step.proof.at",
    "certificates[].manual_step.proof.why",
    "certificates[].manual_step.proof.to_place",
    "certificates[].servers[].findings[].code",
    "certificates[].servers[].findings[].severity",
    "certificates[].servers[].findings[].topic",
    "certificates[].servers[].findings[].text",
    "certificates[].servers[].findings[].advice",
    "subject[].type",
    "subject[].value",
    "keys[].kind",
    "keys[].fits",
    "received[].error",
];

/// The reports of one test, by name; two of a name add up their fields.
#[derive(Default)]
struct Seen(BTreeMap<String, BTreeSet<String>>);

impl Seen {
    fn run(&mut self, place: &Place, name: &str, code: i32, words: &[&str]) -> Value {
        let said = place.run(&[words, &["--output", "json"]].concat());
        assert_eq!(said.code, Some(code), "{words:?}: {said}");
        self.take(place, name, &said)
    }

    fn take(&mut self, place: &Place, name: &str, said: &Said) -> Value {
        let mut report: Value = serde_json::from_str(&said.out).unwrap_or_else(|e| panic!("{name}: {e}: {said}"));
        let kind = report["report"].as_str().unwrap().to_owned();
        let whole = report.clone();
        if kind != "demo" {
            fields(&report, "", self.0.entry(kind).or_default());
            settle(&mut report, &place.dir.path().display().to_string());
            check_golden(name, &report);
        }
        whole
    }
}

/// Returns the fields that docs/json.md explains, by report; those of every report are under "every report".
fn documented() -> BTreeMap<String, BTreeSet<String>> {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/json.md");
    let text = std::fs::read_to_string(path).unwrap();
    let mut found: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let mut report = String::new();
    for line in text.lines() {
        if let Some(title) = line.strip_prefix("## ") {
            report = title.trim_matches('`').to_owned();
        } else if let Some(field) = line.strip_prefix("| `").and_then(|l| l.split('`').next()) {
            found.entry(report.clone()).or_default().insert(field.to_owned());
        }
    }
    found
}

/// Names that would be lost, an account, a revocation, and those who are told what is new.
fn reports_of_upkeep(seen: &mut Seen) {
    let world = World::new();
    let place = &world.place;
    seen.run(place, "account-none", 0, &["account", "show"]);
    place.run(&["keep"]).check(0, &["generation 1"]);
    seen.run(place, "account", 0, &["account", "show"]);
    let told = "[notify.keeper]\nkind = \"program\"\nrun = [\"false\"]\n\n[notify.log]\nkind = \"program\"\nrun = [\"true\"]\n";
    world.write_inventory(|text| text.replace("[\"lampholm.example\", ", "[") + told);
    seen.run(place, "keep-loses-names", 3, &["keep"]);
    seen.run(place, "list-loses-names", 3, &["list"]);
    seen.run(place, "notify-test", 1, &["notify", "test"]);
    world.authority.misbehave(
        eskort_practice::Resource::NewOrder,
        eskort_practice::Fault::RateLimited("7200".into()),
        1,
    );
    place.run(&["keep", "--drop-names"]).check(1, &["rateLimited", "could not be delivered to `keeper`"]);
    seen.run(place, "notify-show", 4, &["notify", "show"]);
    world.write_inventory(|text| text);
    seen.run(place, "revoke", 0, &["revoke", "website", "--reason", "key-compromise", "--yes"]);
    seen.run(place, "show-revoked", 0, &["show", "website"]);
}

#[test]
fn every_report_is_whole_looks_as_it_did_and_is_explained() {
    let mut seen = Seen::default();
    let world = World::new();
    let place = &world.place;
    let text = place.read("eskort.toml");
    // A server whose configuration is changed, one that gets files, and an API.
    place.write(
        "web.conf",
        "events {}\nhttp { server { listen 127.0.0.1:9; server_name lampholm.example www.lampholm.example; } }\n",
    );
    let dir = place.dir.path().display();
    let led = format!(
        "global\n  stats socket {dir}/proxy.sock level admin\nfrontend web\n  bind 127.0.0.1:9 ssl crt {dir}/state/served/proxy/website/combined.pem\n"
    );
    place.write("haproxy.cfg", &led);
    let nginx = "[server.proxy]\nkind = \"haproxy\"\nconfig = \"haproxy.cfg\"\n\n[server.web]\nkind = \"nginx\"\nconfig = \"web.conf\"\n\n[server.panel]\nkind = \"web-api\"\nrecipe = \"lampholm-hosting\"\n\
                 address = \"https://panel.lampholm.example\"\n\n[certificate.website]";
    let two = text
        .replace("[certificate.website]", nginx)
        .replace("reload-timeout = \"3s\"", "reload-timeout = \"3s\"\nrun = [\"true\"]");
    place.write(
        "eskort.toml",
        &two.replace(
            "{ server = \"front\" }",
            "{ server = \"front\" }, { server = \"web\" }, { server = \"panel\" }, { server = \"proxy\" }",
        ),
    );
    seen.run(place, "keep-plan", 0, &["keep", "--plan"]);
    place.write("eskort.toml", &text);
    world.authority.misbehave(
        eskort_practice::Resource::NewOrder,
        eskort_practice::Fault::RateLimited("7200".into()),
        1,
    );
    seen.run(place, "keep-failed", 1, &["keep"]);
    seen.run(place, "keep-held", 4, &["keep"]);
    seen.run(place, "keep", 0, &["keep", "--only", "website"]);
    seen.run(place, "keep-at-rest", 0, &["keep"]);
    let limited = text.replace("kind = \"acme\"", "kind = \"acme\"\nlimit-per-domain = \"1 in 7d\"");
    place.write("eskort.toml", &(limited + "[certificate.shop]\nnames = [\"shop.lampholm.example\"]\n"));
    seen.run(place, "keep-no-room", 0, &["keep", "--plan", "--only", "shop"]);
    place.write("eskort.toml", &text);
    seen.run(place, "help", 0, &["help"]);
    seen.run(place, "guide", 0, &["help", "mail"]);
    seen.run(place, "list", 0, &["list"]);
    seen.run(place, "history", 0, &["history", "--last", "40"]);
    seen.run(place, "schedule", 0, &["schedule", "--user", "--cron", "--plan"]);
    seen.run(place, "schedule-show", 4, &["schedule", "show"]);
    seen.run(place, "show", 0, &["show", "website"]);
    let plain = world.site.plain_address().to_string();
    place.run(&["check", "website"]);
    seen.run(place, "check", 4, &["check", "website", "--plain-address", &plain]);
    seen.run(place, "report", 0, &["report"]);
    place.write(
        "pages/index.html",
        "<svg xmlns=\"http://lampholm.example/\"></svg><img src=http://lampholm.example/><a href=http://tides.example/>",
    );
    std::fs::write(place.path("pages/odd.html"), b"\0").unwrap();
    place.run(&["links", "find", "pages", "--output", "json"]).check(4, &["\"others\""]);
    crate::databases::sqlite(
        &place.path("site.db"),
        "create table posts (id integer primary key, body text);;insert into posts (body) values ('http://lampholm.example/')",
    );
    seen.run(place, "links", 0, &["links", "mend", "pages", "--database", "sqlite:site.db", "--yes"]);
    place.write("pages/index.html", "x");
    seen.run(place, "links-undo", 4, &["links", "mend", "--undo"]);
    place.write("nginx.conf", "events {}\nhttp {\n  include none.conf;\n  include site.conf;\n}\n");
    place.write(
        "site.conf",
        "server { listen 443 ssl; server_name lampholm.example lampholm.example shop.lampholm.example; ssl_certificate tls/site.pem; ssl_certificate_key tls/site.key;\n\
         root /srv/www; if ($scheme = http) { return 301 https://lampholm.example/; } }\n",
    );
    seen.run(
        place,
        "add",
        0,
        &["add", "lampholm.example", "--certificate", "second", "--proof", "pages", "--survey", "nginx.conf", "--plan"],
    );
    seen.run(place, "rehearse", 0, &["rehearse", "website"]);
    seen.run(place, "install", 0, &["install", "website"]);
    seen.run(place, "survey", 4, &["survey", "nginx.conf"]);
    std::fs::remove_file(place.path("tls/site.key")).unwrap();
    seen.run(place, "install-plan", 0, &["install", "website", "--plan"]);
    seen.run(place, "pack", 0, &["pack", "website", "--as", "pem", "--to", "out.pem"]);
    seen.run(place, "show-file", 0, &["show", "out.pem"]);
    seen.run(place, "csr-make", 0, &["csr", "make", "stock.lampholm.example", "--key", "stock.key"]);
    seen.run(place, "error-no-certificate", 2, &["show", "webiste"]);
    seen.run(place, "error-usage", 2, &["keep", "--onyl", "x"]);
    seen.run(place, "error-pack", 1, &["pack", "website", "--generation", "7", "--as", "pem", "--to", "x.pem"]);
    place.write("token.txt", "as the authority wrote it\n");
    let at = ["place", "pages", "/.well-known/pki-validation/lamp.txt", "--from", "token.txt", "--at", NAMES[0]];
    seen.run(place, "place", 0, &at);
    seen.run(place, "place-remove", 0, &["place", "pages", "--remove"]);
    let text = place.read("eskort.toml");
    place.write("eskort.toml", &text.replace("kind = \"acme\"", "kind = \"amce\""));
    seen.run(place, "error-mistakes", 2, &["list"]);
    place.write("eskort.toml", &text);

    // What waits for a person; and what lies here, put in place while the authority is left alone.
    let world = World::new();
    let zone = format!("kind = \"by-hand\"\nserver = \"{0}\"\nname-servers = [\"{0}\"]", world.names.address());
    let site = world.site.plain_address();
    let by_hand = format!("kind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"{site}\"");
    world.write_inventory(|text| text.replace(&by_hand, &zone));
    seen.run(&world.place, "keep-awaits-person", 3, &["keep"]);
    seen.run(&world.place, "show-to-place", 0, &["show", "website"]);
    world.write_inventory(|text| text);
    world.on_day(0, &["keep"]).check(0, &["generation 1"]);
    world.authority.misbehave(
        eskort_practice::Resource::NewOrder,
        eskort_practice::Fault::RateLimited("604800".into()),
        1,
    );
    world.on_day(62, &["keep"]).check(1, &["rateLimited"]);
    std::fs::remove_dir_all(world.place.path("tls")).unwrap();
    let said = world.on_day(63, &["keep", "--output", "json"]);
    seen.take(&world.place, "keep-placed", &said);

    let office = Office::new();
    let place = &office.place;
    seen.run(place, "error-receive", 1, &["receive", "root.pem"]);
    seen.run(place, "keep-awaits-answer", 3, &["keep"]);
    seen.run(place, "show-at-desk", 0, &["show", "stock"]);
    seen.run(place, "csr-read", 0, &["csr", "read", "state/certificates/stock/0001/request.pem"]);
    let mail = ["--mail", "admin@stock.lampholm.internal"];
    seen.run(place, "keep-note", 3, &[&["note", "stock", "--order", "47"][..], &mail].concat());
    seen.run(place, "show-noted", 0, &["show", "stock"]);
    office.answer(1, 300);
    seen.run(place, "receive", 0, &["receive", "leaf.pem", "issuer.pem", "upper.pem"]);
    let text = place.read("eskort.toml");
    place.write(
        "eskort.toml",
        &text.replace(
            "[certificate.stock]",
            "[certificate.bought]\nnames = [\"stock.lampholm.internal\"]\n\n[certificate.stock]",
        ),
    );
    let key = place.path("state/certificates/stock/0001/key.pem").display().to_string();
    seen.run(place, "adopt", 0, &["adopt", "bought", "leaf.pem", &key, "issuer.pem"]);

    reports_of_upkeep(&mut seen);

    // The demo's reports come as one document.
    let place = Place::new();
    let said = place.run(&["demo", "--all", "--output", "json"]);
    let demo = seen.take(&place, "demo", &said);
    let kinds: BTreeSet<&str> =
        demo["reports"].as_array().unwrap().iter().map(|r| r["report"].as_str().unwrap()).collect();
    assert_eq!(
        kinds,
        BTreeSet::from(["links", "keep", "list", "check", "receive", "survey", "add", "rehearse"]),
        "{said}"
    );
    fields(&demo["version"], "", seen.0.entry("demo".into()).or_default());
    seen.0.entry("demo".into()).or_default().extend(["reports".to_owned(), "reports[]".to_owned()].into_iter().take(1));

    let documented = documented();
    let common = &documented["every report"];
    for (report, found) in &seen.0 {
        let known = documented.get(report).unwrap_or_else(|| panic!("docs/json.md lacks `{report}`"));
        let shown: BTreeSet<&String> = found.difference(common).collect();
        let known: BTreeSet<&String> = known.iter().collect();
        let undocumented: Vec<_> = shown.difference(&known).collect();
        assert!(undocumented.is_empty(), "docs/json.md, {report}: lacks {undocumented:#?}");
        let unseen: Vec<_> = known.difference(&shown).filter(|field| !SELDOM.contains(&field.as_str())).collect();
        assert!(unseen.is_empty(), "docs/json.md, {report}: has {unseen:?}, which no report has");
    }
    let reports: BTreeSet<&String> = seen.0.keys().collect();
    let explained: BTreeSet<&String> = documented.keys().filter(|k| *k != "every report").collect();
    assert_eq!(explained, reports);
}
