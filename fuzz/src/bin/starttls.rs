//! Fuzzes what servers say before TLS begins.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| eskort_probe::talk_with(bytes));
