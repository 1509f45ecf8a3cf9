//! 200 names proved by dynamic updates on one certificate, next to the bare updates sent over one connection, against the same
//! BIND in one run. `scripts/bench` runs it.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark prints, and stops at the first trouble")]

#[allow(dead_code, unused_imports, reason = "the tests' servers, without their tests")]
#[path = "../tests/bind.rs"]
mod bind;
#[allow(dead_code, unused_imports, reason = "the tests' servers, without their tests")]
#[path = "../tests/pebble.rs"]
mod pebble;
#[path = "../tests/ports.rs"]
mod ports;
#[allow(dead_code, unused_imports, reason = "the tests' servers, without their tests")]
#[path = "../tests/world.rs"]
mod world;

use bind::{Bind, KEY};
use eskort_app::{Ending, KeepOptions};
use eskort_core::journey::Milestone;
use eskort_core::progress::Progress;
use hickory_proto::op::{Message, OpCode, Query, ResponseCode, UpdateMessage};
use hickory_proto::rr::rdata::TXT;
use hickory_proto::rr::rdata::tsig::TsigAlgorithm;
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType, TSigner};
use jiff::Timestamp;
use pebble::Pebble;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

const NAMES: usize = 200;
const ROUNDS: usize = 5;

fn main() {
    let runtime = world::runtime();
    let bind = Bind::start();
    let names: Vec<String> = (1..=NAMES).map(|n| format!("room{n}.lampholm.example")).collect();
    println!("{NAMES} names on one certificate by dynamic updates, median of {ROUNDS} rounds by turns, the same BIND.");
    println!("Bare: {NAMES} records added and removed, a signed message for each, over one connection.\n");
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        ours.push(runtime.block_on(with_eskort(&bind, &names)));
        let begun = Instant::now();
        runtime.block_on(bare_updates(bind.address, &names));
        bare.push(begun.elapsed());
    }
    let median = |mut times: Vec<Duration>| {
        times.sort();
        times[times.len() / 2].as_secs_f64() * 1000.0
    };
    let publish = median(ours.iter().map(|o| o.publish).collect());
    let look = median(ours.iter().map(|o| o.look).collect());
    let remove = median(ours.iter().map(|o| o.remove).collect());
    let (all, bare) = (publish + look + remove, median(bare));
    println!("Eskort: publishing {publish:.0} ms, looking {look:.0} ms, removing {remove:.0} ms, together {all:.0} ms");
    println!("bare:   {bare:.0} ms    ratio {:.2} (target 1.5)\n", all / bare);
}

#[derive(Default)]
struct Measured {
    publish: Duration,
    look: Duration,
    remove: Duration,
}

async fn with_eskort(bind: &Bind, names: &[String]) -> Measured {
    let pebble = Pebble::asking(bind.address, &[("PEBBLE_VA_NOSLEEP", "1"), ("PEBBLE_WFE_NONCEREJECT", "0")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.place.write("zone.key", KEY);
    let text = format!(
        "{}[proof.zone]\nkind = \"dns-update\"\nserver = \"{1}\"\nkey-file = \"zone.key\"\nname-servers = [\"{1}\"]\n\n\
         [certificate.rooms]\nnames = {names:?}\n",
        pebble.authority_section(),
        bind.address
    );
    let inventory = pebble.place.write("eskort.toml", &text);
    let marks: Arc<Mutex<Vec<(String, Instant)>>> = Arc::default();
    let noted = Arc::clone(&marks);
    let watch = move |_: Option<&str>, progress: &Progress| {
        let word = match progress {
            Progress::Doing(words) => (*words).to_owned(),
            Progress::Passed { milestone: Milestone::Proved, .. } => "proved".to_owned(),
            _ => return,
        };
        noted.lock().unwrap().push((word, Instant::now()));
    };
    let context = eskort_app::load(
        &inventory,
        &pebble.place.path("state"),
        eskort_core::context::Clock::new(Timestamp::now, tokio::time::sleep),
        Arc::new(watch),
    )
    .unwrap();
    let kept = eskort_app::keep(&context, &KeepOptions::default()).await.unwrap();
    assert!(matches!(kept[0].ending, Ending::Arrived { .. }), "{:?}", kept[0].ending);
    let marks = marks.lock().unwrap();
    let at = |word: &str| marks.iter().find(|(w, _)| w == word).unwrap_or_else(|| panic!("{word}: {marks:?}")).1;
    Measured {
        publish: at("look at the proof from here") - at("publish the proof"),
        look: at("tell the authority to look") - at("look at the proof from here"),
        remove: at("proved") - at("take away what proved control"),
    }
}

/// Adds and removes a record for each name, one signed message after the other.
async fn bare_updates(server: SocketAddr, names: &[String]) {
    let secret = b"lighthousekeeperslighthousekeeper".to_vec();
    let key_name = Name::from_ascii("lamp.").unwrap();
    let signer = TSigner::new(secret, TsigAlgorithm::HmacSha256, key_name, 300).unwrap();
    let mut stream = TcpStream::connect(server).await.unwrap();
    stream.set_nodelay(true).unwrap();
    for class in [DNSClass::IN, DNSClass::NONE] {
        for name in names {
            let mut head = Query::new();
            let zone = Name::from_ascii("lampholm.example.").unwrap();
            head.set_name(zone).set_query_class(DNSClass::IN).set_query_type(RecordType::SOA);
            let mut message = Message::query();
            message.metadata.op_code = OpCode::Update;
            message.add_zone(head);
            let owner = Name::from_ascii(format!("_acme-challenge.{name}.")).unwrap();
            let data = RData::TXT(TXT::new(vec!["Rm9yIGEgYmVuY2htYXJrIG9mIHVwZGF0ZXMsIDQzIGM".into()]));
            let mut record = Record::from_rdata(owner, if class == DNSClass::IN { 60 } else { 0 }, data);
            record.dns_class = class;
            message.add_update(record);
            let now = u64::try_from(Timestamp::now().as_second()).unwrap();
            message.finalize(&signer, now).unwrap();
            let bytes = message.to_vec().unwrap();
            let length = u16::try_from(bytes.len()).unwrap().to_be_bytes();
            stream.write_all(&[&length[..], &bytes].concat()).await.unwrap();
            let length = stream.read_u16().await.unwrap();
            let mut answer = vec![0; usize::from(length)];
            stream.read_exact(&mut answer).await.unwrap();
            let code = Message::from_vec(&answer).unwrap().metadata.response_code;
            assert_eq!(code, ResponseCode::NoError);
        }
    }
}
