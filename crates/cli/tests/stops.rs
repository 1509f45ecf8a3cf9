//! Signals, to the process and to its group; programs that do not end; a bug of ours.

use crate::hosts::{Sshd, on_hosts};
use crate::office::Office;
use crate::world::*;
use eskort_practice::{Fault, Resource};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

fn start(place: &Place, words: &[&str]) -> Child {
    let mut command = place.eskort();
    command.args(words).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0);
    command.spawn().unwrap()
}

fn signal(word: &str, whom: &str) {
    assert!(Command::new("kill").args([word, "--", whom]).status().unwrap().success(), "{word} {whom}");
}

fn await_file(place: &Place, name: &str) {
    until(&format!("{name} is there"), || place.path(name).exists());
}

fn ended(child: Child) -> Said {
    Said::from(child.wait_with_output().unwrap())
}

#[test]
fn a_signal_to_the_group_does_not_cut_a_reload_in_two() {
    for word in ["-INT", "-TERM", "-HUP"] {
        let world = World::new();
        let run = "run = [\"sh\", \"-c\", \"touch begun; sleep 1; touch done\"]";
        world.write_inventory(|text| {
            text.replace("reload-timeout = \"3s\"", &format!("reload-timeout = \"3s\"\n{run}"))
        });
        let child = start(&world.place, &["keep"]);
        await_file(&world.place, "begun");
        signal(word, &format!("-{}", child.id()));
        let said = ended(child);
        said.check(1, &["finishing the installation", "stopped by a signal", "nothing is left published"]);
        assert!(world.place.path("done").exists(), "{word}: {said}");
        world.place.run(&["keep"]).check(0, &["installed"]);
    }
}

#[test]
fn a_lost_terminal_and_a_polite_end_leave_nothing_published_and_a_second_signal_ends_at_once() {
    for word in ["-HUP", "-TERM"] {
        let world = World::with(|o| o.thinking = Duration::from_secs(4));
        let child = start(&world.place, &["keep"]);
        until("the authority is at work", || world.authority.asked().contains(&Resource::Challenge));
        signal(word, &child.id().to_string());
        ended(child).check(1, &["stopped by a signal", "nothing is left published"]);
        world.place.check_nothing_published();
    }
}

#[test]
fn a_second_signal_ends_at_once_and_says_what_stays() {
    let world = World::new();
    // A program that places records, and takes its time to remove them.
    let script = "#!/bin/sh\nread line\ncase $line in *remove*) trap '' TERM; touch removing; sleep 60;; *) touch placed;; esac\n";
    let path = world.place.write("records", script);
    std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let names = world.names.address();
    let program =
        format!("kind = \"program\"\ncommand = [\"./records\"]\nserver = \"{names}\"\nname-servers = [\"{names}\"]\n");
    let check = format!("check-address = \"{}\"\n", world.site.plain_address());
    world.write_inventory(|text| {
        text.replace("kind = \"http-folder\"\nfolder = \"www\"\n", &program)
            .replace(&check, "propagation-timeout = \"4s\"\n")
    });
    let child = start(&world.place, &["keep"]);
    await_file(&world.place, "placed");
    signal("-TERM", &child.id().to_string());
    await_file(&world.place, "removing");
    let begun = Instant::now();
    signal("-TERM", &child.id().to_string());
    let said = ended(child);
    said.check(1, &["stopped at once by a second signal", "is written down", "eskort show NAME"]);
    assert!(begun.elapsed() < Duration::from_secs(20), "it ended only after {:?}", begun.elapsed());
    world.place.run(&["show", "website"]).check(0, &["left over", "the TXT record at _acme-challenge"]);
    let script = "#!/bin/sh\nread line\ncase $line in *remove*) echo \"$line\" >> removed;; esac\n";
    world.place.write("records", script);
    world.place.run(&["keep"]);
    assert!(world.place.read("removed").contains("_acme-challenge.lampholm.example"));
}

#[test]
fn a_program_in_the_middle_of_its_work_is_told_to_end_before_it_is_ended() {
    let world = World::new();
    let run = "trap 'touch told; sleep 0.3; touch cleaned; exit 1' TERM; touch begun; sleep 60 & wait";
    world.write_inventory(|text| {
        text.replace(
            "reload-timeout = \"3s\"",
            &format!("reload-timeout = \"3s\"\ntimeout = \"1s\"\nrun = [\"sh\", \"-c\", \"{run}\"]"),
        )
    });
    let said = world.keep();
    said.check(1, &["had not ended after 1 second", "`timeout` of the server gives it longer"]);
    assert!(world.place.path("cleaned").exists(), "{said}");
}

#[test]
fn a_daemon_that_a_restart_leaves_running_is_no_failure_and_programs_see_few_variables() {
    let world = World::new();
    let run = "env > seen; sleep 200 & exit 0";
    world.write_inventory(|text| {
        let rules = format!("reload-timeout = \"3s\"\nenv = [\"LAMP_OIL\"]\nrun = [\"sh\", \"-c\", \"{run}\"]");
        text.replace("reload-timeout = \"3s\"", &rules)
    });
    let begun = Instant::now();
    let mut command = world.place.eskort();
    command.env("LAMP_OIL", "wick").env("OTHER_SECRET", "oil+wick/7==").arg("keep");
    Said::from(command.output().unwrap()).check(0, &["installed and checked live"]);
    assert!(begun.elapsed() < Duration::from_secs(60), "it waited for the daemon");
    let seen = world.place.read("seen");
    assert!(seen.contains("LAMP_OIL=wick") && seen.contains("PATH=") && !seen.contains("OTHER_SECRET"), "{seen}");
}

#[test]
fn a_bug_in_the_work_on_one_certificate_is_its_own() {
    let world = World::new();
    world.write_inventory(|text| text + "\n[certificate.zone]\nnames = [\"www.lampholm.example\"]\n");
    world.authority.misbehave(Resource::Challenge, Fault::RefuseProof, 0);
    let output = world.place.eskort().env("ESKORT_PANIC_AT", "website").arg("keep").output().unwrap();
    let code = output.status.code();
    let text = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
    assert_eq!(code, Some(70), "{text}");
    assert!(
        text.contains("cannot get the first certificate for `website`") && text.contains("generation 1 stored"),
        "{text}"
    );
    world.place.run(&["keep"]).check(0, &["installed and checked live"]);
}

#[test]
fn receive_ends_with_the_certificate_at_which_it_was_stopped() {
    let office = Office::new();
    let place = &office.place;
    let run = "run = [\"sh\", \"-c\", \"touch begun; sleep 1; touch done\"]\n\n[certificate.stock]";
    let shelf = "\n[certificate.shelf]\nnames = [\"shelf.lampholm.internal\"]\ninstall = [{ server = \"app\" }]\n";
    let text = place.read("eskort.toml").replace("\n[certificate.stock]", run) + shelf;
    place.write("eskort.toml", &text);
    place.run(&["keep"]).check(3, &["waits for you"]);
    for name in ["shelf", "stock"] {
        office.answer_for(name, 1, 300);
        place.write(&format!("{name}.pem"), &place.read("leaf.pem"));
    }
    let child = start(place, &["receive", "shelf.pem", "stock.pem", "issuer.pem", "upper.pem"]);
    await_file(place, "begun");
    signal("-INT", &format!("-{}", child.id()));
    let said = ended(child);
    said.check(1, &["finishing the installation", "generation 1 is in use", "stopped by a signal"]);
    assert!(place.path("done").exists() && !said.err.contains("stock"), "{said}");
    place.run(&["receive", "stock.pem", "issuer.pem", "upper.pem"]).check(0, &["stock", "put in place"]);
    place.run(&["keep"]).check(0, &[]);
    place.run(&["list"]).check(0, &["shelf", "stock"]);
}

#[test]
fn a_stop_while_another_machine_is_silent_does_not_wait_for_it() {
    let world = World::new();
    let place = &world.place;
    let sshd = Sshd::start(place, place.dir.path(), "");
    let dir = place.dir.path().display();
    place.write("records", &format!("touch {dir}/begun; trap '' TERM HUP; sleep 60\n"));
    let names = world.names.address();
    on_hosts(&world, &sshd.section("node"), "\"node\"", "www");
    let program = format!(
        "kind = \"program\"\ncommand = [\"sh\", \"{dir}/records\"]\nserver = \"{names}\"\nname-servers = [\"{names}\"]\n"
    );
    let text = place.read("eskort.toml").replace("kind = \"http-folder\"\nfolder = \"www\"\n", &program);
    place.write("eskort.toml", &text.replace(&format!("check-address = \"{}\"\n", world.site.plain_address()), ""));
    let child = start(place, &["keep"]);
    await_file(place, "begun");
    let begun = Instant::now();
    // Two signals of one kind may arrive as one.
    signal("-TERM", &child.id().to_string());
    signal("-INT", &child.id().to_string());
    let said = ended(child);
    said.check(1, &["stopped"]);
    assert!(begun.elapsed() < Duration::from_secs(8), "it ended only after {:?}\n{said}", begun.elapsed());
}
