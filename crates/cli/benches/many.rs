//! Two hundred orders (or `ESKORT_BENCH_ORDERS`) at once against a real ACME server that refuses nonces, next to bare clients: one, and eight and thirty-two side by
//! side; with the pauses that they had when the measures were set, and with Eskort's. `scripts/bench` runs it; it wants the packages that `scripts/test` installs.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark prints, and stops at the first trouble")]

mod bare;
#[path = "../tests/pebble.rs"]
#[expect(dead_code, reason = "the tests use more of it")]
mod pebble;
#[path = "../tests/ports.rs"]
mod ports;
#[path = "../tests/world.rs"]
#[expect(dead_code, reason = "the tests use more of it")]
mod world;

use bare::{Bare, Pauses};
use eskort_core::names::Identifier;
use eskort_practice::{NameServer, Site};
use pebble::Pebble;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What the authority may have of the machine.
#[derive(Clone, Copy, PartialEq)]
enum Room {
    /// One processor at a time, any.
    OneProcessor,
    /// One of its own, as it has in the world; all others have the rest (`apart`).
    Apart,
    /// As many as there are, shared with all others (`all`). It is quicker so, and often stands still.
    AllProcessors,
}

/// How many orders; `ESKORT_BENCH_ORDERS` says another number.
fn orders() -> usize {
    std::env::var("ESKORT_BENCH_ORDERS").ok().and_then(|text| text.parse().ok()).unwrap_or(200)
}

fn main() {
    let runtime = world::runtime();
    let names = runtime.block_on(NameServer::start()).unwrap();
    for n in 1..=orders() {
        names.set(&name(n), Ipv4Addr::LOCALHOST);
    }
    println!(
        "{} orders of one name, three nonces of twenty refused, by a real ACME server that validates at once:\n",
        orders()
    );
    println!(
        "who                       time      orders a second   requests an order   authority's time an order   most memory"
    );
    // `cargo bench --bench many -- 32` measures that number alone.
    let has = |wanted: &str| std::env::args().any(|arg| arg == wanted);
    let room = match (has("apart"), has("all")) {
        (true, _) => Room::Apart,
        (_, true) => Room::AllProcessors,
        _ => Room::OneProcessor,
    };
    if room == Room::Apart {
        sh(&format!("taskset -apc 1 {}", std::process::id()));
    }
    let wanted: Vec<usize> = std::env::args().filter_map(|arg| arg.parse().ok()).collect();
    let numbers = || [1, 8, 32].into_iter().filter(|n| wanted.is_empty() || wanted.contains(n));
    for (clients, pauses) in numbers().flat_map(|clients| [(clients, Pauses::Fixed), (clients, Pauses::Eskort)]) {
        let pebble = start(&names, room);
        let _site = runtime.block_on(site(&pebble));
        let begun = Instant::now();
        runtime.block_on(bare(&pebble, clients, pauses));
        let how = if pauses == Pauses::Eskort { ", Eskort's pauses" } else { "" };
        tell(&format!("{clients} bare{how}"), begun, &pebble, None);
    }
    for at_once in numbers() {
        let pebble = start(&names, room);
        let _site = runtime.block_on(site(&pebble));
        let begun = Instant::now();
        let memory = with_eskort(&pebble, at_once);
        tell(&format!("Eskort, {at_once} at once"), begun, &pebble, Some(memory));
    }
}

fn name(n: usize) -> String {
    format!("room{n}.lampholm.example")
}

fn start(names: &NameServer, room: Room) -> Pebble {
    let all = std::thread::available_parallelism().unwrap().to_string();
    let processors = if room == Room::AllProcessors { &all } else { "1" };
    let settings = [("PEBBLE_WFE_NONCEREJECT", "15"), ("PEBBLE_VA_NOSLEEP", "1"), ("GOMAXPROCS", processors)];
    let pebble = Pebble::asking(names.address(), &settings, false);
    if room == Room::Apart {
        sh(&format!("pgrep -x -P {} pebble | xargs -n 1 taskset -apc 0", std::process::id()));
    }
    pebble
}

fn sh(line: &str) {
    let done = Command::new("sh").args(["-c", line]).output().unwrap();
    assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
}

async fn site(pebble: &Pebble) -> Site {
    let any = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    let plain = SocketAddr::from((Ipv4Addr::LOCALHOST, pebble.http_port));
    let nowhere = Path::new("/nowhere");
    Site::start(&pebble.place.path("www"), nowhere, nowhere, plain, any).await.unwrap()
}

fn tell(who: &str, begun: Instant, pebble: &Pebble, memory: Option<u64>) {
    let took = begun.elapsed().as_secs_f64();
    let log = pebble.place.read("pebble/log");
    // In hundredths of a second, as Linux counts it.
    let ticks = std::fs::read_to_string(format!("/proc/{}/stat", pebble.process.as_ref().unwrap().0.id())).unwrap();
    let ticks: u64 = ticks.split_whitespace().skip(13).take(2).map(|ticks| ticks.parse::<u64>().unwrap()).sum();
    let requests = log.matches(" POST /").count() + log.matches("HEAD /").count() + log.matches("GET /dir").count();
    let memory = memory.map(|kilobytes| format!("{} MB", kilobytes / 1024)).unwrap_or_default();
    println!(
        "{who:<25} {took:5.1} s  {:16.1}  {:18.1}   {:22.1} ms   {memory:>11}",
        orders() as f64 / took,
        requests as f64 / orders() as f64,
        ticks as f64 * 10.0 / orders() as f64
    );
}

async fn bare(pebble: &Pebble, clients: usize, pauses: Pauses) {
    let root = std::fs::read(pebble.place.path("api-root.pem")).unwrap();
    let (www, directory) = (Arc::new(pebble.place.path("www")), format!("https://127.0.0.1:{}/dir", pebble.api_port));
    let mut tasks = tokio::task::JoinSet::new();
    for client in 0..clients {
        let (root, www, directory) = (root.clone(), Arc::clone(&www), directory.clone());
        let to = pebble.place.path(&format!("bare{client}"));
        tasks.spawn(async move {
            let mut bare = Bare::open(&directory, &root, pauses).await;
            for n in (1..=orders()).skip(client).step_by(clients) {
                let names: Vec<Identifier> = vec![name(n).parse().unwrap()];
                bare.order(&names, &www, &to).await;
            }
        });
    }
    while let Some(done) = tasks.join_next().await {
        done.unwrap();
    }
}

/// Runs the program as its users do; returns the most memory that it had, in kilobytes.
fn with_eskort(pebble: &Pebble, at_once: usize) -> u64 {
    let authority = pebble.authority_section();
    let mut text = authority.replace("kind = \"acme\"", &format!("kind = \"acme\"\nat-once = {at_once}"));
    text += &format!(
        "[proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"127.0.0.1:{}\"\n",
        pebble.http_port
    );
    for n in 1..=orders() {
        text += &format!("[certificate.room{n}]\nnames = [\"{}\"]\n", name(n));
    }
    pebble.place.write("eskort.toml", &text);
    let mut command = Command::new(env!("CARGO_BIN_EXE_eskort"));
    command.arg("keep").current_dir(pebble.place.dir.path());
    command.env("ESKORT_CONFIG", pebble.place.path("eskort.toml")).env("HOME", pebble.place.dir.path());
    let said = std::fs::File::create(pebble.place.path("said")).unwrap();
    let mut child = command.stdout(said.try_clone().unwrap()).stderr(said).spawn().unwrap();
    let mut most = 0;
    let status = loop {
        // The system remembers the most that it ever had.
        let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")?.split_whitespace().next()?.parse().ok());
        most = peak.unwrap_or(0).max(most);
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    assert!(status.success(), "{}", pebble.place.read("said"));
    most
}
