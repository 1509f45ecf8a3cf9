//! Fuzzes the reading of stapled answers.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = eskort_pki::parse_staple(bytes, "01");
});
