//! Fuzzes the reading of transparency logs' promises: in a certificate, in a stapled answer, in a handshake.
#![no_main]

use eskort_pki::{Certificate, LogKeys, LogProof};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let keys = LogKeys::from_pem(&String::from_utf8_lossy(bytes)).unwrap_or_default();
    let mut found = LogProof::in_handshake(bytes);
    found.extend(LogProof::in_staple(bytes));
    if let Ok(certificate) = Certificate::from_der(bytes) {
        found.extend(LogProof::in_certificate(&certificate));
        for proof in &found {
            let _ = proof.check(&certificate, &certificate, &keys);
        }
    }
});
