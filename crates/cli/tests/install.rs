//! `install`: what is stored is put on servers, or the generation before; `keep` leaves that alone.

use crate::hosts::Sshd;
use crate::serving::{HAPROXY, Served};
use crate::world::*;
use serde_json::Value;
use std::process::Command;

fn report(said: &Said) -> Value {
    serde_json::from_str(&said.out).unwrap_or_else(|e| panic!("{e}: {said}"))
}

#[test]
fn a_person_goes_back_to_the_generation_before_and_it_stays() {
    let world = World::new();
    let place = &world.place;
    place.run(&["install", "website"]).check(1, &["no certificate is stored yet", "eskort keep --only website"]);
    place.run(&["install", "website", "--undo"]).check(1, &["no certificate is stored yet"]);
    world.keep().check(0, &["installed and checked live"]);
    let first = place.read("tls/site.pem");
    let again = place.run(&["install", "website"]);
    again.check(0, &["generation 1 is in use already; nothing was changed"]);
    assert!(!again.err.contains("endpoint"), "{again}");
    place.run(&["install", "website", "--plan"]).check(0, &["no file would change"]);
    world.on_day(75, &["keep"]).check(0, &["generation 2"]);
    let second = place.read("tls/site.pem");
    assert_ne!(first, second);

    let gone = report(&world.on_day(75, &["install", "website", "--undo", "--output", "json"]));
    let fields = ["result", "generation", "instead_of", "changed"].map(|field| gone[field].clone());
    assert_eq!(Value::from(fields.to_vec()), serde_json::json!(["in-use", 1, 2, true]));
    assert_eq!(place.read("tls/site.pem"), first);
    // No run puts the newer one back, or orders another.
    world.on_day(76, &["keep"]).check(0, &["nothing to do"]);
    assert_eq!(place.read("tls/site.pem"), first);
    world.on_day(76, &["list"]).check(0, &["went back to 1", "14 days"]);
    world.on_day(76, &["show", "website"]).check(0, &["went back from generation 2 to 1"]);
    // What is missing of the old one is put there, and of no other.
    std::fs::remove_file(place.path("tls/site.key")).unwrap();
    world.on_day(76, &["keep"]).check(0, &["writes"]);
    assert_eq!(place.read("tls/site.pem"), first);
    // Further back there is nothing.
    let before = place.read("tls/site.pem");
    world.on_day(77, &["install", "website"]).check(0, &["generation 2 is in use."]);
    assert_eq!(place.read("tls/site.pem"), second);
    world.on_day(77, &["install", "website", "--undo"]).check(0, &["generation 1 is in use again"]);
    assert_eq!(place.read("tls/site.pem"), before);
    // Shortly before it ends it makes way.
    world.on_day(88, &["keep"]).check(0, &["generation 2"]);
    assert_eq!(place.read("tls/site.pem"), second);
    // What has ended is put on no server.
    world.on_day(95, &["install", "website", "--undo"]).check(1, &["generation 1 has ended on"]);
    assert_eq!(place.read("tls/site.pem"), second);
    place.run(&["install", "webiste"]).check(2, &["has no certificate `webiste`"]);
}

#[test]
fn a_keystore_is_written_for_whoever_has_its_password_and_only_when_it_has_to_be() {
    let world = World::new();
    let place = &world.place;
    place.write("password", "lamp light\n");
    std::fs::set_permissions(place.path("password"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let change = |text: String| {
        let (from, to) = (text.find("kind = \"files\"").unwrap(), text.find("[certificate.").unwrap());
        let server = "kind = \"keystore\"\nto = \"app/site.p12\"\npassword-file = \"password\"\nrun = [\"touch\", \"restarted\"]\n\n";
        format!("{}{server}{}", &text[..from], &text[to..])
    };
    world.write_inventory(change);
    world.keep().check(0, &["app/site.p12 (keystore)"]);
    assert_eq!(place.mode("app/site.p12"), 0o600);
    let serial = || {
        let opened = place.openssl(&[
            "pkcs12",
            "-in",
            "app/site.p12",
            "-passin",
            "file:password",
            "-nodes",
            "-out",
            "opened.pem",
        ]);
        opened.check(0, &[]);
        assert_eq!(place.read("opened.pem").matches("BEGIN").count(), 3, "key, leaf and intermediate");
        place.openssl(&["x509", "-in", "opened.pem", "-noout", "-serial", "-subject"]).out
    };
    let first = serial();
    let words = ["-list", "-v", "-keystore", "app/site.p12", "-storepass:file", "password", "-storetype", "PKCS12"];
    let java = std::process::Command::new("keytool").args(words).current_dir(place.dir.path()).output().unwrap();
    let said = String::from_utf8_lossy(&java.stdout).into_owned();
    assert!(said.contains("Alias name: website") && said.contains("Certificate chain length: 2"), "{said}");
    // It is as it should be: it is not made anew, and nothing is restarted.
    let bytes = || std::fs::read(place.path("app/site.p12")).unwrap();
    let before = bytes();
    std::fs::remove_file(place.path("restarted")).unwrap();
    place.run(&["keep"]).check(0, &["nothing to do"]);
    assert!(bytes() == before && !place.path("restarted").exists());
    // Another password, another generation, an access that is too wide, and a file that is broken.
    place.write("password", "another\n");
    place.run(&["keep"]).check(0, &["writes"]);
    assert_eq!(serial(), first);
    world.on_day(75, &["keep"]).check(0, &["writes"]);
    assert_ne!(serial(), first);
    std::fs::set_permissions(place.path("app/site.p12"), std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    world.on_day(75, &["keep"]).check(0, &["writes"]);
    assert_eq!(place.mode("app/site.p12"), 0o600);
    place.write("app/site.p12", "broken");
    world.on_day(75, &["keep"]).check(0, &["writes"]);
    world.on_day(75, &["install", "website", "--undo"]).check(0, &["generation 1 is in use again"]);
    assert_eq!(serial(), first);
    std::fs::remove_file(place.path("password")).unwrap();
    world.on_day(75, &["install", "website"]).check(1, &["the keystore of server `front` cannot be made", "password"]);
}

#[test]
fn a_program_is_told_what_to_serve_and_what_was_put_back() {
    let world = World::new();
    let place = &world.place;
    let told = |line: usize| -> Value {
        serde_json::from_str(place.read("told").lines().nth(line).unwrap_or_else(|| panic!("{}", place.read("told"))))
            .unwrap()
    };
    let script = "#!/bin/sh\nread line; echo \"$line\" >> told\ncp state/certificates/website/current/bundle.pem tls/site.pem\n\
                  cp state/certificates/website/current/key.pem tls/site.key\n[ ! -e refuse ] || { echo 'the panel is closed' >&2; exit 1; }\n";
    let program = place.write("put-on-panel", script);
    std::fs::set_permissions(&program, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    std::fs::create_dir_all(place.path("tls")).unwrap();
    let kind = format!("kind = \"program\"\ncommand = [\"{}\"]\n", program.display());
    let change = |text: String| {
        let (from, to) = (text.find("kind = \"files\"").unwrap(), text.find("check-address = \"127.0.0.1").unwrap());
        let to = text[to + 1..].find("check-address").map_or(to, |more| to + 1 + more);
        format!("{}{kind}{}", &text[..from], &text[to..])
    };
    world.write_inventory(change);
    world.keep().check(0, &["installed and checked live"]);
    let line = told(0);
    let one = &line["certificates"][0];
    assert_eq!((&line["version"], &line["server"], &one["name"]), (&1.into(), &"front".into(), &"website".into()));
    assert_eq!((&one["generation"], &one["names"]), (&1.into(), &serde_json::json!(NAMES)));
    assert!(one["key"].as_str().unwrap().ends_with("current/key.pem"), "{line}");
    let first = place.read("tls/site.pem");
    place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(place.read("told").lines().count(), 1, "told once");
    // It fails: what was in use before is in use again, and it is told so.
    place.write("refuse", "");
    world.on_day(75, &["keep"]).check(1, &["the panel is closed", "could not be reloaded"]);
    assert_eq!([told(1), told(2)].map(|line| line["certificates"][0]["generation"].clone()), [2, 1]);
    assert_eq!(place.read("tls/site.pem"), first);
    std::fs::remove_file(place.path("refuse")).unwrap();
    world.on_day(76, &["keep"]).check(0, &["generation 2"]);
    assert_ne!(place.read("tls/site.pem"), first);
    world.on_day(76, &["install", "website", "--undo"]).check(0, &["generation 1 is in use again"]);
    assert_eq!(place.read("tls/site.pem"), first);
}

#[test]
fn each_server_that_was_told_is_told_again_when_a_later_one_fails() {
    let world = World::new();
    let place = &world.place;
    let program = |name: &str, then: &str| {
        let words = format!("read line; echo \"$line\" >> {name}; {then}");
        format!("[server.{name}]\nkind = \"program\"\ncommand = [\"sh\", \"-c\", '{words}']\n\n")
    };
    let servers = program("told", "true") + &program("last", "test ! -e refuse") + "[certificate.website]";
    let all = "{ server = \"front\" }, { server = \"told\" }, { server = \"last\" }";
    world
        .write_inventory(|text| text.replace("[certificate.website]", &servers).replace("{ server = \"front\" }", all));
    world.keep().check(0, &["installed and checked live"]);
    place.write("refuse", "");
    world.on_day(75, &["keep"]).check(1, &["server `last` could not be reloaded"]);
    let told: Vec<Value> = place.read("told").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let generations: Vec<&Value> = told.iter().map(|line| &line["certificates"][0]["generation"]).collect();
    assert_eq!(generations, [1, 2, 1], "what it was told is taken back");
}

#[test]
fn what_stands_in_the_way_of_a_new_certificate_is_named() {
    // The server goes on with what it had: another program, or none, is at the port.
    let world = World::new();
    let elsewhere = free_port();
    let change = |text: String, port: u16| {
        let tls = world.site.tls_address();
        text.replace(&format!("check-address = \"{tls}\""), &format!("check-address = \"127.0.0.1:{port}\""))
            .replace("reload-timeout = \"3s\"", "reload-timeout = \"1s\"")
    };
    world.write_inventory(|text| change(text, elsewhere));
    world.keep().check(1, &[&format!("nothing on this machine listens at port {elsewhere}"), "put back as it was"]);
    let listener = std::net::TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || listener.incoming().for_each(drop));
    let own = std::fs::read_to_string("/proc/self/comm").unwrap();
    world.write_inventory(|text| change(text, port));
    world.keep().check(1, &[&format!("port {port} is held by {}", own.trim())]);
    assert!(!world.place.path("tls/site.pem").exists());
}

#[test]
fn the_first_installation_is_undone_configuration_and_all_unless_somebody_changed_it() {
    let served = Served::begin(&HAPROXY);
    let place = &served.world.place;
    let before = place.read("haproxy.cfg");
    served.world.keep().check(0, &["installed and checked live"]);
    let after = place.read("haproxy.cfg");
    assert!(served.shows("Lampholm Practice"), "{after}");
    place.run(&["install", "website", "--undo"]).check(0, &["2 files put back as before it was installed"]);
    assert_eq!(place.read("haproxy.cfg"), before);
    assert!(!place.path("state/served/front/website/combined.pem").exists());
    until("the placeholder is shown again", || served.shows("placeholder"));
    place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(place.read("haproxy.cfg"), before);
    place.run(&["install", "website", "--undo"]).check(1, &["no generation is in use"]);

    // In, and then somebody edits the file.
    let plan = report(&place.run(&["install", "website", "--plan", "--output", "json"]));
    assert_eq!(plan["servers"][0]["changes"].as_array().unwrap().len(), 2, "{plan}");
    assert_eq!(place.read("haproxy.cfg"), before);
    place.run(&["install", "website"]).check(0, &["generation 1 is in use."]);
    assert_eq!(place.read("haproxy.cfg"), after);
    // Another certificate that the same server has stands in the way, too.
    let inventory = place.read("eskort.toml");
    let second = "\n[certificate.second]\nnames = [\"lampholm.example\"]\ninstall = [{ server = \"front\" }]\n";
    place.write("eskort.toml", &(inventory.clone() + second));
    std::fs::create_dir_all(place.path("state/certificates/second")).unwrap();
    std::os::unix::fs::symlink("0001", place.path("state/certificates/second/current")).unwrap();
    place.run(&["install", "website", "--undo"]).check(1, &["was changed for `second` too", "nothing was put back"]);
    assert_eq!(place.read("haproxy.cfg"), after);
    place.write("eskort.toml", &inventory);
    let edited = after.replace("timeout client 60s", "timeout client 30s");
    place.write("haproxy.cfg", &edited);
    let refused = place.run(&["install", "website", "--undo"]);
    refused.check(
        1,
        &["was changed by somebody else, and stays as it is", "+  timeout client 30s", "nothing was put back"],
    );
    assert_eq!(place.read("haproxy.cfg"), edited);
    assert!(place.path("state/served/front/website/combined.pem").exists() && served.shows("Lampholm Practice"));
}

#[test]
fn an_installation_that_is_killed_anywhere_is_undone_or_finished_by_the_next_run() {
    let served = Served::begin(&HAPROXY);
    let place = &served.world.place;
    let before = place.read("haproxy.cfg");
    served.world.keep().check(0, &["installed and checked live"]);
    let after = place.read("haproxy.cfg");
    place.run(&["install", "website", "--undo"]).check(0, &["put back"]);
    for point in ["backed-up", "switched", "written", "reloaded", "settled"] {
        let killed = place.run_with("ESKORT_CRASH_AT", point, &["install", "website"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
        place.run(&["install", "website"]).check(0, &["generation 1 is in use"]);
        assert_eq!(place.read("haproxy.cfg"), after, "{point}");
        until(&format!("{point}: the certificate is shown"), || served.shows("Lampholm Practice"));
        place.run(&["install", "website", "--undo"]).check(0, &["2 files put back"]);
        assert_eq!(place.read("haproxy.cfg"), before, "{point}");
        assert!(!place.path("state/served/front/website/combined.pem").exists(), "{point}");
    }
    // `keep` goes on with it, too: somebody has asked for it.
    assert_eq!(place.run_with("ESKORT_CRASH_AT", "written", &["install", "website"]).code, None);
    place.run(&["keep"]).check(0, &["installed and checked live"]);
    assert_eq!(place.read("haproxy.cfg"), after);
    assert!(served.shows("Lampholm Practice"));
}

#[test]
fn a_server_of_another_machine_is_led_to_the_certificate_there_and_back() {
    let served = Served::begin(&HAPROXY);
    let place = &served.world.place;
    let node = Sshd::start(place, place.dir.path(), "");
    let dir = place.path("").display().to_string();
    let there = format!("host = \"node\"\nconfig = \"{dir}haproxy.cfg\"\ncertificates-folder = \"{dir}far\"");
    let text = place.read("eskort.toml").replace("config = \"haproxy.cfg\"", &there);
    place.write("eskort.toml", &(text + &node.section("node")));
    let before = place.read("haproxy.cfg");
    served.world.keep().check(0, &["installed and checked live"]);
    assert!(served.shows("Lampholm Practice"));
    let after = place.read("haproxy.cfg");
    assert!(after.contains(&format!("crt {dir}far/website/combined.pem")), "{after}");
    assert_eq!(place.mode("far/website/combined.pem"), 0o600);
    place.run(&["keep"]).check(0, &["nothing to do"]);
    // Renewed: the file is another, the configuration is not.
    let first = place.read("far/website/combined.pem");
    served.world.on_day(75, &["keep"]).check(0, &["installed and checked live"]);
    assert!(place.read("far/website/combined.pem") != first && place.read("haproxy.cfg") == after);
    served.world.on_day(75, &["install", "website", "--undo"]).check(0, &["generation 1 is in use again"]);
    assert_eq!(place.read("far/website/combined.pem"), first);
    // Its own test refuses the file: nothing of it stays.
    place.write("haproxy.cfg", &(after.clone() + "nonsense\n"));
    served.world.on_day(75, &["install", "website"]).check(1, &["refuses its configuration as it was before"]);
    assert_eq!(place.read("far/website/combined.pem"), first);
    place.write("haproxy.cfg", &before);
}

/// A file system of a few pages, mounted in a folder of the place.
struct Small(std::path::PathBuf);

impl Small {
    fn mount(place: &Place, name: &str) -> Self {
        let folder = place.path(name);
        std::fs::create_dir_all(&folder).unwrap();
        let small = Small(folder);
        small.run("mount", &["-t", "tmpfs", "-o", "size=24k", "tmpfs"]);
        small
    }

    fn run(&self, program: &str, words: &[&str]) {
        assert!(Command::new(program).args(words).arg(&self.0).status().unwrap().success(), "{program} {words:?}");
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.0).status();
    }
}

#[test]
fn a_full_disk_a_read_only_mount_and_an_immutable_file_are_named_and_nothing_is_left_over() {
    if done_by_root("install::a_full_disk_a_read_only_mount_and_an_immutable_file_are_named_and_nothing_is_left_over") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    let small = Small::mount(place, "small");
    world.write_inventory(|text| {
        let both = "copy = [{ part = \"bundle\", to = \"tls/site.pem\" }, { part = \"key\", to = \"tls/site.key\" }]";
        let third = format!("{}, {{ part = \"bundle\", to = \"small/site.pem\" }}]", both.trim_end_matches(']'));
        assert!(text.contains(both));
        text.replace(both, &third)
    });
    world.keep().check(0, &["generation 1 installed"]);
    let files = ["tls/site.pem", "tls/site.key", "small/site.pem"];
    let before = files.map(|file| place.read(file));
    // What is left is less than a file needs.
    let _ = std::fs::write(place.path("small/filler"), "x".repeat(24 << 10));
    for (said, hint) in [("No space left on device", "make room"), ("Read-only file system", "is mounted read-only")] {
        if hint.contains("read-only") {
            small.run("mount", &["-o", "remount,ro"]);
        }
        world.on_day(75, &["keep", "--only", "website"]).check(1, &[said, hint, "everything was put back as it was"]);
        assert_eq!(files.map(|file| place.read(file)), before, "{said}");
        let left = std::fs::read_dir(place.path("small")).unwrap().count();
        assert_eq!(left, 2, "nothing lies beside it: {said}");
    }
    small.run("mount", &["-o", "remount,rw"]);
    std::fs::remove_file(place.path("small/filler")).unwrap();
    // A file that root has made immutable.
    let immutable = |word: &str| {
        let status = Command::new("chattr").args([word, "tls/site.key"]).current_dir(place.dir.path()).status();
        assert!(status.unwrap().success(), "chattr {word}");
    };
    immutable("+i");
    let refused = world.on_day(75, &["keep", "--only", "website"]);
    immutable("-i");
    refused.check(1, &["cannot write", "site.key", "the file is immutable", "everything was put back as it was"]);
    assert_eq!(files.map(|file| place.read(file)), before);
    assert_eq!(std::fs::read_dir(place.path("tls")).unwrap().count(), 2, "nothing is left beside it");
    world.on_day(75, &["keep", "--only", "website"]).check(0, &["generation 2"]);
}
