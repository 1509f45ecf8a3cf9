//! Fuzzes the intake; its corpus begins with files of this shape.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| eskort_fuzz::take(bytes));
