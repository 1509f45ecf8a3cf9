//! What is undone and what is not: the work of people and of other certificates stays, and who was told of a change is told
//! again.

use crate::world::*;

/// A server of kind files whose program notes each time it is run, with the file as it is then.
fn server(name: &str, run: &str) -> String {
    format!(
        "\n[server.{name}]\nkind = \"files\"\ncopy = [{{ part = \"bundle\", to = \"{name}/tls.pem\" }}]\n\
         run = [\"sh\", \"-c\", \"{run}\"]\n"
    )
}

#[test]
fn what_a_person_mended_after_a_kill_stays_theirs() {
    let world = World::new();
    let place = &world.place;
    let with = |run: &str| {
        world.write_inventory(|text| {
            text.replace("install = [{ server = \"front\" }]", "install = [{ server = \"mail\" }]")
                + &server("mail", run)
        });
    };
    place.write("mail/tls.pem", "as it was");
    with("true");
    let killed = place.run_with("ESKORT_CRASH_AT", "written", &["keep"]);
    assert_eq!(killed.code, None, "{killed}");
    place.write("mail/tls.pem", "a person was here");
    with("exit 1");
    world.keep().check(
        1,
        &["mail/tls.pem was changed by somebody else, and stays as it is", "its contents before our change are in"],
    );
    assert_eq!(place.read("mail/tls.pem"), "a person was here", "the text of the person came back");
    let kept = std::fs::read_dir(place.path("state/backups/mail")).unwrap();
    let kept: Vec<String> = kept.map(|e| std::fs::read_to_string(e.unwrap().path()).unwrap()).collect();
    assert!(kept.contains(&"as it was".to_owned()), "{kept:?}");
    // One that was killed and touched by nobody is put back before anything else is done.
    with("true");
    place.run_with("ESKORT_CRASH_AT", "reloaded", &["keep"]);
    assert_ne!(place.read("mail/tls.pem"), "a person was here");
    with("exit 1");
    world.keep().check(1, &["everything was put back"]);
    assert_eq!(place.read("mail/tls.pem"), "a person was here");
}

#[test]
fn a_certificate_that_fails_later_does_not_take_the_work_of_another_away() {
    let world = World::new();
    let place = &world.place;
    // Two certificates on one server, whose files lie side by side.
    let with = |run: &str| {
        world.write_inventory(|text| {
            let text = text.replace("install = [{ server = \"front\" }]", "install = [{ server = \"mail\" }]");
            text + &server("mail", run)
                + "\n[certificate.zone]\nnames = [\"www.lampholm.example\"]\ninstall = [{ server = \"mail\" }]\n"
        });
    };
    with("true");
    place.run_with("ESKORT_CRASH_AT", "reloaded", &["keep", "--only", "website"]);
    place.run(&["keep", "--only", "zone"]).check(0, &["generation 1 stored and put in place"]);
    let of_zone = place.read("mail/tls.pem");
    with("exit 1");
    place.run(&["keep", "--only", "website"]).check(1, &["everything was put back"]);
    assert_eq!(place.read("mail/tls.pem"), of_zone);
}

#[test]
fn servers_that_were_told_are_told_again() {
    let world = World::new();
    let place = &world.place;
    place.write("mail/tls.pem", "as it was");
    let note = "cat mail/tls.pem >> told; echo >> told";
    let write_inventory = |test: bool, reload: bool| {
        world.write_inventory(|text| {
            let both = "install = [{ server = \"mail\" }, { server = \"web\" }]";
            let text = text.replace("install = [{ server = \"front\" }]", both) + &server("mail", note);
            text + &format!("\n[server.web]\nkind = \"nginx\"\nconfig = \"web.conf\"\ntest = [\"{test}\"]\nreload = [\"{reload}\"]\n")
        });
    };
    place.write(
        "web.conf",
        "events {}\nhttp { server { listen 127.0.0.1:9; server_name lampholm.example www.lampholm.example; } }\n",
    );
    // None is told before all have tested what they have.
    write_inventory(false, true);
    let said = world.keep();
    said.check(1, &["refuses its configuration as it was before any change", "everything is as it was before"]);
    assert!(!place.path("told").exists(), "{said}");
    write_inventory(true, false);
    let said = world.on_day(1, &["keep", "--only", "website"]);
    said.check(1, &["could not be reloaded", "everything was put back"]);
    let told = place.read("told");
    let last = told.lines().last().unwrap();
    assert_eq!((last, told.matches("BEGIN CERTIFICATE").count() > 0), ("as it was", true), "{said}");
    world.place.run(&["show", "website"]).check(0, &["mail", "failed", "0 of 2 servers have the newest generation"]);
}
