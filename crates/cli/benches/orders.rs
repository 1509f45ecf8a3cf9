//! Whole orders next to a bare client that sends just the protocol's own messages, against the same authority in one run;
//! and `eskort list` over 10,000 certificates. `scripts/bench` runs it.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark prints, and stops at the first trouble")]

mod bare;

use bare::{Bare, Pauses};
use eskort_app::{Ending, KeepOptions};
use eskort_core::decision::Specification;
use eskort_core::names::Identifier;
use eskort_core::pki::{Chain, KeyKind, PrivateKey};
use eskort_core::progress::Progress;
use eskort_practice::{Authority, AuthorityOptions, Clock, Issuer, NameServer, Site};
use eskort_store::Store;
use jiff::{SignedDuration, Timestamp};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::process::Command;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const ROUNDS: usize = 7;

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    println!(
        "Whole orders against one authority, median of {ROUNDS} rounds by turns. Both wait alike between questions; the"
    );
    println!("working time is without these waits. Eskort's self-checks go to the site, not to the authority.\n");
    println!("names    requests: Eskort, bare    time: Eskort, bare, ratio (target 1.15)    working: Eskort, bare");
    for count in [1, 2, 20] {
        runtime.block_on(orders(count));
    }
    println!();
    runtime.block_on(list());
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

async fn orders(count: usize) {
    let dir = tempfile::tempdir().unwrap();
    let names: Vec<String> = (1..=count).map(|n| format!("room{n}.lampholm.example")).collect();
    let server = Arc::new(NameServer::start().await.unwrap());
    names.iter().for_each(|n| server.set(n, Ipv4Addr::LOCALHOST));
    let any = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    let www = dir.path().join("www");
    std::fs::create_dir(&www).unwrap();
    let site = Site::start(&www, Path::new("/nowhere"), Path::new("/nowhere"), any, any).await.unwrap();
    // As quick as an authority can be that looks at sites and signs in hardware; real ones take seconds.
    let thinking = Duration::from_millis(100);
    let options = AuthorityOptions { site_port: site.plain_address().port(), thinking, ..AuthorityOptions::default() };
    let authority = Authority::start(options, Clock::default(), server).await.unwrap();
    std::fs::write(dir.path().join("root.pem"), authority.api_root_pem()).unwrap();
    let mut results = [Measured::default(), Measured::default()];
    for round in 0..ROUNDS {
        for (who, measured) in results.iter_mut().enumerate() {
            let before = authority.asked().len();
            let begun = Instant::now();
            let waited = if who == 0 {
                with_eskort(dir.path(), round, &authority, &site, &names).await
            } else {
                with_bare_client(dir.path(), &authority, &names).await
            };
            let took = begun.elapsed();
            measured.all.push(took.as_secs_f64() * 1000.0);
            measured.working.push((took - waited).as_secs_f64() * 1000.0);
            measured.requests = authority.asked().len() - before;
        }
    }
    let [ours, bare] = results;
    let (our_time, bare_time) = (median(ours.all), median(bare.all));
    let (our_work, bare_work) = (median(ours.working), median(bare.working));
    println!(
        "{count:5}  {:18} {:5}  {our_time:16.0} ms {bare_time:5.0} ms {:5.2}  {our_work:23.0} ms {bare_work:4.0} ms",
        ours.requests,
        bare.requests,
        our_time / bare_time,
    );
}

/// Times in milliseconds, and the requests of one round.
#[derive(Default)]
struct Measured {
    all: Vec<f64>,
    working: Vec<f64>,
    requests: usize,
}

/// The same code as `eskort keep`, with a new state folder: account, order, everything. Returns how long it waited.
async fn with_eskort(dir: &Path, round: usize, authority: &Authority, site: &Site, names: &[String]) -> Duration {
    let quoted: Vec<String> = names.iter().map(|n| format!("\"{n}\"")).collect();
    let inventory = format!(
        "state = \"state{round}\"\n[authority.public]\nkind = \"acme\"\ndirectory = \"{}\"\naccept-terms = true\n\
         api-roots = \"root.pem\"\n[proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\ncheck-address = \"{}\"\n\
         [certificate.rooms]\nnames = [{}]\n",
        authority.directory(),
        site.plain_address(),
        quoted.join(", ")
    );
    let path = dir.join("eskort.toml");
    std::fs::write(&path, inventory).unwrap();
    let waited = Arc::new(Mutex::new(Duration::ZERO));
    let sum = Arc::clone(&waited);
    let watch = move |_: Option<&str>, progress: &Progress| {
        if let Progress::Waiting { until, .. } = progress {
            *sum.lock().unwrap() += Duration::try_from(until.duration_since(Timestamp::now())).unwrap_or_default();
        }
    };
    let context = eskort_app::load(
        &path,
        dir,
        eskort_core::context::Clock::new(Timestamp::now, tokio::time::sleep),
        Arc::new(watch),
    )
    .unwrap();
    let kept = eskort_app::keep(&context, &KeepOptions::default()).await.unwrap();
    assert!(matches!(kept[0].ending, Ending::Arrived { .. }), "{:?}", kept[0].ending);
    let waited = waited.lock().unwrap();
    *waited
}

/// A bare client with an account of its own. Returns how long it waited.
async fn with_bare_client(dir: &Path, authority: &Authority, names: &[String]) -> Duration {
    let names: Vec<Identifier> = names.iter().map(|name| name.parse().unwrap()).collect();
    let mut bare = Bare::open(&authority.directory(), authority.api_root_pem().as_bytes(), Pauses::Eskort).await;
    bare.order(&names, &dir.join("www"), &dir.join("bare")).await
}

/// `eskort list` as a program of its own, over 10,000 certificates in the ledger and in the inventory.
async fn list() {
    const COUNT: usize = 10_000;
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("state")).unwrap();
    let issuer = Issuer::new(Timestamp::now());
    let key = PrivateKey::generate(KeyKind::P256).unwrap();
    let mut inventory =
        "state = \"state\"\n[authority.public]\nkind = \"acme\"\ndirectory = \"https://ca.example/d\"\n\
                         [proof.pages]\nkind = \"http-folder\"\nfolder = \"www\"\n"
            .to_owned();
    let bare = inventory.clone();
    let leaf = issuer.issue(
        &["a.example".parse().unwrap()],
        &key.public_key_der(),
        Timestamp::now(),
        SignedDuration::from_hours(2160),
    );
    let chain = Chain::from_pem(&issuer.chain_pem(&leaf, false)).unwrap();
    for n in 0..COUNT {
        let name = Identifier::parse(&format!("room{n}.lampholm.example")).unwrap();
        let (authority, key) = ("public".into(), KeyKind::P256.word().into());
        let wanted = Specification { names: vec![name], authority, reached: None, key, request: None };
        let recorded = store.record_generation(&format!("room{n}"), 1, &wanted, &chain, None, Timestamp::now()).await;
        recorded.unwrap();
    }
    for n in 0..COUNT {
        inventory.push_str(&format!("[certificate.room{n}]\nnames = [\"room{n}.lampholm.example\"]\n"));
    }
    drop(store);
    for n in 0..COUNT {
        let folder = dir.path().join(format!("state/certificates/room{n}"));
        std::fs::create_dir_all(folder.join("0001")).unwrap();
        std::os::unix::fs::symlink("0001", folder.join("current")).unwrap();
    }
    for (what, text) in [("in the ledger alone", &bare), ("in ledger and inventory", &inventory)] {
        let path = dir.path().join("eskort.toml");
        std::fs::write(&path, text).unwrap();
        let mut times = Vec::new();
        let mut most_memory = 0;
        for _ in 0..ROUNDS {
            let begun = Instant::now();
            let run = Command::new(env!("CARGO_BIN_EXE_eskort"))
                .args(["--config", path.to_str().unwrap(), "list"])
                .stdout(std::process::Stdio::piped())
                .spawn()
                .unwrap();
            let output = run.wait_with_output().unwrap();
            times.push(begun.elapsed().as_secs_f64() * 1000.0);
            assert_eq!(
                output.stdout.iter().filter(|b| **b == b'\n').count(),
                COUNT + 3,
                "a head, and a line that counts"
            );
            let used = nix::sys::resource::getrusage(nix::sys::resource::UsageWho::RUSAGE_CHILDREN).unwrap();
            most_memory = most_memory.max(used.max_rss());
        }
        let (time, memory) = (median(times), most_memory as f64 / 1024.0);
        println!("list, 10,000 certificates {what}: {time:.0} ms, {memory:.0} MB (target 60 ms, 60 MB)");
    }
    // The first run writes down that nothing is known of renewals; those that follow have nothing to do.
    let mut times = Vec::new();
    let mut most_memory = 0;
    for round in 0..=ROUNDS {
        let begun = Instant::now();
        let run = Command::new(env!("CARGO_BIN_EXE_eskort"))
            .args(["--config", dir.path().join("eskort.toml").to_str().unwrap(), "keep"])
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let output = run.wait_with_output().unwrap();
        assert!(String::from_utf8_lossy(&output.stdout).contains("10000 certificates: nothing to do"));
        if round > 0 {
            times.push(begun.elapsed().as_secs_f64() * 1000.0);
            let used = nix::sys::resource::getrusage(nix::sys::resource::UsageWho::RUSAGE_CHILDREN).unwrap();
            most_memory = most_memory.max(used.max_rss());
        }
    }
    let (time, memory) = (median(times), most_memory as f64 / 1024.0);
    println!("keep, 10,000 certificates of which none is due: {time:.0} ms, {memory:.0} MB (target 300 ms, 80 MB)");
}
