//! Rehearsing five hundred names next to each of ten names alone, at a name server that answers after 50 ms. It makes a network of its own
//! (as root, or where users may), and wants the packages that `scripts/test` installs.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark prints, and stops at the first trouble")]

#[path = "../tests/ports.rs"]
mod ports;
#[path = "../tests/world.rs"]
#[expect(dead_code, unused_imports, reason = "the tests use more of it")]
mod world;

use std::collections::HashMap;
use std::net::{SocketAddr, UdpSocket};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use world::{Place, Process, World, await_server};

const DELAY: Duration = Duration::from_millis(50);
const NAMES: usize = 500;
const BIND: &str = "127.0.77.8:53";
/// The resolver, and the zone's name server.
const SLOW: [&str; 2] = ["127.0.77.4:53", "127.0.77.5:53"];

fn main() {
    // Files in memory: ext4 looks at every file that was removed in the last minutes, by runs before this one, too, when one is made.
    let more = "for n in 4 5 8; do ip addr add 127.0.77.$n/8 dev lo; done && \
                mkdir files && mount -t tmpfs files files && export TMPDIR=\"$PWD/files\" &&";
    if let Some(said) = world::again_in_a_network_of_its_own(&[], more, "nameserver 127.0.77.4\n", "") {
        return print!("{said}");
    }
    let _bind = bind();
    for at in SLOW {
        std::thread::spawn(|| relay_slowly(at));
    }
    await_server(BIND.parse().unwrap(), "BIND");
    let world = World::new();
    let certificate = |title: &str, names: &[String]| format!("\n[certificate.{title}]\nnames = {names:?}\n");
    let name = |n: usize| format!("room{n}.lampholm.example");
    let names: Vec<String> = (0..NAMES).map(name).collect();
    let mut text = world.place.read("eskort.toml");
    text.truncate(text.find("[certificate.").unwrap());
    let ten: String = names
        .iter()
        .step_by(NAMES / 10)
        .map(|name| certificate(&name.replace('.', "-"), std::slice::from_ref(name)))
        .collect();
    let all: String = names.chunks(100).enumerate().map(|(n, names)| certificate(&format!("part{n}"), names)).collect();
    std::fs::write(world.place.path("eskort.toml"), format!("{text}{ten}{all}")).unwrap();
    let time = |words: &[String]| {
        let begun = Instant::now();
        let words: Vec<&str> = std::iter::once("rehearse").chain(words.iter().map(String::as_str)).collect();
        let said = world.place.run(&words);
        (begun.elapsed(), said)
    };
    let slowest = names.iter().step_by(NAMES / 10).map(|name| time(&[name.replace('.', "-")]).0).max().unwrap();
    let parts: Vec<String> = (0..NAMES / 100).map(|n| format!("part{n}")).collect();
    let before = processor_time();
    let (whole, said) = time(&parts);
    let worked = processor_time() - before;
    assert!(said.out.contains("would work"), "{said}");
    println!("{}", said.out.lines().last().unwrap());
    let ratio = whole.as_secs_f64() / slowest.as_secs_f64();
    println!("the slowest single name {slowest:?}, {NAMES} names {whole:?}: {ratio:.2} times (wanted: 1.5)");
    println!("processor time of the program for the latter: {worked:?}");
}

/// Returns the processor time of the programs that have ended.
fn processor_time() -> Duration {
    use nix::sys::resource::{UsageWho, getrusage};
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN).unwrap();
    let both = [usage.user_time(), usage.system_time()].map(|time| (time.tv_sec() * 1_000_000 + time.tv_usec()) as u64);
    Duration::from_micros(both.iter().sum())
}

fn bind() -> (Place, Process) {
    let place = Place::new();
    let dir = place.dir.path().display().to_string();
    let rooms: String = (0..NAMES).map(|n| format!("room{n} A 127.0.0.1\n")).collect();
    place.write("zone", &format!("$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\nns1 A 127.0.77.5\n{rooms}"));
    let text = format!(
        "controls {{ }};\noptions {{ directory \"{dir}\"; pid-file none; session-keyfile none; recursion no; \
         listen-on-v6 {{ none; }}; listen-on {{ 127.0.77.8; }}; }};\n\
         zone \".\" {{ type primary; file \"root\"; }};\nzone \"lampholm.example\" {{ type primary; file \"zone\"; }};\n"
    );
    place.write("root", "$TTL 60\n@ SOA a. keeper. 1 60 60 60 60\n@ NS a.\na. A 127.0.77.5\nlampholm.example. NS ns1.lampholm.example.\n");
    place.write("named.conf", &text);
    // On a machine of its own it would not have to wait for our turns.
    let mut command = Command::new("nice");
    command
        .args(["-n", "-10", "/usr/sbin/named", "-f", "-c", &format!("{dir}/named.conf")])
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    (place, Process(command.spawn().expect("Debian's package bind9 is installed (scripts/test does it)")))
}

/// Answers as BIND does, later. It must not be what is slow: one socket leads to BIND, and a question is only counted.
fn relay_slowly(at: &str) {
    let front = UdpSocket::bind(at).unwrap();
    let back = UdpSocket::bind("127.0.0.1:0").unwrap();
    back.connect(BIND).unwrap();
    // Who asked when, and with which identifier, by the identifier that BIND sees.
    type Asked = Mutex<HashMap<u16, (Instant, SocketAddr, [u8; 2])>>;
    let asked: Arc<Asked> = Arc::default();
    let (later, due) = std::sync::mpsc::channel::<(Instant, SocketAddr, Vec<u8>)>();
    let (askers, answers, to_front) = (Arc::clone(&asked), back.try_clone().unwrap(), front.try_clone().unwrap());
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok(length) = answers.recv(&mut buffer) {
            let who = askers.lock().unwrap().remove(&u16::from_be_bytes([buffer[0], buffer[1]]));
            let Some((when, from, identifier)) = who else { continue };
            buffer[..2].copy_from_slice(&identifier);
            later.send((when + DELAY, from, buffer[..length].to_vec())).unwrap();
        }
    });
    std::thread::spawn(move || {
        for (at, from, answer) in due {
            std::thread::sleep(at.saturating_duration_since(Instant::now()));
            to_front.send_to(&answer, from).unwrap();
        }
    });
    let mut buffer = [0; 4096];
    for n in 0_u16.. {
        let (length, from) = front.recv_from(&mut buffer).unwrap();
        asked.lock().unwrap().insert(n, (Instant::now(), from, [buffer[0], buffer[1]]));
        buffer[..2].copy_from_slice(&n.to_be_bytes());
        back.send(&buffer[..length]).unwrap();
    }
}
