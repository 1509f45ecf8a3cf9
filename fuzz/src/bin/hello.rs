//! Fuzzes the reading of what a TLS server says first, and of what it says next, once that is opened.
#![no_main]

use eskort_handshake::{EncryptedReader, ServerReader};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let mut reader = ServerReader::default();
    // In two pieces, as it may come.
    let (first, second) = bytes.split_at(bytes.len() / 2);
    if matches!(reader.take(first), Ok(false)) {
        let _ = reader.take(second);
    }
    let (flight, _) = reader.finish_with_rest();
    let _ = flight.hello.map(|hello| hello.share().map(<[u8]>::len));
    let mut encrypted = EncryptedReader::default();
    if matches!(encrypted.take(first), Ok(None)) {
        let _ = encrypted.take(second);
    }
});
