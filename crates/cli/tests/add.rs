//! `add`: what a person does not say is found by a survey, and what stands in the inventory stays.

use crate::world::*;
use std::process::{Command, Stdio};

const DIRECTORY: [&str; 3] = ["--directory", "https://ca.example/directory", "--accept-terms"];

/// A place with the configuration of an nginx.
fn with_nginx() -> Place {
    let place = Place::new();
    place.write(
        "nginx.conf",
        "events {}\nhttp {\n\
         server { listen 80; server_name lampholm.example www.lampholm.example; return 301 https://lampholm.example$request_uri; }\n\
         server { listen 443 ssl; server_name lampholm.example www.lampholm.example; root /srv/www/lampholm; ssl_certificate a; ssl_certificate_key b; }\n\
         server { listen 80; server_name archive.lampholm.example; root /srv/www/archive; }\n\
         server { listen 80; server_name odd.lampholm.example; root /srv/$host; }\n}\n",
    );
    place
}

fn add(place: &Place, words: &[&str]) -> Said {
    // Root's own inventory is another one.
    place.run(&[&["add", "--config", "eskort.toml", "--survey", "nginx.conf"], words].concat())
}

#[test]
fn the_first_one_begins_an_inventory_and_the_next_leaves_it_as_it_is() {
    let place = with_nginx();
    let site = ["--site", "lampholm.example", "--insist", "--contact", "keeper@lampholm.example"];
    let planned = add(&place, &[&site[..], &DIRECTORY, &["--plan"]].concat());
    planned.check(0, &["would be new, and begin with", "+ [authority.public]", "folder = \"/srv/www/lampholm\""]);
    assert!(!place.path("eskort.toml").exists(), "a plan writes nothing");
    let first = add(&place, &[&site[..], &DIRECTORY].concat());
    first.check(0, &["is new, and begins with", "install = [{ server = \"nginx\" }]", "eskort keep --only lampholm"]);
    let text = place.read("eskort.toml");
    assert!(
        text.starts_with("# What should be")
            && text.contains("names = [\"lampholm.example\", \"www.lampholm.example\"]")
    );
    assert_eq!(place.mode("eskort.toml") & 0o022, 0);

    // A person's own words, line ends and order stay.
    let mine = format!("# Ours, since the move.\r\n{}# the end", text.replace('\n', "\r\n"));
    place.write("eskort.toml", &mine);
    let second = add(&place, &["archive.lampholm.example"]);
    second.check(
        0,
        &["added to", "[proof.pages-2]", "folder = \"/srv/www/archive\"", "(this machine's web server serves"],
    );
    let after = place.read("eskort.toml");
    assert!(after.starts_with(&mine) && after.matches('\n').count() == after.matches("\r\n").count(), "{after}");
    assert_eq!(after.matches("[server.nginx]").count(), 1, "the server is there already");
    place.run(&["list"]).check(0, &["2 certificates: 2 without one yet"]);
    add(&place, &["archive.lampholm.example", "--proof", "pages-2", "--server", "nginx", "--plan"])
        .check(0, &["[certificate.archive-2]", "is on the certificate `archive`, too"]);
}

#[test]
fn what_only_a_person_knows_is_asked_for_and_nothing_is_written() {
    let place = with_nginx();
    let table: [(&[&str], &[&str]); 8] = [
        (&["lampholm.example"], &["has no authority yet", "--directory https://"]),
        (&["localhost"], &["`localhost` cannot be on a certificate"]),
        (&["--site", "none.lampholm.example"], &["no site of this machine's servers has the name", "eskort survey"]),
        (&["*.archive.lampholm.example"], &["a wildcard needs a proof over DNS", "[proof.NAME] over DNS"]),
        (
            &["shop.lampholm.example"],
            &["no way was found to prove control of shop.lampholm.example", "--folder", "--listener"],
        ),
        (&["lampholm.example", "archive.lampholm.example"], &["served from different folders"]),
        (&["odd.lampholm.example"], &["no way was found"]),
        (&["lampholm.example", "--proof", "none"], &["has no proof `none`", "it has none yet"]),
    ];
    for (n, (words, said)) in table.into_iter().enumerate() {
        let words = if n < 2 { words.to_vec() } else { [words, &DIRECTORY].concat() };
        add(&place, &words).check(2, said);
        assert!(!place.path("eskort.toml").exists(), "{words:?}");
    }
    place.run(&["add", "--config", "eskort.toml"]).check(2, &["no name was given", "on a terminal"]);
    add(&place, &[&["oil.lampholm.example", "--listener", "--directory", "https://ca.example/d"][..]].concat()).check(
        0,
        &["kind = \"http-listener\"", "you have not agreed to the authority's terms", "put on no server", "no contact"],
    );
    // An inventory with mistakes is left alone, and one that would have them is not written.
    let good = place.read("eskort.toml");
    add(&place, &["wick.lampholm.example", "--listener", "--contact", "x", "--certificate", "oil"])
        .check(2, &["already has the certificate `oil`"]);
    place.write("eskort.toml", &good.replace("accept-terms", "accept-termz"));
    add(&place, &["wick.lampholm.example", "--listener"]).check(2, &["accept-termz"]);
    place.write("eskort.toml", &good);
    add(&place, &["wick.lampholm.example", "--listener", "--certificate", "odd name"]).check(2, &["odd name"]);
    assert_eq!(place.read("eskort.toml"), good);
}

#[test]
fn many_at_once_lose_no_entry() {
    let place = with_nginx();
    add(&place, &[&["first.lampholm.example", "--listener"][..], &DIRECTORY].concat()).check(0, &[]);
    let adds: Vec<_> = (0..8)
        .map(|n| {
            let name = format!("room{n}.lampholm.example");
            let words = ["add", &name, "--proof", "listener", "--survey", "nginx.conf"];
            place.eskort().args(words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    for child in adds {
        Said::from(child.wait_with_output().unwrap()).check(0, &["added to"]);
    }
    place.run(&["list"]).check(0, &["9 certificates: 9 without one yet", "room0", "room7"]);
}

#[test]
fn go_takes_it_all_the_way() {
    let world = World::new();
    let words = ["add", "lampholm.example", "--certificate", "second", "--proof", "pages", "--server", "front", "--go"];
    world.place.run(&words).check(
        0,
        &["[certificate.second]", "www.lampholm.example is not among the names", "installed and checked live"],
    );
    world.place.run(&["show", "second"]).check(0, &["confirmed"]);
}

/// A conversation with the program on a pseudo-terminal; what it shows goes to a file.
struct Talk {
    place: Place,
    child: std::process::Child,
    /// How much of what it shows was read.
    read: usize,
}

impl Talk {
    fn begin(place: Place, words: &str) -> Self {
        let program = env!("CARGO_BIN_EXE_eskort");
        let mut command = Command::new("script");
        command.args(["-qefc", &format!("{program} {words}"), "shown"]).current_dir(place.dir.path());
        command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", place.dir.path()).env("TERM", "xterm");
        let child = command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        Talk { place, child: child.expect("script is part of Debian's bsdutils"), read: 0 }
    }

    /// Waits until something is shown, and answers with keys.
    fn answer(&mut self, shown: &str, keys: &str) {
        use std::io::Write;
        until(shown, || {
            let text = std::fs::read_to_string(self.place.path("shown")).unwrap_or_default();
            let found = text.get(self.read..).and_then(|new| new.find(shown));
            self.read += found.map_or(0, |at| at + shown.len());
            found.is_some()
        });
        self.child.stdin.as_mut().unwrap().write_all(keys.as_bytes()).unwrap();
    }

    fn end(mut self) -> (Place, Option<i32>) {
        let code = self.child.wait().unwrap().code();
        (self.place, code)
    }
}

const ENTER: &str = "\r";
const DOWN: &str = "\u{1b}[B";

#[test]
fn on_a_terminal_it_asks_and_one_certificate_for_each_chosen_site_is_written() {
    let words = "add --config eskort.toml --survey nginx.conf";
    let mut talk = Talk::begin(with_nginx(), words);
    talk.answer("Which sites are to have a certificate?", "archive ");
    talk.answer("1 of 3 chosen, 1 fit", &"\u{7f}".repeat(7));
    talk.answer("1 of 3 chosen ·", &format!("{DOWN}{DOWN}{DOWN} "));
    talk.answer("2 of 3 chosen ·", ENTER);
    talk.answer("One certificate for all of them?", "n");
    talk.answer("Which names are to be on it?", "\t");
    talk.answer("2 of 2 chosen ·", ENTER);
    talk.answer("Directory address of your authority", "http://ca.example\r");
    talk.answer("it begins with https://", &format!("{}https://ca.example/directory\r", "\u{7f}".repeat(20)));
    talk.answer("do you agree?", "y");
    talk.answer("Mail address", "keeper@lampholm.example\r");
    talk.answer("folder = \"/srv/www/lampholm\"", "");
    talk.answer("Write this?", "y");
    talk.answer("Written to", "");
    talk.answer("[certificate.archive]", "");
    talk.answer("Write this?", "y");
    talk.answer("Rehearse it now?", "n");
    talk.answer("Get the certificates now?", "n");
    let (place, code) = talk.end();
    assert_eq!(code, Some(0), "{}", place.read("shown"));
    let text = place.read("eskort.toml");
    for line in [
        "contact = \"keeper@lampholm.example\"",
        "directory = \"https://ca.example/directory\"",
        "accept-terms = true",
        "names = [\"lampholm.example\", \"www.lampholm.example\"]",
        "names = [\"archive.lampholm.example\"]",
    ] {
        assert!(text.contains(line), "{line}: {text}");
    }
    place.run(&["list", "--config", "eskort.toml"]).check(0, &["2 certificates: 2 without one yet"]);

    // Who thinks better of it changes nothing.
    for (shown, keys) in [("Which sites", "\u{1b}"), ("Which names", "\u{1b}"), ("Write this?", "n")] {
        let place = with_nginx();
        place.write("eskort.toml", &text);
        let mut talk = Talk::begin(place, words);
        if shown != "Which sites" {
            talk.answer("Which sites", ENTER);
        }
        if shown == "Write this?" {
            talk.answer("Which names", ENTER);
        }
        talk.answer(shown, keys);
        let (place, code) = talk.end();
        assert_eq!((code, place.read("eskort.toml")), (Some(0), text.clone()), "{shown}: {}", place.read("shown"));
    }
}

#[test]
fn what_the_machine_has_already_is_said() {
    let place = Place::new();
    place.write(
        "nginx.conf",
        "events {}\nhttp { server { listen 443 ssl; server_name lampholm.example www.lampholm.example; root /srv/www; \
         ssl_certificate tls.pem; ssl_certificate_key tls.key; } }\n",
    );
    place.write("main.cf", "myhostname = mail.lampholm.example\nsmtpd_tls_chain_files = tls.key, tls.pem\n");
    place.write("master.cf", "smtp inet n - y - - smtpd\n");
    let made = "req -x509 -newkey rsa:2048 -nodes -keyout tls.key -out tls.pem -days 50 -subj /CN=Harbour \
                -addext subjectAltName=DNS:www.lampholm.example";
    place.openssl(&made.split_whitespace().collect::<Vec<_>>()).check(0, &[]);
    let words = ["--survey", "main.cf", "--site", "lampholm.example", "--insist", "--folder", "/srv/www", "--plan"];
    add(&place, &[&words[..], &DIRECTORY].concat()).check(
        0,
        &[
            "www.lampholm.example has a certificate on this machine already, by Harbour, until",
            "mail.lampholm.example is not among the names (this machine's postfix goes by it",
        ],
    );
}
