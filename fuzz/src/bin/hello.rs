//! Fuzzes the reading of what a TLS server says first.
#![no_main]

use eskort_handshake::ServerReader;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let mut reader = ServerReader::default();
    // In two pieces, as it may come.
    let (first, second) = bytes.split_at(bytes.len() / 2);
    if matches!(reader.take(first), Ok(false)) {
        let _ = reader.take(second);
    }
    let _ = reader.finish();
});
