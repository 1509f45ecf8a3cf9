//! As root beside a local user who means harm: what they link, plant and write does not decide what root does.

use crate::hosts::Sshd;
use crate::world::*;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::process::Command;

/// A user of this machine who is nobody in particular.
const STRANGER: u32 = 54_321;

/// Runs a script as the stranger.
fn as_stranger(place: &Place, script: &str) {
    let id = STRANGER.to_string();
    let mut command = Command::new("setpriv");
    command.args(["--reuid", &id, "--regid", &id, "--clear-groups", "sh", "-ec", script]);
    let output = command.current_dir(place.dir.path()).output().expect("setpriv is part of Debian's util-linux");
    assert!(output.status.success(), "{script}: {output:?}");
}

/// Makes a folder that belongs to the stranger, in a place that they may walk through, and a file of root's beside it.
fn prepare(place: &Place, folder: &str) {
    std::fs::set_permissions(place.dir.path(), PermissionsExt::from_mode(0o755)).unwrap();
    std::fs::create_dir_all(place.path(folder)).unwrap();
    chown(place.path(folder), Some(STRANGER), Some(STRANGER)).unwrap();
    place.write("victim", "root's own");
    std::fs::set_permissions(place.path("victim"), PermissionsExt::from_mode(0o600)).unwrap();
}

#[track_caller]
fn check_victim(place: &Place) {
    let meta = std::fs::metadata(place.path("victim")).unwrap();
    assert_eq!((place.read("victim").as_str(), meta.uid(), meta.mode() & 0o777), ("root's own", 0, 0o600));
}

#[test]
fn a_link_in_the_place_of_a_copied_file_is_not_followed() {
    if done_by_root("rights::a_link_in_the_place_of_a_copied_file_is_not_followed") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    prepare(place, "app");
    let owner = |text: String| {
        text.replace(
            "copy = [",
            "copy = [{ part = \"key\", to = \"app/tls.key\", group = \"nogroup\", mode = \"0640\" }, { part = \"key\", to = \"app/deep/tls.key\" }, ",
        )
    };
    world.write_inventory(owner);
    as_stranger(place, "ln -s ../victim app/tls.key; ln -s .. app/deep");
    let said = world.keep();
    said.check(1, &["symbolic link that somebody else may have made"]);
    check_victim(place);
    assert!(!place.path("tls.key").exists(), "{said}");
    as_stranger(place, "rm app/tls.key app/deep; mkdir app/deep");
    world.keep().check(0, &["installed and checked live"]);
    assert_eq!(place.mode("app/tls.key"), 0o640);
    // Swapped afterwards: a good file is not taken for in place over a link.
    as_stranger(place, "rm app/tls.key; ln -s ../victim app/tls.key");
    world.place.run(&["keep"]).check(1, &["symbolic link"]);
    check_victim(place);
}

#[test]
fn a_link_in_the_place_of_a_file_of_another_machine_is_not_followed() {
    if done_by_root("rights::a_link_in_the_place_of_a_file_of_another_machine_is_not_followed") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    prepare(place, "app");
    let sshd = Sshd::start(place, place.dir.path(), "");
    let there = |text: String| {
        let to = |path: &str| format!("to = \"{}/", place.path(path).display());
        let text =
            text.replace("kind = \"files\"", "kind = \"files\"\nhost = \"node\"").replace("to = \"tls/", &to("app"));
        // Nobody serves these files.
        let text = text.replace(&format!("check-address = \"{}\"\n", world.site.tls_address()), "");
        format!("{text}\n{}", sshd.section("node"))
    };
    world.write_inventory(there);
    // Whoever owns the folder decides what is in it, but not what root writes elsewhere.
    as_stranger(place, "ln -s ../victim app/site.key");
    world.keep().check(1, &["app/site.key", "a link that neither root nor the user of the host made"]);
    check_victim(place);
    let left = || std::fs::read_dir(place.path("app")).unwrap().count();
    assert_eq!(left(), 1, "only the link is there: what was written is gone again");
    as_stranger(place, "rm app/site.key");
    world.place.run(&["keep"]).check(0, &["put generation 1 in place", "app/site.key on host `node` (key)"]);
    assert_eq!((place.mode("app/site.key"), left()), (0o600, 2));
}

#[test]
fn a_link_in_the_place_of_a_challenge_file_is_not_followed() {
    if done_by_root("rights::a_link_in_the_place_of_a_challenge_file_is_not_followed") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    prepare(place, "www");
    world.authority.misbehave(eskort_practice::Resource::Challenge, eskort_practice::Fault::Status(500), 99);
    // The order stays open, and with it the token.
    let killed = place.run_with("ESKORT_CRASH_AT", "saved-publish", &["keep"]);
    let folder = place.path("www/.well-known/acme-challenge");
    let token = std::fs::read_dir(&folder).unwrap().next().unwrap().unwrap();
    assert_eq!(token.metadata().unwrap().uid(), STRANGER, "written with the rights of the folder's owner: {killed}");
    let token = token.file_name().into_string().unwrap();
    world.authority.behave();
    as_stranger(place, &format!("cd www/.well-known/acme-challenge; rm -f ./{token}; ln -s ../../../victim ./{token}"));
    world.keep().check(0, &["installed and checked live"]);
    check_victim(place);
    place.check_nothing_published();
    // A folder on the way that leads elsewhere.
    place.write("elsewhere/here", "");
    as_stranger(place, "ln -s ../elsewhere www/.well-known");
    let said = place.run(&["keep", "--only", "website"]);
    said.check(0, &["nothing to do"]);
    world.write_inventory(|text| text.replace("[certificate.website]", "[certificate.website]\nkey = \"p384\""));
    let said = world.keep();
    said.check(1, &["cannot write", "acme-challenge"]);
    assert_eq!(std::fs::read_dir(place.path("elsewhere")).unwrap().count(), 1);
}

#[test]
fn a_csr_does_not_follow_a_link_in_a_folder_that_everybody_uses() {
    if done_by_root("rights::a_csr_does_not_follow_a_link_in_a_folder_that_everybody_uses") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    prepare(place, "drop");
    std::fs::set_permissions(place.path("drop"), PermissionsExt::from_mode(0o1777)).unwrap();
    chown(place.path("drop"), Some(0), Some(0)).unwrap();
    world.write_inventory(|text| {
        text.replace("[proof.pages]", "[authority.office]\nkind = \"csr\"\nrequests-folder = \"drop\"\n\n[proof.pages]")
            .replace("install = [", "authority = \"office\"\ninstall = [")
    });
    as_stranger(place, "ln -s ../victim drop/website-0001.csr.pem");
    world.keep().check(3, &["waits for you"]);
    check_victim(place);
    assert!(place.read("drop/website-0001.csr.pem").contains("CERTIFICATE REQUEST"));
}

#[test]
fn root_obeys_no_inventory_program_or_secret_that_somebody_else_may_change() {
    if done_by_root("rights::root_obeys_no_inventory_program_or_secret_that_somebody_else_may_change") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    prepare(place, "theirs");
    let text = place
        .read("eskort.toml")
        .replace("reload-timeout = \"3s\"", "reload-timeout = \"3s\"\nrun = [\"touch\", \"done\"]");
    // In the working folder of somebody else, root does not even look.
    place.write("theirs/eskort.toml", &text);
    let mut here = place.eskort();
    let said =
        Said::from(here.env_remove("ESKORT_CONFIG").current_dir(place.path("theirs")).arg("keep").output().unwrap());
    said.check(2, &["no inventory exists at /etc/eskort/eskort.toml", "root does not use an inventory for being in"]);
    place
        .run(&["keep", "--config", "theirs/eskort.toml"])
        .check(2, &["theirs belongs to user 54321", "install -D", "/etc/eskort/eskort.toml"]);
    for mode in [0o646, 0o666] {
        std::fs::set_permissions(place.path("eskort.toml"), PermissionsExt::from_mode(mode)).unwrap();
        place.run(&["list"]).check(2, &["may be written by others", "chmod go-w", "eskort.toml"]);
    }
    std::fs::set_permissions(place.path("eskort.toml"), PermissionsExt::from_mode(0o644)).unwrap();
    chown(place.path("eskort.toml"), Some(STRANGER), None).unwrap();
    place.run(&["list"]).check(2, &["eskort.toml belongs to user 54321", "chown -h root", "fixes that"]);
    chown(place.path("eskort.toml"), Some(0), None).unwrap();
    let program = place.write("theirs/reload", "#!/bin/sh\ntouch done\n");
    std::fs::set_permissions(&program, PermissionsExt::from_mode(0o755)).unwrap();
    world.write_inventory(|text| {
        text.replace("reload-timeout = \"3s\"", "reload-timeout = \"3s\"\nrun = [\"theirs/reload\"]")
    });
    world.keep().check(1, &["theirs/reload` is not run", "user 54321", "everything was put back"]);
    assert!(!place.path("done").exists());
    place.write("theirs/key", "MDEyMzQ1Njc4OWFiY2RlZg");
    world.write_inventory(|text| {
        let external = "accept-terms = true\nexternal-key-id = \"lamp\"\nexternal-key-file = \"theirs/key\"";
        text.replace("accept-terms = true", external).replace("state = \"state\"", "state = \"other-state\"")
    });
    world.keep().check(1, &["theirs/key", "belongs to user 54321", "install -D"]);
}

#[test]
fn the_demo_of_root_in_a_folder_of_somebody_else_goes_elsewhere() {
    if done_by_root("rights::the_demo_of_root_in_a_folder_of_somebody_else_goes_elsewhere") {
        return;
    }
    let place = Place::new();
    prepare(&place, "theirs");
    std::fs::create_dir(place.path("tmp")).unwrap();
    let mut demo = place.eskort();
    demo.current_dir(place.path("theirs")).env("TMPDIR", place.path("tmp")).arg("demo");
    Said::from(demo.output().unwrap())
        .check(0, &["the practice world goes to", "tmp/eskort-demo-0", "What to try next"]);
    assert_eq!(std::fs::read_dir(place.path("theirs")).unwrap().count(), 0);
}

#[test]
fn a_program_runs_as_the_user_that_the_inventory_names() {
    if done_by_root("rights::a_program_runs_as_the_user_that_the_inventory_names") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    prepare(place, "open");
    std::fs::set_permissions(place.path("open"), PermissionsExt::from_mode(0o777)).unwrap();
    let run =
        "reload-timeout = \"3s\"\nuser = \"nobody\"\nrun = [\"sh\", \"-c\", \"id -un > open/who; env > open/env\"]";
    world.write_inventory(|text| text.replace("reload-timeout = \"3s\"", run));
    world.keep().check(0, &["installed and checked live"]);
    assert_eq!(place.read("open/who"), "nobody\n");
    assert!(place.read("open/env").contains("HOME=/nonexistent"));
    world.write_inventory(|text| {
        text.replace("reload-timeout = \"3s\"", &run.replace("nobody", "no-such-user"))
            .replace("[certificate.website]", "[certificate.website]\nkey = \"p384\"")
    });
    world.keep().check(1, &["no such user exists on this machine", "correct `user`"]);
}
