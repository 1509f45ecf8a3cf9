//! How long a close look at a thousand endpoints takes, next to as many bare handshakes side by side: `cargo bench -p eskort-probe`.

#![expect(
    clippy::print_stdout,
    clippy::unwrap_used,
    reason = "a benchmark prints, and stops at the first thing that is not as it should be"
)]

use eskort_handshake::{ClientHello, Group, ServerReader, Suite, Version};
use eskort_practice::{Issuer, Site};
use eskort_probe::inspect;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::Semaphore;

const ENDPOINTS: usize = 1000;
/// So many endpoints are looked at side by side, each with four handshakes at once.
const AT_ONCE: usize = 16;

/// A handshake as bare as can be: says hello, and waits for what the server chooses.
async fn bare(address: SocketAddr) {
    let suites: Vec<Suite> = Suite::all().filter(|suite| suite.is_tls13()).collect();
    let groups = [Group(29)];
    let hello = ClientHello {
        version: Version::Tls13,
        suites: &suites,
        groups: &groups,
        name: Some("lampholm.example"),
        is_fallback: false,
        compression: false,
        random: [7; 32],
        key: None,
    };
    let mut stream = TcpStream::connect(address).await.unwrap();
    stream.write_all(&hello.to_record()).await.unwrap();
    let (mut reader, mut buffer) = (ServerReader::default(), [0; 4096]);
    loop {
        let read = stream.read(&mut buffer).await.unwrap();
        if read == 0 || reader.take(&buffer[..read]).unwrap() {
            break;
        }
    }
}

#[tokio::main]
async fn main() {
    let folder = tempfile::tempdir().unwrap();
    let now = jiff::Timestamp::now();
    let (issuer, key) =
        (Issuer::new(now), eskort_core::pki::PrivateKey::generate(eskort_core::pki::KeyKind::P256).unwrap());
    let names = ["lampholm.example".parse().unwrap()];
    let leaf = issuer.issue(&names, &key.public_key_der(), now, jiff::SignedDuration::from_hours(24 * 90));
    let (bundle, key_path) = (folder.path().join("bundle.pem"), folder.path().join("key.pem"));
    std::fs::write(&bundle, issuer.chain_pem(&leaf, false)).unwrap();
    std::fs::write(&key_path, key.to_pem().reveal()).unwrap();
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let site = Site::start(folder.path(), &bundle, &key_path, any, any).await.unwrap();
    let address = site.tls_address();
    let leaf = Arc::new(leaf);
    let begun = Instant::now();
    let permits = Arc::new(Semaphore::new(AT_ONCE));
    let looks: Vec<_> = (0..ENDPOINTS)
        .map(|_| {
            let (permits, leaf) = (Arc::clone(&permits), Arc::clone(&leaf));
            tokio::spawn(async move {
                let _permit = permits.acquire().await.unwrap();
                inspect(("lampholm.example", 443), address, None, Some(&leaf)).await
            })
        })
        .collect();
    let mut handshakes = 0;
    for look in looks {
        let seen = look.await.unwrap();
        assert_eq!(seen.unanswered, 0);
        handshakes += seen.handshakes;
    }
    let ours = begun.elapsed();
    let begun = Instant::now();
    let permits = Arc::new(Semaphore::new(AT_ONCE * 4));
    let all: Vec<_> = (0..handshakes)
        .map(|_| {
            let permits = Arc::clone(&permits);
            tokio::spawn(async move {
                let _permit = permits.acquire().await.unwrap();
                bare(address).await;
            })
        })
        .collect();
    for one in all {
        one.await.unwrap();
    }
    let bare = begun.elapsed();
    println!(
        "{ENDPOINTS} endpoints, {handshakes} handshakes: {ours:.2?}; as many bare ones {bare:.2?}: {:.2} times",
        ours.as_secs_f64() / bare.as_secs_f64()
    );
}
