//! Fuzzes the reading of OCSP answers.
#![no_main]

use eskort_pki::{Certificate, OcspQuestion, parse_staple};
use std::sync::LazyLock;

static QUESTION: LazyLock<OcspQuestion> = LazyLock::new(|| {
    let text = include_str!("../../../crates/pki/src/crl/issuer.pem");
    let issuer = Certificate::all_from_pem(text).expect("a certificate").remove(0);
    OcspQuestion::about(&issuer, &issuer).expect("a question")
});

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = parse_staple(bytes, "01");
    let _ = QUESTION.read(bytes, jiff::Timestamp::UNIX_EPOCH);
});
