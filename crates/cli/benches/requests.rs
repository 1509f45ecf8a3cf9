//! 1,000 CSRs next to bare key generation and signing, `eskort receive` with a bundle of 10,000 certificates, and `eskort show` with
//! those of authorities that have all signed each other.
//! `scripts/bench` runs it.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark prints, and stops at the first trouble")]

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use eskort_core::pki::{CsrSpecification, KeyKind, PrivateKey, make_csr, parse_csr, request_pem};
use eskort_practice::{Issuer, signed_by_each_other};
use jiff::{SignedDuration, Timestamp};
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

const REQUESTS: usize = 1_000;
const BUNDLE: usize = 10_000;
const ROUNDS: usize = 7;

fn main() {
    requests();
    bundle();
    crossed();
}

fn median(mut times: Vec<Duration>) -> f64 {
    times.sort();
    times[times.len() / 2].as_secs_f64() * 1000.0
}

fn requests() {
    println!("{REQUESTS} P-256 keys and CSRs with two names, median of {ROUNDS} rounds by turns.");
    println!("Bare: {REQUESTS} keys made, a message of the same length signed with each.\n");
    let names = ["stock.lampholm.internal", "192.0.2.7"].map(|name| name.parse().unwrap());
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    let message = vec![7_u8; 200];
    let random = SystemRandom::new();
    for _ in 0..ROUNDS {
        let begun = Instant::now();
        for _ in 0..REQUESTS {
            let key = PrivateKey::generate(KeyKind::P256).unwrap();
            let csr = request_pem(&make_csr(&key, &names, &CsrSpecification::default()).unwrap());
            assert!(csr.len() > 300);
        }
        ours.push(begun.elapsed());
        let begun = Instant::now();
        for _ in 0..REQUESTS {
            let key = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
            assert!(key.sign(&random, &message).unwrap().as_ref().len() > 60);
        }
        bare.push(begun.elapsed());
    }
    let (ours, bare) = (median(ours), median(bare));
    println!("Eskort: {ours:.1} ms\nbare:   {bare:.1} ms    ratio {:.2} (target 1.2)\n", ours / bare);
}

fn bundle() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    std::fs::write(
        at("eskort.toml"),
        "state = \"state\"\n[authority.office]\nkind = \"csr\"\n[certificate.stock]\nnames = [\"stock.lampholm.internal\"]\n",
    )
    .unwrap();
    let eskort = |words: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_eskort"));
        command.env("ESKORT_CONFIG", at("eskort.toml")).args(words).current_dir(place.path()).output().unwrap()
    };
    assert_eq!(eskort(&["keep"]).status.code(), Some(3));
    let (now, day) = (Timestamp::now(), SignedDuration::from_hours(24));
    let issuer = Issuer::named("Lampholm Office", now);
    let pem = std::fs::read(at("state/certificates/stock/0001/request.pem")).unwrap();
    let wanted = parse_csr(&eskort_core::pki::find_csr(&pem).unwrap()).unwrap();
    let strangers = PrivateKey::generate(KeyKind::P256).unwrap().public_key_der();
    let mut text = String::new();
    for n in 0..BUNDLE - 2 {
        text += &issuer
            .issue(&[format!("room{n}.lampholm.internal").parse().unwrap()], &strangers, now - day, day * 90)
            .to_pem();
        if n == BUNDLE / 2 {
            let leaf = issuer.issue(&wanted.identifiers().unwrap(), &wanted.public_key, now - day, day * 90);
            text += &issuer.chain_pem(&leaf, false);
        }
    }
    std::fs::write(at("bundle.pem"), &text).unwrap();
    copy(&at("state"), &at("waiting"));
    let mut times = Vec::new();
    for _ in 0..ROUNDS {
        std::fs::remove_dir_all(at("state")).unwrap();
        copy(&at("waiting"), &at("state"));
        let begun = Instant::now();
        let done = eskort(&["receive", "bundle.pem", "--accept-issuer"]);
        times.push(begun.elapsed());
        assert_eq!(done.status.code(), Some(0), "{}", String::from_utf8_lossy(&done.stderr));
    }
    let (ms, size) = (median(times), text.len() / 1_000_000);
    println!(
        "`eskort receive` with a bundle of {BUNDLE} certificates ({size} MB), median of {ROUNDS}: {ms:.0} ms (target 1000)"
    );
}

fn crossed() {
    let place = tempfile::tempdir().unwrap();
    let all = signed_by_each_other(8, Timestamp::now());
    let text: String = all.iter().map(eskort_core::pki::Certificate::to_pem).collect();
    std::fs::write(place.path().join("crossed.pem"), text).unwrap();
    let show = || {
        let mut command = Command::new(env!("CARGO_BIN_EXE_eskort"));
        let begun = Instant::now();
        let done = command.args(["show", "crossed.pem"]).current_dir(place.path()).output().unwrap();
        assert_eq!(done.status.code(), Some(0), "{}", String::from_utf8_lossy(&done.stderr));
        begun.elapsed()
    };
    let (ms, count) = (median((0..ROUNDS).map(|_| show()).collect()), all.len());
    println!(
        "`eskort show` with {count} certificates of authorities that have all signed each other, median of {ROUNDS}: {ms:.0} ms (target 100)"
    );
}

fn copy(from: &Path, to: &Path) {
    assert!(Command::new("cp").arg("-a").args([from, to]).status().unwrap().success());
}
