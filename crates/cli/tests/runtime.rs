//! Certificates changed under load: put into a running HAProxy over its runtime socket, or read by nginx in a reload. Nobody is dropped, and
//! what is refused goes back.

use crate::serving::{HAPROXY, NGINX, Served};
use crate::world::*;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

/// Says something to an HAProxy over its socket, and returns the answer.
fn say(place: &Place, message: &str) -> String {
    let mut socket = UnixStream::connect(place.path("haproxy.sock")).unwrap();
    socket.write_all(message.as_bytes()).unwrap();
    let mut answer = String::new();
    socket.read_to_string(&mut answer).unwrap();
    answer
}

/// Returns the process that takes visitors: another one after each reload.
fn worker(place: &Place) -> String {
    let said = say(place, "show info\n");
    said.lines().find_map(|line| line.strip_prefix("Pid: ")).unwrap_or_else(|| panic!("{said}")).to_owned()
}

/// Returns the file that the configuration leads to.
fn combined(place: &Place) -> String {
    let configuration = place.read("haproxy.cfg");
    let word = configuration.split_whitespace().skip_while(|word| *word != "crt").nth(1);
    word.unwrap_or_else(|| panic!("{configuration}")).to_owned()
}

/// A visitor who keeps a connection, and asks again over it.
struct Visitor(Child);

impl Visitor {
    fn come(port: u16) -> Self {
        let mut command = Command::new("openssl");
        command.args([
            "s_client",
            "-quiet",
            "-servername",
            "lampholm.example",
            "-connect",
            &format!("127.0.0.1:{port}"),
        ]);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        Visitor(command.spawn().unwrap())
    }

    fn ask(&mut self) -> String {
        let request = "GET / HTTP/1.1\r\nHost: lampholm.example\r\n\r\n";
        self.0.stdin.as_mut().unwrap().write_all(request.as_bytes()).unwrap();
        let (mut answer, mut part) = (Vec::new(), [0; 1024]);
        while !answer.ends_with(b"the lamp is lit") {
            let length = self.0.stdout.as_mut().unwrap().read(&mut part).unwrap();
            assert!(length > 0, "the connection was dropped after {:?}", String::from_utf8_lossy(&answer));
            answer.extend_from_slice(&part[..length]);
        }
        String::from_utf8_lossy(&answer).into_owned()
    }
}

impl Drop for Visitor {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Visitors who come one after the other, without an end, each with many requests.
struct Load {
    stop: Arc<AtomicBool>,
    visits: JoinHandle<(usize, Vec<String>)>,
}

impl Load {
    fn begin(port: u16) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let over = Arc::clone(&stop);
        let visits = std::thread::spawn(move || {
            let (mut answered, mut dropped) = (0, Vec::new());
            while !over.load(Ordering::Relaxed) {
                let address = format!("https://lampholm.example:{port}/[1-50]");
                let to = format!("lampholm.example:{port}:127.0.0.1");
                let words = ["-sSkf", "--max-time", "10", "-H", "Host: lampholm.example", "--resolve", &to, &address];
                let got = Command::new("curl").args(words).output().unwrap();
                answered += String::from_utf8_lossy(&got.stdout).matches("the lamp is lit").count();
                if !got.status.success() {
                    dropped.push(String::from_utf8_lossy(&got.stderr).into_owned());
                }
            }
            (answered, dropped)
        });
        Load { stop, visits }
    }

    /// Checks that everybody was answered.
    fn end(self) {
        self.stop.store(true, Ordering::Relaxed);
        let (answered, dropped) = self.visits.join().unwrap();
        assert!(dropped.is_empty() && answered >= 500, "{answered} answered; {dropped:?}");
    }
}

/// Changes the certificate that is shown so many times: a renewal, then back and forth. From then on nobody sees the one before.
fn change_often(served: &Served, times: usize) {
    let on_day = |words: &[&str]| served.world.on_day(75, words);
    on_day(&["keep"]).check(0, &["installed and checked live"]);
    let new = served.leaf();
    for turn in 1..times {
        match turn % 2 {
            1 => on_day(&["install", "website", "--undo"]).check(0, &[]),
            _ => on_day(&["install", "website"]).check(0, &[]),
        };
        for _ in 0..2 {
            assert_eq!(served.leaf() == new, turn % 2 == 0, "turn {turn}");
        }
    }
}

#[test]
fn twenty_certificates_are_put_into_a_running_haproxy_and_nobody_is_dropped() {
    let served = Served::begin(&HAPROXY);
    let (world, place) = (&served.world, &served.world.place);
    // The first time its configuration changes, and it is reloaded.
    let before = worker(place);
    place.run(&["keep", "--plan"]).check(0, &["runs sh -c"]);
    world.keep().check(0, &["installed and checked live"]);
    until("the reload is over", || worker(place) != before);
    let first = worker(place);
    // From then on only the file changes.
    let plan = world.on_day(75, &["keep", "--plan"]);
    plan.check(0, &["puts it into server `front` over", "haproxy.sock, without a reload"]);
    let mut visitor = Visitor::come(served.port);
    assert!(visitor.ask().starts_with("HTTP/1.1 200"));
    let load = Load::begin(served.port);
    change_often(&served, 20);
    load.end();
    assert!(visitor.ask().starts_with("HTTP/1.1 200"), "the connection from before is still there");
    assert_eq!(worker(place), first, "it was not reloaded");
}

#[test]
fn through_twenty_reloads_of_nginx_nobody_is_dropped() {
    let served = Served::begin(&NGINX);
    served.world.keep().check(0, &["installed and checked live"]);
    // What is on its way when the reload comes goes on to its end.
    let slow = {
        let port = served.port;
        std::thread::spawn(move || {
            let to = format!("lampholm.example:{port}:127.0.0.1");
            let address = format!("https://lampholm.example:{port}/slow/old.pem");
            Command::new("curl").args(["-sSkf", "--resolve", &to, &address]).output().unwrap()
        })
    };
    let load = Load::begin(served.port);
    change_often(&served, 20);
    load.end();
    assert!(!slow.is_finished(), "it takes longer than all the reloads");
    let slow = slow.join().unwrap();
    assert!(slow.status.success(), "{}", String::from_utf8_lossy(&slow.stderr));
    assert_eq!(String::from_utf8_lossy(&slow.stdout), served.world.place.read("old/old.pem"));
}

#[test]
fn the_haproxy_of_another_machine_is_spoken_to_over_ssh() {
    let mut served = Served::begin(&HAPROXY);
    served.is_there();
    let (world, place) = (&served.world, &served.world.place);
    world.keep().check(0, &["installed and checked live"]);
    until("it shows the certificate", || served.shows("Lampholm Practice"));
    let (shown, first) = (served.leaf(), worker(place));
    world.on_day(75, &["keep"]).check(0, &["installed and checked live"]);
    assert_ne!(served.leaf(), shown);
    assert_eq!(worker(place), first, "it was not reloaded");
    // Where everybody may put a socket of their own, the key is not sent.
    std::fs::set_permissions(place.dir.path(), PermissionsExt::from_mode(0o1777)).unwrap();
    let reloaded = world.on_day(150, &["keep"]);
    reloaded.check(0, &["everybody may write into its folder", "installed and checked live"]);
    until("the reload is over", || worker(place) != first);
}

#[test]
fn where_the_socket_is_of_no_use_haproxy_is_reloaded() {
    let served = Served::begin(&HAPROXY);
    let (world, place) = (&served.world, &served.world.place);
    world.keep().check(0, &["installed and checked live"]);
    let file = combined(place);
    assert!(say(place, "show ssl cert\n").contains(&file), "{file}");
    // Somebody is at it.
    let pem = place.read(&file).replace("\n\n", "\n");
    assert!(say(place, &format!("set ssl cert {file} <<\n{pem}\n")).contains("Transaction created"));
    let first = worker(place);
    let taken = world.on_day(75, &["keep"]);
    taken.check(0, &["is of no use now: a transaction on", "installed and checked live"]);
    until("the reload is over", || worker(place) != first);
    // The inventory wants it so.
    let first = worker(place);
    served.write_inventory(|text| text.replace("reload-timeout", "runtime-socket = false\nreload-timeout"));
    world.on_day(150, &["keep", "--plan"]).check(0, &["runs sh -c"]);
    world.on_day(150, &["keep"]).check(0, &["installed and checked live"]);
    until("the reload is over", || worker(place) != first);
}

#[test]
fn a_certificate_that_the_running_haproxy_refuses_goes_back() {
    let served = Served::begin(&HAPROXY);
    let (world, place) = (&served.world, &served.world.place);
    world.keep().check(0, &["installed and checked live"]);
    let (shown, file) = (served.leaf(), combined(place));
    let before = place.read(&file);
    // Another one listens at the socket that the configuration names, and refuses.
    let configuration = place.read("haproxy.cfg");
    place.write("haproxy.cfg", &configuration.replace("haproxy.sock", "other.sock"));
    let listener = UnixListener::bind(place.path("other.sock")).unwrap();
    let name = file.clone();
    let heard = std::thread::spawn(move || {
        let mut heard = Vec::new();
        for answer in [format!("# filename\n{name}\n"), "unable to load it\n".to_owned(), "\n".to_owned()] {
            let (mut stream, _) = listener.accept().unwrap();
            let (mut message, mut part) = (String::new(), [0; 4096]);
            while !message.ends_with(if message.contains("<<") { "\n\n" } else { "\n" }) {
                let length = stream.read(&mut part).unwrap();
                message += std::str::from_utf8(&part[..length]).unwrap();
            }
            stream.write_all(answer.as_bytes()).unwrap();
            heard.push(message.lines().next().unwrap_or_default().to_owned());
        }
        heard
    });
    let refused = world.on_day(75, &["keep"]);
    refused.check(
        1,
        &["refuses", "while it runs: unable to load it", "everything was put back as it was", "runtime-socket = false"],
    );
    let heard = heard.join().unwrap();
    let first_words: Vec<String> =
        heard.iter().map(|line| line.split(' ').take(3).collect::<Vec<_>>().join(" ")).collect();
    assert_eq!(first_words, ["show ssl cert", "set ssl cert", "abort ssl cert"]);
    assert_eq!(place.read(&file), before);
    assert_eq!(served.leaf(), shown);
}
