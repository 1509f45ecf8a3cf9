//! What the commands print, for people and for programs, and how they end.

use crate::world::*;
use std::process::Stdio;

#[test]
fn a_newcomer_is_told_what_to_do_first() {
    let place = Place::new();
    place.run(&[]).check(0, &["eskort demo", "[authority.public]", "eskort keep --plan"]);
    place.run(&["keep"]).check(2, &["no inventory exists at", "--config FILE", "eskort demo"]);
    place
        .run(&["keep", "--config", "nowhere/eskort.toml"])
        .check(2, &["no inventory exists at", "nowhere/eskort.toml"]);
    place.run(&["kep"]).check(2, &["unrecognized subcommand"]);
}

#[test]
fn list_show_and_check_tell_how_a_certificate_stands() {
    let world = World::new();
    let place = &world.place;
    place.run(&["list"]).check(0, &["website", "none yet", "lampholm.example www.lampholm.example"]);
    place.run(&["show", "website"]).check(0, &["none yet", "http-folder"]);
    let placeholder = format!("www.lampholm.example:{}", world.site.tls_address().port());
    let before = place.run(&["check", &placeholder, "--address", "127.0.0.1"]);
    before.check(
        1,
        &["the certificate is not for www.lampholm.example", "BAD", "not trusted"]
            .map(|s| if s == "not trusted" { "no intermediate is sent" } else { s }),
    );

    world.keep().check(0, &["■■■■■■ confirmed"]);
    place.run(&["list"]).check(0, &["good", "▆▆▆▆▆▆▆▆▆┊▆▆▆▆▆▆▆▆▆▆▆▆▆▆", "90 days"]);
    let shown = place.run(&["show", "website"]);
    shown.check(0, &["in use", "Lampholm Practice Issuer 1", "confirmed (generation 1)", "SHA-256 of generation 1"]);
    let after = place.run(&["check", &placeholder, "--address", "127.0.0.1"]);
    after.check(0, &["generation 1, as installed", "leaf and 1 intermediate", "leads to a trusted root", "TLS 1.3"]);
    place.run(&["check"]).check(0, &["lampholm.example:", "www.lampholm.example:"]);
    place.run(&["check", "website"]).check(0, &["good"]);

    // Without the intermediate, and with the root unknown.
    std::fs::copy(place.path("state/certificates/website/current/certificate.pem"), place.path("tls/site.pem"))
        .unwrap();
    until("the site serves it", || place.run(&["check", "website"]).out.contains("no intermediate is sent"));
    place.run(&["check", "website"]).check(1, &["no intermediate is sent", "serve bundle.pem"]);
    world.keep().check(0, &["put generation 1 in place"]);
    world.write_inventory(|text| text.replace("visitor-roots = \"visitor-root.pem\"\n", ""));
    place.run(&["check", "website"]).check(1, &["is not a root that is trusted here", "visitor-roots"]);
    place.run(&["check", "nowhere.test:1"]).check(1, &["nowhere.test resolves to no address"]);
    // Somebody who wonders why the padlock is missing tries just this.
    let port = world.site.tls_address().port();
    place.run(&["check", &format!("localhost:{port}")]).check(1, &["not for localhost; it is for lampholm.example"]);
    let plain = world.site.plain_address().port();
    place.run(&["check", &format!("localhost:{plain}")]).check(1, &["it speaks plain http"]);
    place.run(&["check", "nas:443"]).check(1, &["nas resolves to no address"]);
    // One that cannot be looked at does not take the others' reports away.
    place.write("other.toml", &place.read("eskort.toml").replace("[certificate.website]", "[server.gone]\nkind = \"nginx\"\nconfig = \"gone.conf\"\n\n[certificate.gone]\nnames = [\"lampholm.example\"]\ninstall = [{ server = \"gone\" }]\n\n[certificate.website]"));
    place.run(&["check", "--config", "other.toml"]).check(1, &["cannot look at `gone`", "generation 1, as installed"]);
    place.run(&["check", "a b"]).check(2, &["neither a certificate of the inventory nor an endpoint"]);
    place.run(&["show", "webiste"]).check(2, &["has no certificate `webiste`", "the inventory has website"]);
    place.run(&["keep", "--only", "x"]).check(2, &["has no certificate `x`"]);
}

/// Returns a value of a JSON report by its path.
fn value(said: &Said, path: &str) -> serde_json::Value {
    let report: serde_json::Value = serde_json::from_str(&said.out).unwrap_or_else(|e| panic!("{e}: {said}"));
    report.pointer(path).unwrap_or_else(|| panic!("no {path} in {report:#}")).clone()
}

#[test]
fn json_reports_are_whole_documents_on_standard_output() {
    let world = World::new();
    let place = &world.place;
    let plan = place.run(&["keep", "--plan", "--output", "json"]);
    assert_eq!(value(&plan, "/certificates/0/decision/obtain/do"), "start");
    assert_eq!(value(&plan, "/certificates/0/servers/0/server"), "front");
    let kept = place.run(&["keep", "--output", "json"]);
    assert_eq!(value(&kept, "/report"), "keep");
    assert_eq!(value(&kept, "/version"), 1);
    assert_eq!(value(&kept, "/certificates/0/result"), "arrived");
    let again = place.run(&["keep", "--output", "json"]);
    assert_eq!(value(&again, "/certificates/0/result"), "at-rest");
    let list = place.run(&["list", "--output", "json"]);
    assert_eq!(value(&list, "/certificates/0/state/is"), "good");
    assert_eq!(value(&list, "/certificates/0/names/1"), "www.lampholm.example");
    let show = place.run(&["show", "website", "--output", "json"]);
    assert_eq!(value(&show, "/generations/0/in_use"), true);
    let check = place.run(&["check", "--output", "json"]);
    assert_eq!(value(&check, "/endpoints/0/findings/0/severity"), "good");
    world.authority.misbehave(eskort_practice::Resource::NewOrder, eskort_practice::Fault::Problem("caa"), 9);
    world.write_inventory(|text| text.replace("\"lampholm.example\", ", ""));
    let failed = place.run(&["keep", "--drop-names", "--output", "json"]);
    assert_eq!(failed.code, Some(1));
    assert_eq!(value(&failed, "/certificates/0/result"), "failed");
    assert!(value(&failed, "/certificates/0/error/cause").as_str().unwrap().contains("caa: on demand"));
}

#[test]
fn two_runs_at_once_do_not_harm_and_a_signal_cleans_up() {
    let world = World::with(|o| o.thinking = std::time::Duration::from_secs(60));
    world.write_inventory(|text| text.replace("timeout = \"6s\"", "timeout = \"2m\""));
    let first = world.place.eskort().arg("keep").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let mut first = Process(first);
    let end = std::time::Instant::now() + std::time::Duration::from_secs(20);
    while !world.authority.asked().contains(&eskort_practice::Resource::Challenge) {
        assert!(std::time::Instant::now() < end, "the first run does not get on");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    assert!(world.place.path("www/.well-known/acme-challenge").exists());
    world.place.run(&["keep"]).check(5, &["another run is at work on it (process", "since"]);
    std::process::Command::new("kill").arg(first.0.id().to_string()).status().unwrap();
    assert_eq!(first.0.wait().unwrap().code(), Some(1));
    world.place.check_nothing_published();
    world.place.run(&["show", "website"]).check(0, &["given up: stopped while", "stopped by a signal"]);
}

#[test]
fn an_endpoint_is_checked_without_an_inventory_too() {
    let world = World::new();
    let port = world.site.tls_address().port();
    world.keep().check(0, &["installed and checked live"]);
    let place = Place::new();
    place.run(&["check", &format!("localhost:{port}")]).check(1, &["not for localhost; it is for lampholm.example"]);
    place.run(&["check"]).check(2, &["no inventory exists"]);
}

#[test]
fn the_terms_have_to_be_agreed_to() {
    let world = World::new();
    world.write_inventory(|text| text.replace("accept-terms = true\n", ""));
    world.keep().check(1, &["https://ca.lampholm.example/terms", "add `accept-terms = true`"]);
    assert_eq!(world.authority.counts(), (0, 0));
}

#[test]
fn an_authority_with_an_unknown_root_is_not_trusted() {
    let world = World::new();
    world.write_inventory(|text| text.replace("api-roots = \"api-root.pem\"\n", ""));
    world.keep().check(1, &["cannot reach https://127.0.0.1", "api-roots = \"root.pem\""]);
    assert!(world.authority.asked().is_empty(), "nothing was said to it");
    world.place.write("api-root.pem", "no certificate");
    world.write_inventory(|text| text);
    world.keep().check(1, &["api-root.pem", "there is no certificate in it"]);
}

#[test]
fn names_proved_before_are_not_proved_again_and_requests_are_few() {
    use eskort_practice::Resource::*;
    let world = World::with(|o| o.remembers_proofs = true);
    world.keep().check(0, &["confirmed"]);
    let first = world.authority.asked();
    // The protocol's own sequence: the directory's answer brings the first nonce.
    let bare = [Directory, NewAccount, NewOrder, Authorization, Authorization, Challenge, Challenge];
    assert_eq!(first[..bare.len()], bare);
    let rest: Vec<_> = first[bare.len()..].iter().filter(|r| **r != Order).collect();
    assert_eq!(rest, [&Finalize, &Certificate]);
    world.write_inventory(|text| text.replace("[certificate.website]", "[certificate.website]\nkey = \"p384\""));
    world.keep().check(0, &["the kind of key in the inventory changed", "generation 2 installed"]);
    let second = &world.authority.asked()[first.len()..];
    // The order was ready when it was made: there is nothing to ask about its names.
    assert_eq!(second, [Directory, NewOrder, Finalize, Certificate]);
}

#[test]
fn the_demo_tells_its_story_to_the_end_and_leaves_a_folder() {
    let place = Place::new();
    let short = place.run(&["demo"]);
    short.check(
        0,
        &[
            "1. What is there",
            "+ [certificate.website]",
            "5. 61 days later",
            "generation 2 installed",
            "What to try next",
        ],
    );
    let lines = short.out.lines().count();
    assert!(lines < 120 && !short.out.contains("boat") && !short.out.contains("office "), "{lines} lines: {short}");
    place.run(&["demo", "many"]).check(0, &["2. Twenty at once", "boat20", "generation 1 stored"]);
    // Where no renewal is told, it is today: what is left does not wait for one.
    place.run(&["--config", "eskort-demo/eskort.toml", "list"]).check(0, &["21 certificates: 21 good"]);
    let survey = [
        "does not have the certificate of",
        "ends in 9 days",
        "is claimed by",
        "mail.lampholm.example",
        "is new, and begins with",
        "FATAL",
        "Both are mended",
        "7 trials",
    ];
    place.run(&["demo", "survey"]).check(0, &survey);
    let said = place.run(&["demo", "--all"]);
    said.check(
        0,
        &[
            "3. The first certificate",
            "archive",
            "tickets waits for you",
            "10. An authority without ACME",
            "the answer matches the key",
            "11. Servers that nobody may touch",
            "server `hosting` has another one in use",
            "13. A site with six faults",
            "57 of 100, weak",
            "3 addresses of",
            "100 of 100, strong",
            "16. Twenty at once",
            "17. 61 days later",
            "generation 2 installed",
            "What to try next",
        ],
    );
    assert_eq!(said.err, "");
    assert!(!said.out.contains("\"report\""), "{said}");
    place.run(&["list", "--config", "eskort-demo/eskort.toml"]).check(0, &["website", "good"]);
    assert!(place.read("eskort-demo/WHAT-NEXT.txt").contains("show website"));
    place.run(&["demo"]).check(0, &["What to try next"]);
    place.write("mine/keep.txt", "not the demo's");
    place.run(&["demo", "--folder", "mine"]).check(1, &["no earlier demo made it", "--folder"]);
    assert_eq!(place.read("mine/keep.txt"), "not the demo's");
}

#[test]
fn files_get_their_owner_group_and_mode_and_are_put_right_again() {
    let world = World::new();
    let place = &world.place;
    let id = |flag: &str| {
        let output = std::process::Command::new("id").arg(flag).output().unwrap();
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    };
    let owned = format!("owner = \"{}\", group = \"{}\", mode = \"0640\"", id("-un"), id("-gn"));
    let whole = place.read("eskort.toml");
    let text = whole.replace("to = \"tls/site.key\"", &format!("to = \"tls/site.key\", {owned}"));
    place.write("eskort.toml", &text);
    world.keep().check(0, &["installed and checked live"]);
    assert_eq!(place.mode("tls/site.key"), 0o640);
    assert_eq!(place.mode("tls/site.pem"), 0o644);
    std::fs::set_permissions(place.path("tls/site.key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    place.run(&["keep"]).check(0, &["put generation 1 in place", "site.key of server `front`"]);
    assert_eq!(place.mode("tls/site.key"), 0o640);
    place.write(
        "eskort.toml",
        &whole.replace("to = \"tls/site.key\"", "to = \"tls/site.key\", owner = \"nobody-here\""),
    );
    place.run(&["keep"]).check(1, &["no user `nobody-here` exists on its machine", "correct `owner`"]);
}

#[test]
fn a_failed_command_of_a_server_puts_its_files_back() {
    let world = World::new();
    world.keep().check(0, &["generation 1 installed"]);
    let first = world.place.read("tls/site.pem");
    world.write_inventory(|text| {
        text.replace(
            "reload-timeout = \"3s\"",
            "reload-timeout = \"3s\"\nrun = [\"sh\", \"-c\", \"echo the wick is wet; exit 9\"]",
        )
        .replace("[certificate.website]", "[certificate.website]\nkey = \"p384\"")
    });
    let said = world.place.run(&["keep"]);
    said.check(1, &["could not be reloaded", "the wick is wet", "exit status: 9", "everything was put back"]);
    assert_eq!(world.place.read("tls/site.pem"), first);
    world.place.run(&["show", "website"]).check(0, &["1 failure", "front   2           failed"]);
    let shown = world.place.run(&["show", "website", "--output", "json"]);
    assert_eq!(value(&shown, "/generations/1/in_use"), true);
    assert_eq!(value(&shown, "/generations/0/in_use"), false);
}

#[test]
fn the_failure_of_one_certificate_does_not_stop_the_others() {
    let world = World::new();
    world.write_inventory(|text| {
        text.replace(
            "[certificate.website]",
            "[certificate.harbour]\nnames = [\"harbour.lampholm.example\"]\n\n[certificate.website]",
        )
    });
    let said = world.place.run(&["keep"]);
    // The name server of the practice world does not know the harbour.
    said.check(1, &["cannot get the first certificate for `harbour`", "dns: no address for harbour.lampholm.example"]);
    said.check(1, &["harbour failed, see above", "generation 1 installed and checked live"]);
    let list = world.place.run(&["list"]);
    list.check(4, &["harbour 1 failure", "website good"]);
    assert!(list.out.find("harbour") < list.out.find("website"), "what needs somebody comes first: {list}");
    let json = world.place.run(&["list", "--output", "json"]);
    assert_eq!(value(&json, "/certificates/0/state/is"), "failing");
    assert!(value(&json, "/certificates/0/state/reason").as_str().unwrap().contains("no address"));
}

#[test]
fn an_authority_that_forgot_the_account_gets_a_new_one() {
    use eskort_practice::{Fault, Resource};
    let world = World::new();
    world.keep().check(0, &["generation 1 installed"]);
    world.authority.misbehave(Resource::NewOrder, Fault::Problem("accountDoesNotExist"), 1);
    world.write_inventory(|text| text.replace("[certificate.website]", "[certificate.website]\nkey = \"p384\""));
    let before = world.authority.asked().len();
    world.keep().check(0, &["generation 2 installed"]);
    let asked = &world.authority.asked()[before..];
    assert_eq!(asked.iter().filter(|r| **r == Resource::NewAccount).count(), 1);
}

#[test]
fn a_proof_that_left_the_inventory_leaves_word_of_what_it_published() {
    let world = World::new();
    let zone = format!(
        "[proof.zone]\nkind = \"dns-update\"\nserver = \"{0}\"\nkey-file = \"zone.key\"\nname-servers = [\"{0}\"]\n\n[server.front]",
        world.names.address()
    );
    world.place.write("zone.key", &world.names.update_key());
    world.write_inventory(|text| {
        text.replace("[server.front]", &zone).replace("install =", "proof = \"zone\"\ninstall =")
    });
    let killed = world.place.run_with("ESKORT_CRASH_AT", "record-added", &["keep"]);
    assert_eq!(killed.code, None);
    let at = "_acme-challenge.lampholm.example";
    assert_eq!(world.names.texts(at).len(), 1);
    world.write_inventory(|text| text);
    let said = world.place.run(&["keep"]);
    // Another way to prove wants other challenges: the journey begins anew.
    assert_eq!(world.authority.counts().1, 1, "{said}");
    said.check(0, &["the open journey is given up"]);
    said.check(
        0,
        &[
            "cannot remove the TXT record at _acme-challenge.",
            "the TXT record at _acme-challenge.lampholm.example",
            "not in the inventory any more",
        ],
    );
    world.place.run(&["show", "website"]).check(0, &["left over", "delete _acme-challenge.lampholm.example. TXT"]);
    // Put back, the next run removes it.
    world.write_inventory(|text| {
        text.replace("[server.front]", &zone).replace("install =", "proof = \"pages\"\ninstall =")
    });
    world.place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(world.names.texts(at), Vec::<String>::new());
}

#[test]
fn a_file_of_an_authority_without_acme_is_placed_seen_and_removed_when_said_so() {
    let world = World::new();
    let place = &world.place;
    place.write("lamp.txt", "9F86D081884C7D65\nca.lampholm.example\n");
    let path = "/.well-known/pki-validation/lamp.txt";
    let put = |more: &[&str]| place.run(&[&["place", "pages", path, "--from", "lamp.txt", "--at"], more].concat());
    put(&["lampholm.example", "--at", "www.lampholm.example"]).check(
        0,
        &[
            "seen http://lampholm.example/.well-known/pki-validation/lamp.txt",
            "seen http://www.lampholm.example/.well-known",
            "It stays there until `eskort place pages --remove`",
        ],
    );
    put(&["lampholm.example"]).check(0, &["seen"]);
    // A run that looks after certificates leaves it alone.
    world.keep().check(0, &["generation 1 installed"]);
    place.run(&["keep"]).check(0, &["nothing to do"]);
    assert!(place.path("www/.well-known/pki-validation/lamp.txt").exists());
    place.write("lamp.txt", "another\n");
    put(&["lampholm.example"]).check(1, &["exists already and contains something else"]);
    let removed = place.run(&["place", "pages", "--remove"]);
    removed.check(0, &["removed", "www/.well-known/pki-validation/lamp.txt"]);
    world.place.check_nothing_published();
    place.run(&["place", "pages", "--remove"]).check(0, &["Nothing is placed for proof `pages`"]);

    put(&["gone.lampholm.example"]).check(0, &[]);
    let elsewhere = place.read("eskort.toml").replace("folder = \"www\"", "folder = \".\"");
    place.write("eskort.toml", &elsewhere);
    place.write("lamp.txt", "a third\n");
    put(&["lampholm.example"]).check(1, &["a different text came back"]);
    for (words, code, said) in [
        (
            &["place", "pages", "/../x", "--from", "lamp.txt", "--at", "lampholm.example"][..],
            1,
            "is not a path that can be used in a URL",
        ),
        (
            &["place", "zone", path, "--from", "lamp.txt", "--at", "lampholm.example"],
            1,
            "no proof `zone` of kind http-folder",
        ),
        (&["place", "pages", path, "--from", "gone.txt", "--at", "lampholm.example"], 2, "cannot read gone.txt"),
        (&["place", "pages", path, "--from", "lamp.txt", "--at", "lampholm"], 2, "has no dot"),
        (&["place", "pages", path, "--from", "lamp.txt"], 2, "--at <NAME>"),
        (&["place", "pages", path, "--from", "/dev/null", "--at", "lampholm.example"], 2, "there is nothing in it"),
    ] {
        place.run(words).check(code, &[said]);
    }
    let report = place.run(&["place", "pages", "--remove", "--output", "json"]);
    let report: serde_json::Value = serde_json::from_str(&report.check(0, &[]).out).unwrap();
    assert_eq!((report["report"].as_str(), report["removed"].as_array().map(Vec::len)), (Some("place"), Some(2)));
}

#[test]
fn many_certificates_are_listed_in_their_natural_order_counted_and_chosen_by_state_and_name() {
    let world = World::new();
    world.keep().check(0, &["generation 1 installed"]);
    let more = |text: String| {
        let one = |n: u32| format!("\n[certificate.c{n}]\nnames = [\"lampholm.example\"]\n");
        [1, 2, 10].into_iter().map(one).fold(text, |text, section| text + &section)
    };
    world.write_inventory(more);
    let list = |words: &[&str]| world.place.run(&[&["list"], words].concat());
    let said = list(&[]);
    said.check(0, &["4 certificates: ", "3 without one yet", "1 good"]);
    let at = |name: &str| said.out.find(&format!("\n{name} ")).unwrap_or_else(|| panic!("{name} in {said}"));
    assert!(at("c1") < at("c2") && at("c2") < at("c10") && at("c10") < at("website"), "{said}");
    let good = list(&["--state", "good"]);
    good.check(0, &["website"]);
    assert!(!good.out.contains("c10") && !good.out.contains("certificates:"), "{good}");
    let named = list(&["--name", "c1*", "--name", "www.*", "--state", "missing"]);
    named.check(0, &["c10", "2 certificates: 2 without one yet"]);
    assert!(!named.out.contains("website"), "{named}");
    list(&["--name", "harbour*"]).check(0, &["No certificate fits."]);
    list(&["--state", "god"]).check(2, &["partly-installed"]);
    let json = list(&["--name", "c2", "--output", "json"]);
    assert_eq!(value(&json, "/certificates/0/certificate"), "c2");

    // What is at rest takes one line, however much it is.
    let said = world.place.run(&["keep"]);
    said.check(0, &["website: nothing to do; renewal on", "generation 1 stored"]);
    world.place.run(&["keep"]).check(0, &["4 certificates: nothing to do; the next renewal is that of `"]);
    world.write_inventory(|text| more(text) + "\n[certificate.c3]\nnames = [\"lampholm.example\"]\n");
    let said = world.place.run(&["keep", "--plan"]);
    said.check(0, &["c3: get the first certificate", "4 others: nothing to do; the next renewal is that of `"]);
    assert_eq!(said.out.matches("nothing to do").count(), 1, "{said}");
}
